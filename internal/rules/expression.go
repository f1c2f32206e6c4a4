package rules

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
	"cel.dev/cel-go/interpreter"
	"go.yaml.in/yaml/v4"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// maxCost is how much an expression may do, in CEL's units, so that none holds
// up a what-if.
const maxCost = 1_000_000

type verdict int

const (
	passes verdict = iota
	fails
	unknown
)

// fields are the parts of the variables whose parts are always the same.
var fields = map[string][]string{
	"resource": {"name", "type", "own_type", "change", "changed", "keep", "guard", "needs", "links", "file", "line"},
	"stack":    {"name", "revision", "tags", "inputs", "careful", "tally", "resources"},
	"target":   {"account", "region", "careful", "old_images"},
}

// Variables are what an expression can ask of, each with its parts where these are
// always the same; before and after have the properties of the resource's type.
func Variables() map[string][]string {
	out := map[string][]string{"before": nil, "after": nil}
	maps.Copy(out, fields)
	return out
}

// environment is what expressions know; it is made when there are rules.
var environment = sync.OnceValue(func() *cel.Env {
	object := cel.MapType(cel.StringType, cel.DynType)
	env, err := cel.NewEnv(
		cel.Variable("resource", object), cel.Variable("before", cel.DynType), cel.Variable("after", cel.DynType),
		cel.Variable("stack", object), cel.Variable("target", object),
		cel.CrossTypeNumericComparisons(true),
		ext.Strings(), ext.Lists(), ext.Sets(), ext.Math(), ext.Network())
	if err != nil {
		panic(err) // the environment is fixed
	}
	return env
})

// place is where an expression stands in a file.
type place struct {
	file string
	text []byte
	node *yaml.Node
}

// pos turns a place in the expression, whose lines count from 1 and columns
// from 0, into one in the file.
func (p place) pos(line, column int) tosca.Pos {
	out := at(p.file, p.node)
	switch p.node.Style &^ yaml.TaggedStyle {
	case yaml.LiteralStyle:
		out.Line += line
		lines := strings.Split(string(p.text), "\n")
		if out.Line <= len(lines) {
			l := lines[out.Line-1]
			column += len(l) - len(strings.TrimLeft(l, " "))
		}
		out.Column = column + 1
	case 0:
		if line == 1 {
			out.Column += column
		}
	case yaml.SingleQuotedStyle, yaml.DoubleQuotedStyle:
		if line == 1 {
			out.Column += column + 1
		}
	}
	return out
}

// compile checks the expression of a rule: its grammar, its types, and the
// names of the properties that it asks for.
func (s *Set) compile(r *Rule, p place) {
	checked, issues := environment().Compile(r.expression)
	if issues != nil && issues.Err() != nil {
		for _, e := range issues.Errors() {
			what, _, _ := strings.Cut(e.Message, " expecting {")
			s.broken(p.pos(e.Location.Line(), e.Location.Column()), "", "the rule %s cannot be read: %s", r.ID, what)
		}
		return
	}
	if t := checked.OutputType(); t != cel.BoolType && t != cel.DynType {
		s.broken(r.at, "write a comparison", "the rule %s must come to true or false, not to %s", r.ID, t)
		return
	}
	ast.PreOrderVisit(checked.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.SelectKind || e.AsSelect().Operand().Kind() != ast.IdentKind {
			return
		}
		if known := s.known(r, e.AsSelect().Operand().AsIdent()); known != nil &&
			!slices.Contains(known, e.AsSelect().FieldName()) {
			loc := checked.NativeRep().SourceInfo().GetStartLocation(e.ID())
			s.broken(p.pos(loc.Line(), loc.Column()), tosca.Suggest(e.AsSelect().FieldName(), known),
				"the rule %s asks for %s.%s, which there is not", r.ID, e.AsSelect().Operand().AsIdent(),
				e.AsSelect().FieldName())
		}
	}))
	var err error
	if r.program, err = environment().Program(checked, cel.CostLimit(maxCost), cel.CustomDecoratorV2(bounded)); err != nil {
		s.broken(r.at, "", "the rule %s cannot be read: %v", r.ID, err)
	}
}

// bounded lets an expression match what can be matched in a short time alone.
func bounded(i interpreter.InterpretableV2) (interpreter.InterpretableV2, error) {
	if call, ok := i.(interpreter.InterpretableCall); ok && call.Function() == overloads.Matches {
		return matching{call}, nil
	}
	return i, nil
}

// matching is a call of matches.
type matching struct{ interpreter.InterpretableCall }

func (m matching) Eval(vars interpreter.Activation) ref.Val {
	return m.judge(func(i interpreter.InterpretableV2) ref.Val { return i.Eval(vars) })
}

func (m matching) Exec(frame *interpreter.ExecutionFrame) ref.Val {
	return m.judge(func(i interpreter.InterpretableV2) ref.Val { return i.Exec(frame) })
}

func (m matching) judge(value func(interpreter.InterpretableV2) ref.Val) ref.Val {
	args := m.Args()
	if len(args) != 2 {
		return value(m.InterpretableCall)
	}
	of, by := value(args[0]), value(args[1])
	text, isText := of.(types.String)
	expression, isExpression := by.(types.String)
	switch {
	case types.IsUnknownOrError(of):
		return of
	case types.IsUnknownOrError(by):
		return by
	case !isText || !isExpression:
		return types.NewErr("matches takes a text and a regular expression")
	}
	is, err := tosca.Matches(string(expression), string(text))
	if err != nil {
		return types.NewErr("the regular expression of matches: %v", err)
	}
	return types.Bool(is)
}

// known lists the parts of a variable; nil where they cannot be told.
func (s *Set) known(r *Rule, variable string) []string {
	if variable != "before" && variable != "after" {
		return fields[variable]
	}
	if r.Once || len(r.types) < len(r.Types) { // types of the template's own
		return nil
	}
	of := r.types
	if len(of) == 0 {
		of = slices.Collect(maps.Values(s.lib.Nodes))
	}
	var out []string
	for _, t := range of {
		for _, p := range t.Properties {
			out = append(out, p.Name)
		}
	}
	return out
}

func (r *Rule) evaluate(vars map[string]any) (verdict, error) {
	out, _, err := r.program.Eval(vars)
	switch {
	case err != nil:
		return fails, err
	case types.IsUnknown(out):
		return unknown, nil
	case out == types.True:
		return passes, nil
	case out == types.False:
		return fails, nil
	}
	return fails, fmt.Errorf("it must come to true or false, not to %v", out.Type())
}

// world is what all resources of a change set share.
type world struct {
	stack, target map[string]any
}

func worldOf(c Context) world {
	set := c.Changes
	inputs, tags, resources := map[string]any{}, map[string]any{}, make([]any, 0, len(set.Changes))
	for n, v := range c.Inputs {
		inputs[n] = native(v)
	}
	for n, v := range c.Tags {
		tags[n] = v
	}
	tally := map[string]any{}
	for _, k := range kinds() {
		tally[k] = set.Tally.Of(whatif.Kind(k))
	}
	for _, ch := range set.Changes {
		resources = append(resources, map[string]any{"name": ch.Name, "type": ch.Type, "change": string(ch.Kind)})
	}
	return world{
		stack: map[string]any{"name": set.Stack, "revision": set.BaseRevision, "tags": tags, "inputs": inputs,
			"careful": c.Careful, "tally": tally, "resources": resources},
		target: map[string]any{"account": set.Target.Account, "region": set.Target.Region, "careful": c.Careful},
	}
}

// vars are the variables for one change; nil stands for the stack.
func (w world) vars(ch *whatif.Change) map[string]any {
	vars := map[string]any{"stack": w.stack, "target": w.target, "resource": map[string]any{},
		"before": types.NullValue, "after": types.NullValue}
	if ch == nil {
		return vars
	}
	links, changed := map[string]any{}, []any{}
	keep, guard, own := false, false, ch.Type
	for _, p := range ch.Properties {
		changed = append(changed, p.Path)
	}
	if ch.Recorded != nil {
		vars["before"] = before(ch)
		keep, guard = ch.Recorded.Keep, ch.Recorded.Guard
		for requirement, list := range ch.Recorded.Links {
			links[requirement] = textList(slices.Collect(func(yield func(string) bool) {
				for _, l := range list {
					if !yield(l.Name) {
						return
					}
				}
			}))
		}
	}
	if res := ch.Wanted; res != nil {
		vars["after"] = after(res)
		keep, guard, own = res.Keep, res.Guard, res.Own.Name
		clear(links)
		for _, l := range res.Links {
			links[l.Requirement] = textList(l.Targets)
		}
	}
	vars["resource"] = map[string]any{"name": ch.Name, "type": ch.Type, "own_type": own, "change": string(ch.Kind),
		"changed": changed, "keep": keep, "guard": guard,
		"needs": textList(ch.Needs), "links": links, "file": ch.Pos.File, "line": ch.Pos.Line}
	return vars
}

func textList(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

// after is a resource as it would be. Every property of its type is there, null
// where it is not set.
func after(res *stack.Resource) map[string]any {
	out := map[string]any{}
	for _, d := range res.Type.Properties {
		out[d.Name] = types.NullValue
	}
	for _, p := range res.Properties {
		out[p.Name] = native(p.Value)
	}
	return out
}

// before is a resource as it is: in the cloud where it was asked, in the
// record otherwise. Secrets are those of the record, which are not shown.
func before(ch *whatif.Change) map[string]any {
	out := map[string]any{}
	if ch.Wanted != nil {
		for _, d := range ch.Wanted.Type.Properties {
			out[d.Name] = types.NullValue
		}
	}
	for n, v := range ch.Recorded.Properties {
		if ch.Live != nil && !tosca.HasSecret(v) {
			if v = ch.Live.Properties[n]; v == nil {
				v = tosca.Null{}
			}
		}
		out[n] = native(v)
	}
	return out
}

// native is a value as CEL takes it: scalars with units as numbers in the
// canonical unit, versions as text, secrets as what stands for them.
func native(v tosca.Value) any {
	switch v := v.(type) {
	case tosca.Bool:
		return bool(v)
	case tosca.Int:
		return int64(v)
	case tosca.Float:
		return float64(v)
	case tosca.String:
		return string(v)
	case tosca.Version:
		return string(v)
	case tosca.Scalar:
		return v.Amount
	case tosca.Secret:
		return tosca.SecretText
	case tosca.Unknown:
		return ref.Val(types.NewUnknown(1, types.NewAttributeTrail("after")))
	case tosca.List:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = native(e)
		}
		return out
	case tosca.Map:
		out := make(map[string]any, len(v))
		for k, e := range v {
			out[k] = native(e)
		}
		return out
	}
	return types.NullValue
}
