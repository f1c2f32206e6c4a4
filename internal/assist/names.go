package assist

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"brickrow/internal/tosca"
)

// Location is a range of a file.
type Location struct {
	Path string
	Range
}

// called is what a name at a spot calls.
type called struct {
	section, name string
	d             *doc // whose name it is: the template, for an input in a stack file
	Range
}

// tables are the sections in which the types stand that a name refers to.
var tables = map[string]string{"node types": "node_types", "data types": "data_types", "policy types": "policy_types",
	"group types": "group_types", "capability types": "capability_types", "relationship types": "relationship_types",
	"artifact types": "artifact_types", "interface types": "interface_types"}

// nameAt is what the name at a place calls; ok is false where there is none.
func (w *Work) nameAt(d *doc, at Place) (c called, ok bool) {
	s := d.text.At(at)
	word := d.text.Slice(s.Range)
	if s.Kind == InText || word == "" || strings.ContainsAny(word, "{}[]") {
		return c, false
	}
	c = called{name: word, d: d, Range: s.Range}
	r := w.walk(d, s)
	switch {
	case word[0] == '$' && len(word) > 1 && w.ownFunction(d, word[1:]):
		c.section, c.name = "functions", word[1:]
		c.From.Column++
	case s.Kind == AtKey && r.names != "" && d.outline.Symbol(r.names, word) != nil:
		c.section = r.names
	case s.Kind == AtKey && d.outline.Kind == StackFile && len(s.Way) == 1 && s.Way[0].Key == "inputs",
		s.Kind == AtKey && d.outline.Kind == FleetFile && len(s.Way) > 1 && s.Way[len(s.Way)-1].Key == "inputs":
		if c.d = w.template(d); c.d == nil {
			return c, false
		}
		c.section = "inputs"
	case s.Kind == AtValue && tables[r.refer] != "":
		c.section = tables[r.refer]
	case s.Kind == AtValue && named[r.refer]:
		c.section = r.refer
		if c.section == "node_templates" && d.outline.Symbol(c.section, word) == nil &&
			d.outline.Symbol("groups", word) != nil {
			c.section = "groups"
		}
		if c.section == "relationship_templates" && d.outline.Symbol(c.section, word) == nil {
			c.section = "relationship_types"
		}
	default:
		return c, false
	}
	return c, true
}

// defined finds where a name is defined: in its file, or in one that it imports.
func (w *Work) defined(c called) (Location, bool) {
	for _, d := range w.family(c.d) {
		if s := d.outline.Symbol(c.section, c.name); s != nil && (d == c.d || tablesHave(c.section)) {
			return Location{d.path, Range{s.At, Place{s.At.Line, s.At.Column + len(d.keyText(s.At))}}}, true
		}
	}
	return Location{}, false
}

// keyText is the key at a place as it is written.
func (d *doc) keyText(at Place) string {
	s := d.text.At(at)
	return d.text.Slice(Range{at, s.To})
}

// tablesHave reports whether a section is one of types or functions, which other files
// share.
func tablesHave(section string) bool {
	return strings.HasSuffix(section, "_types") || section == "functions"
}

// ownFunction reports whether a function is one that the files define.
func (w *Work) ownFunction(d *doc, name string) bool {
	return slices.ContainsFunc(w.family(d), func(f *doc) bool { return f.outline.Symbol("functions", name) != nil })
}

// family is a file and all that it imports, by way of others too.
func (w *Work) family(d *doc) []*doc {
	out := []*doc{d}
	for i := 0; i < len(out) && len(out) < 200; i++ {
		for _, path := range out[i].imports() {
			if f := w.doc(path); f != nil && !slices.ContainsFunc(out, func(o *doc) bool { return o.path == f.path }) {
				out = append(out, f)
			}
		}
	}
	return out
}

var importLine = regexp.MustCompile(`(?:^|[\s{,\[-])(?:url:\s*)?["']?([\w./-]+\.ya?ml)["']?\s*[,}\]]*\s*(?:#.*)?$`)

// imports are the paths of the files that a file imports, as its lines say.
func (d *doc) imports() []string {
	var out []string
	within := false
	for _, line := range d.text.Lines {
		if line == "" || line[0] == '#' {
			continue
		}
		if line[0] != ' ' && line[0] != '-' {
			within = strings.HasPrefix(line, "imports:")
		}
		if !within {
			continue
		}
		for part := range strings.SplitSeq(line[:commentFrom(line)], ",") {
			if m := importLine.FindStringSubmatch(part); m != nil {
				out = append(out, beside(d.path, m[1]))
			}
		}
	}
	return out
}

// Definition is where the name at a place is defined.
func (w *Work) Definition(path string, at Place) (Location, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil {
		return Location{}, false
	}
	if c, ok := w.nameAt(d, at); ok {
		return w.defined(c)
	}
	s := d.text.At(at)
	r := w.walk(d, s)
	word := d.text.Slice(s.Range)
	if r.refer == "files" && word != "" && s.Kind == AtValue {
		if f := w.doc(beside(d.path, word)); f != nil {
			return Location{f.path, Range{}}, true
		}
	}
	return Location{}, false
}

// users are the files in which a name may be used.
func (w *Work) users(c called) []*doc {
	out := w.family(c.d)
	switch {
	case tablesHave(c.section): // and those beside that import it
		list, err := w.From.List(filepath.Dir(c.d.path))
		if err != nil {
			return out
		}
		for _, path := range list {
			if ext := filepath.Ext(path); ext != ".yaml" && ext != ".yml" {
				continue
			}
			d := w.doc(path)
			if d == nil || slices.ContainsFunc(out, func(o *doc) bool { return o.path == d.path }) {
				continue
			}
			if slices.ContainsFunc(w.family(d), func(o *doc) bool { return o.path == c.d.path }) {
				out = append(out, d)
			}
		}
	case c.section == "inputs":
		out = append(append([]*doc{c.d}, w.stackFiles(c.d)...), w.fleetFiles(c.d)...)
	default:
		out = []*doc{c.d}
	}
	return out
}

// References are all places of a name: where it is defined, and where it is used.
func (w *Work) References(path string, at Place) []Location {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.references(path, at)
}

func (w *Work) references(path string, at Place) []Location {
	d := w.doc(path)
	if d == nil {
		return nil
	}
	c, ok := w.nameAt(d, at)
	if !ok {
		return nil
	}
	var out []Location
	for _, u := range w.users(c) {
		for _, r := range w.occurrences(u, c) {
			out = append(out, Location{u.path, r})
		}
	}
	return out
}

// occurrences are the places of a name in one file.
func (w *Work) occurrences(d *doc, c called) []Range {
	var out []Range
	for n, line := range d.text.Lines {
		for from := 0; ; {
			i := strings.Index(line[from:], c.name)
			if i < 0 {
				break
			}
			i += from
			from = i + len(c.name)
			if wordByte(line, i-1) || wordByte(line, from) {
				continue
			}
			o, ok := w.nameAt(d, Place{n, i + 1})
			if !ok || o.section != c.section || o.name != c.name || o.d.path != c.d.path && !tablesHave(c.section) {
				continue
			}
			out = append(out, o.Range)
		}
	}
	return out
}

func wordByte(line string, i int) bool {
	if i < 0 || i >= len(line) {
		return false
	}
	b := line[i]
	return b == '_' || b == '-' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80
}

// Renamable is the range of the name at a place, where it can be given another one.
func (w *Work) Renamable(path string, at Place) (Range, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil {
		return Range{}, false
	}
	c, ok := w.nameAt(d, at)
	if !ok {
		return Range{}, false
	}
	_, ok = w.defined(c)
	return c.Range, ok
}

var goodName = regexp.MustCompile(`^[A-Za-z_][\w.-]*$`)

// Rename gives the name at a place another one, everywhere. The error says why it
// cannot.
func (w *Work) Rename(path string, at Place, to string) (map[string][]Edit, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil {
		return nil, fmt.Errorf("there is no file %s", path)
	}
	c, ok := w.nameAt(d, at)
	if !ok {
		return nil, fmt.Errorf("there is no name here that could be changed")
	}
	if _, ok := w.defined(c); !ok {
		return nil, fmt.Errorf("'%s' is defined nowhere in these files, so it keeps its name", c.name)
	}
	if !goodName.MatchString(to) || to == "SELF" {
		return nil, fmt.Errorf("'%s' cannot be a name: use letters, digits, _ and -", to)
	}
	if to == c.name {
		return nil, nil
	}
	for _, f := range w.family(c.d) {
		if f.outline.Symbol(c.section, to) != nil {
			return nil, fmt.Errorf("there is a '%s' already, in %s", to, filepath.Base(f.path))
		}
	}
	if tablesHave(c.section) {
		lib := w.library(c.d)
		if c.section == "node_types" && lib.Nodes[to] != nil || c.section == "data_types" && lib.Data[to] != nil {
			return nil, fmt.Errorf("there is a type '%s' already", to)
		}
	}
	out := map[string][]Edit{}
	for _, l := range w.references(path, at) {
		out[l.Path] = append(out[l.Path], Edit{l.Range, tosca.KeyText(to)})
	}
	if c.section == "node_templates" && w.deployed(c) {
		if e, ok := c.d.formerly(c.name, c.name); ok {
			out[c.d.path] = append(out[c.d.path], e)
		}
	}
	return out, nil
}

// deployed reports whether a node has resources in a stack of the template.
func (w *Work) deployed(c called) bool {
	return slices.ContainsFunc(w.recorded(c.d), func(name string) bool {
		node, _, _ := strings.Cut(name, "#")
		return node == c.name || strings.HasPrefix(name, c.name+"/")
	})
}

// recorded lists what is deployed of the stacks of a template.
func (w *Work) recorded(d *doc) []string {
	if w.Recorded == nil {
		return nil
	}
	var out []string
	for _, s := range w.stackFiles(d) {
		out = append(out, w.Recorded(s.outline.Root("stack"), s.outline.Root("target"))...)
	}
	return out
}

// formerly writes into a node what it was called when it was deployed, so that under its
// new name it is the same. It is false where that is written already.
func (d *doc) formerly(node, was string) (Edit, bool) {
	n := d.outline.Symbol("node_templates", node)
	if n == nil {
		return Edit{}, false
	}
	line := d.text.Line(n.At.Line)
	l := parseLine(line)
	says := "formerly: " + tosca.KeyText(was)
	body := strings.Join(d.text.Lines[n.At.Line:min(n.To, len(d.text.Lines))], "\n")
	switch {
	case strings.Contains(body, "formerly:"):
		return Edit{}, false
	case startsFlow(line, l.rest):
		at := Place{n.At.Line, l.rest + 1}
		if i := strings.Index(line, "metadata: {"); i > 0 {
			at.Column = i + len("metadata: {")
			return Edit{Range{at, at}, " " + says + ","}, true
		}
		if m := typeInLine.FindStringIndex(line); m != nil {
			at.Column = m[1]
			return Edit{Range{at, at}, ", metadata: { " + says + " }"}, true
		}
		return Edit{}, false
	}
	b := bodyOf(d.text, n)
	for m := n.At.Line + 1; m < n.To; m++ {
		k := parseLine(d.text.Lines[m])
		if k.column != b.indent || k.key != "metadata" {
			continue
		}
		if startsFlow(d.text.Lines[m], k.rest) {
			at := Place{m, k.rest + 1}
			return Edit{Range{at, at}, " " + says + ","}, true
		}
		return lineAfter(m, d.text, strings.Repeat(" ", b.indent+2)+says), true
	}
	in := strings.Repeat(" ", b.indent)
	for m := n.At.Line + 1; m < n.To; m++ { // behind its type
		if k := parseLine(d.text.Lines[m]); k.column == b.indent && k.key == "type" {
			return lineAfter(m, d.text, in+"metadata: { "+says+" }"), true
		}
	}
	return lineAfter(n.At.Line, d.text, in+"metadata: { "+says+" }"), true
}

// bodyOf reads what stands in a node.
func bodyOf(t *Text, n *Symbol) body {
	b := body{t: t, n: n}
	b.read()
	return b
}

// Highlights are the places of the name at a place in its own file.
func (w *Work) Highlights(path string, at Place) []Range {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil {
		return nil
	}
	c, ok := w.nameAt(d, at)
	if !ok {
		return nil
	}
	return w.occurrences(d, c)
}

// Symbols is the outline of a file.
func (w *Work) Symbols(path string) []*Symbol {
	w.mu.Lock()
	defer w.mu.Unlock()
	if d := w.doc(path); d != nil {
		return d.outline.Symbols
	}
	return nil
}

// Folding lists the lines that can be folded away, each with the line that stays.
func (w *Work) Folding(path string) [][2]int {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil {
		return nil
	}
	type open struct{ line, indent int }
	var stack []open
	var out [][2]int
	last := 0 // the last line that says something
	end := func(indent int) {
		for len(stack) > 0 && stack[len(stack)-1].indent >= indent {
			if o := stack[len(stack)-1]; last > o.line {
				out = append(out, [2]int{o.line, last})
			}
			stack = stack[:len(stack)-1]
		}
	}
	for n, line := range d.text.Lines {
		indent := indentOf(line)
		if indent == len(line) || line[indent] == '#' {
			continue
		}
		end(indent)
		stack = append(stack, open{n, indent})
		last = n
	}
	end(-1)
	slices.SortFunc(out, func(a, b [2]int) int { return a[0] - b[0] })
	return out
}
