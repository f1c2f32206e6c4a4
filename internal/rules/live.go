package rules

import (
	_ "embed"
	"slices"

	"cel.dev/cel-go/common/types"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// BuiltIn names the rules that come with the program, in the place of a file.
const BuiltIn = "built-in"

//go:embed built-in.rules.yaml
var builtIn []byte

// Running is a resource that is there, as rules see it.
type Running struct {
	*stack.Live
	Target    stack.Target
	Stack     string // whose it is; "" is nobody's
	Name      string
	Policies  stack.Policies
	Links     map[string][]string // names
	Pos       tosca.Pos           // of its node
	OldImages []string            // of the target
}

// Held is how a rule stands to a resource that is there.
type Held struct {
	Rule     *Rule
	Complies bool
	Text     string // what is wrong; "" where it complies
}

// Hold holds what is there against the rules that are about what a resource is, and not about
// what is done to it. A rule that breaks down is not kept.
func (s *Set) Hold(r Running) []Held {
	var out []Held
	var vars map[string]any
	for _, rule := range s.Rules {
		if rule.program == nil || rule.Once || !rule.aboutState() || len(rule.Types) > 0 && !slices.Contains(rule.Types, r.Type) && !rule.isA(s.lib, r.Type) {
			continue
		}
		if vars == nil {
			vars = r.vars(s.lib.Nodes[r.Type])
		}
		h := Held{Rule: rule}
		verdict, err := rule.evaluate(vars)
		switch {
		case err != nil:
			h.Text = "the rule breaks down: " + err.Error()
		case verdict == fails:
			h.Text = rule.Message
		default:
			h.Complies = true
		}
		out = append(out, h)
	}
	return out
}

// aboutState reports whether the rule is about what resources are like.
func (r *Rule) aboutState() bool {
	return slices.ContainsFunc(r.Changes, func(k whatif.Kind) bool { return k == whatif.New || k == whatif.Same })
}

func (r *Rule) isA(lib *tosca.Library, typ string) bool {
	return slices.ContainsFunc(r.Types, func(t string) bool { return lib.IsA(typ, t) })
}

// vars are the variables for a resource that is there: it stays as it is.
func (r Running) vars(t *tosca.NodeType) map[string]any {
	is := map[string]any{}
	if t != nil {
		for _, d := range t.Properties {
			is[d.Name] = types.NullValue
		}
	}
	for k, v := range r.Properties {
		is[k] = native(v)
	}
	links := map[string]any{}
	needs := []string{}
	for q, names := range r.Links {
		links[q] = textList(names)
		needs = append(needs, names...)
	}
	tags := map[string]any{}
	for k, v := range r.Tags {
		tags[k] = v
	}
	tally := map[string]any{}
	for _, k := range kinds() {
		tally[k] = 0
	}
	return map[string]any{"after": is, "before": is,
		"resource": map[string]any{"name": r.Name, "type": r.Type, "own_type": r.Type, "change": string(whatif.Same), "changed": []any{},
			"keep": r.Policies.Keep, "guard": r.Policies.Guard, "needs": textList(needs), "links": links, "file": r.Pos.File, "line": r.Pos.Line},
		"stack": map[string]any{"name": r.Stack, "revision": 0, "tags": tags, "inputs": map[string]any{}, "careful": false, "tally": tally,
			"resources": []any{}},
		"target": map[string]any{"account": r.Target.Account, "region": r.Target.Region, "careful": false, "old_images": textList(r.OldImages)}}
}
