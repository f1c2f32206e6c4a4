package tosca

import (
	"slices"
	"strings"
)

// collections is the functions on text, lists and maps, and on lists as sets
// (TOSCA 2.0, sections 10.2.3 and 10.2.4).
var collections = map[string]function{
	"token":      {min: 3, max: 3, usage: "{ $token: [ text, delimiter, index ] }", eval: evalToken},
	"has_suffix": {min: 2, max: 2, usage: "{ $has_suffix: [ text or list, end ] }", eval: evalHasSuffix},
	"has_prefix": {min: 2, max: 2, usage: "{ $has_prefix: [ text or list, beginning ] }", eval: evalHasPrefix},
	"contains":   {min: 2, max: 2, usage: "{ $contains: [ text or list, part ] }", eval: evalContains},
	"has_entry":  {min: 2, max: 2, usage: "{ $has_entry: [ list or map, value ] }", eval: evalHasEntry},
	"has_key":    {min: 2, max: 2, usage: "{ $has_key: [ map, key ] }", eval: evalHasKey, shape: true},
	"has_all_entries": {min: 2, max: 2, usage: "{ $has_all_entries: [ list or map, [ value, … ] ] }",
		eval: evalHasAllEntries},
	"has_all_keys": {min: 2, max: 2, usage: "{ $has_all_keys: [ map, [ key, … ] ] }", eval: evalHasAllKeys,
		shape: true},
	"has_any_entry": {min: 2, max: 2, usage: "{ $has_any_entry: [ list or map, [ value, … ] ] }",
		eval: evalHasAnyEntry},
	"has_any_key": {min: 2, max: 2, usage: "{ $has_any_key: [ map, [ key, … ] ] }", eval: evalHasAnyKey,
		shape: true},
}

var sets = map[string]function{
	"union":        {min: 1, max: -1, usage: "{ $union: [ list, list, … ] }", eval: evalUnion},
	"intersection": {min: 1, max: -1, usage: "{ $intersection: [ list, list, … ] }", eval: evalIntersection},
}

func evalToken(c *callContext, args []Value) Value {
	text, okText := args[0].(String)
	delimiter, okDelimiter := args[1].(String)
	index, okIndex := args[2].(Int)
	switch {
	case !okText || !okDelimiter || !okIndex:
		return c.fail("wrong-type", "write it as "+functions["token"].usage,
			"$token takes a text, a delimiter and an index")
	case delimiter == "":
		return c.fail("wrong-type", "", "the delimiter of $token is empty")
	}
	parts := strings.Split(string(text), string(delimiter))
	if index < 0 || int(index) >= len(parts) {
		return c.fail("no-such-element", "they are counted from 0", "the text has %d tokens, and no number %d",
			len(parts), index)
	}
	return String(parts[index])
}

func evalHasSuffix(c *callContext, args []Value) Value {
	return c.part(args, strings.HasSuffix, func(list, part List) bool {
		return len(part) <= len(list) && slices.EqualFunc(list[len(list)-len(part):], part, Equal)
	})
}

func evalHasPrefix(c *callContext, args []Value) Value {
	return c.part(args, strings.HasPrefix, func(list, part List) bool {
		return len(part) <= len(list) && slices.EqualFunc(list[:len(part)], part, Equal)
	})
}

func evalContains(c *callContext, args []Value) Value {
	return c.part(args, strings.Contains, func(list, part List) bool {
		for i := 0; i+len(part) <= len(list); i++ {
			if slices.EqualFunc(list[i:i+len(part)], part, Equal) {
				return true
			}
		}
		return false
	})
}

// part looks for a text in a text, or for a list in a list.
func (c *callContext) part(args []Value, text func(s, part string) bool, list func(list, part List) bool) Value {
	switch whole := args[0].(type) {
	case String:
		if part, ok := args[1].(String); ok {
			return Bool(text(string(whole), string(part)))
		}
	case List:
		if part, ok := args[1].(List); ok {
			return Bool(list(whole, part))
		}
	}
	return c.fail("wrong-type", "", "$%s takes two texts or two lists, not %s and %s", c.call.Name, KindName(args[0]),
		KindName(args[1]))
}

// entries lists the values of a list or a map.
func (c *callContext) entries(v Value) (List, bool) {
	switch v := v.(type) {
	case List:
		return v, true
	case Map:
		out := make(List, 0, len(v))
		for _, k := range v.Keys() {
			out = append(out, v[k])
		}
		return out, true
	}
	c.fail("wrong-type", "", "the first argument of $%s must be a list or a map, not %s", c.call.Name, KindName(v))
	return nil, false
}

// keys lists the keys of a map.
func (c *callContext) keys(v Value) (List, bool) {
	m, ok := v.(Map)
	if !ok {
		c.fail("wrong-type", "", "the first argument of $%s must be a map, not %s", c.call.Name, KindName(v))
		return nil, false
	}
	out := make(List, 0, len(m))
	for _, k := range m.Keys() {
		out = append(out, KeyValue(k))
	}
	return out, true
}

func (l List) has(v Value) bool {
	return slices.ContainsFunc(l, func(e Value) bool { return Equal(e, v) })
}

func evalHasEntry(c *callContext, args []Value) Value { return c.one(args, c.entries) }
func evalHasKey(c *callContext, args []Value) Value   { return c.one(args, c.keys) }

func (c *callContext) one(args []Value, of func(Value) (List, bool)) Value {
	list, ok := of(args[0])
	if !ok {
		return Unknown{Bad: true}
	}
	return Bool(list.has(args[1]))
}

func evalHasAllEntries(c *callContext, args []Value) Value { return c.many(args, c.entries, true) }
func evalHasAllKeys(c *callContext, args []Value) Value    { return c.many(args, c.keys, true) }
func evalHasAnyEntry(c *callContext, args []Value) Value   { return c.many(args, c.entries, false) }
func evalHasAnyKey(c *callContext, args []Value) Value     { return c.many(args, c.keys, false) }

// many looks for all, or for any, of the values of the second argument.
func (c *callContext) many(args []Value, of func(Value) (List, bool), all bool) Value {
	list, ok := of(args[0])
	if !ok {
		return Unknown{Bad: true}
	}
	wanted, ok := args[1].(List)
	if !ok {
		return c.fail("wrong-type", "", "the second argument of $%s must be a list, not %s", c.call.Name,
			KindName(args[1]))
	}
	if all {
		return Bool(!slices.ContainsFunc(wanted, func(v Value) bool { return !list.has(v) }))
	}
	return Bool(slices.ContainsFunc(wanted, list.has))
}

func evalUnion(c *callContext, args []Value) Value {
	out := List{}
	for i, a := range args {
		l, ok := a.(List)
		if !ok {
			return c.notList(i, a)
		}
		for _, v := range l {
			if !out.has(v) {
				out = append(out, v)
			}
		}
	}
	return out
}

func evalIntersection(c *callContext, args []Value) Value {
	for i, a := range args {
		if _, ok := a.(List); !ok {
			return c.notList(i, a)
		}
	}
	out := List{}
	for _, v := range args[0].(List) {
		everywhere := !slices.ContainsFunc(args[1:], func(l Value) bool { return !l.(List).has(v) })
		if everywhere && !out.has(v) {
			out = append(out, v)
		}
	}
	return out
}

func (c *callContext) notList(i int, v Value) Value {
	return c.fail("wrong-type", "", "argument %d of $%s must be a list, not %s", i+1, c.call.Name, KindName(v))
}
