package assist

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"brickrow/internal/rules"
	"brickrow/internal/tosca"
)

// expression is what is known at a place in the expression of a team's rule.
type expression struct {
	Range
	of   string // the variable whose part is written; "" for a name of its own
	word string
	end  int // the line of the key require
	list []*tosca.NodeType
}

// variableMeanings says in a line what a variable of an expression is.
var variableMeanings = map[string]string{
	"resource": "The resource that is judged: its name, type, what becomes of it",
	"before":   "Its properties as they are; null where it is new",
	"after":    "Its properties as they would be; null where it goes",
	"stack":    "The stack: its name, tags, inputs, tally",
	"target":   "Where it goes: account, region, careful",
}

// partMeanings says in a line what the part of a variable is.
var partMeanings = map[string]string{
	"resource.name": "Its name in the template", "resource.type": "Its type in the profile",
	"resource.own_type": "Its type in the template", "resource.change": "new, edit, swap, drop, same, adopt or kept",
	"resource.changed": "The paths of the properties that change", "resource.keep": "Whether Keep holds it",
	"resource.guard": "Whether Guard holds it", "resource.needs": "The actions that it performs",
	"resource.links": "The nodes that it rests on, by requirement", "resource.file": "The file of its template",
	"resource.line": "Its line there", "stack.name": "The stack's name", "stack.revision": "The revision that it comes from",
	"stack.tags": "The stack's tags", "stack.inputs": "The inputs, by name", "stack.careful": "Whether it is a careful one",
	"stack.tally": "How many there are of each change", "stack.resources": "All that changes: name, type, change",
	"target.account": "The account", "target.region": "The region", "target.careful": "Whether it is a careful one",
}

// calls are functions that rules often need, with what they yield.
var calls = []struct{ label, insert, meaning string }{
	{"has", "has(${1:after.label})", "True where there is a value"},
	{"size", "size(${1:after.label})", "How many letters, elements or keys"},
	{"all", "all(${1:x}, ${2:x != \"\"})", "True where it holds for each element"},
	{"exists", "exists(${1:x}, ${2:x == \"\"})", "True where it holds for one of the elements"},
	{"startsWith", "startsWith(\"${1:}\")", "True where a text begins so"},
	{"endsWith", "endsWith(\"${1:}\")", "True where a text ends so"},
	{"contains", "contains(\"${1:}\")", "True where a text has it"},
	{"matches", "matches(\"${1:}\")", "True where a text suits the regular expression"},
}

var beforeCursor = regexp.MustCompile(`(?:([A-Za-z_]\w*)\.)?([A-Za-z_]\w*)?$`)
var typeWord = regexp.MustCompile(`[A-Za-z][\w:.-]*`)

// expressionAt finds the expression at a place; nil where there is none.
func (w *Work) expressionAt(d *doc, at Place) *expression {
	if d.outline.Kind != Rules {
		return nil
	}
	at = d.text.Clamp(at)
	n, indent := at.Line, 1<<30
	var l parsed
	for ; n >= 0; n-- {
		if l = parseLine(d.text.Lines[n]); l.key == "require" && l.colon >= 0 && l.column < indent &&
			(n < at.Line || at.Column > l.colon) {
			break
		}
		if n == at.Line && (l.blank() || strings.TrimSpace(d.text.Lines[n]) == "") {
			continue
		}
		if l.indent == 0 || l.colon >= 0 && l.indent < indent && n < at.Line || len(l.dashes) > 0 {
			return nil
		}
		indent = min(indent, l.indent)
	}
	if n < 0 {
		return nil
	}
	line := d.text.Lines[at.Line]
	m := beforeCursor.FindStringSubmatchIndex(line[:at.Column])
	e := &expression{end: n, Range: Range{Place{at.Line, at.Column}, at}}
	if m[2] >= 0 {
		e.of = line[m[2]:m[3]]
	}
	if m[4] >= 0 {
		e.word, e.From.Column = line[m[4]:m[5]], m[4]
	}
	for e.To.Column < len(line) && wordByte(line, e.To.Column) && line[e.To.Column] != '-' {
		e.To.Column++
	}
	keys := d.text.keysAt(n, l.column)
	written := keys["types"]
	if _, have := keys["types"]; have && written == "" {
		written = d.text.itemsOf("types", n, l.column)
	}
	for _, name := range typeWord.FindAllString(written, -1) {
		if t := w.nodeType(d, name); t != nil {
			e.list = append(e.list, t)
		}
	}
	if len(e.list) == 0 && written == "" {
		lib := w.library(d)
		for _, name := range slices.Sorted(maps.Keys(lib.Nodes)) {
			if t := lib.Nodes[name]; t.Resource != "" {
				e.list = append(e.list, t)
			}
		}
	}
	return e
}

// itemsOf is what stands below a key of the map that has another key at a place.
func (t *Text) itemsOf(key string, line, column int) string {
	within := func(i int) bool { return i >= 0 && i < len(t.Lines) && (indentOf(t.Lines[i]) >= column-2) }
	for _, step := range []int{-1, 1} {
		for i := line + step; within(i); i += step {
			if l := parseLine(t.Lines[i]); l.key != key || l.column != column {
				continue
			}
			out := ""
			for k := i + 1; within(k); k++ {
				l := parseLine(t.Lines[k])
				if l.colon >= 0 || len(l.dashes) == 0 && !l.blank() {
					break
				}
				out += " " + t.Lines[k][l.column:l.end]
			}
			return out
		}
	}
	return ""
}

// complete lists what can stand in an expression.
func (e *expression) complete() []Item {
	var out []Item
	offer := func(it Item) {
		it.Range = e.Range
		if it.order = match(strings.ToLower(it.Label), strings.ToLower(e.word)); it.order >= 0 {
			out = append(out, it)
		}
	}
	variables := rules.Variables()
	switch parts, known := variables[e.of]; {
	case e.of == "":
		for _, v := range slices.Sorted(maps.Keys(variables)) {
			offer(Item{Label: v, Kind: Name, Meaning: variableMeanings[v], Insert: v})
		}
		for _, f := range calls[:2] {
			offer(Item{Label: f.label, Kind: Function, Meaning: f.meaning, Insert: f.insert})
		}
	case e.of == "before" || e.of == "after":
		seen := map[string]bool{}
		for _, t := range e.list {
			for _, p := range t.Properties {
				if !seen[p.Name] {
					offer(Item{Label: p.Name, Kind: PropertyKey, Detail: p.Type.Label(), Meaning: p.Description, Insert: p.Name})
				}
				seen[p.Name] = true
			}
		}
	case known:
		for _, p := range parts {
			offer(Item{Label: p, Kind: PropertyKey, Meaning: partMeanings[e.of+"."+p], Insert: p})
		}
	default: // of a value
		for _, f := range calls[2:] {
			offer(Item{Label: f.label, Kind: Function, Meaning: f.meaning, Insert: f.insert})
		}
	}
	slices.SortStableFunc(out, func(a, b Item) int { return a.order - b.order })
	return out
}

// hover tells what stands in an expression; at is behind the word.
func (w *Work) hoverExpression(d *doc, at Place) *Help {
	line := d.text.Line(at.Line)
	for at.Column < len(line) && wordByte(line, at.Column) && line[at.Column] != '-' {
		at.Column++
	}
	e := w.expressionAt(d, at)
	if e == nil || e.word == "" {
		return nil
	}
	if e.of == "before" || e.of == "after" {
		for _, t := range e.list {
			if p := t.Property(e.word); p != nil {
				return &Help{Range: e.Range, Title: p.Name + ": " + p.Type.Label(), Lines: About(p)}
			}
		}
		return nil
	}
	for _, it := range e.complete() {
		if it.Label == e.word && it.Meaning != "" {
			return &Help{Range: e.Range, Title: it.Label, Lines: []string{it.Meaning}}
		}
	}
	return nil
}
