package tosca

import (
	"fmt"
	"strings"
)

// EvalAs computes x as a value of type t. Other than Eval followed by Fit it
// reports each mistake at the part of x that is wrong.
func (env *Env) EvalAs(x *Expr, t *Type, what string) Value {
	switch {
	case t == nil:
		return env.Eval(x)
	case x.Kind == LiteralExpr && t.Base == BaseVersion:
		if _, isNumber := number(x.Value); isNumber {
			return t.Fit(String(x.Raw), x.Pos, what, env.Findings)
		}
	case x.Kind == ListExpr && t.Base == BaseList:
		out := make(List, len(x.Args))
		for i, a := range x.Args {
			out[i] = env.EvalAs(a, t.Entry, fmt.Sprintf("%s, element %d", what, i))
		}
		t.validateSelf(out, x.Pos, what, env.Findings)
		return out
	case x.Kind == MapExpr && t.Base == BaseMap:
		out := make(Map, len(x.Args))
		for i, k := range x.Keys {
			shown := KeyText(k.Name)
			if t.hidesKeys() {
				shown = SecretText
			}
			key, m := t.Key.fitKey(k.Name, false)
			if m != nil {
				env.Findings.Errorf(k.Pos, m.code, m.fix, "%s, key %s: %s", what, shown, m.message)
			} else if t.Key != nil {
				t.Key.validate(KeyValue(key), k.Pos, what+", key "+shown, env.Findings)
			}
			out[key] = env.EvalAs(x.Args[i], t.Entry, what+", "+shown)
		}
		t.validateSelf(out, x.Pos, what, env.Findings)
		if t.hidesKeys() && IsKnown(out) {
			return Hide(out)
		}
		return out
	case x.Kind == MapExpr && t.Base == BaseStructure:
		out := Map{}
		for i, k := range x.Keys {
			f := find(t.Fields, k.Name)
			if f == nil {
				env.Findings.Errorf(k.Pos, "unknown-property", suggest(k.Name, names(t.Fields)),
					"%s has no property '%s'", t.Name, k.Name)
				continue
			}
			out[k.Name] = env.EvalAs(x.Args[i], f.Type, what+", "+k.Name)
			Validate(f.Validation, out[k.Name], f.Type, x.Args[i].Pos, what+", "+k.Name, env.Findings)
		}
		for _, f := range t.Fields {
			if _, given := out[f.Name]; given {
				continue
			}
			if v, ok := f.Constant(); ok {
				out[f.Name] = v
			} else if f.Default != nil {
				out[f.Name] = env.EvalAs(f.Default, f.Type, what+", "+f.Name)
			} else if f.Required && f.Default == nil {
				env.Findings.Errorf(x.Pos, "missing-property", "add "+f.Name+": "+f.Type.Label(),
					"%s: the property '%s' is missing", what, f.Name)
			}
		}
		t.validateSelf(out, x.Pos, what, env.Findings)
		return out
	}
	return t.Fit(env.Eval(x), x.Pos, what, env.Findings)
}

// validateSelf applies the type's own validations, not those of its parts.
func (t *Type) validateSelf(v Value, p Pos, what string, findings *Findings) bool {
	ok := true
	for s := t; s != nil; s = s.Parent {
		ok = Validate(s.Validation, v, t, p, what, findings) && ok
	}
	return ok
}

func (t *Type) validate(v Value, p Pos, what string, findings *Findings) bool {
	ok := t.validateSelf(v, p, what, findings)
	part := func(v Value) Value { return v }
	if s, whole := v.(Secret); whole {
		v, part = s.Value, Hide
	}
	switch w := v.(type) {
	case List:
		if t != nil && t.Entry != nil {
			for i, e := range w {
				ok = t.Entry.validate(part(e), p, fmt.Sprintf("%s, element %d", what, i), findings) && ok
			}
		}
	case Map:
		if t == nil {
			break
		}
		for _, k := range w.Keys() {
			shown := KeyText(k)
			if t.hidesKeys() {
				shown = SecretText
			}
			if t.Key != nil {
				ok = t.Key.validate(part(KeyValue(k)), p, what+", key "+shown, findings) && ok
			}
			if t.Entry != nil {
				ok = t.Entry.validate(part(w[k]), p, what+", "+shown, findings) && ok
			}
			if f := find(t.Fields, k); f != nil {
				ok = f.Type.validate(part(w[k]), p, what+", "+k, findings) && ok
				ok = Validate(f.Validation, part(w[k]), f.Type, p, what+", "+k, findings) && ok
			}
		}
	}
	return ok
}

// Validate applies one validation to a value of type t. An unknown value
// passes: it is looked at again once it is known.
func Validate(validation *Expr, v Value, t *Type, p Pos, what string, findings *Findings) bool {
	if validation == nil || !IsKnown(v) {
		return true
	}
	env := &Env{Value: v, ValueType: t, Index: -1, Findings: findings}
	result, _ := Bare(env.Eval(validation))
	if result == Value(Bool(true)) || isBad(result) {
		return !isBad(result)
	}
	shown, wanted := "'"+Show(v)+"'", Describe(validation)
	if HasSecret(v) {
		shown = "the value given"
		if validation.names("valid_values") || validation.names("equal") {
			wanted = "one of those that the template allows"
		}
	}
	if t.HoldsSecret() && !HasSecret(v) {
		shown = "the value given"
	}
	if e := t.example(); e != "" && validation.names("matches") { // easier to read than a regular expression
		findings.Errorf(p, "invalid-value", "", "%s: %s is not allowed; write it like %s", what, shown, e)
		return false
	}
	findings.Errorf(p, "invalid-value", "", "%s: %s is not allowed; it must be %s", what, shown, wanted)
	return false
}

// example is a value of the type, as its metadata gives one; "" where it does
// not.
func (t *Type) example() string {
	for ; t != nil; t = t.Parent {
		if e := t.Metadata["example"]; e != "" {
			return e
		}
	}
	return ""
}

// Legal lists the values that a property may have, as it is written, where only
// some are; nil where that is not so.
func Legal(t *Type, validation *Expr) []string {
	if t != nil && t.Base == BaseBoolean {
		return []string{"true", "false"}
	}
	var out []string
	var look func(x *Expr)
	look = func(x *Expr) {
		switch {
		case x == nil || x.Kind != CallExpr || out != nil:
		case x.Name == "and":
			for _, a := range x.Args {
				look(a)
			}
		case x.Name == "valid_values" && len(x.Args) == 2 && x.Args[1].Kind == ListExpr:
			for _, a := range x.Args[1].Args {
				out = append(out, a.Text())
			}
		}
	}
	for look(validation); t != nil; t = t.Parent {
		look(t.Validation)
	}
	return out
}

// Describe puts a validation into words: "at least 1 and at most 20".
func Describe(x *Expr) string {
	if x == nil {
		return ""
	}
	if x.Kind != CallExpr {
		return Show((&Env{Index: -1, Findings: new(Findings)}).Eval(x))
	}
	arg := func(i int) string {
		if i < len(x.Args) {
			return Describe(x.Args[i])
		}
		return "?"
	}
	onValue := func(words string) string {
		if x.Args[0].Kind == CallExpr && x.Args[0].Name == "length" {
			return "of length " + words
		}
		return words
	}
	switch x.Name {
	case "and", "or", "xor":
		parts := make([]string, len(x.Args))
		for i := range x.Args {
			parts[i] = arg(i)
		}
		return strings.Join(parts, " "+x.Name+" ")
	case "not":
		return "not " + arg(0)
	case "equal":
		return onValue(arg(1))
	case "greater_than":
		return onValue("more than " + arg(1))
	case "greater_or_equal":
		return onValue("at least " + arg(1))
	case "less_than":
		return onValue("less than " + arg(1))
	case "less_or_equal":
		return onValue("at most " + arg(1))
	case "valid_values":
		return "one of " + strings.Trim(arg(1), "[]")
	case "matches":
		return "text that matches " + arg(1)
	}
	return "$" + x.Name
}
