// Package rules is what a team decides for itself: rules over the changes of a
// what-if, in the Common Expression Language (CEL), that warn or refuse, and
// tests for them.
//
// A rule is an expression that must be true. It sees the resource, what it is
// before and after, the stack and the target. Where the answer rests on a value
// that only the cloud can know, the rule cannot be judged, and says so.
package rules

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"

	"cel.dev/cel-go/cel"
	"go.yaml.in/yaml/v4"

	"brickrow/internal/bundle"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Folder is where the rules of a template are, beside it.
const Folder = "rules"

// Rule is one rule of a team.
type Rule struct {
	ID       string
	Message  string
	Fix      string
	Severity tosca.Severity // Error refuses, Warning warns
	Types    []string       // of the resources it is about; none means all
	Changes  []whatif.Kind  // it is about; never none
	Once     bool           // it is about the stack, and judged once
	Pos      tosca.Pos

	types      []*tosca.NodeType
	expression string
	at         tosca.Pos
	program    cel.Program
}

// Set is the rules and the tests of some files.
type Set struct {
	Rules    []*Rule
	Tests    []*Test
	Findings tosca.Findings // what is wrong with the rules themselves

	lib *tosca.Library
}

// FilesIn lists the files of rules of a folder, which may be missing.
func FilesIn(from bundle.Sources, folder string) ([]string, error) {
	out, err := Files(from, []string{folder})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return out, err
}

// Files lists the files of rules that paths name: files, and those of folders.
func Files(from bundle.Sources, paths []string) ([]string, error) {
	var out []string
	for _, p := range paths {
		if p == BuiltIn {
			out = append(out, p)
			continue
		}
		list, err := from.List(p)
		switch {
		case errors.Is(err, bundle.ErrNoFolder):
			out = append(out, p)
		case err != nil:
			return nil, fmt.Errorf("the rules cannot be read: %w", err)
		}
		for _, f := range list {
			if ext := filepath.Ext(f); ext == ".yaml" || ext == ".yml" {
				out = append(out, f)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// Read reads files of rules. What is wrong with them is in Findings.
func Read(from bundle.Sources, lib *tosca.Library, paths []string) *Set {
	s := &Set{lib: lib}
	for _, f := range paths {
		if f == BuiltIn {
			s.Add("built-in.rules.yaml", builtIn)
			continue
		}
		text, err := from.Open(f, tosca.MaxBytes)
		if err != nil {
			s.broken(tosca.Pos{File: f}, "", "the rules cannot be read: %v", err)
			continue
		}
		s.Add(f, text)
	}
	return s
}

// NewSet is an empty set of rules about the types of a library.
func NewSet(lib *tosca.Library) *Set { return &Set{lib: lib} }

// errors counts what is broken.
func (s *Set) errors() int {
	n := 0
	for _, f := range s.Findings {
		if f.Severity == tosca.Error {
			n++
		}
	}
	return n
}

func (s *Set) broken(at tosca.Pos, fix, format string, args ...any) {
	s.Findings.Errorf(at, "broken-rule", fix, format, args...)
}

// Add reads one file of rules.
func (s *Set) Add(file string, text []byte) {
	var findings tosca.Findings
	defer func() { s.Findings = append(s.Findings, findings...) }()
	root := tosca.ParseYAML(file, text, &findings)
	if root == nil {
		return
	}
	var tests []tosca.Entry
	for _, e := range tosca.Entries(file, root, "a file of rules", &findings) {
		if e.Key.Name != "rules" && e.Key.Name != "tests" {
			s.broken(e.Key.Pos, tosca.Suggest(e.Key.Name, []string{"rules", "tests"}),
				"a file of rules has no key '%s'", e.Key.Name)
			continue
		}
		if e.Node.Kind != yaml.SequenceNode {
			s.broken(e.Pos, "write a list, each with a dash", "%s must be a list", e.Key.Name)
			continue
		}
		for _, n := range e.Node.Content {
			entry := tosca.Entry{Node: n, Pos: tosca.Pos{File: file, Line: n.Line, Column: n.Column}}
			if e.Key.Name == "tests" {
				tests = append(tests, entry)
				continue
			}
			s.readRule(file, text, entry, &findings)
		}
	}
	for _, e := range tests { // they may stand before the rules
		s.readTest(file, e, &findings)
	}
}

var ruleKeys = []string{"id", "message", "fix", "severity", "types", "changes", "each", "require"}

func (s *Set) readRule(file string, text []byte, e tosca.Entry, findings *tosca.Findings) {
	r := &Rule{Pos: e.Pos, Severity: tosca.Error,
		Changes: []whatif.Kind{whatif.New, whatif.Edit, whatif.Swap, whatif.Same, whatif.Adopt}}
	before := s.errors()
	var require *yaml.Node
	for _, k := range tosca.Entries(file, e.Node, "a rule", findings) {
		switch k.Key.Name {
		case "id":
			r.ID = s.text(k)
			if slices.ContainsFunc(s.Rules, func(o *Rule) bool { return o.ID == r.ID }) {
				s.broken(k.Pos, "give it another id", "there is a rule '%s' already", r.ID)
			}
		case "message":
			r.Message = s.text(k)
		case "fix":
			r.Fix = s.text(k)
		case "severity":
			severity, ok := map[string]tosca.Severity{"warn": tosca.Warning, "refuse": tosca.Error}[s.text(k)]
			if r.Severity = severity; !ok {
				s.broken(k.Pos, "write warn or refuse", "the severity cannot be '%s'", k.Node.Value)
			}
		case "types":
			for _, n := range s.list(k) {
				r.Types = append(r.Types, n.Value)
				if t := s.lib.Nodes[n.Value]; t != nil {
					r.types = append(r.types, t)
				} else { // files of rules are shared, and a template may have types of its own
					s.Findings.Warnf(at(file, n), "rule-without-type",
						tosca.Suggest(n.Value, slices.Collect(maps.Keys(s.lib.Nodes))),
						"there is no type '%s' here: the rule is about nothing", n.Value)
				}
			}
		case "changes":
			r.Changes = nil
			for _, n := range s.list(k) {
				kind := whatif.Kind(n.Value)
				if kind.Mark() == "" {
					s.broken(at(file, n), tosca.Suggest(n.Value, kinds()), "there is no change '%s'", n.Value)
				}
				r.Changes = append(r.Changes, kind)
			}
		case "each":
			if r.Once = s.text(k) == "stack"; !r.Once && k.Node.Value != "resource" {
				s.broken(k.Pos, "write resource or stack",
					"a rule is judged for each resource or for each stack, not for each '%s'", k.Node.Value)
			}
		case "require":
			r.expression, r.at, require = s.text(k), k.Pos, k.Node
		default:
			s.broken(k.Key.Pos, tosca.Suggest(k.Key.Name, ruleKeys), "a rule has no key '%s'", k.Key.Name)
		}
	}
	for key, missing := range map[string]bool{"id": r.ID == "", "message": r.Message == "",
		"require": r.expression == ""} {
		if missing && s.errors() == before {
			s.broken(e.Pos, "add "+key, "a rule needs the key '%s'", key)
		}
	}
	if r.Once && len(r.Types) > 0 {
		s.broken(e.Pos, "look for them in stack.resources", "a rule about the stack cannot be about types")
	}
	if s.errors() == before {
		s.compile(r, place{file, text, require})
	}
	if s.errors() == before {
		s.Rules = append(s.Rules, r)
	}
}

func at(file string, n *yaml.Node) tosca.Pos {
	return tosca.Pos{File: file, Line: n.Line, Column: n.Column}
}

func kinds() []string {
	var out []string
	for _, k := range []whatif.Kind{whatif.New, whatif.Edit, whatif.Swap, whatif.Drop, whatif.Same, whatif.Adopt,
		whatif.Keep} {
		out = append(out, string(k))
	}
	return out
}

func (s *Set) text(e tosca.Entry) string {
	if e.Node.Kind != yaml.ScalarNode || e.Node.Value == "" {
		s.broken(e.Pos, "", "'%s' must be text", e.Key.Name)
		return ""
	}
	return e.Node.Value
}

// list reads a list of words, or one word.
func (s *Set) list(e tosca.Entry) []*yaml.Node {
	nodes := []*yaml.Node{e.Node}
	if e.Node.Kind == yaml.SequenceNode {
		nodes = e.Node.Content
	}
	for _, n := range nodes {
		if n.Kind != yaml.ScalarNode {
			s.broken(e.Pos, "", "'%s' must be a list of words", e.Key.Name)
			return nil
		}
	}
	return nodes
}

// Context is what rules see beside the change set.
type Context struct {
	Changes *whatif.ChangeSet
	Inputs  map[string]tosca.Value
	Tags    map[string]string
	Careful bool
}

// Judge holds the changes against the rules. A rule that refuses yields an
// error, one that warns a warning; one that cannot be judged warns, and one
// that breaks down refuses.
func (s *Set) Judge(c Context) tosca.Findings {
	var out tosca.Findings
	if len(s.Rules) == 0 {
		return nil
	}
	world := worldOf(c)
	for _, r := range s.Rules {
		if r.Once {
			out = append(out, r.judge(world.vars(nil), "the stack", tosca.Pos{})...)
		}
	}
	for i := range c.Changes.Changes {
		ch := &c.Changes.Changes[i]
		var vars map[string]any
		for _, r := range s.Rules {
			if r.Once || !r.about(ch) {
				continue
			}
			if vars == nil {
				vars = world.vars(ch)
			}
			out = append(out, r.judge(vars, ch.Name, ch.Pos)...)
		}
	}
	return out
}

// OfResources is the set without the rules that are about the stack as a whole.
func (s *Set) OfResources() *Set {
	out := *s
	out.Rules = slices.DeleteFunc(slices.Clone(s.Rules), func(r *Rule) bool { return r.Once })
	return &out
}

// about reports whether the rule applies to a change.
func (r *Rule) about(ch *whatif.Change) bool {
	if !slices.Contains(r.Changes, ch.Kind) {
		return false
	}
	if len(r.Types) == 0 || slices.Contains(r.Types, ch.Type) {
		return true
	}
	if ch.Wanted == nil {
		return false
	}
	for t := ch.Wanted.Own; t != nil; t = t.Parent {
		if slices.Contains(r.Types, t.Name) {
			return true
		}
	}
	return false
}

func (r *Rule) judge(vars map[string]any, what string, pos tosca.Pos) tosca.Findings {
	var out tosca.Findings
	if pos.Line == 0 {
		pos = r.Pos
	}
	verdict, err := r.evaluate(vars)
	switch {
	case err != nil:
		out.Errorf(r.at, "broken-rule",
			"before is null where a resource is new, after where it goes; what is not set is null",
			"the rule %s breaks down at %s: %v", r.ID, what, err)
	case verdict == unknown:
		out.Warnf(pos, "rule-not-judged", "look at it after the deployment",
			"the rule %s cannot be judged for %s: it rests on what the cloud sets", r.ID, what)
	case verdict == fails:
		fix := r.Fix
		if fix == "" {
			fix = "the rule stands in " + r.Pos.Short()
		}
		text := fmt.Sprintf("%s: %s (rule %s)", what, r.Message, r.ID)
		if r.Severity == tosca.Error {
			out.Errorf(pos, "rule", fix, "%s", text)
		} else {
			out.Warnf(pos, "rule", fix, "%s", text)
		}
	}
	return out
}
