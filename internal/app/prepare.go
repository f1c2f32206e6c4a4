package app

import (
	"bytes"
	"context"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/uuid"

	"brickrow/internal/bundle"
	"brickrow/internal/cloud"
	"brickrow/internal/commit"
	"brickrow/internal/files"
	"brickrow/internal/identity"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Ticket is a run that is prepared and locked, and not yet carried out.
type Ticket struct {
	Run   *run.Record
	Token string // of the lock
}

// Rehearse says what would happen if carrying a preview out failed at a
// resource. No call is made.
func (a *App) Rehearse(p *Preview, resource string) (*run.Rehearsal, error) {
	r, err := run.Rehearse(a.plan(p), resource, 0)
	if err != nil {
		return nil, &Refusal{Message: err.Error()}
	}
	return r, nil
}

// plan lists the steps of a preview, each with how long it is likely to take.
func (a *App) plan(p *Preview) run.Plan {
	plan := run.NewPlan(p.ChangeSet, a.Duration)
	if p.Kind != run.KindDelete {
		plan.Accepted = p.ChangeSet.Accepted()
	}
	plan.AtOnce, plan.Told = run.StartLimit(p.told, p.learned), p.told
	for i := range plan.Steps {
		s := &plan.Steps[i]
		s.Nominal = s.Seconds
		if past := p.past[s.Type][s.Action]; len(past) > 0 {
			s.Seconds *= whatif.Quantile(past, 0.5)
		}
	}
	return plan
}

// ErrNothingToDo says that a preview has no changes.
var ErrNothingToDo = errors.New("nothing to do: what is deployed is what is wanted")

// Prepare takes the lock, writes the new revision and the plan of a preview.
// It refuses when the stack has moved on since the preview was made.
func (a *App) Prepare(ctx context.Context, p *Preview, onFailure stack.OnFailure) (*Ticket, error) {
	if p.Findings.HasErrors() {
		return nil, &Refusal{Findings: p.Findings}
	}
	if p.Kind == KindCompare {
		return nil, refusal("a comparison cannot be deployed")
	}
	if files := p.NotAsked(); len(files) > 0 {
		return nil, notAsked(files)
	}
	if p.Saved != "" {
		if err := ownersAlone(p.Saved); err != nil {
			return nil, err
		}
	}
	if needed, err := a.approvalNeeded(p); err != nil {
		return nil, err
	} else if needed && !p.Approved {
		file := p.ChangeSet.Stack + ".changes.json"
		how := map[run.Kind]string{run.KindDeploy: "whatif", run.KindUndo: "undo " + p.ChangeSet.Stack,
			run.KindDelete: "delete " + p.ChangeSet.Stack}[p.Kind]
		switch {
		case p.releasing != "":
			how = "release " + p.ChangeSet.Stack + " " + p.releasing
		case p.PutsBack():
			how = "drift " + p.ChangeSet.Stack + " --put-back"
		case p.Kind == run.KindDeploy && p.Draft != nil:
			how += " " + p.Draft.Path
		}
		return nil, refusal("what is done to %s in %s needs the agreement of a second person: save it with 'brickrow %s --save %s', let "+
			"somebody agree to it with 'brickrow approve %s', then 'brickrow deploy %s'%s", p.ChangeSet.Stack, p.Target, how, file, file, file, also(p.approvedBefore))
	}
	if p.NothingToDo() && !(p.Kind == run.KindDelete && p.Stack != nil && p.Stack.State != stack.Removed) {
		return nil, ErrNothingToDo
	}
	st := p.Stack
	if st == nil {
		var err error
		if st, err = a.store.Ensure(ctx, p.ChangeSet.Stack, p.Target); err != nil {
			return nil, err
		}
	}
	t := &Ticket{Token: uuid.NewString()}
	if err := a.lock(ctx, st, t.Token); err != nil {
		return nil, err
	}
	if err := a.prepare(ctx, p, st, t, onFailure); err != nil {
		return nil, errors.Join(err, a.store.Unlock(ctx, st.ID, t.Token))
	}
	return t, nil
}

// also says something more, where there is something to say.
func also(words string) string {
	if words == "" {
		return ""
	}
	return "; " + words
}

// by is whose run it is.
func by(p *Preview) string {
	if p.By != "" {
		return p.By + ", carried out by " + identity.User()
	}
	return identity.User()
}

// origin is where a run came from.
func origin(p *Preview) run.Origin {
	o := run.Origin{Host: identity.Host(), Note: strings.TrimSpace(p.Note), ApprovedBy: p.ApprovedBy}
	o.Source = sourceOf(p)
	if p.rollout != nil {
		o.Rollout, o.Attempt = p.rollout.id, p.rollout.attempt
	}
	return o
}

// sourceOf is the commit that the files of a preview are at, and which of them are not as they are there.
func sourceOf(p *Preview) run.Source {
	d := p.Draft
	out := run.Source{Job: os.Getenv("BRICKROW_JOB")}
	switch {
	case p.source != nil:
		if out.Job != "" && p.source.Job != "" && out.Job != p.source.Job { // made in one, deployed in another
			out.Job = p.source.Job + ", " + out.Job
		} else if out.Job == "" {
			out.Job = p.source.Job
		}
		job := out.Job
		out = *p.source
		out.Job = job
		return out
	case d == nil || p.Kind != run.KindDeploy:
		return out
	case d.Commit != "":
		out.Commit = d.Commit
		return out
	}
	tree, err := commit.At(d.Path, "HEAD")
	if err != nil {
		return out
	}
	out.Commit, out.Branch = tree.Hash, commit.Branch(d.Path)
	same := func(path string, text []byte, err error) {
		if err == nil {
			var there []byte
			if there, err = tree.Open(path, tosca.MaxBytes); err == nil && bytes.Equal(there, text) {
				return
			}
		}
		out.Changed = true
		if name := tree.Name(path); !slices.Contains(out.Files, name) {
			out.Files = append(out.Files, name)
		}
	}
	text, err := files.Read(d.Path, tosca.MaxBytes)
	same(d.Path, text, err)
	rev := p.Revision
	switch {
	case rev == nil:
	case bundle.IsArchive(rev.Template):
		text, err := files.Read(rev.Template, tosca.MaxBytes)
		same(rev.Template, text, err)
	default:
		same(rev.Template, []byte(rev.Text), nil)
		for path, text := range rev.Files {
			same(filepath.Join(filepath.Dir(rev.Template), filepath.FromSlash(path)), text, nil)
		}
	}
	slices.Sort(out.Files)
	return out
}

func (a *App) lock(ctx context.Context, st *stack.Stack, token string) error {
	if a.original != "" {
		return &ReadOnlyError{a.original}
	}
	if !a.store.Member() {
		return &Refusal{Message: store.ErrNoMember.Error()}
	}
	_, err := a.store.Lock(ctx, st.ID, token)
	var locked *store.LockedError
	if errors.As(err, &locked) {
		return refusal("%s: %v", st.Name, locked)
	}
	return err
}

func (a *App) prepare(ctx context.Context, p *Preview, st *stack.Stack, t *Ticket, onFailure stack.OnFailure) error {
	now, err := a.store.At(ctx, st.Name, st.Target)
	if err != nil {
		return err
	}
	if last, err := a.store.RunNumber(ctx, st.ID, 0); err == nil {
		if err := a.settled(ctx, st, last); err != nil {
			return err
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if now.Revision != p.BaseRevision || now.Updated != st.Updated {
		return refusal("%s has moved on since the what-if was made (it was at revision %d, it is at %d now); look "+
			"at it again", st.Name, p.BaseRevision, now.Revision)
	}
	r := &run.Record{ID: uuid.NewString(), StackID: st.ID, Kind: p.Kind, State: run.StatusWorking, Base: now.Revision,
		Prior: now.State, OnFailure: onFailure,
		Plan: a.plan(p), Tally: p.Tally, Estimate: p.Estimate.Seconds, By: by(p), Origin: origin(p)}
	secrets, err := a.secretsOf(ctx, st)
	if err != nil {
		return err
	}
	if p.Draft != nil && p.Draft.Wanted != nil {
		secrets.Merge(p.Draft.Wanted.Secrets())
	}
	for _, ch := range p.Changes {
		if ch.Recorded != nil {
			secrets.Add(tosca.Map(ch.Recorded.Properties), tosca.Map(ch.Recorded.Attributes))
		}
	}
	if r.Plan.Baseline, _, err = a.baseline(ctx, st, secrets, adoptedIn(r.Plan)...); err != nil {
		return err
	}
	begin := store.Begin{Revision: p.Revision, Taken: p.adopting}
	if p.Kind == run.KindDelete {
		begin.Revision = nil
	} else {
		if begin.Revision.Origin == "" || p.Draft == nil { // what goes back is of where the stack is deployed from now
			if begin.Revision.Origin, err = a.store.OriginOf(ctx, st.ID, now.Revision); err != nil {
				return err
			}
		}
		if p.Draft != nil {
			path, err := filepath.Abs(p.Draft.Path)
			if err != nil {
				return err
			}
			description := p.Draft.File.Description
			if d := p.Draft.File.Service.Description; d != "" {
				description = d
			}
			fleet := ""
			if p.rollout != nil {
				fleet = p.rollout.fleet
			} else if now.Fleet != "" {
				fleet = now.Fleet
			}
			begin.About = &store.About{Fleet: fleet, Description: description, File: path, Careful: p.Draft.Stack.Careful,
				Throwaway: p.Draft.Stack.Throwaway, Approvers: p.Draft.Stack.Approvers}
		}
	}
	if len(p.LeftOut) > 0 && (p.releasing == "" || now.State == stack.Partial) { // a release leaves all else as it is
		r.Only = p.Only
		begin.Revision.Note = strings.TrimSpace(begin.Revision.Note + " only " + strings.Join(p.Only, ", "))
	}
	if err := a.notePrograms(ctx, p); err != nil {
		return err
	}
	p.Queue.put(r)
	r.Token, t.Run = t.Token, r
	return a.store.StartRun(ctx, r, begin)
}

// settled refuses a new run where the last one has not come to its end, or has
// left something behind that only it knows of.
func (a *App) settled(ctx context.Context, st *stack.Stack, last *run.Record) error {
	if last.State == run.StatusQueued {
		return refusal("run %d of %s waits for a worker: 'brickrow cancel %s' withdraws it", last.Number, st.Name, st.Name)
	}
	if !last.State.Ended() || last.State == run.StatusPaused { // the lock is ours, so nobody carries it out
		ways, err := a.ways(ctx, st, last)
		if err != nil {
			return err
		}
		what := "was interrupted"
		if last.State == run.StatusPaused {
			what = "is paused"
		}
		return refusal("the last run of %s %s: %s", st.Name, what, ways)
	}
	if last.State != run.StatusHeld {
		return nil
	}
	entries, err := a.store.Journal(ctx, last.ID)
	if err != nil {
		return err
	}
	for _, s := range run.PlanUndoFailed(last.Plan, entries) {
		cleared := slices.ContainsFunc(entries,
			func(e run.Entry) bool { return e.Step.ID == s.ID && e.State == run.Done })
		if s.Action == run.Delete && s.CloudID != "" && !cleared {
			return refusal("the held run of %s could not clear away what a failed creation left: %s (%s); run "+
				"'brickrow resume %s' or 'brickrow undo %s' first", st.Name, s.Resource, s.CloudID, st.Name, st.Name)
		}
	}
	return nil
}

// baseline lists each resource of a stack as the cloud shows it, and some others, without the secrets; and those that could not
// be read.
func (a *App) baseline(ctx context.Context, st *stack.Stack, secrets *tosca.Secrets, others ...cloud.Ref) (map[string]run.Was, []stack.Unread, error) {
	list, err := a.Cloud.List(ctx, st.Target, st.Name)
	if err != nil {
		return nil, nil, err
	}
	var unread []stack.Unread
	for _, ref := range others {
		if slices.ContainsFunc(list, func(r cloud.Resource) bool { return r.ID == ref.ID }) {
			continue
		}
		ref.Target = st.Target
		r, err := a.Cloud.Get(ctx, ref)
		switch {
		case cloud.IsNotFound(err):
		case err != nil:
			unread = append(unread, stack.Unread{Name: ref.ID, ID: ref.ID, Why: secrets.Hide(cloud.Clean(err.Error()))})
		default:
			list = append(list, r)
		}
	}
	store := a.storeID(ctx)
	out := make(map[string]run.Was, len(list))
	for _, r := range list {
		if other := r.Tags[stack.StoreTag]; other != "" && other != store && r.Tags[stack.StackTag] == st.Name { // of a stack of the same name elsewhere
			continue
		}
		if r.State == cloud.Unreadable {
			unread = append(unread, stack.Unread{Name: cloud.Clean(r.Tags[stack.NodeTag]), ID: r.ID, Through: r.Through, Why: secrets.Hide(r.Why)})
			continue
		}
		w := run.Was{Name: r.Tags["node"], Type: r.Type, Properties: r.Properties, Links: r.Links,
			Attributes: secrets.HideIn(r.Attributes), Tags: map[string]string{}, ChangedBy: r.ChangedBy}
		if m, ok := tosca.Reveal(seen(r, w.Attributes)).(map[string]any); ok {
			w.Attributes = m
		}
		if t := a.Profile.Library.Nodes[r.Type]; t != nil { // what tells of the last run is not what it is
			maps.DeleteFunc(w.Attributes, func(name string, _ any) bool {
				d := t.Attribute(name)
				return d != nil && d.Metadata["log"] == "true"
			})
		}
		for k, v := range r.Tags {
			if k != stack.StoreTag {
				w.Tags[k] = v
			}
		}
		out[r.ID] = w.Without(secrets)
	}
	return out, unread, nil
}
