package app

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/examples"
	"brickrow/internal/bundle"
	"brickrow/internal/cloud"
	"brickrow/internal/files"
	"brickrow/internal/identity"
	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// Format formats a template or a stack file. changed is false where it is in
// its form already.
func Format(name string, text []byte) (out []byte, changed bool, findings tosca.Findings) {
	if isTemplate(name, text) {
		out, findings = tosca.Format(name, text)
	} else {
		out, findings = tosca.FormatPlain(name, text)
	}
	return out, !findings.HasErrors() && !bytes.Equal(out, text), findings
}

// WriteFormatted replaces a file by its formatted text, as a whole or not at
// all. A link stays one, and what it leads to is replaced.
func WriteFormatted(name string, text []byte) error {
	name, err := filepath.EvalSymlinks(name)
	if err != nil {
		return err
	}
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	return files.Write(name, text, info.Mode().Perm())
}

// CheckTarget checks a draft against a target: its own, or the one in the
// values, where a template alone can be checked too.
func (a *App) CheckTarget(ctx context.Context, path string, v Values) (tosca.Findings, error) {
	d, err := a.Load(ctx, path, v)
	if err != nil {
		return nil, err
	}
	if d.Stack == nil {
		t, ok := stack.ParseTarget(v.Target)
		if !ok {
			return nil, refusal("%s is a template alone: say which target it is for, as --target=account/region", path)
		}
		d = d.placed(&stack.File{Path: path, Stack: "checked", Target: t,
			TargetPos: tosca.Pos{File: "--target " + v.Target}})
	}
	p, err := a.WhatIf(ctx, d)
	if err != nil {
		return nil, err
	}
	return p.Findings, nil
}

// Pack packs the template of a folder and all that it reads into an archive.
// entry names the template; it may be "" where there is only one.
func Pack(dir, entry, out string) (count int, findings tosca.Findings, err error) {
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return 0, nil, refusal("%s is not a folder", dir)
	}
	shipped := profile.Read()
	if entry == "" {
		if entry, err = entryOf(dir, shipped); err != nil {
			return 0, nil, err
		}
	}
	b, err := bundle.Open(bundle.Disk, filepath.Join(dir, entry))
	if err != nil {
		return 0, nil, refusal("%v", err)
	}
	if _, findings = b.Read(shipped.Load); findings.HasErrors() {
		return 0, findings, nil
	}
	var archive bytes.Buffer
	if err := b.Pack(&archive, "Brick Row"); err != nil {
		return 0, findings, refusal("%v", err)
	}
	return len(b.Files()) + 1, findings, files.Write(out, archive.Bytes(), 0o644)
}

// entryOf finds the one template of a folder that no other file imports.
func entryOf(dir string, shipped *profile.Profile) (string, error) {
	names, err := filepath.Glob(filepath.Join(dir, "*.y*ml"))
	if err != nil {
		return "", err
	}
	imported := map[string]bool{}
	var found []string
	for _, name := range names {
		text, err := bundle.Disk.Open(name, tosca.MaxBytes)
		if err != nil || !isTemplate(name, text) {
			continue
		}
		f, _ := bundle.Folder(bundle.Disk, name, text).Read(shipped.Load)
		if f.Service != nil {
			found = append(found, filepath.Base(name))
		}
		for _, g := range f.Imports {
			imported[filepath.FromSlash(g.Path)] = true
		}
	}
	found = slices.DeleteFunc(found, func(name string) bool { return imported[name] })
	if len(found) == 1 {
		return found[0], nil
	}
	if len(found) == 0 {
		return "", refusal("there is no template in %s", dir)
	}
	return "", refusal("there are several templates in %s: name one with --entry: %s", dir, strings.Join(found, ", "))
}

// Starter is a small stack to begin with.
type Starter struct {
	Name        string   `json:"name"`
	Description string   `json:"description"`
	Inputs      []string `json:"inputs"` // those that must be filled in

	Fields []*tosca.Property `json:"-"` // all inputs
	Wanted *stack.Wanted     `json:"-"` // as far as it is known without them
}

// MustFill reports whether an input has to be filled in.
func MustFill(in *tosca.Property) bool { return !in.Optional() && in.Metadata[tosca.FilledBy] == "" }

// Starters lists the stacks to begin with.
func Starters() ([]Starter, error) {
	dirs, err := examples.Starters.ReadDir("starters")
	if err != nil {
		return nil, err
	}
	shipped := profile.Read()
	var out []Starter
	for _, d := range dirs {
		f, err := readStarter(d.Name(), shipped)
		if err != nil {
			return nil, err
		}
		s := Starter{Name: d.Name(), Description: f.Description, Inputs: []string{}, Fields: f.Service.Inputs}
		s.Wanted, _ = stack.Resolve(f, stack.Options{Lenient: true, Orders: shipped}) // what is missing is to be filled in
		for _, in := range f.Service.Inputs {
			if MustFill(in) {
				s.Inputs = append(s.Inputs, in.Name)
			}
		}
		out = append(out, s)
	}
	i := slices.IndexFunc(out, func(s Starter) bool { return s.Name == EmptyStarter })
	empty := out[i]
	return append(slices.Delete(out, i, i+1), empty), nil // the last one
}

// EmptyStarter is the starter that makes nothing, to write all of it oneself.
const EmptyStarter = "empty"

func readStarter(name string, shipped *profile.Profile) (*tosca.File, error) {
	dir := path.Join("starters", name)
	text, err := examples.Starters.ReadFile(path.Join(dir, name+".yaml"))
	if err != nil {
		list, lerr := examples.Starters.ReadDir("starters")
		if lerr != nil {
			return nil, lerr
		}
		var names []string
		for _, d := range list {
			names = append(names, d.Name())
		}
		return nil, refusal("there is no starter '%s'; %s", name,
			cmp.Or(tosca.Suggest(name, names), "'brickrow starters' lists them"))
	}
	made := map[string][]byte{}
	err = fs.WalkDir(examples.Starters, dir, func(p string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			made[strings.TrimPrefix(p, dir+"/")], err = examples.Starters.ReadFile(p)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	f, findings := bundle.Stored(name+".yaml", "", text, made).Read(shipped.Load)
	if findings.HasErrors() {
		return nil, fmt.Errorf("the starter %s: %w", name, &Refusal{Findings: findings})
	}
	return f, nil
}

// NewStack writes a starter and a stack file for it into a folder, for a stack of a name. Files that are there already are
// never overwritten.
func NewStack(starter, dir, name, target string) (written []string, err error) {
	if !stack.GoodName(name) {
		return nil, refusal("'%s' cannot be the name of a stack: use small letters, digits and -, such as hut-3", name)
	}

	f, err := readStarter(starter, profile.Read())
	if err != nil {
		return nil, err
	}
	from := path.Join("starters", starter)
	made := map[string][]byte{}
	if err := fs.WalkDir(examples.Starters, from, func(p string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			made[strings.TrimPrefix(p, from+"/")], err = examples.Starters.ReadFile(p)
		}
		return err
	}); err != nil {
		return nil, err
	}
	template := starter + ".yaml"
	if starter == EmptyStarter { // it becomes what its stack is
		template = name + ".yaml"
		made = map[string][]byte{template: made[starter+".yaml"]}
	}
	made[name+".stack.yaml"] = []byte(StackFileFor(f, name, template, target))
	var names []string
	for name := range made {
		names = append(names, name)
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return nil, refusal("%s is there already; choose an empty folder", filepath.Join(dir, name))
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	slices.Sort(names)
	for _, name := range names {
		p := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			return written, err
		}
		if err := files.Write(p, made[name], 0o644); err != nil {
			return written, err
		}
		written = append(written, p)
	}
	return written, nil
}

// FillIn marks what is to be filled in, in a stack file that was written for
// someone.
const FillIn = "FILL IN"

// StackFileFor writes a stack file for a template: what must be filled in is
// marked, and each input says what it is.
func StackFileFor(f *tosca.File, name, template, target string) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# %s", f.Description)
	line("# Lines marked %s need a value; the others can stay as they are.", FillIn)
	line("stack: %s", name)
	line("template: %s", template)
	if target == "" {
		line("target: # %s: account/region; 'brickrow targets' lists them", FillIn)
	} else {
		line("target: %s", target)
	}
	if len(f.Service.Inputs) == 0 {
		return b.String()
	}
	hash := "" // where nothing must be filled in, all of it is a comment
	if !slices.ContainsFunc(f.Service.Inputs, MustFill) {
		hash = "# "
	}
	line("%sinputs:", hash)
	for _, in := range f.Service.Inputs {
		note := "  # "
		if hash != "" {
			note = "#   "
		}
		about := in.Type.Label()
		switch rule := tosca.Describe(in.Validation); {
		case in.Validation == nil:
		case in.Metadata[tosca.Message] != "":
			about += ", " + in.Metadata[tosca.Message]
		case !strings.Contains(rule, "matches"): // a pattern says nothing to a person
			about += ", " + rule
		}
		value, _ := in.Constant()
		if hash == "" {
			line("  # %s", cmp.Or(in.Description, in.Name))
		}
		switch {
		case in.Type.IsA("Secret"):
			line("  %s: { from_env: %s } # %s: %s; set the variable, or write { from_file: … }", in.Name,
				strings.ToUpper(in.Name), FillIn, about)
		case MustFill(in):
			line("  %s: # %s: %s", in.Name, FillIn, about)
		case in.Metadata[tosca.FilledBy] != "":
			line("  # %s: it is filled by the %s where nothing is given (%s)", in.Name, in.Metadata[tosca.FilledBy], about)
		case hash != "":
			line("%s%s:%s # %s (%s)", note, in.Name, inline(value), cmp.Or(in.Description, in.Name), about)
		default:
			line("%s%s:%s # %s", note, in.Name, inline(value), about)
		}
	}
	return b.String()
}

// inline is a value on one line, behind a space; "" where there is none.
func inline(v tosca.Value) string {
	if v == nil {
		return ""
	}
	return " " + strings.TrimSpace(string(tosca.Emit(tosca.Inline(stack.Literal(v)))))
}

// TargetInfo is a target with who one is there.
type TargetInfo struct {
	Target   stack.Target  `json:"-"`
	Name     string        `json:"target"`
	Who      string        `json:"who"`
	May      []string      `json:"may"`
	Careful  bool          `json:"careful"`
	Approval bool          `json:"approval"` // a second person has to approve
	Limits   []cloud.Limit `json:"limits"`
	Problem  string        `json:"problem,omitempty"`
}

// Targets lists the accounts and regions, with who one is there.
func (a *App) Targets(ctx context.Context) ([]TargetInfo, error) {
	list, err := a.Cloud.Targets(ctx)
	if err != nil {
		return nil, fmt.Errorf("ask the cloud for its targets: %w", err)
	}
	in, err := a.settings()
	if err != nil {
		return nil, err
	}
	var out []TargetInfo
	for _, t := range list {
		i := TargetInfo{Target: t, Name: t.String(), Careful: slices.Contains(in.Careful, t.String()),
			Approval: slices.Contains(in.Approval, t.String()), May: []string{}, Limits: []cloud.Limit{}}
		if about, err := a.Cloud.About(ctx, t); err != nil {
			i.Problem = cloud.Clean(err.Error())
		} else {
			i.Who, i.May, i.Limits = about.Who, about.Actions, append(i.Limits, about.Limits...)
		}
		out = append(out, i)
	}
	return out, nil
}

// approvalNeeded reports whether what is done to a stack needs the agreement of a
// second person: because its target does, or because the stack names who may
// agree.
func (a *App) approvalNeeded(p *Preview) (bool, error) {
	in, err := a.settings()
	return slices.Contains(in.Approval, p.Target.String()) || len(p.approvers) > 0, err
}

// Mark is what can be said of a target.
type Mark string

// The marks of a target.
const (
	Careful       Mark = "careful"  // its stacks are slower to confirm
	NeedsApproval Mark = "approval" // a second person has to agree
)

// Set marks a target. With NeedsApproval, identities of those who may give it can be
// named.
func (a *App) Set(ctx context.Context, what Mark, target string, approvers ...string) error {
	return a.mark(ctx, what, target, true, approvers)
}

// Unset takes a mark of a target away.
func (a *App) Unset(ctx context.Context, what Mark, target string) error {
	return a.mark(ctx, what, target, false, nil)
}

func (a *App) mark(ctx context.Context, what Mark, target string, on bool, approvers []string) error {
	if err := a.checkMark(ctx, target, approvers); err != nil {
		return err
	}
	if what == NeedsApproval {
		in, err := a.settings()
		if err != nil {
			return err
		}
		if slices.Contains(in.Approval, target) && (!on || len(approvers) > 0) {
			how := "targets --no-approval " + target
			if on {
				how = "targets --approval " + target + " --approver …"
			}
			return refusal("what is done to %s needs the agreement of a second person, also this: save it with %s --save FILE, let somebody "+
				"approve FILE, then deploy FILE", target, how)
		}
	}
	return a.markAgreed(ctx, what, target, on, approvers, "")
}

// checkMark refuses what cannot be said of a target.
func (a *App) checkMark(ctx context.Context, target string, approvers []string) error {
	t, ok := stack.ParseTarget(target)
	targets, err := a.Cloud.Targets(ctx)
	if err != nil {
		return err
	}
	if !ok || !slices.Contains(targets, t) {
		return refusal("there is no target %s; 'brickrow targets' lists them", target)
	}
	for _, line := range approvers {
		if who, err := identity.Parse(line); err != nil || who.Key == "" {
			return refusal("'%s' is nobody's identity: 'brickrow identity' prints one's own", line)
		}
	}
	return nil
}

// markAgreed marks a target, or takes a mark away. What is done to the agreement that it asks for is an act of its own.
func (a *App) markAgreed(ctx context.Context, what Mark, target string, on bool, approvers []string, note string) error {
	act := store.Act{Act: store.SettingSet, On: target, Note: note}
	if what == NeedsApproval {
		act.Act = map[bool]string{true: store.ApprovalOn, false: store.ApprovalOff}[on]
	}
	return a.setSettings(ctx, func(in *targetSettings) {
		list := map[Mark]*[]string{Careful: &in.Careful, NeedsApproval: &in.Approval}[what]
		*list = slices.DeleteFunc(*list, func(s string) bool { return s == target })
		if on {
			*list = append(*list, target)
		}
		slices.Sort(*list)
		if what == NeedsApproval && len(approvers) > 0 {
			if in.Approvers == nil {
				in.Approvers = map[string][]string{}
			}
			in.Approvers[target] = approvers
		} else if what == NeedsApproval && !on {
			delete(in.Approvers, target)
		}
	}, act)
}
