package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/bundle"
	"brickrow/internal/files"
	"brickrow/internal/precheck"
	"brickrow/internal/rules"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Values are the values given for inputs beside the stack file.
type Values struct {
	Flags  []string // name=value, as on the command line
	File   string   // a file of inputs; "" is none
	Target string   // account/region, for a stack file that does not say one
	Strict bool     // inputs without a value are wrong also in a template alone

	over map[string]bool // inputs that a flag gives: what files say of them is not read
}

// Draft is a template, with a stack file or without, read and resolved as far
// as it goes. What is wrong with it is in Findings.
type Draft struct {
	Path     string         // as given
	Stack    *stack.File    // nil for a template alone
	Template string         // path of the template; within an archive, that of the archive first
	Text     string         // of the template
	Bundle   *bundle.Bundle // the template and its files; nil where it cannot be read
	File     *tosca.File
	Wanted   *stack.Wanted
	Findings tosca.Findings
	// Rules are those of the team, and RuleFiles where they stand.
	Rules     *rules.Set
	RuleFiles []string

	options stack.Options
	base    tosca.Findings // those before it was resolved
}

// Load reads a template or a stack file with its template, checks it and
// resolves it. The error is for files that are not there; everything else is a
// finding.
func (a *App) Load(ctx context.Context, path string, v Values) (*Draft, error) {
	if !bundle.IsArchive(path) {
		text, err := readFile(path)
		if err != nil {
			return nil, err
		}
		return a.load(ctx, path, text, v), nil
	}
	b, err := bundle.Open(path)
	if err != nil {
		return nil, refusal("%v", err)
	}
	d := &Draft{Path: path}
	a.fill(ctx, d, b, v)
	return d, nil
}

func readFile(path string) ([]byte, error) {
	b, err := bundle.Open(path)
	if err != nil {
		return nil, refusal("%v", err)
	}
	return b.Text, nil
}

// isTemplate tells a template from a stack file.
func isTemplate(path string, text []byte) bool {
	if strings.HasSuffix(path, ".stack.yaml") || strings.HasSuffix(path, ".stack.yml") {
		return false
	}
	for line := range strings.SplitSeq(string(text), "\n") {
		if strings.HasPrefix(line, "tosca_definitions_version") {
			return true
		}
		if strings.HasPrefix(line, "stack:") || strings.HasPrefix(line, "template:") {
			return false
		}
	}
	return true
}

func (a *App) load(ctx context.Context, path string, text []byte, v Values) *Draft {
	d := &Draft{Path: path}
	if isTemplate(path, text) {
		a.fill(ctx, d, bundle.Folder(path, text), v)
		return d
	}
	d.Stack, d.Findings = stack.ReadFile(path, text)
	d.place(v)
	if in, err := a.settings(); err != nil {
		d.Findings.Errorf(tosca.Pos{File: path, Line: 1, Column: 1}, "no-targets", "", "%v", err)
	} else if slices.Contains(in.Careful, d.Stack.Target.String()) {
		d.Stack.Careful = true
	}
	var b *bundle.Bundle
	if d.Stack.Template != "" {
		template := d.Stack.Template
		if !filepath.IsAbs(template) {
			template = filepath.Join(filepath.Dir(path), template)
		}
		var err error
		if b, err = bundle.Open(template); err != nil {
			d.Template = template
			d.Findings.Errorf(d.Stack.TemplatePos, "no-template", "the path is relative to the stack file", "the template cannot be read: %v", err)
		}
	}
	a.fill(ctx, d, b, v)
	return d
}

// fill reads, checks and resolves the template of a draft.
func (a *App) fill(ctx context.Context, d *Draft, b *bundle.Bundle, v Values) {
	d.File = &tosca.File{Library: a.Library}
	if b != nil {
		d.Bundle, d.Template, d.Text = b, b.Name, string(b.Text)
		var findings tosca.Findings
		d.File, findings = tosca.Read(b.Name, b.Text, a.source(b))
		d.Findings = append(d.Findings, findings...)
	}
	d.options = stack.Options{Given: a.given(ctx, d, v), Lenient: d.Stack == nil && len(v.Flags) == 0 && v.File == "" && !v.Strict}
	if d.Stack != nil {
		d.options.Tags = d.Stack.Tags
	}
	a.readRules(d)
	d.base = d.Findings
	d.resolve()
}

// source is what the reader asks about a bundle. The template that was read
// last is kept in parts, so that reading it again after a change is quick.
func (a *App) source(b *bundle.Bundle) tosca.Source {
	src := b.Source()
	src.Trees = &a.trees
	return src
}

// place holds the target of the stack file against the one asked for.
func (d *Draft) place(v Values) {
	if v.Target == "" {
		return
	}
	t, ok := stack.ParseTarget(v.Target)
	at := tosca.Pos{File: "--target " + v.Target}
	switch {
	case !ok:
		d.Findings.Errorf(at, "bad-target", "write account/region, such as workshop/alder-1", "'%s' is not a target", v.Target)
	case d.Stack.Target != stack.Target{} && d.Stack.Target != t:
		d.Findings.Errorf(d.Stack.TargetPos, "pinned-target", "use another stack file, or change the line", "the stack file is pinned to %s and cannot go to %s", d.Stack.Target, t)
	default:
		d.Stack.Target = t
		kept := d.Findings[:0]
		for _, f := range d.Findings {
			if f.Code != "missing-key" || !strings.Contains(f.Message, "does not say its target") {
				kept = append(kept, f)
			}
		}
		d.Findings = kept
	}
}

// resolve fills in the template; again, where more is known.
func (d *Draft) resolve() {
	var findings tosca.Findings
	d.Wanted, findings = stack.CheckAndResolve(d.File, d.options)
	d.Findings = append(slices.Clone(d.base), findings...)
	d.Findings = append(d.Findings, precheck.Rules(d.Wanted, d.Findings.HasErrors())...)
	d.Findings = d.Wanted.Secrets().Findings(d.Findings)
	d.Findings.Sort()
}

// given collects the values of the inputs, lowest precedence first.
func (a *App) given(ctx context.Context, d *Draft, v Values) []stack.Given {
	var out []stack.Given
	v.over = map[string]bool{}
	for _, flag := range v.Flags {
		name, _, _ := strings.Cut(flag, "=")
		v.over[name] = true
	}
	if d.Stack != nil {
		out = a.fromFile(ctx, d, d.Stack.Inputs, stack.OriginStackFile, d.Path, v)
	}
	if v.File != "" {
		text, err := readFile(v.File)
		if err != nil {
			d.Findings.Errorf(tosca.Pos{File: v.File}, "no-inputs-file", "", "the file of inputs cannot be read: %v", err)
		} else if root := tosca.ParseYAML(v.File, text, &d.Findings); root != nil {
			out = append(out, a.fromFile(ctx, d, stack.ReadInputs(v.File, root, &d.Findings), stack.OriginInputsFile, v.File, v)...)
		}
	}
	if len(v.Flags) == 0 {
		return out
	}
	// The types of the inputs decide how a flag is read.
	var inputs []*tosca.Property
	if d.File.Service != nil {
		inputs = d.File.Service.Inputs
	}
	for _, flag := range v.Flags {
		g, err := stack.ParseFlag(flag, inputs)
		if err != nil {
			d.Findings.Errorf(tosca.Pos{File: "-i"}, "bad-flag", "", "%v", err)
			if g.Name == "" {
				continue
			}
			g.Value = &tosca.Expr{Value: tosca.Unknown{Bad: true}} // so that it is not said to have no value
		}
		out = append(out, g)
	}
	return out
}

// fromFile turns the inputs of a file into values, reading those that stand
// elsewhere.
func (a *App) fromFile(ctx context.Context, d *Draft, list []stack.FileInput, kind, path string, v Values) []stack.Given {
	var out []stack.Given
	for _, in := range list {
		g := stack.Given{Name: in.Name, Value: in.Value, Origin: stack.Origin{Kind: kind, Pos: in.Pos}}
		if v.over[in.Name] {
			continue
		}
		if in.Source != nil {
			v, err := tosca.Value(tosca.Unknown{Bad: true}), error(nil)
			if !in.Source.Broken {
				if v, err = a.fetch(ctx, *in.Source, filepath.Dir(path), d.Stack); err != nil {
					d.Findings.Errorf(in.Pos, "no-value", howToGive(*in.Source, in.Name), "the input '%s' cannot be read: %v", in.Name, err)
					v = tosca.Unknown{Bad: true}
				}
			}
			g.Value = &tosca.Expr{Pos: in.Pos, Value: v}
			if s, ok := v.(tosca.String); ok {
				g.Value.Raw = string(s)
			}
			g.Origin.Via = in.Source.String()
		}
		out = append(out, g)
	}
	return out
}

// maxValue is the most that a file with the value of an input may have, in
// bytes.
const maxValue = 1 << 20

// howToGive says how a value that is read elsewhere can be given.
func howToGive(s stack.Source, input string) string {
	switch {
	case s.Env != "":
		return fmt.Sprintf("set it before: export %s=…; or give -i %s=…", s.Env, input)
	case s.File != "":
		return fmt.Sprintf("put the value into that file; paths are relative to the stack file; or give -i %s=…", input)
	}
	return fmt.Sprintf("deploy that stack first, or give -i %s=…", input)
}

// fetch reads a value from outside the stack file.
func (a *App) fetch(ctx context.Context, s stack.Source, dir string, f *stack.File) (tosca.Value, error) {
	switch {
	case s.Env != "":
		v, ok := os.LookupEnv(s.Env)
		if !ok {
			return nil, fmt.Errorf("the variable %s is not set", s.Env)
		}
		return tosca.String(v), nil
	case s.File != "":
		path := s.File
		if !filepath.IsAbs(path) {
			path = filepath.Join(dir, path)
		}
		b, err := files.Read(path, maxValue)
		if err != nil {
			return nil, err
		}
		return tosca.String(strings.TrimRight(string(b), "\r\n")), nil
	}
	name := s.Stack
	if f != nil && !strings.Contains(name, "@") {
		if st, err := a.Store.At(ctx, name, f.Target); err == nil {
			return a.result(ctx, st, s.Output)
		}
	}
	st, err := a.Store.Find(ctx, name)
	if err != nil {
		return nil, err
	}
	return a.result(ctx, st, s.Output)
}

func (a *App) result(ctx context.Context, st *store.Stack, name string) (tosca.Value, error) {
	list, err := a.Results(ctx, st)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, r := range list {
		if r.Name == name {
			return r.Value, nil
		}
		names = append(names, r.Name)
	}
	return nil, fmt.Errorf("the stack %s has no result '%s'; it has %s", st.Name, name, strings.Join(names, ", "))
}

// Check looks at a draft alone, and yields its findings.
func (a *App) Check(ctx context.Context, path string, v Values) (tosca.Findings, error) {
	if isRules(path) {
		return rules.Read(a.Library, []string{path}).Findings, nil
	}
	d, err := a.Load(ctx, path, v)
	if err != nil {
		return nil, err
	}
	return d.Findings, nil
}

// CannotCheck is what is told of a file among others that cannot be checked.
func CannotCheck(path string, err error) tosca.Findings {
	var findings tosca.Findings
	findings.Errorf(tosca.Pos{File: path}, "cannot-check", "", "%v", err)
	return findings
}

// Preview is a change set with what it was made from.
type Preview struct {
	*whatif.ChangeSet
	Stack *store.Stack // nil where it does not exist yet
	Draft *Draft       // nil for an undo or a deletion
	Old   []*stack.Recorded
	// Revision is the one that would be written; nil for a deletion.
	Revision *store.Revision
	Kind     string // deploy, undo, delete; compare cannot be carried out
	// By says whose work it is, where that is not the one who carries it out;
	// Approved that a second person has agreed to it.
	By       string
	Approved bool
	Saved    string // the file that it was saved in; "" is none
	To       int    // of a way back: the revision that it goes back to

	careful, throwaway bool
	approvers          []string                            // who may agree, as the stack file says
	onFailure          string                              // what was saved says
	past               map[string]map[run.Action][]float64 // how long things took, by type
}

// WhatIf compares a draft with the record and the cloud. Findings of the draft
// are in the preview's too; with errors among them it cannot be deployed.
func (a *App) WhatIf(ctx context.Context, d *Draft, askCloud bool) (p *Preview, err error) {
	defer func() { err = d.Wanted.Secrets().Error(err) }()
	if d.Stack == nil {
		return nil, refusal("%s is a template alone; a what-if needs a stack file, which says where it goes", d.Path)
	}
	p = &Preview{Draft: d, Kind: "deploy"}
	if (d.Stack.Target == stack.Target{}) || d.Stack.Stack == "" {
		p.ChangeSet = &whatif.ChangeSet{Stack: d.Stack.Stack, Findings: d.Findings}
		return p, nil
	}
	var site *precheck.Site
	if askCloud {
		var err error
		if site, err = a.site(ctx, d); err != nil {
			return nil, err
		}
	}
	if d.Findings.HasErrors() {
		return a.halfWhatIf(ctx, p, d, site)
	}
	p.Revision = &store.Revision{Template: d.Template, Text: d.Text, Entry: d.Bundle.Entry, Files: d.Bundle.Files(), Found: d.Wanted.Lookups(), Inputs: d.Wanted.Inputs, Tags: d.Stack.Tags, By: store.Who()}
	st, err := a.Store.At(ctx, d.Stack.Stack, d.Stack.Target)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	p.Stack = st
	if st != nil {
		if ways, err := a.WaysOut(ctx, st); err == nil && ways.Resume && !ways.Deploy {
			d.Findings.Warnf(tosca.Pos{File: d.Path, Line: 1, Column: 1}, "interrupted", ways.String()+" first", "the last run of %s did not come to its end", st.Name)
		}
	}
	var live map[string]*stack.Live
	if site != nil {
		live = site.Of(d.Stack.Stack)
		defer func() {
			if st != nil && err == nil {
				a.remember(st, live)
			}
		}()
	}
	err = a.compare(ctx, p, d.Stack.Stack, d.Stack.Target, d.Wanted, live)
	if err == nil && d.Rules != nil {
		judge(p, d.Rules, d.Wanted.Inputs, d.Stack.Tags)
	}
	if err == nil && site != nil {
		p.Findings = append(p.Findings, precheck.Against(site, d.Wanted, p.ChangeSet, false)...)
	}
	if err == nil {
		p.Findings = append(append(tosca.Findings{}, d.Findings...), d.Wanted.Secrets().Findings(p.Findings)...)
		p.Findings.Sort()
	}
	return p, err
}

// halfWhatIf holds as much of a template as could be read against its target, so
// that all that is wrong is told at once. Its changes are not shown: half a
// template would look like drops.
func (a *App) halfWhatIf(ctx context.Context, p *Preview, d *Draft, site *precheck.Site) (*Preview, error) {
	findings := append(tosca.Findings{}, d.Findings...)
	if site != nil && d.File.Service != nil {
		st, err := a.Store.At(ctx, d.Stack.Stack, d.Stack.Target)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		p.Stack = st
		if err := a.compare(ctx, p, d.Stack.Stack, d.Stack.Target, d.Wanted, site.Of(d.Stack.Stack)); err != nil {
			return nil, err
		}
		findings = append(findings, d.Wanted.Secrets().Findings(precheck.Against(site, d.Wanted, p.ChangeSet, true))...)
		findings.Sort()
	}
	p.ChangeSet = &whatif.ChangeSet{Stack: d.Stack.Stack, Target: d.Stack.Target, Findings: findings}
	return p, nil
}

// site asks the target of a draft about itself and fills in what its nodes
// select there. It is nil where there is no such target, which is reported.
func (a *App) site(ctx context.Context, d *Draft) (*precheck.Site, error) {
	targets, err := a.Cloud.Targets(ctx)
	if err != nil {
		return nil, fmt.Errorf("ask the cloud for its targets: %w", err)
	}
	if !slices.Contains(targets, d.Stack.Target) {
		var names []string
		for _, t := range targets {
			names = append(names, t.String())
		}
		d.Findings.Errorf(d.Stack.TargetPos, "unknown-target", tosca.Suggest(d.Stack.Target.String(), names), "there is no target %s", d.Stack.Target)
		d.Findings.Sort()
		return nil, nil
	}
	s, err := a.survey(ctx, d.Stack.Target, d.Stack.Stack)
	if err != nil {
		return nil, err
	}
	if len(d.Wanted.Selected) > 0 {
		d.options.Existing = func(typ string) []stack.Found { return a.existing(s, typ) }
		d.resolve()
	}
	return s, a.names(ctx, s, d.Wanted)
}

// survey asks a target about itself and what there is in it.
func (a *App) survey(ctx context.Context, t stack.Target, name string) (*precheck.Site, error) {
	s := &precheck.Site{Target: t, Stack: name, Taken: map[string]string{}}
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() (err error) {
		if s.About, err = a.Cloud.About(ctx, t); err != nil {
			return fmt.Errorf("ask %s about itself: %w", t, err)
		}
		return nil
	})
	g.Go(func() error {
		list, err := a.Cloud.List(ctx, t, "")
		if err != nil {
			return fmt.Errorf("ask the cloud for what is in %s: %w", t, err)
		}
		for _, r := range list {
			s.All = append(s.All, r.Live(a.Library))
		}
		return nil
	})
	return s, g.Wait()
}

// names asks for the names that are unique in the whole cloud.
func (a *App) names(ctx context.Context, s *precheck.Site, w *stack.Wanted) error {
	named := precheck.Named(w)
	taken := make([]string, len(named))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(8)
	for i, n := range named {
		g.Go(func() error {
			is, id, err := a.Cloud.NameTaken(ctx, s.Target, n[0], n[1])
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

// against compares what is wanted of a stack with its record and its target,
// and holds the changes against what the target would refuse.
func (a *App) against(ctx context.Context, p *Preview, w *stack.Wanted) error {
	s, err := a.survey(ctx, p.Stack.Target, p.Stack.Name)
	if err == nil {
		err = a.names(ctx, s, w)
	}
	if err == nil {
		err = a.compare(ctx, p, p.Stack.Name, p.Stack.Target, w, s.Of(p.Stack.Name))
	}
	if err == nil {
		p.Findings = append(p.Findings, precheck.Against(s, w, p.ChangeSet, false)...)
		err = a.judgeAgain(ctx, p)
	}
	return w.Secrets().Error(err)
}

// existing lists what a node of a stack may select: what the stack does not
// manage itself.
func (a *App) existing(s *precheck.Site, typ string) []stack.Found {
	all := s.All
	if typ == "Image" {
		all = nil
		for _, r := range s.About.Images {
			all = append(all, r.Live(a.Library))
		}
	}
	var out []stack.Found
	for _, l := range all {
		if l.Type == typ && l.Tags["stack"] != s.Stack {
			out = append(out, stack.Found{Type: l.Type, ID: l.ID, Properties: l.Properties, Attributes: l.Attributes})
		}
	}
	return out
}

// compare fills in the change set of a preview. live is nil where the cloud
// was not asked.
func (a *App) compare(ctx context.Context, p *Preview, name string, t stack.Target, w *stack.Wanted, live map[string]*stack.Live) error {
	s := whatif.State{Stack: name, Target: t, Wanted: w, Live: live, Takes: a.Takes, Deleting: p.Kind == "delete"}
	is, err := a.deployed(ctx, p.Stack, live != nil)
	if err != nil {
		return err
	}
	if live == nil {
		s.Live = is.live
	} else {
		markLive(live, w, is)
	}
	s.Recorded, p.Old, s.Kept, s.BaseRevision, s.Base = is.recorded, is.old, is.kept, is.revision.Number, is.base
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
	s.BaseInputs, s.BaseFound = is.revision.Inputs, is.revision.Found
	if p.Draft != nil && p.Draft.Stack != nil {
		if s.TagsPos = p.Draft.Stack.TagsPos; s.TagsPos.Line == 0 {
			s.TagsPos.File = p.Draft.Stack.Path
		}
	}
	p.past = is.past
	s.Past = func(typ string, k whatif.Kind) []float64 { return is.past[typ][actions[k]] }
	in, err := a.settings()
	if err != nil {
		return err
	}
	p.careful = p.Draft != nil && p.Draft.Stack != nil && p.Draft.Stack.Careful || p.Stack != nil && p.Stack.Careful || slices.Contains(in.Careful, t.String())
	s.Careful = p.careful
	switch {
	case p.Draft != nil && p.Draft.Stack != nil:
		p.throwaway, p.approvers = p.Draft.Stack.Throwaway, p.Draft.Stack.Approvers
	case p.Stack != nil:
		p.throwaway, p.approvers = p.Stack.Throwaway, p.Stack.Approvers
	}
	p.ChangeSet = whatif.Compare(s)
	return nil
}

// strays are resources that carry the tag of a stack and are in no record: what
// a cloud made without ever saying so, or what somebody tagged by hand. When the
// stack is deleted, they go too; otherwise nothing would ever remove them.
func strays(live map[string]*stack.Live, is *deployed) []*stack.Recorded {
	names := map[string]string{} // by id
	for _, list := range [][]*stack.Recorded{is.recorded, is.old, is.kept} {
		for _, r := range list {
			names[r.ID] = r.Name
		}
	}
	known := maps.Clone(names)
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
		r := &stack.Recorded{Name: names[id], Type: l.Type, ID: id, Properties: l.Properties, Attributes: l.Attributes, Links: map[string][]stack.LinkTo{}}
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
var actions = map[whatif.Kind]run.Action{whatif.New: run.Create, whatif.Swap: run.Create, whatif.Edit: run.Update, whatif.Adopt: run.Update, whatif.Drop: run.Delete}

// Throwaway reports whether the stack says that losing its data does not matter.
func (p *Preview) Throwaway() bool { return p.throwaway && !p.careful }

// OnFailure is what happens when carrying it out fails, where nobody says
// otherwise: undo or hold.
func (p *Preview) OnFailure() string {
	switch {
	case p.onFailure != "":
		return p.onFailure
	case p.Draft != nil && p.Draft.Stack != nil:
		return p.Draft.Stack.OnFailure
	}
	return "undo"
}

// Careful reports whether the stack, or its target, is a careful one.
func (p *Preview) Careful() bool { return p.careful }

// WhatIfUndo compares a former revision of a stack with the record and the
// cloud. Revision 0 is the one that was deployed before the current one, or
// the last one of a removed stack.
func (a *App) WhatIfUndo(ctx context.Context, st *store.Stack, number int) (*Preview, error) {
	if number == 0 {
		var err error
		if number, err = a.Store.FormerRevision(ctx, st); err != nil {
			return nil, err
		}
	}
	if number < 1 {
		return nil, refusal("%s has no former revision to go back to", st.Name)
	}
	rev, err := a.Store.Revision(ctx, st.ID, number)
	if errors.Is(err, store.ErrNotFound) {
		return nil, refusal("%s has no revision %d", st.Name, number)
	}
	if err != nil {
		return nil, err
	}
	wanted, findings := resolveRevision(rev)
	p := &Preview{Stack: st, Kind: "undo", Revision: rev, To: number}
	rev.Note = fmt.Sprintf("as revision %d", number)
	if err := a.against(ctx, p, wanted); err != nil {
		return nil, err
	}
	p.Findings = append(findings, p.Findings...)
	return p, nil
}

// resolveRevision resolves a stored revision again.
func resolveRevision(rev *store.Revision) (*stack.Wanted, tosca.Findings) {
	file, findings := bundle.Stored(rev.Template, rev.Entry, []byte(rev.Text), rev.Files).Read()
	wanted, more := stack.Resolve(file, stack.Options{Given: givenAgain(rev), Tags: rev.Tags, Found: rev.Found})
	return wanted, append(findings, more...)
}

// givenAgain is the inputs of a stored revision as values that are given.
func givenAgain(rev *store.Revision) []stack.Given {
	given := make([]stack.Given, len(rev.Inputs))
	for i, in := range rev.Inputs {
		given[i] = stack.Given{Name: in.Name, Value: &tosca.Expr{Pos: in.Origin.Pos, Value: in.Value, Raw: rawText(in.Value)}, Origin: in.Origin}
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
func (a *App) WhatIfDelete(ctx context.Context, st *store.Stack) (*Preview, error) {
	p := &Preview{Stack: st, Kind: "delete"}
	empty := &tosca.File{Library: a.Library, Service: &tosca.ServiceTemplate{}}
	wanted, _ := stack.Resolve(empty, stack.Options{})
	if err := a.against(ctx, p, wanted); err != nil {
		return nil, err
	}
	p.Findings.Sort()
	return p, nil
}
