package app

import (
	"context"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"brickrow/internal/bundle"
	"brickrow/internal/precheck"
	"brickrow/internal/rules"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// The way from files to a change set goes over stages, each a value of its own:
// Parsed is what is written, Draft has the values of the inputs and is resolved
// as far as it goes, and Preview is held against the record and the target. A
// later stage never writes into an earlier one, and takes back none of its
// findings.

// Parsed is a template as it is written, with a stack file or without.
type Parsed struct {
	Path     string         // as given
	Stack    *stack.File    // nil for a template alone
	Template string         // path of the template; within an archive, that of the archive first
	Text     string         // of the template
	Bundle   *bundle.Bundle // the template and its files; nil where it cannot be read
	File     *tosca.File
	// Rules are those of the team, and RuleFiles where they stand.
	Rules     *rules.Set
	RuleFiles []string

	origin   string // of a revision that was saved: where it came from
	from     bundle.Sources
	read     tosca.Findings        // while the stack file was read
	template tosca.Findings        // while the template was read
	ruled    tosca.Findings        // while the rules were read
	checked  func() tosca.Findings // of the template; they may take a moment
	patch    *tosca.Patch          // how it was made of base; nil where it was read as a whole
	base     *Draft
	moved    *tosca.Moved // the lines that places in the template are in, where they are others
}

// InPart reports whether the places in a template may be off by some lines: it was read
// in part, while somebody wrote. Its findings are where they belong.
func (p *Parsed) InPart() bool { return p.moved != nil }

// Draft is a template with values for its inputs, resolved as far as it goes.
// What is wrong with it, or with what it was made from, is in Findings.
type Draft struct {
	*Parsed
	Wanted   *stack.Wanted
	Findings tosca.Findings
	Commit   string // that its files were read from; "" is the disk

	options  stack.Options
	valued   tosca.Findings // of the values
	resolved tosca.Findings // while it was resolved
}

// Load reads a template or a stack file with its template, checks it and
// resolves it. The error is for files that are not there; everything else is a
// finding.
func (a *App) Load(ctx context.Context, path string, v Values) (*Draft, error) {
	if err := v.open(path); err != nil {
		return nil, err
	}
	p, err := a.parse(path, v)
	if err != nil {
		return nil, err
	}
	d := a.draft(ctx, p, v)
	if hash := v.commit(); hash != "" {
		of := *d
		of.Commit = hash
		d = &of
	}
	return d, nil
}

// parse reads what is written.
func (a *App) parse(path string, v Values) (*Parsed, error) {
	from := v.sources()
	b, err := bundle.Open(from, path)
	if err != nil {
		return nil, refusal("%v", err)
	}
	if !bundle.IsArchive(path) && saysFleet(b.Text) {
		return nil, refusal("%s is a fleet file; a stack file or a template is needed here: 'brickrow check' looks at it", path)
	}
	p := &Parsed{Path: path, from: from}
	if !bundle.IsArchive(path) && !isTemplate(path, b.Text) {
		p.Stack, p.read = stack.ReadFile(path, b.Text, v.Target)
		b = a.templateOf(p)
	}
	a.draftMu.Lock()
	last, whole := a.lastDraft, a.lastWhole
	a.draftMu.Unlock()
	if last != nil && b != nil && (v.Quick || !last.InPart()) && a.unchanged(last.Parsed, p, b) && last.Bundle.Same(b) {
		return last.Parsed, nil
	}
	for _, base := range []*Draft{last, whole} {
		if base != nil && b != nil && !base.InPart() && a.unchanged(base.Parsed, p, b) && a.patched(base, p, b, v.Quick) {
			return p, nil
		}
	}
	a.readTemplate(p, b)
	return p, nil
}

// patched makes a stage of one that was read before, where only the values of one node
// differ. Only where it has to be quick may the lines of the others be other ones.
func (a *App) patched(base *Draft, p *Parsed, b *bundle.Bundle, quick bool) bool {
	if !base.Bundle.SameFiles(b) {
		return false
	}
	patch, ok := tosca.ReadPatch(base.File, base.Bundle.Text, b.Text, b.Source(a.Profile.Load))
	if !ok || patch.Moved != nil && (!quick || base.template.HasErrors()) { // whose words may name lines
		return false
	}
	b.Take(base.Bundle)
	p.Bundle, p.Template, p.Text, p.File = b, b.Name, string(b.Text), patch.File
	p.template, p.ruled, p.Rules, p.RuleFiles = patch.Findings(base.template), base.ruled, base.Rules, base.RuleFiles
	p.patch, p.base, p.moved = patch, base, patch.Moved
	p.checked = inBackground(func() tosca.Findings { return tosca.Check(p.File) })
	return true
}

// unchanged reports whether all but the text of a template and what it reads is as it was
// when a stage was read. Several views look at one draft: it is read, and held, once.
func (a *App) unchanged(last, p *Parsed, b *bundle.Bundle) bool {
	if last.Path != p.Path || last.Bundle == nil || last.read.HasErrors() || len(p.read) > 0 ||
		!reflect.DeepEqual(last.Stack, p.Stack) || last.Bundle.Name != b.Name || last.Bundle.Entry != b.Entry {
		return false
	}
	files, err := ruleFiles(p.from, b.Name, p.Stack)
	return err == nil && slices.Equal(files, last.RuleFiles) &&
		(len(files) == 0 || a.ruleSet(p.from, last.File.Library, files) == last.Rules)
}

// SameText reports whether another draft was read from the same: the stack file, the template and what it reads, and the
// rules.
func (d *Draft) SameText(o *Draft) bool {
	return d.Path == o.Path && d.Bundle != nil && o.Bundle != nil && reflect.DeepEqual(d.Stack, o.Stack) &&
		d.Bundle.Same(o.Bundle) && slices.Equal(d.RuleFiles, o.RuleFiles) && d.Rules == o.Rules
}

// templateOf opens the template that a stack file names; nil where it cannot.
func (a *App) templateOf(p *Parsed) *bundle.Bundle {
	if in, err := a.settings(); err != nil {
		p.read.Errorf(tosca.Pos{File: p.Path, Line: 1, Column: 1}, "no-targets", "", "%v", err)
	} else if slices.Contains(in.Careful, p.Stack.Target.String()) {
		p.Stack.Careful = true
	}
	if p.Stack.Template == "" {
		return nil
	}
	template := p.Stack.Template
	if !filepath.IsAbs(template) {
		template = filepath.Join(filepath.Dir(p.Path), template)
	}
	b, err := bundle.Open(p.from, template)
	if err != nil {
		p.Template = template
		p.read.Errorf(p.Stack.TemplatePos, "no-template", "the path is relative to the stack file",
			"the template cannot be read: %v", err)
		return nil
	}
	for _, folder := range p.Stack.Folders {
		if !filepath.IsAbs(folder) {
			folder = filepath.Join(filepath.Dir(p.Path), folder)
		}
		if beside, err := relative(filepath.Dir(template), folder); err == nil {
			b.Beside = append(b.Beside, filepath.ToSlash(beside))
		}
	}
	return b
}

// relative is a folder by its path from another one.
func relative(from, to string) (string, error) {
	from, err := filepath.Abs(from)
	if err != nil {
		return "", err
	}
	if to, err = filepath.Abs(to); err != nil {
		return "", err
	}
	return filepath.Rel(from, to)
}

// readTemplate reads the template of a stage that has none yet; b may be nil.
func (a *App) readTemplate(p *Parsed, b *bundle.Bundle) {
	p.File = &tosca.File{Library: a.Profile.Library}
	if b != nil {
		p.Bundle, p.Template, p.Text = b, b.Name, string(b.Text)
		var findings tosca.Findings
		p.File, findings = tosca.Read(b.Name, b.Text, a.source(b))
		p.template = findings
	}
	p.ruled = a.readRules(p)
	p.checked = inBackground(func() tosca.Findings { return tosca.Check(p.File) })
}

// inBackground begins to compute something, and yields what waits for it.
func inBackground[T any](f func() T) (wait func() T) {
	var out T
	done := make(chan struct{})
	go func() {
		defer close(done)
		out = f()
	}()
	return func() T {
		<-done
		return out
	}
}

// draft gives the inputs of a template their values, and resolves it.
func (a *App) draft(ctx context.Context, p *Parsed, v Values) *Draft {
	given, findings := a.given(ctx, p, v)
	if v.LastRun {
		findings = append(findings, a.lastFailures(ctx, p)...)
	}
	o := stack.Options{Given: given, Lenient: p.Stack == nil && len(v.Flags) == 0 && v.File == "" && !v.Strict}
	if p.Stack != nil {
		o.Tags = p.Stack.Tags
	}
	o.Fill = a.fill(p, v)
	a.draftMu.Lock()
	defer a.draftMu.Unlock()
	if last := a.lastDraft; last != nil && last.Parsed == p && sameOptions(last.options, o) &&
		reflect.DeepEqual(last.valued, findings) {
		return last
	}
	a.lastDraft = a.resolve(p, o, findings)
	if !p.template.HasErrors() && p.File.Service != nil && !p.InPart() {
		a.lastWhole = a.lastDraft
	}
	return a.lastDraft
}

// sameOptions reports whether a template is resolved in the same way.
func sameOptions(a, b stack.Options) bool {
	return a.Lenient == b.Lenient && maps.Equal(a.Tags, b.Tags) && maps.Equal(a.Fill, b.Fill) &&
		reflect.DeepEqual(a.Given, b.Given)
}

// resolve fills in the template, and joins the findings of all stages.
func (a *App) resolve(p *Parsed, o stack.Options, valued tosca.Findings) *Draft {
	o.Orders = a.Profile
	d := &Draft{Parsed: p, options: o, valued: valued}
	again := false
	if base := p.base; base != nil && o.Existing == nil && o.Found == nil && base.options.Existing == nil && sameOptions(base.options, o) &&
		reflect.DeepEqual(base.valued, valued) {
		d.Wanted, d.resolved, again = base.Wanted.Again(p.patch, base.resolved)
	}
	if p.base != nil { // what was before is not held for longer
		p.base, p.patch = nil, nil
	}
	if a.inPart.Store(again); !again {
		d.Wanted, d.resolved = stack.Resolve(p.File, o)
	}
	all := slices.Concat(p.read, p.template, p.ruled, valued, p.checked(), d.resolved)
	all = append(all, precheck.Rules(a.Profile, d.Wanted, precheck.ExtentOf(all))...)
	for i := range all {
		all[i].Pos = p.moved.Pos(all[i].Pos)
	}
	d.Findings = d.Wanted.Secrets().Findings(all)
	d.Findings.Sort()
	return d
}

// existing is a draft resolved again, with what there is in the target.
func (a *App) existing(d *Draft, of func(typ string) []stack.Found) *Draft {
	o := d.options
	o.Existing = of
	return a.resolve(d.Parsed, o, d.valued)
}

// placed is the same draft with a stack file.
func (d *Draft) placed(f *stack.File) *Draft {
	p, out := *d.Parsed, *d
	p.Stack = f
	out.Parsed = &p
	return &out
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

// source is what the reader asks about a bundle. The template that was read
// last is kept in parts, so that reading it again after a change is quick.
func (a *App) source(b *bundle.Bundle) tosca.Source {
	src := b.Source(a.Profile.Load)
	src.Trees = &a.trees
	return src
}

// Check looks at a draft alone, and yields its findings.
func (a *App) Check(ctx context.Context, path string, v Values) (tosca.Findings, error) {
	if err := v.open(path); err != nil {
		return nil, err
	}
	if isRules(v.sources(), path) {
		return rules.Read(v.sources(), a.Profile.Library, []string{path}).Findings, nil
	}
	if isFleet(v.sources(), path) {
		return a.checkFleet(ctx, path, v)
	}
	d, err := a.Load(ctx, path, v)
	if err != nil {
		return nil, err
	}
	return a.Checked(ctx, d), nil
}

// How long a check waits for the cloud to list its targets, and how long that holds: an editor checks at every pause.
const targetPatience, targetsHold = 2 * time.Second, time.Minute

// listedTargets are the targets as the cloud has listed them last.
type listedTargets struct {
	sync.Mutex
	list []stack.Target
	at   time.Time
}

// knownTargets are the targets as the cloud lists them; none where it does not answer.
func (a *App) knownTargets(ctx context.Context) []stack.Target {
	a.targets.Lock()
	defer a.targets.Unlock()
	if time.Since(a.targets.at) > targetsHold {
		patient, end := context.WithTimeout(ctx, targetPatience)
		defer end()
		list, err := a.Cloud.Targets(patient)
		if err != nil {
			list = nil
		}
		if ctx.Err() == nil { // else nobody waits for it any more
			a.targets.list, a.targets.at = list, time.Now()
		}
	}
	return a.targets.list
}

// Checked are the findings of a draft with what the rules of the team say of it, and whether its target is there. Of the cloud
// nothing else is asked: it is held against the record.
func (a *App) Checked(ctx context.Context, d *Draft) tosca.Findings {
	out := slices.Clone(d.Findings)
	if d.Wanted == nil || d.File == nil || d.File.Service == nil {
		return out
	}
	name, tags := "checked", map[string]string(nil)
	p := &Preview{Draft: d, Kind: run.KindDeploy}
	var target stack.Target
	if d.Stack != nil && d.Stack.Stack != "" && !d.Stack.Target.IsZero() {
		name, target, tags = d.Stack.Stack, d.Stack.Target, d.Stack.Tags
		bad := slices.ContainsFunc(out, func(f tosca.Finding) bool { return f.Code == "bad-target" })
		if targets := a.knownTargets(ctx); len(targets) > 0 && !bad {
			out = append(out, unknownTarget(d.Stack, targets)...)
		}
		p.Stack, _ = a.store.At(ctx, name, target) // without it all is new
	}
	out = append(out, a.ruled(ctx, p, d, name, target, tags)...)
	out.Sort()
	return out
}

// ruled holds a draft against the rules of the team, as far as it could be read.
func (a *App) ruled(ctx context.Context, p *Preview, d *Draft, name string, target stack.Target, tags map[string]string) tosca.Findings {
	if d.Rules == nil || len(d.Rules.Rules) == 0 {
		return nil
	}
	var told tosca.Findings
	if p.ChangeSet == nil {
		if err := a.compare(ctx, p, name, target, d.Wanted, nil); err != nil {
			told.Warnf(tosca.Pos{File: d.Path, Line: 1, Column: 1}, "rule-not-judged", "", "the rules were not looked at: %v", err)
			return told
		}
	}
	set, of := d.Rules, &Preview{ChangeSet: p.ChangeSet, careful: p.careful}
	if d.Findings.HasErrors() { // what could not be read counts neither as gone nor as missing
		set = d.Rules.OfResources()
		of.ChangeSet = &whatif.ChangeSet{Stack: name, Target: target, BaseRevision: p.BaseRevision,
			Changes: slices.DeleteFunc(slices.Clone(p.Changes), func(ch whatif.Change) bool { return ch.Wanted == nil })}
	}
	judge(of, set, d.Wanted.Inputs, tags)
	return d.Wanted.Secrets().Findings(slices.DeleteFunc(of.Findings, func(f tosca.Finding) bool { return f.Code == "rule-not-judged" }))
}

// unknownTarget tells that a stack file names a target that is not there.
func unknownTarget(f *stack.File, targets []stack.Target) (told tosca.Findings) {
	if slices.Contains(targets, f.Target) {
		return nil
	}
	told.Errorf(f.TargetPos, "unknown-target", tosca.Suggest(f.Target.String(), names(targets)), "there is no target %s", f.Target)
	return told
}

// CannotCheck is what is told of a file among others that cannot be checked.
func CannotCheck(path string, err error) tosca.Findings {
	var findings tosca.Findings
	findings.Errorf(tosca.Pos{File: path}, "cannot-check", "", "%v", err)
	return findings
}
