package app

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/bundle"
	"brickrow/internal/files"
	"brickrow/internal/rules"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// ruleFiles lists the files of rules for a template: those in the folder rules
// beside it, and those that the stack file names. f may be nil.
func ruleFiles(from bundle.Sources, template string, f *stack.File) ([]string, error) {
	out, err := rules.FilesIn(from, RuleFolder(template))
	if err != nil || f == nil {
		return out, err
	}
	var named []string
	for _, p := range f.Rules {
		if !filepath.IsAbs(p) && p != rules.BuiltIn {
			p = filepath.Join(filepath.Dir(f.Path), p)
		}
		named = append(named, p)
	}
	more, err := rules.Files(from, named)
	out = append(out, more...)
	slices.Sort(out)
	return slices.Compact(out), err
}

// RuleFolder is where the rules of a template are: in the folder rules beside it,
// or beside the archive that it is in.
func RuleFolder(template string) string {
	for dir := template; dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		if bundle.IsArchive(dir) {
			template = dir
		}
	}
	return filepath.Join(filepath.Dir(template), rules.Folder)
}

// isRules tells a file of rules from a template and a stack file.
func isRules(from bundle.Sources, path string) bool {
	if bundle.IsArchive(path) {
		return false
	}
	text, err := from.Open(path, tosca.MaxBytes)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		switch key, _, _ := strings.Cut(line, ":"); key {
		case "rules", "tests":
			return true
		case "tosca_definitions_version", "stack", "template":
			return false
		}
	}
	return false
}

// readRules reads the rules for a template; what is wrong with them is a finding.
func (a *App) readRules(d *Parsed) (findings tosca.Findings) {
	if d.Template == "" {
		return nil
	}
	paths, err := ruleFiles(d.from, d.Template, d.Stack)
	if err != nil {
		at := tosca.Pos{File: d.Path}
		if d.Stack != nil {
			at = d.Stack.RulesPos
		}
		findings.Errorf(at, "broken-rule", "the path is relative to the stack file", "%v", err)
	}
	lib := d.File.Library
	d.RuleFiles = paths
	d.Rules = a.ruleSet(d.from, lib, paths)
	return append(findings, d.Rules.Findings...)
}

// ruleSet reads files of rules, those read last only once while they stay as
// they are.
func (a *App) ruleSet(from bundle.Sources, lib *tosca.Library, paths []string) *rules.Set {
	if len(paths) == 0 {
		return rules.NewSet(lib)
	}
	var key strings.Builder
	for _, f := range paths {
		if f == rules.BuiltIn {
			key.WriteString(f + "\x00")
			continue
		}
		text, err := from.Open(f, tosca.MaxBytes)
		if err != nil {
			return rules.Read(from, lib, paths)
		}
		key.WriteString(f + "\x00" + string(text) + "\x00")
	}
	a.rulesMu.Lock()
	defer a.rulesMu.Unlock()
	lib = a.withShipped(lib)
	if a.rules == nil || a.rulesKey != key.String() || a.rulesLib != lib {
		a.rules, a.rulesKey, a.rulesLib = rules.Read(from, lib, paths), key.String(), lib
	}
	return a.rules
}

// withShipped is a library with all shipped types beside: a rule may name one that a template does not
// use. It is the same one for the same library.
func (a *App) withShipped(lib *tosca.Library) *tosca.Library {
	own := false
	for name, t := range lib.Nodes {
		own = own || a.Profile.Library.Nodes[name] != t
	}
	if !own {
		return a.Profile.Library
	}
	if a.shippedWith != lib {
		all := a.Profile.Library.Copy()
		all.Add(lib)
		a.shippedWith, a.withOwn = lib, all
	}
	return a.withOwn
}

// judge holds a change set against rules.
func judge(p *Preview, set *rules.Set, inputs []stack.Input, tags map[string]string) {
	c := rules.Context{Changes: p.ChangeSet, Inputs: map[string]tosca.Value{}, Tags: tags, Careful: p.careful}
	for _, in := range inputs {
		c.Inputs[in.Name] = in.Value
	}
	p.Findings = append(p.Findings, set.Judge(c)...)
}

// judgeAgain holds a way back, or a deletion, against the rules that are beside
// the template now.
func (a *App) judgeAgain(ctx context.Context, p *Preview) error {
	rev := p.Revision
	if rev == nil && p.Stack.Revision > 0 {
		var err error
		if rev, err = a.store.Revision(ctx, p.Stack.ID, p.Stack.Revision); err != nil {
			return err
		}
	}
	if rev == nil || rev.Template == "" {
		return nil // nothing was ever deployed
	}
	var file *stack.File
	if text, err := files.Read(p.Stack.StackFile, tosca.MaxBytes); err == nil {
		file, _ = stack.ReadFile(p.Stack.StackFile, text, "")
	}
	paths, err := ruleFiles(bundle.Disk, rev.Template, file)
	if err != nil {
		return refusal("%v", err)
	}
	set := a.ruleSet(bundle.Disk, a.Profile.Library, paths)
	p.Findings = append(p.Findings, set.Findings...)
	judge(p, set, rev.Inputs, rev.Tags)
	return nil
}

// TestRules carries out the tests of rules: of those in the files and folders
// given, or in the folder rules.
func (a *App) TestRules(paths []string) (*rules.Set, []rules.Outcome, error) {
	if len(paths) == 0 {
		paths = []string{rules.Folder}
	}
	found, err := rules.Files(bundle.Disk, paths)
	if err != nil {
		return nil, nil, err
	}
	if len(found) == 0 {
		return nil, nil, refusal("there are no files of rules in %s: they end in .yaml", strings.Join(paths, ", "))
	}
	set := rules.Read(bundle.Disk, a.Profile.Library, found)
	set.Findings.Sort()
	return set, set.Try(), nil
}
