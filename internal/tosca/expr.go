package tosca

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

// ExprKind tells what an expression is.
type ExprKind uint8

// The kinds of expression.
const (
	LiteralExpr ExprKind = iota
	ListExpr
	MapExpr
	CallExpr
)

// Expr is a value as written: a literal, a list, a map or the call of a
// function, nested as deep as one likes. Every part knows its place.
type Expr struct {
	Pos
	Kind  ExprKind
	Value Value   // of a literal
	Raw   string  // the literal as written, so that 15.10 stays 15.10
	Name  string  // of the function called, without the $
	Args  []*Expr // of a call; the elements of a list; the values of a map
	Keys  []Key   // of a map
}

// Key is one key of a map, with its place. In an expression Name is the key of
// a Map, which may be no text.
type Key struct {
	Pos
	Name string
}

// Walk calls f for x and everything inside it.
func (x *Expr) Walk(f func(*Expr)) {
	if x == nil {
		return
	}
	f(x)
	for _, a := range x.Args {
		a.Walk(f)
	}
}

// Text is the expression as it could be written on one line.
func (x *Expr) Text() string {
	if x == nil {
		return ""
	}
	parts := make([]string, len(x.Args))
	for i, a := range x.Args {
		parts[i] = a.Text()
		if x.Kind == MapExpr {
			parts[i] = KeyText(x.Keys[i].Name) + ": " + parts[i]
		}
	}
	list := strings.Join(parts, ", ")
	switch x.Kind {
	case ListExpr:
		return "[ " + list + " ]"
	case MapExpr:
		return "{ " + list + " }"
	case CallExpr:
		if len(x.Args) == 0 {
			return "$" + x.Name
		}
		if len(x.Args) == 1 && x.Args[0].Kind == LiteralExpr {
			return "{ $" + x.Name + ": " + list + " }"
		}
		return "{ $" + x.Name + ": [ " + list + " ] }"
	}
	if x.Raw == "" {
		return Show(x.Value)
	}
	return x.Raw
}

// calls reports whether any part of x calls a function.
func (x *Expr) calls() bool {
	if x.Kind == CallExpr {
		return true
	}
	return slices.ContainsFunc(x.Args, (*Expr).calls)
}

// names reports whether any part of x calls the function of a name.
func (x *Expr) names(function string) bool {
	return x.Kind == CallExpr && x.Name == function ||
		slices.ContainsFunc(x.Args, func(a *Expr) bool { return a.names(function) })
}

// expr reads a value. Where a function call is malformed it reports that and
// yields a bad value, so that the rest is read on.
func (r *reader) expr(n *yaml.Node) *Expr {
	at := r.pos(n)
	n, ok := r.enter(n)
	if !ok {
		return &Expr{Pos: at, Value: Unknown{Bad: true}}
	}
	defer r.leave()
	switch n.Kind {
	case yaml.SequenceNode:
		x := r.newExpr(Expr{Pos: at, Kind: ListExpr, Args: r.argRoom(len(n.Content))})
		for i, c := range n.Content {
			x.Args[i] = r.expr(c)
		}
		return x
	case yaml.MappingNode:
		if len(n.Content) == 2 && r.isCall(n.Content[0].Value) {
			return r.call(n.Content[0], n.Content[1])
		}
		x := r.newExpr(Expr{Pos: at, Kind: MapExpr})
		for _, f := range r.pairs(n) {
			if r.isCall(f.key.Value) {
				r.findings.Errorf(r.pos(f.key), "function-not-alone",
					"write the call as a value of its own, or the literal key as '$"+f.key.Value+"'",
					"the call of %s stands among other keys", f.key.Value)
				continue
			}
			x.Keys = append(x.Keys, Key{r.pos(f.key), r.mapKey(f.key)})
			x.Args = append(x.Args, r.expr(f.value))
		}
		return x
	}
	if n.ShortTag() == "!!str" && r.isCall(n.Value) {
		return r.call(n, nil)
	}
	return r.newExpr(Expr{Pos: at, Value: r.literal(n), Raw: r.unescape(n.Value)})
}

// mapKey is a key of a map in a value. A boolean, a number or null is one.
func (r *reader) mapKey(n *yaml.Node) string {
	switch n.Tag {
	case "!!bool", "!!int", "!!float", "!!null":
		if key, ok := MapKey(r.literal(n)); ok {
			return key
		}
	}
	return r.unescape(n.Value)
}

func (r *reader) newExpr(x Expr) *Expr {
	e := r.exprs.next()
	*e = x
	return e
}

func (r *reader) isCall(s string) bool {
	return !r.plain && len(s) > 1 && s[0] == '$' && s[1] != '$'
}

// unescape undoes the doubling of a leading $ in a literal.
func (r *reader) unescape(s string) string {
	if !r.plain && strings.HasPrefix(s, "$$") {
		return s[1:]
	}
	return s
}

func (r *reader) literal(n *yaml.Node) Value {
	switch n.ShortTag() {
	case "!!null":
		return Null{}
	case "!!bool":
		return Bool(strings.EqualFold(n.Value, "true"))
	case "!!int":
		text := strings.ReplaceAll(n.Value, "_", "")
		for _, base := range []int{10, 0} { // YAML 1.2: 017 is seventeen, 0o17 and 0x1F are not decimal
			if i, err := strconv.ParseInt(text, base, 64); err == nil {
				return Int(i)
			}
		}
	case "!!float":
		if f, err := strconv.ParseFloat(strings.ReplaceAll(n.Value, "_", ""), 64); err == nil {
			return Float(f)
		}
	}
	return String(r.unescape(n.Value))
}

// call reads the call of a function; arg is nil for the bare $name.
func (r *reader) call(name, arg *yaml.Node) *Expr {
	x := r.newExpr(Expr{Pos: r.pos(name), Kind: CallExpr, Name: name.Value[1:]})
	f, known := functions[x.Name]
	switch {
	case !known && r.lib != nil && r.lib.Functions[x.Name] != nil:
		r.findings.Errorf(x.Pos, "not-supported-yet", "",
			"calling a function of one's own is not supported yet: '%s'", x.Name)
	case !known:
		r.findings.Errorf(x.Pos, "unknown-function", suggest(x.Name, functionNames(Yes)),
			"there is no function '$%s'", x.Name)
	case f.support == NotYet:
		r.findings.Errorf(x.Pos, "not-supported-yet", "", "the function $%s is not supported yet", x.Name)
		known = false
	}
	if arg != nil {
		if target, ok := r.enter(arg); ok {
			if target.Kind == yaml.SequenceNode {
				x.Args = r.argRoom(len(target.Content))
				for i, c := range target.Content {
					x.Args[i] = r.expr(c)
				}
			} else {
				x.Args = r.argRoom(1)
				x.Args[0] = r.expr(arg)
			}
			r.leave()
		}
	}
	bad := func() *Expr { return &Expr{Pos: x.Pos, Value: Unknown{Bad: true}} }
	if !known {
		return bad()
	}
	if len(x.Args) < f.min || (f.max >= 0 && len(x.Args) > f.max) {
		r.findings.Errorf(x.Pos, "wrong-arguments", "write it as "+f.usage, "$%s takes %s, not %d", x.Name, f.arity(),
			len(x.Args))
		return bad()
	}
	return x
}

func (f function) arity() string {
	switch {
	case f.max < 0:
		return fmt.Sprintf("at least %s", arguments(f.min))
	case f.min == f.max && f.min == 0:
		return "no arguments"
	case f.min == f.max:
		return arguments(f.min)
	}
	return fmt.Sprintf("%d to %s", f.min, arguments(f.max))
}

func arguments(n int) string {
	if n == 1 {
		return "1 argument"
	}
	return fmt.Sprintf("%d arguments", n)
}
