package assist

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"brickrow/internal/tosca"
)

// one is a fix of one edit.
func one(title string, e Edit) []Fix { return []Fix{{title, []Edit{e}, false, true}} }

// filled is a fix of one edit with blanks in it.
func filled(title string, e Edit) []Fix { return []Fix{{title, []Edit{e}, true, true}} }

// valueAt is the value at a place, with its quotes, and what may stand there.
func (w *Work) valueAt(d *doc, at Place) (word string, whole Range, s *Spot, r rule) {
	s = d.text.At(Place{at.Line, min(at.Column+1, len(d.text.Line(at.Line)))})
	r = w.walk(d, s)
	if n := len(s.Way); d.outline.Kind == StackFile && n >= 2 && s.Way[0].Key == "inputs" { // that of the input
		if t := w.template(d); t != nil && t.file != nil && t.file.Service != nil {
			if in := t.file.Service.Input(s.Way[1].Key); in != nil && n == 2 {
				r = rule{value: in, typ: in.Type}
			}
		}
	}
	whole = s.Range
	if s.Quote != 0 {
		whole.From.Column--
		whole.To.Column++
	}
	return d.text.Slice(s.Range), whole, s, r
}

// legal offers the values that are allowed, the nearest ones first.
func (w *Work) legal(d *doc, at Place) []Fix {
	word, whole, s, r := w.valueAt(d, at)
	if s.Kind != AtValue || word == "" || strings.ContainsAny(word, "{}[]") {
		return nil
	}
	var known []string
	switch {
	case r.schema != nil:
		for _, it := range schemaItems(r, AtValue) {
			known = append(known, it.Label)
		}
	case r.value != nil:
		known = tosca.Legal(r.typ, r.value.Validation)
	case r.typ != nil:
		known = tosca.Legal(r.typ, nil)
	}
	if len(known) == 0 { // the default of an input, whose validation stands beside it
		if n := len(s.Way); n > 1 && s.Way[n-1].Key == "default" && d.file != nil && d.file.Service != nil {
			if in := d.file.Service.Input(s.Way[n-2].Key); in != nil {
				known = tosca.Legal(in.Type, in.Validation)
			}
		}
	}
	return write(whole, word, known)
}

// write offers some of the values that are known, the nearest ones first.
func write(at Range, word string, known []string) []Fix {
	var out []Fix
	rest := slices.Clone(known)
	for len(out) < 5 && len(rest) > 0 {
		next := tosca.Nearest(word, rest)
		if next == "" {
			next = rest[0]
		}
		rest = slices.DeleteFunc(rest, func(k string) bool { return k == next })
		out = append(out, Fix{"write " + next, []Edit{{at, next}}, false, len(out) == 0})
	}
	return out
}

var (
	number    = regexp.MustCompile(`^[+-]?\d+(\.\d+)?$`)
	glued     = regexp.MustCompile(`^(\s*(?:- )*[\w.$-]+):([^\s:/].*)$`)
	yes       = []string{"yes", "on", "y", "true", "1"}
	no        = []string{"no", "off", "n", "false", "0"}
	quantity  = regexp.MustCompile(`^([+-]?[\d.]+)\s*(\S*)$`)
	digestFix = regexp.MustCompile(`its sha256 is ([0-9a-f]{64})`)
)

// otherKind turns a value into one of the kind that is wanted.
func (w *Work) otherKind(d *doc, at Place) []Fix {
	if f := w.spaces(d, at); f != nil {
		return f
	}
	word, whole, s, r := w.valueAt(d, at)
	flow := startsFlow(d.text.Line(at.Line), at.Column)
	if flow {
		s = d.text.At(at)
		r = w.walk(d, s)
	}
	if s.Kind != AtValue {
		return nil
	}
	typ := r.typ
	if n := len(s.Way); n > 0 && s.Way[n-1].Key == "count" && typ == nil {
		typ = w.library(d).Data["integer"]
	}
	switch {
	case r.list != "" && !flow && word != "": // a list of names
		return one("write a list", Edit{whole, "[ " + d.text.Slice(whole) + " ]"})
	case typ == nil:
		return nil
	case typ.Base == tosca.BaseBoolean && slices.Contains(yes, strings.ToLower(word)):
		return write(whole, "", []string{"true", "false"})
	case typ.Base == tosca.BaseBoolean && slices.Contains(no, strings.ToLower(word)):
		return write(whole, "", []string{"false", "true"})
	case (typ.Base == tosca.BaseInteger || typ.Base == tosca.BaseFloat) && number.MatchString(word):
		return one("write it as a number", Edit{whole, word})
	case typ.Base == tosca.BaseList && flow && d.text.Line(at.Line)[at.Column] == '{':
		if end, ok := d.flowEnd(at); ok {
			here := Range{at, end}
			return one("write a list", Edit{here, "[ " + d.text.Slice(here) + " ]"})
		}
	case typ.Base == tosca.BaseList && !flow && word != "":
		return one("write a list", Edit{whole, "[ " + d.text.Slice(whole) + " ]"})
	}
	return nil
}

// flowEnd is the place behind the bracket that closes the one at a place.
func (d *doc) flowEnd(at Place) (Place, bool) {
	f := flowScan{t: d.text}
	for n := at.Line; n < len(d.text.Lines) && n < at.Line+mostFlow; n++ {
		from := 0
		if n == at.Line {
			from = at.Column
		}
		for i := from; i < len(d.text.Lines[n]); i++ {
			if d.text.Lines[n][i] == '#' && f.quote == 0 && i > 0 && d.text.Lines[n][i-1] == ' ' {
				break
			}
			if !f.line(n, i, i+1) {
				return Place{n, i + 1}, true
			}
		}
	}
	return Place{}, false
}

// spaces puts a space behind a colon where there is none.
func (w *Work) spaces(d *doc, at Place) []Fix {
	var edits []Edit
	for n := at.Line; n < len(d.text.Lines); n++ {
		m := glued.FindStringSubmatchIndex(d.text.Lines[n])
		if m == nil || indentOf(d.text.Lines[n]) < indentOf(d.text.Line(at.Line)) {
			break
		}
		here := Place{n, m[4]}
		edits = append(edits, Edit{Range{here, here}, " "})
	}
	if edits == nil {
		return nil
	}
	return []Fix{{"put a space behind the colon", edits, false, true}}
}

// items turns a map into a list of maps with one key each.
func (d *doc) items(at Place) []Fix {
	l := parseLine(d.text.Line(at.Line))
	below := at.Line
	if l.rest < l.end || !slices.Contains([]string{"requirements", "policies"}, l.key) { // it stands at its first key
		below--
		for below >= 0 && parseLine(d.text.Lines[below]).blank() {
			below--
		}
		if below < 0 {
			return nil
		}
		l = parseLine(d.text.Lines[below])
	}
	if !slices.Contains([]string{"requirements", "policies"}, l.key) || l.rest < l.end {
		return nil
	}
	var edits []Edit
	column := -1
	for n := below + 1; n < len(d.text.Lines); n++ {
		k := parseLine(d.text.Lines[n])
		if k.blank() {
			continue
		}
		if k.indent <= l.column {
			break
		}
		if column < 0 {
			column = k.indent
		}
		here := Place{n, k.indent}
		if k.indent == column {
			edits = append(edits, Edit{Range{here, here}, "- "})
		} else {
			edits = append(edits, Edit{Range{here, here}, "  "})
		}
	}
	if edits == nil {
		return nil
	}
	return []Fix{{"write a list", edits, false, true}}
}

// otherUnit writes a unit that there is.
func (w *Work) otherUnit(d *doc, at Place) []Fix {
	word, whole, _, r := w.valueAt(d, at)
	m := quantity.FindStringSubmatch(word)
	if m == nil || r.typ == nil {
		return nil
	}
	var units []string
	for u := range r.typ.Units {
		units = append(units, u)
	}
	slices.SortFunc(units, func(a, b string) int { // in which one letter may say it
		near := func(u string) int {
			if m[2] != "" && strings.EqualFold(u[:1], m[2][:1]) {
				return len(u)
			}
			return 100
		}
		if c := near(a) - near(b); c != 0 {
			return c
		}
		return strings.Compare(a, b)
	})
	var out []Fix
	for i, u := range units[:min(5, len(units))] {
		out = append(out, Fix{fmt.Sprintf("write %s %s", m[1], u), []Edit{{whole, m[1] + " " + u}}, false, i == 0})
	}
	return out
}

// addKey gives what begins at a place a key that it lacks.
func (d *doc) addKey(at Place, key, value string) []Fix {
	line := d.text.Line(at.Line)
	l := parseLine(line)
	title := "add " + key
	if l.colon < 0 || at.Column > l.column+1 { // within brackets
		i := strings.IndexByte(line[min(at.Column, len(line)):], '{')
		if i < 0 {
			return nil
		}
		l.rest = at.Column + i
	}
	if startsFlow(line, l.rest) {
		if line[l.rest] != '{' {
			return nil
		}
		here := Place{at.Line, l.rest + 1}
		if m := typeInLine.FindStringIndex(line[l.rest:]); m != nil && m[0] == 0 && key != "type" { // behind its type
			here.Column = l.rest + m[1]
			return filled(title, Edit{Range{here, here}, ", " + key + ": " + value})
		}
		text := " " + key + ": " + value
		if rest := strings.TrimSpace(line[l.rest+1:]); !strings.HasPrefix(rest, "}") {
			text += ","
		} else if !strings.HasPrefix(line[l.rest+1:], " ") {
			text += " "
		}
		return filled(title, Edit{Range{here, here}, text})
	}
	if l.rest < l.end {
		return nil
	}
	in := l.column + 2
	if len(l.dashes) > 0 {
		in = l.column + 4
	}
	if n := at.Line + 1; n < len(d.text.Lines) {
		if k := parseLine(d.text.Lines[n]); !k.blank() && k.column > l.column {
			in = k.column
		}
	}
	return filled(title, lineAfter(at.Line, d.text, strings.Repeat(" ", in)+key+": "+value))
}

var missing = regexp.MustCompile(`the property '([^']+)' is missing`)

// addField gives a structure a property that it lacks.
func (w *Work) addField(d *doc, at Place, f tosca.Finding) []Fix {
	m := missing.FindStringSubmatch(f.Message)
	if m == nil {
		return nil
	}
	value := blank(1, "")
	s := d.text.At(Place{at.Line, min(at.Column+1, len(d.text.Line(at.Line)))})
	r := w.walk(d, s)
	for _, list := range [][]*tosca.Property{r.fields, fieldsOf(r.typ)} {
		for _, p := range list {
			if p.Name == m[1] {
				value = propertyBlank(p, 1)
			}
		}
	}
	if startsFlow(d.text.Line(at.Line), at.Column) {
		return d.addKey(at, m[1], value)
	}
	if l := parseLine(d.text.Line(at.Line)); l.column != at.Column {
		return nil
	}
	return filled("add "+m[1], Edit{Range{at, at}, m[1] + ": " + value + "\n" + strings.Repeat(" ", at.Column)})
}

func fieldsOf(t *tosca.Type) []*tosca.Property {
	if t == nil {
		return nil
	}
	return t.Fields
}

// inValue puts what an output was given under value.
func (d *doc) inValue(at Place) []Fix {
	line := d.text.Line(at.Line)
	l := parseLine(line)
	if l.colon >= 0 && startsFlow(line, l.rest) && strings.HasPrefix(strings.TrimLeft(line[l.rest+1:], " "), "$") {
		if end, ok := d.flowEnd(Place{at.Line, l.rest}); ok {
			here := Range{Place{at.Line, l.rest}, end}
			return one("put it under value", Edit{here, "{ value: " + d.text.Slice(here) + " }"})
		}
	}
	if n := at.Line + 1; l.rest >= l.end && n < len(d.text.Lines) {
		if k := parseLine(d.text.Lines[n]); strings.HasPrefix(k.key, "$") && k.column > l.column {
			edits := []Edit{{Range{Place{n, 0}, Place{n, 0}}, strings.Repeat(" ", k.column) + "value:\n"}}
			for ; n < len(d.text.Lines) && indentOf(d.text.Lines[n]) >= k.column && strings.TrimSpace(d.text.Lines[n]) != ""; n++ {
				if n == at.Line+1 {
					edits[0].New += "  "
					continue
				}
				edits = append(edits, Edit{Range{Place{n, 0}, Place{n, 0}}, "  "})
			}
			return []Fix{{"put it under value", edits, false, true}}
		}
	}
	return d.addKey(at, "value", blank(1, ""))
}

// without takes an entry away, and a key under which nothing would stay.
func (d *doc) without(title string, key Place) []Fix {
	e, ok := d.withoutEntry(key)
	if !ok {
		return nil
	}
	return one(title, e)
}

// withoutEntry takes the entry of a map away whose key stands at a place.
func (d *doc) withoutEntry(key Place) (Edit, bool) {
	line := d.text.Line(key.Line)
	l := parseLine(line)
	if l.column != key.Column && !(key.Column == l.column+1 && strings.ContainsAny(line[l.column:key.Column], `"'`)) || l.colon < 0 {
		return d.withoutItem(key)
	}
	if len(l.dashes) > 0 {
		return d.withoutItem(key)
	}
	from, end := key.Line, d.endOf(key.Line, l.column)
	for column := l.column; ; { // the keys above it that would be left with nothing
		up := from - 1
		for up >= 0 && parseLine(d.text.Lines[up]).blank() {
			up--
		}
		next := end
		for next < len(d.text.Lines) && parseLine(d.text.Lines[next]).blank() {
			next++
		}
		if up < 0 {
			break
		}
		k := parseLine(d.text.Lines[up])
		if k.colon < 0 || k.rest < k.end || k.column >= column || len(k.dashes) > 0 || k.indent == 0 ||
			next < len(d.text.Lines) && parseLine(d.text.Lines[next]).indent > k.column {
			break
		}
		from, column = up, k.column
	}
	if end >= len(d.text.Lines) { // the text ends with it
		if from == 0 {
			return Edit{}, false
		}
		return Edit{Range{Place{from - 1, len(d.text.Lines[from-1])}, Place{len(d.text.Lines) - 1, len(d.text.Lines[len(d.text.Lines)-1])}}, ""}, true
	}
	return Edit{Range{Place{from, 0}, Place{end, 0}}, ""}, true
}

// endOf is the line behind what stands under a key.
func (d *doc) endOf(line, column int) int {
	end := line + 1
	for n := line + 1; n < len(d.text.Lines); n++ {
		k := parseLine(d.text.Lines[n])
		if k.blank() {
			continue
		}
		if k.indent < column || k.indent == column && len(k.dashes) == 0 {
			break
		}
		end = n + 1
	}
	return end
}

// keyIn finds a key in the lines of what begins at a place.
func (d *doc) keyIn(at Place, key string) (Place, bool) {
	end := d.endOf(at.Line, parseLine(d.text.Line(at.Line)).column)
	for n := at.Line; n < end; n++ {
		line := d.text.Lines[n]
		for from := 0; ; {
			i := strings.Index(line[from:], key+":")
			if i < 0 {
				break
			}
			if i += from; !wordByte(line, i-1) {
				return Place{n, i}, true
			}
			from = i + 1
		}
	}
	return Place{}, false
}

// move puts a key of a node where it belongs: a property under properties, a requirement
// under requirements.
func (w *Work) move(d *doc, at Place) []Fix {
	s := d.text.At(Place{at.Line, at.Column + 1})
	name := strings.Trim(d.text.Slice(s.Range), `"'`)
	r := w.walk(d, s)
	if s.Kind != AtKey && (len(s.Way) == 0 || !s.Way[len(s.Way)-1].Item) {
		return nil
	}
	n := d.outline.Symbol("node_templates", r.self)
	if n == nil || n.At.Line > at.Line || at.Line >= n.To {
		return nil
	}
	t := w.nodeType(d, n.Type)
	if t == nil {
		return nil
	}
	line := d.text.Line(at.Line)
	rest := strings.TrimLeft(line[s.To.Column:], `"' :`)
	from := len(line) - len(rest)
	end := len(strings.TrimRight(line[:commentFrom(line)], " "))
	if startsFlow(line, from) {
		if e, ok := d.flowEnd(Place{at.Line, from}); ok && e.Line == at.Line {
			end = e.Column
		}
	} else if _, open := d.text.flowStart(Place{at.Line, from}); open {
		if i := strings.IndexAny(line[from:], ",}]"); i >= 0 {
			end = from + i
		}
	}
	value := strings.TrimSpace(line[min(from, end):end])
	var props, reqs []string
	title := ""
	switch {
	case value == "":
		return nil
	case t.Property(name) != nil && r.section == "node template":
		props, title = []string{name + ": " + value}, "put it under properties"
	case t.Property(name) != nil && r.requirements != nil:
		props, title = []string{name + ": " + value}, "put it under properties"
	case t.Requirement(name) != nil && r.requirements == nil:
		reqs, title = []string{keyWritten(name) + ": " + value}, "put it under requirements"
	default:
		return nil
	}
	remove, ok := d.withoutEntry(at)
	b := bodyOf(d.text, n)
	add, fits := b.insert(props, reqs)
	if !ok || !fits || add.From.Line == remove.From.Line && add.From.Line == remove.To.Line && add.From.Column > remove.From.Column &&
		add.From.Column < remove.To.Column {
		return nil
	}
	if !add.From.Less(remove.From) && add.From.Less(remove.To) { // it begins behind what goes
		if add.From.Line != remove.To.Line-1 || remove.To.Column != 0 {
			return nil
		}
		return []Fix{{title, []Edit{{remove.Range, strings.TrimPrefix(add.New, "\n") + "\n"}}, false, true}}
	}
	edits := []Edit{add, remove}
	if remove.From.Less(add.From) {
		edits = []Edit{remove, add}
	}
	return []Fix{{title, edits, false, true}}
}

// yaml mends what keeps a text from being YAML.
func (w *Work) yaml(d *doc, at Place) []Fix {
	if f := w.spaces(d, at); f != nil {
		return f
	}
	for n := at.Line; n >= max(0, at.Line-3); n-- { // a quote or a bracket that nothing closes
		line := d.text.Line(n)
		l := parseLine(line)
		from := l.column
		if l.colon >= 0 {
			from = l.rest
		}
		end := len(strings.TrimRight(line, " "))
		if from >= len(line) || l.blank() {
			continue
		}
		if q := line[from]; (q == '"' || q == '\'') && strings.Count(line[from:], string(q)) == 1 {
			here := Place{n, end}
			return one("close the quotes", Edit{Range{here, here}, string(q)})
		}
		if startsFlow(line, from) && n < at.Line || startsFlow(line, from) && n == len(d.text.Lines)-1 {
			f := flowScan{t: d.text}
			if !f.line(n, from, end) {
				continue
			}
			if f.quote != 0 { // the quotes are closed in front of the brackets
				cut := len(strings.TrimRight(line[:end], "}] "))
				here := Place{n, cut}
				return one("close the quotes", Edit{Range{here, here}, string(f.quote)})
			}
			next := parseLine(d.text.Line(n + 1))
			if len(f.stack) > 0 && (n+1 >= len(d.text.Lines) || next.indent <= l.indent) {
				text := ""
				for i := len(f.stack) - 1; i >= 0; i-- {
					text += map[byte]string{'{': " }", '[': " ]"}[f.stack[i].open]
				}
				here := Place{n, end}
				return one("close the brackets", Edit{Range{here, here}, text})
			}
		}
	}
	line := d.text.Line(at.Line)
	l := parseLine(line)
	if up := at.Line - 1; up >= 0 && l.colon >= 0 { // deeper than the key in front, which has a value
		k := parseLine(d.text.Lines[up])
		if k.colon >= 0 && k.rest < k.end && !startsFlow(d.text.Lines[up], k.rest) && l.indent > k.column {
			return one("indent it like the line above", Edit{Range{Place{at.Line, 0}, Place{at.Line, l.indent}}, strings.Repeat(" ", k.column)})
		}
	}
	// a word that has to stand in quotes
	s := d.text.At(Place{at.Line, min(at.Column+1, len(line))})
	if s.Flow && s.Kind == AtValue {
		from := s.From.Column
		if n := len(s.Way); n > 0 && s.Way[n-1].At.Line == at.Line {
			if i := strings.IndexByte(line[s.Way[n-1].At.Column:], ':'); i >= 0 {
				from = s.Way[n-1].At.Column + i + 1
			}
		}
		for from < len(line) && line[from] == ' ' {
			from++
		}
		end := from
		for end < len(line) && strings.IndexByte(",}]", line[end]) < 0 {
			end++
		}
		end = from + len(strings.TrimRight(line[from:end], " "))
		if word := line[from:end]; word != "" && !strings.ContainsAny(word, `"'{[`) {
			return one("put it in quotes", Edit{Range{Place{at.Line, from}, Place{at.Line, end}}, `"` + word + `"`})
		}
	}
	if l.colon >= 0 && l.rest < l.end && !s.Flow && !strings.ContainsAny(line[l.rest:l.end], `"'{}[]`) {
		word := strings.TrimSpace(line[l.rest:l.end])
		return one("put it in quotes", Edit{Range{Place{at.Line, l.rest}, Place{at.Line, l.rest + len(word)}}, `"` + word + `"`})
	}
	return nil
}

// fitting offers the nodes that a requirement can lead to.
func (w *Work) fittingNodes(d *doc, at Place) []Fix {
	word, whole, s, r := w.valueAt(d, at)
	if s.Kind != AtValue || r.target == nil {
		return nil
	}
	c := &completion{Work: w, d: d, s: s, r: r}
	var known []string
	for _, n := range d.outline.Of("node_templates") {
		if n.Name != r.self && n.Name != word && c.fits(n, r.target) {
			known = append(known, n.Name)
		}
	}
	return write(whole, word, known)
}

// goodNames gives a node a name that it can have, wherever it stands.
func (w *Work) goodNames(d *doc, at Place) []Fix {
	s := d.text.At(Place{at.Line, at.Column + 1})
	word := d.text.Slice(s.Range)
	name := strings.Map(func(c rune) rune {
		if c < 0x80 && (c == '_' || c == '-' || c == '.' || wordByte(string(c), 0)) {
			return c
		}
		return '_'
	}, strings.TrimSpace(word))
	if name == "" || name == word {
		return nil
	}
	if name[0] >= '0' && name[0] <= '9' || name[0] == '-' || name[0] == '.' {
		name = "n" + name
	}
	edits := []Edit{{s.Range, name}}
	if c, ok := w.nameAt(d, Place{at.Line, at.Column + 1}); ok {
		edits = nil
		for _, r := range w.occurrences(d, c) {
			edits = append(edits, Edit{r, name})
		}
	}
	return []Fix{{"call it " + name, edits, false, true}}
}
