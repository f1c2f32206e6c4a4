package assist

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"brickrow/internal/tosca"
)

// Refactoring is another way to write the same.
type Refactoring struct {
	Title string
	Edits map[string][]Edit // by path
	Files map[string]string // new ones, with their texts
	// Secret says that what is in the new files is.
	Secret bool
}

// Refactorings are the ways to write differently what stands at a place.
func (w *Work) Refactorings(path string, at Place) []Refactoring {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	return w.refactorings(d, at)
}

// Moves are the ways to put a secret that stands in clear where no one else reads it, without typing it again.
func (w *Work) Moves(path string, f tosca.Finding) []Refactoring {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil || f.Line == 0 || f.Code != "secret-in-clear" {
		return nil
	}
	at := w.place(d, f.Pos)
	if s := d.text.At(at); s.Kind != AtValue || s.From == s.To { // the finding is at the key
		if l := parseLine(d.text.Line(at.Line)); l.rest < l.end && !startsFlow(d.text.Line(at.Line), l.rest) {
			at.Column = l.rest + 1
		}
	}
	return slices.DeleteFunc(w.refactorings(d, at), func(r Refactoring) bool { return !r.Secret })
}

func (w *Work) refactorings(d *doc, at Place) []Refactoring {
	var ways []func(*doc, Place) (Refactoring, bool)
	switch {
	case d == nil:
	case d.outline.Kind == Template:
		ways = append(ways, w.toInput, w.toFile, w.toPart)
	case d.outline.Kind == StackFile:
		ways = append(ways, w.toSecretFile)
	}
	var out []Refactoring
	for _, make := range ways {
		if r, ok := make(d, at); ok {
			out = append(out, r)
		}
	}
	return out
}

// toInput makes an input of a value that is written out. Each stack file gets the value;
// where there is none it is the default.
func (w *Work) toInput(d *doc, at Place) (Refactoring, bool) {
	s := d.text.At(at)
	r := w.walk(d, s)
	value := d.text.Slice(s.Range)
	if s.Kind != AtValue || r.value == nil || value == "" || strings.ContainsAny(value, "{}[]$|>&*") || r.self == "" ||
		strings.HasPrefix(value, "!") {
		return Refactoring{}, false
	}
	typ := r.value.Type.Name
	if typ == "" || len(r.typ.Fields) > 0 || r.typ.Base == tosca.BaseList || r.typ.Base == tosca.BaseMap {
		return Refactoring{}, false
	}
	name := r.value.Name
	if d.outline.Symbol("inputs", name) != nil {
		name = r.self + "_" + r.value.Name
	}
	for n := 2; d.outline.Symbol("inputs", name) != nil; n++ {
		name = fmt.Sprintf("%s_%s_%d", r.self, r.value.Name, n)
	}
	whole := s.Range
	if s.Quote != 0 { // with its quotes
		whole.From.Column--
		whole.To.Column++
		value = d.text.Slice(whole)
	}
	files := w.stackFiles(d)
	given := "default: " + value
	secret := r.typ.HoldsSecret()
	if len(files) > 0 || secret {
		given = ""
	}
	if legal := tosca.Legal(nil, r.value.Validation); len(legal) > 0 {
		given = strings.TrimPrefix(given+", ", ", ") + "validation: { $valid_values: [ $value, [ " + strings.Join(legal, ", ") + " ] ] }"
	}
	declaration := strings.TrimSuffix(fmt.Sprintf("%s: { type: %s, %s", tosca.KeyText(name), typ, given), ", ") + " }"
	edit, ok := d.addTo("service_template", "inputs", declaration)
	if !ok {
		return Refactoring{}, false
	}
	out := Refactoring{Title: fmt.Sprintf("make %s an input", name), Edits: map[string][]Edit{
		d.path: {{whole, "{ $get_input: " + name + " }"}, edit}}}
	if secret { // it goes into a file of its own
		said, ok := said(value)
		if !ok {
			return Refactoring{}, false
		}
		file := w.secretFile(d, name)
		out.Title = fmt.Sprintf("make %s an input, and put it into %s", name, file)
		out.Files, out.Secret = map[string]string{beside(d.path, file): said + "\n"}, true
		value = "{ from_file: " + file + " }"
	}
	for _, f := range files {
		if edit, ok = f.addTo("", "inputs", tosca.KeyText(name)+": "+value); !ok {
			return Refactoring{}, false
		}
		out.Edits[f.path] = []Edit{edit}
	}
	return out, true
}

// notInFileNames is what the name of an input may have and that of its file does not: a path, or what needs quotes.
var notInFileNames = regexp.MustCompile(`[^A-Za-z0-9_-]+`)

// secretFile names a file that is not there yet for a secret, beside a file that names it.
func (w *Work) secretFile(d *doc, name string) string {
	name = notInFileNames.ReplaceAllString(name, "_")
	file := "secrets/" + name
	for n := 2; w.there(beside(d.path, file)); n++ {
		file = fmt.Sprintf("secrets/%s_%d", name, n)
	}
	return file
}

// said is the text that a scalar of one line means, without its quotes.
func said(written string) (string, bool) {
	var findings tosca.Findings
	n := tosca.ParseYAML("", []byte(written), &findings)
	if n == nil || n.Kind != yaml.ScalarNode || n.Value == "" || findings.HasErrors() {
		return "", false
	}
	return n.Value, true
}

// toSecretFile puts a secret that a stack file gives an input into a file of its own.
func (w *Work) toSecretFile(d *doc, at Place) (Refactoring, bool) {
	_, whole, s, r := w.valueAt(d, at)
	if s.Kind != AtValue || r.typ == nil || r.value == nil || !r.typ.HoldsSecret() || s.Way[0].Key != "inputs" {
		return Refactoring{}, false
	}
	text, ok := said(d.text.Slice(whole))
	if !ok {
		return Refactoring{}, false
	}
	file := w.secretFile(d, r.value.Name)
	return Refactoring{Title: "put it into " + file, Secret: true,
		Edits: map[string][]Edit{d.path: {{whole, "{ from_file: " + file + " }"}}},
		Files: map[string]string{beside(d.path, file): text + "\n"}}, true
}

// addTo adds a line, or some, to a map of a file: the one under a key, which is at the root or
// within another one and is written where it is missing. It is false where the map is
// written in brackets.
func (d *doc) addTo(outer, key, line string) (Edit, bool) {
	indent, begin := 0, 0
	if outer != "" {
		begin = -1
		for n, l := range d.text.Lines {
			if strings.HasPrefix(l, outer+":") {
				begin = n + 1
				break
			}
		}
		if begin < 0 {
			return Edit{}, false
		}
		indent = 2
	}
	end := begin
	for n := begin; n < len(d.text.Lines); n++ {
		l := parseLine(d.text.Lines[n])
		if l.blank() {
			continue
		}
		if outer != "" && l.indent == 0 {
			break
		}
		if n == begin && outer != "" {
			indent = l.indent
		}
		end = n + 1
		if l.indent != indent || l.key != key || len(l.dashes) > 0 {
			continue
		}
		if l.rest < l.end {
			if !startsFlow(d.text.Lines[n], l.rest) || strings.Contains(line, "\n") {
				return Edit{}, false
			}
			text := " " + line
			if len(d.text.At(Place{n, l.rest + 1}).Keys()) > 0 {
				text += ","
			}
			at := Place{n, l.rest + 1}
			return Edit{Range{at, at}, text}, true
		}
		in, last := indent+2, n
		for m := n + 1; m < len(d.text.Lines); m++ {
			k := parseLine(d.text.Lines[m])
			if k.blank() {
				continue
			}
			if k.indent <= indent {
				break
			}
			if last == n {
				in = k.indent
			}
			last = m
		}
		return lineAfter(last, d.text, indented(line, in)), true
	}
	text := strings.Repeat(" ", indent) + key + ":\n" + indented(line, indent+2)
	if outer != "" { // in front of the nodes
		at := Place{begin, 0}
		return Edit{Range{at, at}, text + "\n"}, true
	}
	if end == 0 {
		return Edit{New: text + "\n"}, true
	}
	return lineAfter(end-1, d.text, text), true
}

// indented are lines with so many blanks in front.
func indented(lines string, by int) string {
	list := strings.Split(lines, "\n")
	for i, l := range list {
		if l != "" {
			list[i] = strings.Repeat(" ", by) + l
		}
	}
	return strings.Join(list, "\n")
}

// toFile puts a text of several lines into a file beside the template, as an artifact.
func (w *Work) toFile(d *doc, at Place) (Refactoring, bool) {
	n := at.Line
	for n >= 0 && d.text.inBlockText(n) {
		n--
	}
	if n < 0 {
		return Refactoring{}, false
	}
	line := d.text.Lines[n]
	l := parseLine(line)
	if l.colon < 0 || !strings.HasPrefix(line[l.rest:], "|") || len(l.dashes) > 0 {
		return Refactoring{}, false
	}
	r := w.walk(d, d.text.At(Place{n, l.rest}))
	if r.value == nil || r.self == "" || r.value.Metadata["from_artifact"] != "text" {
		return Refactoring{}, false
	}
	node := d.outline.Symbol("node_templates", r.self)
	b := body{t: d.text, n: node}
	if b.read(); b.flow || node == nil {
		return Refactoring{}, false
	}
	var text []string
	end, indent := n+1, -1
	for m := n + 1; m < node.To && (strings.TrimSpace(d.text.Lines[m]) == "" || indentOf(d.text.Lines[m]) > l.column); m++ {
		if strings.TrimSpace(d.text.Lines[m]) == "" {
			text = append(text, "")
			continue
		}
		if indent < 0 {
			indent = indentOf(d.text.Lines[m])
		}
		text = append(text, d.text.Lines[m][min(indent, indentOf(d.text.Lines[m])):])
		end = m + 1
	}
	text = text[:end-n-1]
	name := "scripts/" + r.self + ".sh"
	for i := 2; w.there(beside(d.path, name)); i++ {
		name = fmt.Sprintf("scripts/%s-%d.sh", r.self, i)
	}
	in := strings.Repeat(" ", b.indent)
	remove := Edit{Range{Place{n, 0}, Place{end, 0}}, ""}
	if end >= len(d.text.Lines) {
		remove.To = Place{end - 1, len(d.text.Lines[end-1])}
	}
	if len(b.properties) == 1 { // nothing stays under properties
		remove.From = Place{b.at["properties"].Line, 0}
	}
	declare := in + "artifacts:\n" + in + "  " + r.value.Name + ": { type: Script, file: " + name + " }\n"
	remove.New = "" // the artifact stands in front of the properties
	first := Place{b.at["properties"].Line, 0}
	edits := []Edit{{Range{first, first}, declare}, remove}
	if remove.From == first {
		remove.New = declare
		edits = []Edit{remove}
	}
	return Refactoring{Title: "put the text into " + name, Edits: map[string][]Edit{d.path: edits},
		Files: map[string]string{filepath.Join(filepath.Dir(d.path), filepath.FromSlash(name)): strings.Join(text, "\n") + "\n"}}, true
}

// there reports whether a file is there already.
func (w *Work) there(path string) bool {
	_, err := w.From.Open(path, tosca.MaxBytes)
	return err == nil
}

// ApplyAll makes several edits that do not overlap.
func (t *Text) ApplyAll(edits []Edit) *Text {
	sorted := append([]Edit{}, edits...)
	for i := 1; i < len(sorted); i++ { // the last one first; of two at one place the later first
		for k := i; k > 0 && !sorted[k].From.Less(sorted[k-1].From); k-- {
			sorted[k], sorted[k-1] = sorted[k-1], sorted[k]
		}
	}
	for _, e := range sorted {
		t = t.Apply(e)
	}
	return t
}
