package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/bundle"
	"brickrow/internal/cloud"
	"brickrow/internal/identity"
	"brickrow/internal/precheck"
	"brickrow/internal/programs"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/ways"
	"brickrow/internal/whatif"
)

// Preview is a change set with what it was made from.
type Preview struct {
	*whatif.ChangeSet
	Stack *stack.Stack // nil where it does not exist yet
	Draft *Draft       // nil for an undo or a deletion
	// Revision is the one that would be written; nil for a deletion.
	Revision *stack.Revision
	Kind     run.Kind
	// By says whose work it is, where that is not the one who carries it out;
	// Approved that a second person has agreed to it.
	By         string
	Approved   bool
	ApprovedBy []string

	approvedBefore string     // whose approvals are of something else
	unasked        []string   // files of programs that were not asked, as they were never deployed
	Note           string     // of the one who carries it out, for the record
	rollout        *inRollout // that it belongs to; nil is none
	Queue          *Queueing  // where it waits for a worker; nil is that it is carried out here
	Saved          string     // the file that it was saved in; "" is none
	To             int        // of a way back: the revision that it goes back to
	// Only are the resources that were chosen, by name; none is all.
	Only []string

	careful, throwaway bool
	approvers          []string                            // who may agree, as the stack file says
	onFailure          stack.OnFailure                     // what was saved says
	source             *run.Source                         // of its files, where it was saved
	foreseen           map[string]string                   // ids that connections will have
	unreadFindings     tosca.Findings                      // what could not be read of the stack
	adopting           []*stack.Recorded                   // what is there and is to come under the stack
	releasing          string                              // the resource that is to leave the stack and stay in the cloud
	past               map[string]map[run.Action][]float64 // how long things took, by type
	told, learned      int                                 // how much the target takes at once
}

// KindCompare is the kind of a preview that holds two against each other and
// cannot be carried out.
const KindCompare run.Kind = "compare"

// WhatIf compares a draft with the record and the cloud. Findings of the draft
// are in the preview's too; with errors among them it cannot be deployed. Where
// resources are named, it is of these alone, with all that they need.
func (a *App) WhatIf(ctx context.Context, d *Draft, only ...string) (*Preview, error) {
	return a.whatIf(ctx, d, a.state, only)
}

// WhatIfRecorded compares a draft with the record alone: it asks no cloud, and is for
// telling quickly what is about to change.
func (a *App) WhatIfRecorded(ctx context.Context, d *Draft) (*Preview, error) {
	return a.whatIf(ctx, d, nobody, nil)
}

// asking asks about the target of a draft; what it told, as findings, comes with it.
type asking = func(context.Context, *Draft) (*surveyed, tosca.Findings, error)

func nobody(context.Context, *Draft) (s *surveyed, told tosca.Findings, err error) {
	return
}

// whatIf compares a draft with the record, and with what ask tells of its target.
func (a *App) whatIf(ctx context.Context, d *Draft, ask asking, only []string) (p *Preview, err error) {
	defer func() { err = d.Wanted.Secrets().Error(err) }()
	if d.Stack == nil {
		return nil, refusal("%s is a template alone; a what-if needs a stack file, which says where it goes", d.Path)
	}
	p = &Preview{Draft: d, Kind: run.KindDeploy, Only: only}
	if d.Stack.Target.IsZero() || d.Stack.Stack == "" {
		p.ChangeSet = &whatif.ChangeSet{Stack: d.Stack.Stack, Findings: d.Findings}
		return p, nil
	}
	ctx, p.foreseen = a.assuming(ctx, d)
	state, told, err := ask(ctx, d)
	if err != nil {
		return nil, err
	}
	if state != nil {
		if err := a.keepPrograms(d.Wanted); err != nil {
			return nil, err
		}
		if len(d.Wanted.Selected) > 0 {
			d = a.existing(d, func(typ string) []stack.Found { return a.selectable(state.TargetState, typ) })
			p.Draft = d
		}
		if err := a.names(ctx, state.TargetState, d.Wanted); err != nil {
			return nil, err
		}
	}
	if state != nil && len(d.Stack.Adopt) > 0 {
		if p.adopting, err = a.adoptions(ctx, d, state.TargetState, &told); err != nil {
			return nil, err
		}
	}
	if d.Findings.HasErrors() || told.HasErrors() {
		return a.halfWhatIf(ctx, p, state, told)
	}
	p.Revision = &stack.Revision{Template: d.Template, Text: d.Text, Entry: d.Bundle.Entry, Files: d.Bundle.Files(),
		Found: d.Wanted.Lookups(), Inputs: d.Wanted.Inputs, Tags: d.Stack.Tags, By: identity.User(), Origin: d.origin}
	if d.Commit != "" {
		p.Revision.Note = "from the commit " + d.Commit[:min(10, len(d.Commit))]
	}
	st, err := a.store.At(ctx, d.Stack.Stack, d.Stack.Target)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	p.Stack = st
	if st != nil && !a.store.Member() {
		told.Warnf(tosca.Pos{File: d.Path, Line: 1, Column: 1}, "no-member", "let a member of the store make the what-if",
			"you are not a member of this store: secrets are not compared, and count as the same; why things change is told in part")
	}
	if st != nil {
		if ways, err := a.WaysOut(ctx, st); err == nil && ways.Resume && !ways.Deploy {
			told.Warnf(tosca.Pos{File: d.Path, Line: 1, Column: 1}, "interrupted", ways.String()+" first",
				"the last run of %s did not come to its end", st.Name)
		}
	}
	var live map[string]*stack.Live
	if state != nil {
		live = state.Of(d.Stack.Stack)
		defer func() {
			if st != nil && err == nil {
				a.remember(st, live)
			}
		}()
	}
	err = a.compare(ctx, p, d.Stack.Stack, d.Stack.Target, d.Wanted, live)
	if err == nil && state != nil {
		err = a.noteWhatIf(ctx, p, state, live)
	}
	if err == nil && state != nil {
		err = a.hits(ctx, p)
	}
	if err == nil {
		err = a.origins(ctx, p, state)
	}
	if err == nil && d.Rules != nil {
		judge(p, d.Rules, d.Wanted.Inputs, d.Stack.Tags)
	}
	if err == nil && state != nil {
		p.Findings = append(p.Findings, precheck.Against(a.Profile, state.TargetState, d.Wanted, p.ChangeSet, precheck.Whole)...)
	}
	if err == nil {
		p.Findings = slices.Concat(d.Findings, told, d.Wanted.Secrets().Findings(slices.Concat(p.Findings, p.unreadFindings)), p.unaskedFindings())
		p.Findings.Sort()
	}
	return p, err
}

// halfWhatIf holds as much of a template as could be read against its target, so
// that all that is wrong is told at once. Its changes are not shown: half a
// template would look like drops.
func (a *App) halfWhatIf(ctx context.Context, p *Preview, state *surveyed,
	told tosca.Findings) (*Preview, error) {
	d := p.Draft
	findings := slices.Concat(d.Findings, told)
	if state != nil && d.File.Service != nil {
		st, err := a.store.At(ctx, d.Stack.Stack, d.Stack.Target)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		p.Stack = st
		if err := a.compare(ctx, p, d.Stack.Stack, d.Stack.Target, d.Wanted, state.Of(d.Stack.Stack)); err != nil {
			return nil, err
		}
		findings = append(findings, d.Wanted.Secrets().
			Findings(precheck.Against(a.Profile, state.TargetState, d.Wanted, p.ChangeSet, precheck.Partial))...)
		findings = append(findings, a.ruled(ctx, p, d, d.Stack.Stack, d.Stack.Target, d.Stack.Tags)...)
	}
	findings.Sort()
	p.ChangeSet = &whatif.ChangeSet{Stack: d.Stack.Stack, Target: d.Stack.Target, Findings: findings}
	return p, nil
}

// state asks the target of a draft about itself. It is nil where there is no such
// target, which is a finding.
func (a *App) state(ctx context.Context, d *Draft) (s *surveyed, told tosca.Findings, err error) {
	targets, err := a.Cloud.Targets(ctx)
	if err != nil {
		return nil, nil, fmt.Errorf("ask the cloud for its targets: %w", err)
	}
	if told := unknownTarget(d.Stack, targets); len(told) > 0 {
		return nil, told, nil
	}
	var unlisted *programs.Unlisted
	if len(d.Stack.Adopt) > 0 {
		if err := a.keepPrograms(d.Wanted); err != nil {
			return nil, nil, err
		}
		also, err := a.adoptedTypes(ctx, d)
		if err != nil {
			return nil, nil, err
		}
		ctx, unlisted = programs.Listing(ctx, also...)
	}
	if s, err = a.survey(ctx, d.Stack.Target, d.Stack.Stack); err == nil && unlisted != nil {
		s.Unlisted = unlisted.Why()
	}
	return s, nil, err
}

// surveyed is what a target tells about itself, and what was known of it before.
type surveyed struct {
	*precheck.TargetState
	sight *sighting
}

// survey asks a target about itself and what there is in it.
func (a *App) survey(ctx context.Context, t stack.Target, name string) (*surveyed, error) {
	s := &surveyed{TargetState: &precheck.TargetState{Store: a.storeID(ctx), Target: t, Stack: name, Taken: map[string]string{}}}
	var err error
	if s.sight, err = a.sight(ctx, t); err != nil {
		return nil, err
	}
	g, both := errgroup.WithContext(ctx)
	g.Go(func() (err error) {
		if s.About, err = a.Cloud.About(both, t); err != nil {
			return fmt.Errorf("ask %s about itself: %w", t, err)
		}
		a.limits.hear(t, s.About.AtOnce)
		return nil
	})
	g.Go(func() error {
		list, err := a.Cloud.List(both, t, "")
		if err != nil {
			return fmt.Errorf("ask the cloud for what is in %s: %w", t, err)
		}
		s.All = s.sight.see(a.Profile.Library, list...)
		return nil
	})
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return s, a.mine(ctx, s.TargetState)
}

// mine finds what is recorded of a stack and has lost the tag that says whose it is.
func (a *App) mine(ctx context.Context, s *precheck.TargetState) error {
	st, err := a.store.At(ctx, s.Stack, s.Target)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	current, _, err := a.recorded(ctx, st)
	if err != nil {
		return err
	}
	recorded := make(map[string]bool, len(current))
	for _, r := range current {
		recorded[r.ID] = true
	}
	s.Mine = map[string]bool{}
	for _, l := range s.All {
		if recorded[l.ID] && (l.Tags["stack"] == "" || l.Store != "" && l.Store != s.Store) {
			s.Mine[l.ID] = true
		}
	}
	return nil
}

// names asks for the names that are unique in the whole cloud, and asks the places that the stack's
// connections lead to about themselves. A place that does not answer is checked when it does.
func (a *App) names(ctx context.Context, s *precheck.TargetState, w *stack.Wanted) error {
	if err := a.namesAt(ctx, s, w, "", a.Cloud, s.Target); err != nil {
		return err
	}
	s.Elsewhere = map[string]*precheck.TargetState{}
	named, err := a.connections.Named(ctx, s.Target, s.Stack)
	if err != nil {
		return err
	}
	ctx, stop := ways.Deadline(ctx)
	defer stop()
	var mu sync.Mutex
	var g errgroup.Group // side by side, with one deadline: one that swallows what is sent holds up no other
	for name, k := range named {
		if a.connections.Silent(k.ID) {
			continue
		}
		g.Go(func() error {
			end, err := a.connections.Reach(ctx, s.Target, k.ID)
			if err != nil {
				return nil
			}
			about, err := end.Cloud.About(ctx, end.Target)
			if err != nil || about == nil {
				return nil
			}
			at := &precheck.TargetState{Store: s.Store, Target: end.Target, Stack: s.Stack, About: about, All: s.All, Mine: s.Mine, Way: end.ID, Taken: map[string]string{}}
			if err := a.namesAt(ctx, at, w, name, end.Cloud, end.Target); err != nil {
				return nil
			}
			for key, id := range at.Taken {
				if id != "?" {
					at.Taken[key] = end.Outward(id)
				}
			}
			mu.Lock()
			defer mu.Unlock()
			s.Elsewhere[name] = at
			return nil
		})
	}
	return g.Wait()
}

// namesAt asks a place for the names of what is to be there.
func (a *App) namesAt(ctx context.Context, s *precheck.TargetState, w *stack.Wanted, connection string, at cloud.Cloud, t stack.Target) error {
	named := precheck.Named(a.Profile, w, connection)
	taken := make([]string, len(named))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(8)
	for i, n := range named {
		g.Go(func() error {
			is, id, err := at.NameTaken(ctx, t, n[0], n[1])
			if err != nil {
				return fmt.Errorf("ask the cloud for the name %s: %w", n[1], err)
			}
			if taken[i] = id; is && id == "" {
				taken[i] = "?"
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, n := range named {
		s.Taken[n[0]+"/"+n[1]] = taken[i]
	}
	return nil
}

// assuming lets what is reached through the connections of a draft be looked at with what they will
// be set up with, where that is known and leads to the same place.
// They are foreseen by their names where they are still to be made.
func (a *App) assuming(ctx context.Context, d *Draft) (_ context.Context, foreseen map[string]string) {
	var list []*stack.Resource
	for _, res := range d.Wanted.Resources {
		if res.Type != nil && a.connections.Kinds[res.Type.Name] != nil {
			list = append(list, res)
		}
	}
	if len(list) == 0 {
		return ctx, nil
	}
	named, err := a.connections.Named(ctx, d.Stack.Target, d.Stack.Stack)
	if err != nil {
		return ctx, nil // whoever asks next says so
	}
	recorded, foreseen := map[string]bool{}, map[string]string{}
	planned := map[string]*ways.Connection{}
	for _, res := range list {
		is := &ways.Connection{Type: res.Type.Name, Target: d.Stack.Target, Stack: d.Stack.Stack, Node: res.Name, Settings: ways.Settings{}}
		k, usable := named[res.Name], true
		for _, p := range res.Properties {
			is.Settings[p.Name] = p.Value
			usable = usable && p.Value != nil && tosca.IsKnown(p.Value) && (k == nil || !stack.Swaps(p.Def.Metadata) || stack.Same(p.Value, k.Settings[p.Name]))
		}
		switch {
		case !usable || k != nil && k.Type != is.Type:
		case k != nil:
			is.ID = k.ID
			planned[is.ID] = is
		case a.connections.Identify(is) == nil: // something may have been kept at its end
			foreseen[res.Name] = is.ID
			if len(recorded) == 0 {
				if recorded, err = a.store.RecordedIDs(ctx, d.Stack.Target); err != nil {
					return ctx, nil
				}
			}
			for id := range recorded {
				if way, _ := cloud.WayOf(id); way == is.ID {
					planned[is.ID] = is
				}
			}
		}
	}
	return ways.Assuming(ctx, planned), foreseen
}

// against compares what is wanted of a stack with its record and its target,
// and holds the changes against what the target would refuse.
func (a *App) against(ctx context.Context, p *Preview, w *stack.Wanted) error {
	s, err := a.survey(ctx, p.Stack.Target, p.Stack.Name)
	if err == nil {
		err = a.names(ctx, s.TargetState, w)
	}
	if err == nil {
		live := s.Of(p.Stack.Name)
		if err = a.compare(ctx, p, p.Stack.Name, p.Stack.Target, w, live); err == nil {
			err = a.noteWhatIf(ctx, p, s, live)
		}
	}
	if err == nil {
		err = a.hits(ctx, p)
	}
	if err == nil {
		p.Findings = slices.Concat(p.Findings, p.unreadFindings, p.unaskedFindings(), precheck.Against(a.Profile, s.TargetState, w, p.ChangeSet, precheck.Whole))
		err = a.judgeAgain(ctx, p)
	}
	return w.Secrets().Error(err)
}

// selectable lists what a node of a stack may select: what the stack does not
// manage itself.
func (a *App) selectable(s *precheck.TargetState, typ string) []stack.Found {
	var out []stack.Found
	for _, l := range a.Profile.There(s, typ) {
		if s.Foreign(l) {
			out = append(out, stack.Found{Type: l.Type, ID: l.ID, Properties: l.Properties, Attributes: l.Attributes})
		}
	}
	return out
}

// compare fills in the change set of a preview. live is nil where the cloud
// was not asked.
func (a *App) compare(ctx context.Context, p *Preview, name string, t stack.Target, w *stack.Wanted,
	live map[string]*stack.Live) (result error) {
	s := whatif.State{Stack: name, Target: t, Wanted: w, Live: live, Duration: a.Duration,
		Deleting: p.Kind == run.KindDelete, Knowledge: a.Profile, Foreseen: p.foreseen}
	is, err := a.deployed(ctx, p.Stack, t, live != nil)
	if err != nil {
		return err
	}
	p.told, p.learned, s.Margin = a.limits.says(t), is.learned, is.margin
	s.AtOnce = run.StartLimit(p.told, p.learned)
	if live == nil {
		s.Live = is.live
	} else {
		markLive(live, w, is)
	}
	s.Recorded, s.BaseRevision, s.Base = is.recorded, is.revision.Number, is.base
	s.Kept = slices.Concat(p.adopting, is.kept)
	s.Releasing = p.releasing
	s.Old, s.Results = is.old, is.results
	if p.Stack != nil {
		s.ResultUsers = a.resultUsers(ctx, p.Stack)
	}
	if s.Deleting {
		strays := strays(live, is)
		s.Recorded, s.Strays = append(slices.Clone(is.recorded), strays...), map[string]bool{}
		for _, r := range strays {
			s.Strays[r.Name] = true
		}
	}
	s.Secrets = is.secrets
	s.BaseInputs, s.BaseFound = is.revision.Inputs, is.revision.Found
	if p.Draft != nil && p.Draft.Stack != nil {
		if s.TagsPos = p.Draft.Stack.TagsPos; s.TagsPos.Line == 0 {
			s.TagsPos.File = p.Draft.Stack.Path
		}
	}
	p.past = is.past
	s.Past = func(typ string, k whatif.Kind) []float64 { return is.past[typ][actions[k]] }
	var planning error
	s.Plan = func(rec *stack.Recorded, wanted map[string]tosca.Value) (string, []string) {
		how, because, err := a.planOwn(ctx, p.Stack, rec, wanted)
		var not *programs.NotAskedError
		if errors.As(err, &not) {
			p.notAsked(not.File)
			return whatif.NotAsked + not.File, nil
		}
		planning = errors.Join(planning, err)
		return how, because
	}
	defer func() { result = errors.Join(result, planning) }()
	in, err := a.settings()
	if err != nil {
		return err
	}
	p.careful = p.Draft != nil && p.Draft.Stack != nil && p.Draft.Stack.Careful ||
		p.Stack != nil && p.Stack.Careful || slices.Contains(in.Careful, t.String())
	s.Careful = p.careful
	switch {
	case p.Draft != nil && p.Draft.Stack != nil:
		p.throwaway, p.approvers = p.Draft.Stack.Throwaway, p.Draft.Stack.Approvers
	case p.Stack != nil:
		p.throwaway, p.approvers = p.Stack.Throwaway, p.Stack.Approvers
	}
	last := a.partOf(ctx, p.Stack)
	if last != nil {
		s.PartOf = fmt.Sprintf("run %d", last.Number)
	}
	if len(p.Only) > 0 {
		set, unknown := whatif.CompareOnly(s, p.Only)
		if len(unknown) > 0 {
			var names []string
			for _, ch := range set.Changes {
				node, _, _ := strings.Cut(ch.Name, "#")
				names = append(names, node)
			}
			return refusal("%s has no resource %s%s", name, unknown[0], suggested(unknown[0], names))
		}
		p.ChangeSet = set
		a.unread(p, s.Live, name)
		return nil
	}
	if !a.AskPrograms.Load() && a.memoryMu.TryLock() { // what was not asked before is; another comparison meanwhile does without
		defer a.memoryMu.Unlock()
		if a.memory == nil {
			a.memory = &whatif.Memory{}
		}
		s.Memory = a.memory
	}
	p.ChangeSet = whatif.Compare(s)
	a.unread(p, s.Live, name)
	return nil
}

// suggested is a name that may have been meant, in words.
func suggested(name string, names []string) string {
	if s := tosca.Suggest(name, names); s != "" {
		return "; " + s
	}
	return ""
}

// partOf is the run that a stack is as it left it, where that deployed only some
// resources of its revision.
func (a *App) partOf(ctx context.Context, st *stack.Stack) *run.Record {
	if st == nil || st.State != stack.Partial {
		return nil
	}
	r, err := a.store.LastKept(ctx, st.ID)
	if err != nil || r.State != run.StatusDone {
		return nil
	}
	return r
}

// strays are resources that carry the tag of a stack and are in no record: what
// a cloud made without ever saying so, or what somebody tagged by hand. When the
// stack is deleted, they go too; otherwise nothing would ever remove them.
func strays(live map[string]*stack.Live, is *deployed) []*stack.Recorded {
	names := map[string]string{} // by id
	left := map[string]*stack.Recorded{}
	for _, list := range [][]*stack.Recorded{is.recorded, is.old, is.kept} {
		for _, r := range list {
			if r.Left != nil {
				left[r.ID] = r
				continue
			}
			names[r.ID] = r.Name
		}
	}
	known := maps.Clone(names)
	taken := map[string]bool{}
	for _, name := range known {
		taken[name] = true
	}
	for id, r := range left {
		if !taken[r.Name] {
			names[id], taken[r.Name] = r.Name, true
		}
	}
	for id, l := range live {
		if names[id] == "" {
			names[id] = strings.TrimSpace(l.Node + " (" + id + ")")
		}
	}
	var out []*stack.Recorded
	for id, l := range live {
		if known[id] != "" {
			continue
		}
		if r := left[id]; r != nil {
			was := *r
			was.Name = names[id]
			out = append(out, &was)
			continue
		}
		r := &stack.Recorded{Name: names[id], Type: l.Type, ID: id, Properties: l.Properties,
			Attributes: l.Attributes, Links: map[string][]stack.LinkTo{}}
		for requirement, ids := range l.Links {
			for _, to := range ids {
				r.Links[requirement] = append(r.Links[requirement], stack.LinkTo{Name: names[to], ID: to})
				r.Needs = append(r.Needs, names[to])
			}
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b *stack.Recorded) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// markLive marks what the cloud shows where it repeats a secret.
func markLive(live map[string]*stack.Live, w *stack.Wanted, is *deployed) {
	secrets := w.Secrets().Clone()
	if is.secrets != nil {
		secrets.Merge(is.secrets)
	}
	for _, r := range append(slices.Clone(is.recorded), is.kept...) {
		secrets.Add(tosca.Map(r.Properties), tosca.Map(r.Attributes))
	}
	for _, l := range live {
		secrets.Add(tosca.Map(l.Attributes))
	}
	for _, l := range live {
		l.Mark(secrets)
	}
}

// actions are what a run does for a change.
var actions = map[whatif.Kind]run.Action{whatif.New: run.Create, whatif.Swap: run.Create, whatif.Edit: run.Update,
	whatif.Adopt: run.Update, whatif.Drop: run.Delete}

// Throwaway reports whether the stack says that losing its data does not matter.
func (p *Preview) Throwaway() bool { return p.throwaway && !p.careful }

// OnFailure is what happens when carrying it out fails, where nobody says
// otherwise: undo or hold.
func (p *Preview) OnFailure() stack.OnFailure {
	switch {
	case p.onFailure != "":
		return p.onFailure
	case p.Draft != nil && p.Draft.Stack != nil:
		return p.Draft.Stack.OnFailure
	}
	return stack.Undo
}

// Careful reports whether the stack, or its target, is a careful one.
func (p *Preview) Careful() bool { return p.careful }

// NothingToDo reports whether neither the cloud nor the record is other than wanted.
func (p *Preview) NothingToDo() bool { return p.Empty() && len(p.ChangeSet.Accepted()) == 0 }

// WhatIfUndo compares a former revision of a stack with the record and the
// cloud. Revision 0 is the one that was deployed before the current one, the
// current one where the stack is only partly at it, or the last one of a removed
// stack.
func (a *App) WhatIfUndo(ctx context.Context, st *stack.Stack, number int) (*Preview, error) {
	return a.whatIfUndo(ctx, st, number, nil)
}

// whatIfUndo does the same, of some resources alone where only names them.
func (a *App) whatIfUndo(ctx context.Context, st *stack.Stack, number int, only []string) (*Preview, error) {
	if number == 0 {
		var err error
		if number, err = a.Former(ctx, st); err != nil {
			return nil, err
		}
	}
	if number < 1 {
		return nil, refusal("%s has no former revision to go back to", st.Name)
	}
	rev, err := a.store.Revision(ctx, st.ID, number)
	if errors.Is(err, store.ErrNotFound) {
		return nil, refusal("%s has no revision %d", st.Name, number)
	}
	if err != nil {
		return nil, err
	}
	if err := a.store.GenuineRevision(ctx, st.ID, number); err != nil {
		return nil, &Refusal{Message: err.Error()}
	}
	wanted, findings := a.resolveRevision(rev)
	p := &Preview{Stack: st, Kind: run.KindUndo, Revision: rev, To: number, Only: only}
	if rev.Note = fmt.Sprintf("as revision %d", number); p.PutsBack() {
		rev.Note = fmt.Sprintf("put back, as revision %d", number)
	}
	if err := a.against(ctx, p, wanted); err != nil {
		return nil, err
	}
	p.Findings = append(findings, p.Findings...)
	return p, nil
}

// resolveRevision resolves a stored revision again.
func (a *App) resolveRevision(rev *stack.Revision) (*stack.Wanted, tosca.Findings) {
	file, findings := bundle.Stored(rev.Template, rev.Entry, []byte(rev.Text), rev.Files).Read(a.Profile.Load)
	wanted, more := stack.Resolve(file, stack.Options{Given: givenAgain(rev), Tags: rev.Tags, Found: rev.Found,
		Orders: a.Profile})
	return wanted, append(findings, more...)
}

// givenAgain is the inputs of a stored revision as values that are given.
func givenAgain(rev *stack.Revision) []stack.Given {
	given := make([]stack.Given, len(rev.Inputs))
	for i, in := range rev.Inputs {
		given[i] = stack.Given{Name: in.Name,
			Value: &tosca.Expr{Pos: in.Origin.Pos, Value: in.Value, Raw: rawText(in.Value)}, Origin: in.Origin}
	}
	return given
}

func rawText(v tosca.Value) string {
	if tosca.HasSecret(v) {
		return ""
	}
	return tosca.Show(v)
}

// WhatIfDelete says what removing a whole stack would do. It refuses where
// something outside the stack uses a part of it.
func (a *App) WhatIfDelete(ctx context.Context, st *stack.Stack) (*Preview, error) {
	p := &Preview{Stack: st, Kind: run.KindDelete}
	empty := &tosca.File{Library: a.Profile.Library, Service: &tosca.ServiceTemplate{}}
	wanted, _ := stack.Resolve(empty, stack.Options{})
	if err := a.against(ctx, p, wanted); err != nil {
		return nil, err
	}
	p.Findings.Sort()
	return p, nil
}

// PutsBack reports whether it leads to the revision that is deployed: what differs from it in the cloud is put back.
func (p *Preview) PutsBack() bool {
	return p.Kind == run.KindUndo && p.Stack != nil && p.To == p.Stack.Revision
}

// Question is the confirmation of a preview: it repeats the numbers and the
// target.
func (p *Preview) Question() string {
	what := map[run.Kind]string{
		run.KindDeploy: "Deploy " + p.ChangeSet.Stack,
		run.KindUndo:   fmt.Sprintf("Go back to revision %d of %s", p.To, p.ChangeSet.Stack),
		run.KindDelete: "Delete " + p.ChangeSet.Stack,
	}[p.Kind]
	switch {
	case p.PutsBack():
		what = "Put back what differs in " + p.ChangeSet.Stack
	case p.releasing != "":
		what = "Let " + p.releasing + " leave " + p.ChangeSet.Stack + " and stay in the cloud"
	case len(p.LeftOut) > 0:
		what += ", only " + strings.Join(p.Only, ", ")
	}
	return fmt.Sprintf("%s: %s in %s / %s?", what, p.Tally, p.Target.Account, p.Target.Region)
}
