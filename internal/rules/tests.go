package rules

import (
	"fmt"
	"maps"
	"slices"

	"cel.dev/cel-go/common/types"
	"go.yaml.in/yaml/v4"

	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Test is one test of a rule: a made-up change, and whether the rule passes.
type Test struct {
	Name string
	Rule string
	Pos  tosca.Pos

	rule *Rule
	pass bool
	vars map[string]any
}

var testKeys = []string{"name", "rule", "type", "change", "before", "after", "resource", "stack", "target", "expect"}

func (s *Set) readTest(file string, e tosca.Entry, findings *tosca.Findings) {
	t := &Test{Pos: e.Pos}
	before := len(s.Findings)
	var typ, change tosca.Entry
	expect := ""
	given := map[string]tosca.Entry{}
	for _, k := range tosca.Entries(file, e.Node, "a test", findings) {
		switch k.Key.Name {
		case "name":
			t.Name = s.text(k)
		case "rule":
			t.Rule = s.text(k)
		case "type":
			typ = k
		case "change":
			change = k
		case "expect":
			if expect = s.text(k); expect != "pass" && expect != "fail" {
				s.broken(k.Pos, "write pass or fail", "a test cannot expect '%s'", expect)
			}
		case "before", "after", "resource", "stack", "target":
			given[k.Key.Name] = k
		default:
			s.broken(k.Key.Pos, tosca.Suggest(k.Key.Name, testKeys), "a test has no key '%s'", k.Key.Name)
		}
	}
	if len(s.Findings) > before {
		return
	}
	switch i := slices.IndexFunc(s.Rules, func(r *Rule) bool { return r.ID == t.Rule }); {
	case t.Rule == "" || expect == "":
		s.broken(e.Pos, "add rule: the id, and expect: pass or fail", "a test names a rule and what it expects")
		return
	case i < 0:
		var ids []string
		for _, r := range s.Rules {
			ids = append(ids, r.ID)
		}
		s.broken(e.Pos, tosca.Suggest(t.Rule, ids), "there is no rule '%s'", t.Rule)
		return
	default:
		t.rule = s.Rules[i]
	}
	t.pass = expect == "pass"
	if t.Name == "" {
		t.Name = fmt.Sprintf("line %d", t.Pos.Line)
	}
	s.fillTest(file, t, typ, change, given)
	if len(s.Findings) == before {
		s.Tests = append(s.Tests, t)
	}
}

// fillTest makes the variables of a test: those given, over such as are
// always there.
func (s *Set) fillTest(file string, t *Test, typ, change tosca.Entry, given map[string]tosca.Entry) {
	name := ""
	if typ.Node != nil {
		name = typ.Node.Value
	} else if len(t.rule.Types) == 1 {
		name = t.rule.Types[0]
	}
	node := s.lib.Nodes[name]
	if name != "" && node == nil && typ.Node != nil && !slices.Contains(t.rule.Types, name) {
		s.broken(typ.Pos, tosca.Suggest(name, slices.Collect(maps.Keys(s.lib.Nodes))), "there is no type '%s'", name)
	}
	kind := whatif.New
	if change.Node != nil {
		if kind = whatif.Kind(change.Node.Value); kind.Mark() == "" {
			s.broken(change.Pos, tosca.Suggest(change.Node.Value, kinds()), "there is no change '%s'",
				change.Node.Value)
		}
	}
	tally := map[string]any{}
	for _, k := range kinds() {
		tally[k] = 0
	}
	t.vars = map[string]any{
		"resource": map[string]any{"name": "tested", "type": name, "own_type": name, "change": string(kind),
			"changed": []any{}, "keep": false, "guard": false, "needs": []any{}, "links": map[string]any{},
			"file": file, "line": t.Pos.Line},
		"stack": map[string]any{"name": "tested", "revision": 1, "tags": map[string]any{},
			"inputs": map[string]any{}, "careful": false, "tally": tally, "resources": []any{}},
		"target": map[string]any{"account": "workshop", "region": "alder-1", "careful": false},
	}
	for _, variable := range []string{"resource", "stack", "target"} {
		k, ok := given[variable]
		if !ok {
			continue
		}
		to := t.vars[variable].(map[string]any)
		for name, v := range s.values(file, k, fields[variable]) {
			if more, ok := v.(map[string]any); ok && name == "tally" {
				for k, v := range more {
					tally[k] = v
				}
				continue
			}
			to[name] = v
		}
	}
	var properties []string
	if node != nil {
		for _, p := range node.Properties {
			properties = append(properties, p.Name)
		}
	}
	for _, variable := range []string{"before", "after"} {
		k, ok := given[variable]
		if !ok && (variable == "after" && (kind == whatif.Drop || kind == whatif.Keep) ||
			variable == "before" && kind == whatif.New) || t.rule.Once {
			t.vars[variable] = types.NullValue
			continue
		}
		values := map[string]any{}
		for _, p := range properties {
			values[p] = types.NullValue
		}
		if ok {
			for name, v := range s.values(file, k, properties) {
				values[name] = v
			}
		}
		t.vars[variable] = values
	}
}

// values reads a map of plain values, with keys out of known unless that is
// empty.
func (s *Set) values(file string, e tosca.Entry, known []string) map[string]any {
	out := map[string]any{}
	if e.Node.Kind != yaml.MappingNode {
		s.broken(e.Pos, "", "'%s' must be a map", e.Key.Name)
		return out
	}
	for i := 0; i+1 < len(e.Node.Content); i += 2 {
		key, v := e.Node.Content[i], e.Node.Content[i+1]
		if len(known) > 0 && !slices.Contains(known, key.Value) {
			s.broken(at(file, key), tosca.Suggest(key.Value, known), "%s has no '%s'", e.Key.Name, key.Value)
			continue
		}
		var value any
		if err := v.Decode(&value); err != nil {
			s.broken(at(file, v), "", "the value cannot be read: %v", err)
		}
		if value == nil {
			value = types.NullValue
		}
		out[key.Value] = value
	}
	return out
}

// Outcome is what came of a test.
type Outcome struct {
	*Test
	Good   bool
	Reason string // what went otherwise than expected; "" where it went well
}

// Try carries the tests out.
func (s *Set) Try() []Outcome {
	words := map[verdict]string{passes: "it passes", fails: "it fails", unknown: "it cannot be judged"}
	out := make([]Outcome, 0, len(s.Tests))
	for _, t := range s.Tests {
		got, err := t.rule.evaluate(t.vars)
		o := Outcome{Test: t, Good: err == nil && (got == passes) == t.pass && got != unknown}
		switch {
		case err != nil:
			o.Reason = "it breaks down: " + err.Error()
		case !o.Good:
			o.Reason = map[bool]string{true: "it should pass", false: "it should fail"}[t.pass] + ", and " + words[got]
		}
		out = append(out, o)
	}
	return out
}

// Untested lists the rules that no test is about.
func (s *Set) Untested() []string {
	var out []string
	for _, r := range s.Rules {
		if !slices.ContainsFunc(s.Tests, func(t *Test) bool { return t.rule == r }) {
			out = append(out, r.ID)
		}
	}
	return out
}
