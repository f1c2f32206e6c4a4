package tosca

import (
	"fmt"
	"slices"
	"strings"
)

// function is one function of the standard (TOSCA 2.0, section 10).
type function struct {
	section  string
	min, max int // number of arguments; max -1 is without limit
	usage    string
	support  Support
	eval     func(c *callContext, args []Value) Value // nil for those that Eval treats itself
	partial  bool                                     // works on lists and maps with unknown parts
	shape    bool                                     // looks at the shape of its first argument alone
}

// callContext is what a function may use besides its arguments.
type callContext struct {
	env     *Env
	call    *Expr
	secrets []string // texts of the arguments that must not be said
}

func (c *callContext) fail(code, fix, format string, args ...any) Value {
	message := fmt.Sprintf(format, args...)
	for _, s := range c.secrets {
		message, fix = strings.ReplaceAll(message, s, SecretText), strings.ReplaceAll(fix, s, SecretText)
	}
	c.env.Findings.Errorf(c.call.Pos, code, fix, "%s", message)
	return Unknown{Bad: true}
}

// bare strips the mark of a secret from the arguments, and remembers what must
// not be said of them. A function that looks at the shape of its argument alone
// tells no secret of its parts.
func (c *callContext) bare(args []Value, shape bool) (secret bool) {
	for i, a := range args {
		bare, hidden := Bare(a)
		if args[i] = bare; !hidden {
			continue
		}
		_, whole := a.(Secret)
		secret = secret || whole || !shape
		leaves(bare, func(v Value) {
			if text := Show(v); text != "" {
				c.secrets = append(c.secrets, text)
			}
		})
	}
	return secret
}

// leaves calls f for every part of a value that has no parts itself.
func leaves(v Value, f func(Value)) {
	switch v := v.(type) {
	case List:
		for _, e := range v {
			leaves(e, f)
		}
	case Map:
		for _, k := range v.Keys() {
			leaves(v[k], f)
		}
	case Secret:
		leaves(v.Value, f)
	default:
		f(v)
	}
}

// functions is every function of the standard. docs/language.md is held
// against it.
var functions map[string]function

func init() { // an init, because the evaluation reads the table again
	functions = map[string]function{
		"get_input": {section: "graph", min: 1, max: -1,
			usage: "{ $get_input: name } or { $get_input: [ name, key or index, … ] }", support: Yes},
		"get_property": {section: "graph", min: 2, max: -1,
			usage: "{ $get_property: [ node or SELF, property, … ] }", support: Yes},
		"get_attribute": {section: "graph", min: 2, max: -1,
			usage: "{ $get_attribute: [ node or SELF, attribute, … ] }", support: Yes},
		"value": {section: "graph", min: 0, max: 0, usage: "$value", support: Yes},
		"get_artifact": {section: "graph", min: 2, max: 2,
			usage: "{ $get_artifact: [ node or SELF, artifact ] }", support: Yes},
		"relationship_index": {section: "graph", min: 0, max: 0, usage: "$relationship_index", support: Yes},
		"node_index":         {section: "graph", min: 0, max: 0, usage: "$node_index", support: Yes},

		"and": {section: "logic", min: 2, max: -1, usage: "{ $and: [ condition, condition, … ] }", support: Yes,
			eval: evalAnd},
		"or": {section: "logic", min: 2, max: -1, usage: "{ $or: [ condition, condition, … ] }", support: Yes,
			eval: evalOr},
		"not": {section: "logic", min: 1, max: 1, usage: "{ $not: [ condition ] }", support: Yes, eval: evalNot},
		"xor": {section: "logic", min: 2, max: 2, usage: "{ $xor: [ condition, condition ] }", support: Yes,
			eval: evalXor},

		"equal":            comparison("equal", func(order int) bool { return order == 0 }),
		"greater_than":     comparison("greater_than", func(order int) bool { return order > 0 }),
		"greater_or_equal": comparison("greater_or_equal", func(order int) bool { return order >= 0 }),
		"less_than":        comparison("less_than", func(order int) bool { return order < 0 }),
		"less_or_equal":    comparison("less_or_equal", func(order int) bool { return order <= 0 }),
		"valid_values": {section: "comparison", min: 2, max: 2,
			usage: "{ $valid_values: [ value, [ allowed, … ] ] }", support: Yes, eval: evalValidValues},
		"matches": {section: "comparison", min: 2, max: 2,
			usage: "{ $matches: [ text, regular expression ] }", support: Yes, eval: evalMatches},

		"length": {section: "text and collections", min: 1, max: 1, usage: "{ $length: [ text, list or map ] }",
			support: Yes, eval: evalLength, partial: true, shape: true},
		"concat": {section: "text and collections", min: 1, max: -1, usage: "{ $concat: [ text or list, … ] }",
			support: Yes, eval: evalConcat},
		"join": {section: "text and collections", min: 1, max: 2, usage: "{ $join: [ [ text, … ], delimiter ] }",
			support: Yes, eval: evalJoin},
	}
	for section, more := range map[string]map[string]function{"text and collections": collections, "sets": sets,
		"arithmetic": arithmetic} {
		for name, f := range more {
			f.section, f.support = section, Yes
			functions[name] = f
		}
	}
	functions["available_allocation"] = function{section: "graph", support: NotYet}
}

func functionNames(s Support) []string {
	var names []string
	for n, f := range functions {
		if f.support == s {
			names = append(names, n)
		}
	}
	return sorted(names)
}

// FunctionUse is how a function is called; "" where there is none of this name.
func FunctionUse(name string) string { return functions[name].usage }

// Functions lists every function of the standard with its section and how far
// it is supported, in the form of the keyword table.
func Functions() []Keyword {
	var table []Keyword
	for _, s := range []Support{Yes, NotYet} {
		for _, n := range functionNames(s) {
			table = append(table, Keyword{Section: functions[n].section, Name: n, Support: s})
		}
	}
	return table
}

func evalAnd(c *callContext, args []Value) Value {
	return c.fold(args, func(a, b bool) bool { return a && b })
}
func evalOr(c *callContext, args []Value) Value {
	return c.fold(args, func(a, b bool) bool { return a || b })
}
func evalXor(c *callContext, args []Value) Value {
	return c.fold(args, func(a, b bool) bool { return a != b })
}
func evalNot(c *callContext, args []Value) Value {
	return c.fold(args, func(a, _ bool) bool { return !a })
}

// fold combines booleans from the left; a single one is combined with itself.
func (c *callContext) fold(args []Value, f func(a, b bool) bool) Value {
	var out bool
	for i, a := range args {
		b, ok := a.(Bool)
		if !ok {
			return c.fail("wrong-type", "", "argument %d of $%s must be a boolean, not %s", i+1, c.call.Name,
				KindName(a))
		}
		switch {
		case i == 0 && len(args) == 1:
			out = f(bool(b), bool(b))
		case i == 0:
			out = bool(b)
		default:
			out = f(out, bool(b))
		}
	}
	return Bool(out)
}

func comparison(name string, holds func(order int) bool) function {
	return function{section: "comparison", min: 2, max: 2, usage: "{ $" + name + ": [ value, value ] }", support: Yes,
		eval: func(c *callContext, args []Value) Value {
			a, b := c.alike(args[0], args[1])
			order, ok := Compare(a, b)
			if ok {
				return Bool(holds(order))
			}
			if name == "equal" {
				return Bool(Equal(a, b))
			}
			return c.fail("wrong-type", "", "$%s cannot compare %s with %s", name, KindName(a), KindName(b))
		}}
}

// alike gives a text that is compared with a number with a unit, or with a
// version, the type of the other one.
func (c *callContext) alike(a, b Value) (Value, Value) {
	if t := c.env.ValueType; t != nil && (t.Base == BaseScalar || t.Base == BaseVersion) {
		if x, misfit := t.fit(a); misfit == nil {
			a = x
		}
		if y, misfit := t.fit(b); misfit == nil {
			b = y
		}
	}
	return a, b
}

func evalValidValues(c *callContext, args []Value) Value {
	allowed, ok := args[1].(List)
	if !ok {
		return c.fail("wrong-type", "", "the second argument of $valid_values must be a list, not %s",
			KindName(args[1]))
	}
	return Bool(slices.ContainsFunc(allowed, func(v Value) bool {
		a, b := c.alike(args[0], v)
		order, ok := Compare(a, b)
		return ok && order == 0 || Equal(a, b)
	}))
}

func evalLength(c *callContext, args []Value) Value {
	switch v := args[0].(type) {
	case String:
		return Int(len([]rune(string(v))))
	case List:
		return Int(len(v))
	case Map:
		return Int(len(v))
	}
	return c.fail("wrong-type", "", "$length takes a string, a list or a map, not %s", KindName(args[0]))
}

func evalConcat(c *callContext, args []Value) Value {
	if _, lists := args[0].(List); lists {
		var out List
		for i, a := range args {
			if len(out) > MaxValue/partSize { // it is told
				break
			}
			l, ok := a.(List)
			if !ok {
				return c.fail("wrong-type", "", "argument %d of $concat is %s, the first one is a list", i+1,
					KindName(a))
			}
			out = append(out, l...)
		}
		return out
	}
	var out strings.Builder
	for i, a := range args {
		switch a.(type) {
		case List, Map, Null:
			return c.fail("wrong-type", "", "argument %d of $concat must be text, not %s", i+1, KindName(a))
		}
		if out.WriteString(Show(a)); out.Len() > MaxValue { // it is told
			break
		}
	}
	return String(out.String())
}

func evalJoin(c *callContext, args []Value) Value {
	list, ok := args[0].(List)
	if !ok {
		return c.fail("wrong-type", "", "the first argument of $join must be a list, not %s", KindName(args[0]))
	}
	delimiter := ""
	if len(args) == 2 {
		delimiter = Show(args[1])
	}
	var out strings.Builder
	for i, e := range list {
		if i > 0 {
			out.WriteString(delimiter)
		}
		if out.WriteString(Show(e)); out.Len() > MaxValue { // it is told
			break
		}
	}
	return String(out.String())
}

// Env is what an expression is evaluated in. Input and Node may be nil where
// the functions that need them do not make sense.
type Env struct {
	// Input yields the value of an input; ok is false where there is none.
	Input func(name string) (v Value, ok bool)
	// Node answers get_property, get_attribute and get_artifact for an
	// evaluated path. It reports what is wrong itself.
	Node func(call *Expr, path []Value) Value
	// Index is what $node_index stands for; negative where there is none.
	Index int
	// Relation is what $relationship_index stands for; nil where there is none.
	Relation *int
	// Value and ValueType are what $value stands for in a validation.
	Value     Value
	ValueType *Type
	// Bounds are what may still be done; nil bounds each value alone.
	Bounds *Bounds
	// Findings receives what is wrong.
	Findings *Findings
}

// Eval computes x. What is wrong is reported in env.Findings, and the result
// is then a bad Unknown that nothing else complains about.
func (env *Env) Eval(x *Expr) Value {
	switch x.Kind {
	case LiteralExpr:
		return x.Value
	case ListExpr:
		l := make(List, len(x.Args))
		for i, a := range x.Args {
			l[i] = env.Eval(a)
		}
		return env.fits(x, l)
	case MapExpr:
		m := make(Map, len(x.Args))
		for i, a := range x.Args {
			m[x.Keys[i].Name] = env.Eval(a)
		}
		return env.fits(x, m)
	}
	c := &callContext{env: env, call: x}
	switch x.Name {
	case "value":
		if env.Value == nil {
			return c.fail("value-outside-validation", "", "$value stands only in a validation")
		}
		return env.Value
	case "node_index":
		if env.Index < 0 {
			return c.fail("index-outside-node", "", "$node_index stands only inside a node template")
		}
		return Int(env.Index)
	case "relationship_index":
		if env.Relation == nil {
			return c.fail("index-outside-relationship", "", "$relationship_index stands only inside a relationship")
		}
		return Int(*env.Relation)
	}
	args := make([]Value, len(x.Args))
	for i, a := range x.Args {
		args[i] = env.Eval(a)
	}
	if slices.ContainsFunc(args, isBad) {
		return Unknown{Bad: true}
	}
	switch x.Name {
	case "get_input":
		return env.getInput(c, args)
	case "get_property", "get_attribute", "get_artifact":
		if env.Node == nil {
			return c.fail("no-nodes-here", "", "$%s cannot stand here", x.Name)
		}
		return env.Node(x, args)
	}
	f := functions[x.Name]
	var awaits []Attribute
	for _, a := range args {
		if _, whole := a.(Unknown); f.partial && !whole {
			continue
		}
		awaits = append(awaits, Awaits(a)...)
	}
	if len(awaits) > 0 {
		return Unknown{Of: awaits}
	}
	secret := c.bare(args, f.shape)
	out := env.fits(x, f.eval(c, args))
	if secret && !isBad(out) {
		return Hide(out)
	}
	return out
}

func (env *Env) getInput(c *callContext, args []Value) Value {
	bare, _ := Bare(args[0])
	name, ok := bare.(String)
	if !ok || env.Input == nil {
		return c.fail("wrong-type", "", "$get_input takes the name of an input, not %s", KindName(args[0]))
	}
	v, ok := env.Input(string(name))
	if !ok {
		return Unknown{Bad: true} // the check reports unknown inputs
	}
	return c.descend(v, args[1:], fmt.Sprintf("input %s", name))
}

// descend follows a path of keys and indexes into v.
func (c *callContext) descend(v Value, path []Value, what string) Value {
	if isBad(v) {
		return v
	}
	out, ok := At(v, path...)
	if !ok {
		shown := make([]string, len(path))
		for i, p := range path {
			shown[i] = Show(p)
		}
		fix := ""
		switch v := v.(type) {
		case List:
			fix = fmt.Sprintf("it has %d elements, counted from 0", len(v))
		case Map:
			keys := v.Keys()
			for i, k := range keys {
				keys[i] = KeyText(k)
			}
			if !HasSecret(path[0]) {
				fix = suggest(shown[0], keys)
			}
		}
		return c.fail("no-such-element", fix, "%s has nothing at %s", what, strings.Join(shown, ", "))
	}
	return out
}

// Descend follows the rest of the path of a graph function into v; what is
// the thing in words for the message.
func (env *Env) Descend(call *Expr, v Value, path []Value, what string) Value {
	return (&callContext{env: env, call: call}).descend(v, path, what)
}
