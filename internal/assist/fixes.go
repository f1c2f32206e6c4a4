package assist

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"brickrow/internal/tosca"
)

// Fix is a way to put something right, as edits of one file. What it inserts may have
// blanks, as in Item.Insert, where it is one edit.
type Fix struct {
	Title  string
	Edits  []Edit
	Blanks bool
	Best   bool // it is what most would do
}

// renameFix finds the former name in what mends a renaming.
var renameFix = regexp.MustCompile(`formerly: ([^ }]+)`)

// Fixes are the ways to put a finding right.
func (w *Work) Fixes(path string, f tosca.Finding) []Fix {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil || f.Line == 0 {
		return nil
	}
	at := w.place(d, f.Pos)
	var fixes []Fix
	if d.outline.Kind == StackFile {
		fixes = w.stackFileFixes(d, at, f)
	}
	if fixes == nil {
		fixes = w.fixes(d, at, f)
	}
	if f.Code == "wrong-type" || strings.HasPrefix(f.Code, "unknown-") || strings.HasPrefix(f.Code, "missing-") {
		fixes = append(d.sign(at), fixes...)
	}
	if strings.HasPrefix(f.Code, "unknown-") || f.Code == "not-yaml" {
		fixes = append(fixes, d.colons(at)...)
	}
	if strings.HasPrefix(f.Code, "unknown-") {
		fixes = append(fixes, w.addImport(d, at)...)
	}
	if f.Code == "unknown-input" && d.outline.Kind == Template {
		fixes = append(fixes, w.declare(d, at)...)
	}
	if len(fixes) == 0 {
		fixes = d.asSaid(at, f)
	}
	if len(fixes) == 0 {
		return nil
	}
	p := w.proofOf(d, f)
	fixes = slices.DeleteFunc(fixes, func(x Fix) bool { return !p.mends(x) })
	if len(fixes) > 1 && fixes[0].Title == fixes[1].Title { // the same in several ways
		fixes = slices.CompactFunc(fixes, func(a, b Fix) bool { return a.Title == b.Title })
	}
	best := slices.IndexFunc(fixes, func(x Fix) bool { return x.Best })
	for i := range fixes {
		fixes[i].Best = i == best
	}
	return fixes
}

func (w *Work) fixes(d *doc, at Place, f tosca.Finding) []Fix {
	switch {
	case f.Code == "unknown-unit" || f.Code == "bad-scalar":
		return w.otherUnit(d, at)
	case strings.HasPrefix(f.Code, "unknown-") && f.Code != "unknown-version" && f.Code != "unknown-count":
		if f.Code == "unknown-keyword" && strings.HasPrefix(d.text.Line(at.Line)[min(at.Column, len(d.text.Line(at.Line))):], "$") {
			return d.inValue(Place{at.Line, parseLine(d.text.Line(at.Line)).column})
		}
		return append(w.move(d, at), w.nearName(d, at)...)
	case f.Code == "unknown-version" || f.Code == "missing-version":
		line := "tosca_definitions_version: tosca_2_0"
		for n, l := range d.text.Lines {
			if strings.HasPrefix(l, "tosca_definitions_version") {
				return []Fix{{"write tosca_2_0", []Edit{{Range{Place{n, 0}, Place{n, commentFrom(l)}}, line}}, false, true}}
			}
		}
		return []Fix{{"add the version", []Edit{{Range{}, line + "\n"}}, false, true}}
	case f.Code == "missing-property" || f.Code == "missing-requirement":
		if d.nodeAt(at) == nil {
			return w.addField(d, at, f)
		}
		return w.addMissing(d, at)
	case f.Code == "missing-unit":
		return w.addUnit(d, at)
	case f.Code == "wrong-type":
		for _, mend := range []func(*doc, Place) []Fix{w.quote, w.otherKind, w.addType} {
			if fixes := mend(d, at); fixes != nil {
				return fixes
			}
		}
		return d.items(at)
	case f.Code == "not-yaml" && strings.Contains(d.text.Line(f.Line-1), "\t"):
		return withoutTabs(d)
	case f.Code == "not-yaml":
		return w.yaml(d, at)
	case f.Code == "invalid-value":
		return w.legal(d, at)
	case f.Code == "wrong-target":
		return w.fittingNodes(d, at)
	case f.Code == "bad-name":
		return w.goodNames(d, at)
	case f.Code == "set-by-cloud" || f.Code == "fixed-property" || f.Code == "duplicate-key" || f.Code == "unused-input":
		return d.without("remove it", at)
	case f.Code == "no-effect":
		for _, key := range []string{tosca.Formerly, tosca.KeyedBy, tosca.FilledBy} {
			if place, ok := d.keyIn(at, key); ok && strings.Contains(f.Message+f.Fix, key) {
				return d.without("remove "+key, place)
			}
		}
		if place, ok := d.keyIn(at, tosca.Formerly); ok {
			return d.without("remove formerly", place)
		}
	case f.Code == "never-recorded":
		if place, ok := d.keyIn(at, tosca.Formerly); ok {
			return d.without("remove formerly", place)
		}
	case f.Code == "perhaps-renamed":
		n := d.nodeAt(at)
		if m := renameFix.FindStringSubmatch(f.Fix); m != nil && n != nil {
			if e, ok := d.formerly(n.Name, m[1]); ok {
				return one("it is "+m[1]+", under another name", e)
			}
		}
	case f.Code == "bad-count":
		if word, whole, _, _ := w.valueAt(d, at); strings.HasPrefix(word, "-") {
			return one("write 0", Edit{whole, "0"})
		}
	case f.Code == "missing-value":
		return d.inValue(at)
	case f.Code == "missing-file":
		return d.addKey(at, "file", blank(1, ""))
	case f.Code == "missing-url":
		return d.addKey(at, "url", blank(1, ""))
	case f.Code == "missing-filter":
		return d.addKey(at, "node_filter", "{ \\$equal: [ { \\$get_property: [ SELF, "+blank(1, "label")+" ] }, "+blank(2, "")+" ] }")
	case f.Code == "filter-without-select":
		if n := w.around(d, at); n != nil {
			return d.addKey(n.At, "directives", "[ select ]")
		}
	case f.Code == "no-such-file" && slices.Contains(w.Profiles, w.wordAt(d, at)):
		_, whole, s, _ := w.valueAt(d, at)
		text := "profile: " + d.text.Slice(s.Range)
		if s.Flow {
			text = "{ " + text + " }"
		}
		return one("import the profile", Edit{whole, text})
	case f.Code == "wrong-checksum":
		if m := digestFix.FindStringSubmatch(f.Fix); m != nil {
			if place, ok := d.keyIn(Place{at.Line, 0}, "checksum"); ok {
				_, whole, _, _ := w.valueAt(d, Place{place.Line, place.Column + len("checksum: ")})
				return one("write its sha256", Edit{whole, m[1]})
			}
		}
	case f.Code == "missing-type":
		if fixes := w.addType(d, at); fixes != nil {
			return fixes
		}
		kind := map[bool]string{true: "Keep", false: ""}[strings.Contains(f.Message, "policy")]
		return d.addKey(at, "type", blank(1, kind))
	}
	return nil
}

// place is where a finding is. Its column counts letters.
func (w *Work) place(d *doc, p tosca.Pos) Place {
	line := d.text.Line(p.Line - 1)
	column := 0
	for i := 1; i < p.Column && column < len(line); i++ {
		_, size := utf8.DecodeRuneInString(line[column:])
		column += size
	}
	return Place{p.Line - 1, column}
}

// Of is the range of what a finding is about.
func (w *Work) Of(path string, p tosca.Pos) Range {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil || p.Line == 0 {
		return Range{}
	}
	at := w.place(d, p)
	line := d.text.Line(at.Line)
	end := commentFrom(line)
	s := d.text.At(Place{at.Line, min(at.Column+1, len(line))})
	if s.From.Line == at.Line && s.From.Column <= at.Column+1 && at.Less(s.To) {
		return Range{at, s.To}
	}
	if at.Column >= end {
		at.Column = min(indentOf(line), end)
	}
	return Range{at, Place{at.Line, max(len(strings.TrimRight(line[:end], " ")), at.Column)}}
}

// nearName offers the names like the one that is written, of those that can stand
// there.
func (w *Work) nearName(d *doc, at Place) []Fix {
	s := d.text.At(Place{at.Line, at.Column + 1})
	word := strings.Trim(d.text.Slice(s.Range), `"'`)
	if word == "" || s.Kind == InText {
		return nil
	}
	blankAt := *s
	blankAt.Word = ""
	c := &completion{Work: w, d: d, s: &blankAt, r: w.walk(d, s)}
	if s.Kind == AtKey {
		c.keyItems()
	} else {
		c.valueItems()
	}
	have := Keys{}
	if s.Kind == AtKey {
		have = s.Keys()
	}
	var known []string
	for _, it := range c.items {
		if _, there := have[it.Label]; !there && (it.Kind != Function || word[0] == '$') {
			known = append(known, it.Label)
		}
	}
	var out []Fix
	for range 3 {
		near := tosca.Nearest(word, known)
		if near == "" {
			break
		}
		known = slices.DeleteFunc(known, func(k string) bool { return k == near })
		out = append(out, Fix{fmt.Sprintf("write %s", near), []Edit{{s.Range, near}}, false, len(out) == 0})
	}
	return out
}

// wordAt is the word at a place.
func (w *Work) wordAt(d *doc, at Place) string {
	word, _, _, _ := w.valueAt(d, at)
	return word
}

// around is the node that a place is in; nil where it is in none.
func (w *Work) around(d *doc, at Place) *Symbol {
	for _, s := range d.outline.Of("node_templates") {
		if s.At.Line <= at.Line && at.Line < s.To {
			return s
		}
	}
	return nil
}

// nodeAt is the node whose name stands at a place.
func (d *doc) nodeAt(at Place) *Symbol {
	for _, s := range d.outline.Of("node_templates") {
		if s.At.Line == at.Line && s.At.Column == at.Column {
			return s
		}
	}
	return nil
}

// addMissing adds all that a node must have and lacks.
func (w *Work) addMissing(d *doc, at Place) []Fix {
	n := d.nodeAt(at)
	if n == nil {
		return nil
	}
	t := w.nodeType(d, n.Type)
	if t == nil {
		return nil
	}
	b := body{t: d.text, n: n}
	b.read()
	c := &completion{Work: w, d: d, s: &Spot{Indent: at.Column}, r: rule{self: n.Name}}
	number := 1
	var props, reqs []string
	for _, p := range t.Properties {
		if _, have := b.properties[p.Name]; !have && !p.Optional() {
			props = append(props, bare(p.Name)+": "+propertyBlank(p, number))
			number++
		}
	}
	for _, q := range t.Requirements {
		if q.Low > 0 && !slices.Contains(b.requirements, q.Name) {
			reqs = append(reqs, keyWritten(q.Name)+": "+c.fitting(q, number))
			number++
		}
	}
	edit, ok := b.insert(props, reqs)
	if !ok {
		return nil
	}
	return []Fix{{"add what " + n.Name + " must have", []Edit{edit}, true, true}}
}

// body is what stands in a node template, as far as its lines tell.
type body struct {
	t            *Text
	n            *Symbol
	flow         bool
	indent       int // of its keys
	properties   Keys
	requirements []string
	at           map[string]Place // of the keys properties and requirements
}

func (b *body) read() {
	b.properties, b.at, b.indent = Keys{}, map[string]Place{}, b.n.At.Column+2
	line := b.t.Line(b.n.At.Line)
	l := parseLine(line)
	if b.flow = startsFlow(line, l.rest); b.flow {
		b.readFlow()
		return
	}
	for n := b.n.At.Line + 1; n < b.n.To; n++ {
		l := parseLine(b.t.Lines[n])
		if l.blank() || l.colon < 0 || len(l.dashes) > 0 {
			continue
		}
		b.indent = l.column
		break
	}
	for n := b.n.At.Line + 1; n < b.n.To; n++ {
		l := parseLine(b.t.Lines[n])
		if l.column != b.indent || l.key != "properties" && l.key != "requirements" {
			continue
		}
		b.at[l.key] = Place{n, l.rest}
		if l.key == "properties" {
			b.properties = b.keysUnder(n, l)
		} else {
			b.requirements = b.itemsUnder(n, l)
		}
	}
}

var flowPart = regexp.MustCompile(`[{,]\s*(properties|requirements):\s*[{\[]`)

// readFlow reads a node that is written in brackets, in one line.
func (b *body) readFlow() {
	n := b.n.At.Line
	line := b.t.Line(n)
	for _, m := range flowPart.FindAllStringSubmatchIndex(line, -1) {
		key := line[m[2]:m[3]]
		b.at[key] = Place{n, m[1]}
		if key == "properties" {
			b.properties = b.t.At(Place{n, m[1]}).Keys()
		} else {
			b.requirements = keysIn(line[m[1]:])
		}
	}
}

// keysIn lists what looks like keys in a text.
func keysIn(text string) []string {
	var out []string
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(",{}[]\n", r) }) {
		if key, _, ok := splitKey(strings.TrimLeft(part, " -")); ok {
			out = append(out, key)
		}
	}
	return out
}

// insertFlow adds to a node that is written in brackets.
func (b *body) insertFlow(props, reqs []string) (Edit, bool) {
	n := b.n.At.Line
	line := b.t.Line(n)
	insert := func(at Place, list []string, more bool) (Edit, bool) {
		text := " " + strings.Join(list, ", ")
		if more {
			text += ","
		}
		return Edit{Range{at, at}, text}, true
	}
	if at, have := b.at["properties"]; have && len(props) > 0 {
		return insert(at, props, len(b.properties) > 0)
	}
	if at, have := b.at["requirements"]; have && len(reqs) > 0 {
		return insert(at, reqs, len(b.requirements) > 0)
	}
	m := typeInLine.FindStringIndex(line)
	if m == nil {
		return Edit{}, false
	}
	text := ""
	if len(props) > 0 {
		text += ", properties: { " + strings.Join(props, ", ") + " }"
	}
	if len(reqs) > 0 {
		text += ", requirements: [ " + strings.Join(reqs, ", ") + " ]"
	}
	at := Place{n, m[1]}
	return Edit{Range{at, at}, text}, true
}

// keysUnder lists the keys of the map that a key of a line has.
func (b *body) keysUnder(n int, l parsed) Keys {
	if startsFlow(b.t.Lines[n], l.rest) {
		return b.t.At(Place{n, l.rest + 1}).Keys()
	}
	for m := n + 1; m < b.n.To; m++ {
		if k := parseLine(b.t.Lines[m]); !k.blank() {
			if k.column > b.indent && k.colon >= 0 {
				return b.t.keysAt(m, k.column)
			}
			break
		}
	}
	return Keys{}
}

// itemsUnder lists the first keys of the items of the list that a key has.
func (b *body) itemsUnder(n int, l parsed) []string {
	text := b.t.Lines[n][l.rest:l.end]
	for m := n + 1; m < b.n.To; m++ {
		k := parseLine(b.t.Lines[m])
		if !k.blank() && (k.indent < b.indent || k.indent == b.indent && len(k.dashes) == 0) {
			break
		}
		text += "\n" + b.t.Lines[m]
	}
	return keysIn(text)
}

// insert adds properties and requirements, in one edit. It reports false where the node
// is written in a way that only its writer should change.
func (b *body) insert(props, reqs []string) (Edit, bool) {
	if len(props)+len(reqs) == 0 {
		return Edit{}, false
	}
	if b.flow {
		return b.insertFlow(props, reqs)
	}
	in := strings.Repeat(" ", b.indent)
	p, hasProps := b.at["properties"]
	q, hasReqs := b.at["requirements"]
	switch {
	case len(props) > 0 && hasProps && startsFlow(b.t.Lines[p.Line], p.Column) && len(reqs) == 0:
		text := strings.Join(props, ", ")
		if len(b.properties) > 0 {
			text += ","
		}
		return Edit{Range{Place{p.Line, p.Column + 1}, Place{p.Line, p.Column + 1}}, " " + text}, true
	case len(props) > 0 && hasProps && !startsFlow(b.t.Lines[p.Line], p.Column) && len(reqs) == 0:
		return lineAfter(p.Line, b.t, in+"  "+strings.Join(props, "\n"+in+"  ")), true
	case len(reqs) > 0 && hasReqs && !startsFlow(b.t.Lines[q.Line], q.Column) && len(props) == 0:
		return lineAfter(q.Line, b.t, in+"  - "+strings.Join(reqs, "\n"+in+"  - ")), true
	case len(props) > 0 && hasProps || len(reqs) > 0 && hasReqs:
		if len(reqs) > 0 && !hasReqs { // one after the other: the next finding has the rest
			return b.insert(nil, reqs)
		}
		if len(props) > 0 && !hasProps {
			return b.insert(props, nil)
		}
		if len(props) > 0 && len(reqs) > 0 {
			return b.insert(props, nil)
		}
		text := strings.Join(reqs, " }, { ")
		return Edit{Range{Place{q.Line, q.Column + 1}, Place{q.Line, q.Column + 1}}, " { " + text + " },"}, true
	}
	var text []string
	if len(props) > 0 {
		text = append(text, in+"properties:\n"+in+"  "+strings.Join(props, "\n"+in+"  "))
	}
	if len(reqs) > 0 {
		text = append(text, in+"requirements:\n"+in+"  - "+strings.Join(reqs, "\n"+in+"  - "))
	}
	last := b.n.To - 1
	for last > b.n.At.Line && parseLine(b.t.Lines[last]).blank() {
		last--
	}
	return lineAfter(last, b.t, strings.Join(text, "\n")), true
}

// lineAfter inserts lines behind a line.
func lineAfter(n int, t *Text, text string) Edit {
	at := Place{n, len(t.Line(n))}
	return Edit{Range{at, at}, "\n" + text}
}

// addUnit gives a number one of the units of its type.
func (w *Work) addUnit(d *doc, at Place) []Fix {
	number, _, s, r := w.valueAt(d, at)
	if r.typ == nil || s.Kind != AtValue || number == "" {
		return nil
	}
	var units []string
	for u := range r.typ.Units {
		units = append(units, u)
	}
	slices.SortFunc(units, func(a, b string) int { return strings.Compare(a, b) })
	example := ""
	if f := strings.Fields(r.typ.Metadata["example"]); len(f) == 2 {
		example = f[1]
	}
	slices.SortStableFunc(units, func(a, b string) int {
		if a == example {
			return -1
		}
		if b == example {
			return 1
		}
		return 0
	})
	var out []Fix
	for i, u := range units {
		out = append(out, Fix{fmt.Sprintf("write %s %s", number, u), []Edit{{s.Range, number + " " + u}}, false, i == 0})
	}
	return out
}

// quote makes a text of a value that YAML takes for something else.
func (w *Work) quote(d *doc, at Place) []Fix {
	word, _, s, r := w.valueAt(d, at)
	if s.Kind != AtValue || s.Quote != 0 || word == "" || strings.ContainsAny(word, "{}[]\"'") {
		return nil
	}
	if r.typ == nil || r.typ.Base != tosca.BaseString && r.typ.Base != tosca.BaseVersion {
		return nil
	}
	return []Fix{{"write it as text", []Edit{{s.Range, `"` + word + `"`}}, false, true}}
}

// withoutTabs indents with spaces: two for a tab, four, or as far as the next eighth column; the first with which it can be read.
func withoutTabs(d *doc) []Fix {
	var out []Fix
	for _, width := range []int{2, 4, 8} {
		var edits []Edit
		for n, l := range d.text.Lines {
			end := len(l) - len(strings.TrimLeft(l, " \t"))
			if !strings.Contains(l[:end], "\t") {
				continue
			}
			in := 0
			for _, c := range l[:end] {
				switch {
				case c == ' ':
					in++
				case width == 8:
					in += 8 - in%8
				default:
					in += width
				}
			}
			edits = append(edits, Edit{Range{Place{n, 0}, Place{n, end}}, strings.Repeat(" ", in)})
		}
		out = append(out, Fix{"indent with spaces", edits, false, true})
	}
	return out
}

// addType gives something a type.
func (w *Work) addType(d *doc, at Place) []Fix {
	line := d.text.Line(at.Line)
	l := parseLine(line)
	if l.colon < 0 || startsFlow(line, l.rest) || l.rest < l.end {
		return nil
	}
	s := d.text.At(Place{at.Line, l.column + 1})
	r := w.walk(d, s)
	if r.names == "" {
		return nil
	}
	example := "string"
	if r.names == "node_templates" {
		example = ""
	}
	text := strings.Repeat(" ", l.column+2) + "type: " + blank(1, example)
	return []Fix{{"add a type", []Edit{lineAfter(at.Line, d.text, text)}, true, true}}
}
