package assist

import (
	"regexp"
	"slices"
	"strings"

	"brickrow/internal/tosca"
)

// stackFileFixes are the ways to put right what is found only in a stack file.
func (w *Work) stackFileFixes(d *doc, at Place, f tosca.Finding) []Fix {
	word, whole, s, _ := w.valueAt(d, at)
	top := len(s.Way) > 0 && !s.Way[0].Item
	switch f.Code {
	case "secret-in-clear":
		return filled("take it from the environment", Edit{whole, "{ from_env: " + blank(1, "NAME") + " }"})
	case "missing-input":
		return w.addInputs(d)
	case "missing-key":
		if top && s.Way[0].Key == "inputs" {
			return d.fromStack(at)
		}
		return d.addHeads()
	case "bad-name":
		if top && s.Way[0].Key == "stack" {
			if name := stackName(word); name != word && len(name) > 1 {
				return one("call it "+name, Edit{whole, name})
			}
		}
	case "no-template":
		return w.nearName(d, at)
	case "bad-target":
		fixes := w.nearName(d, at)
		if fixes == nil {
			blankAt := *s
			blankAt.Word = ""
			c := &completion{Work: w, d: d, s: &blankAt, r: w.walk(d, s)}
			c.valueItems()
			for _, it := range c.items[:min(3, len(c.items))] {
				fixes = append(fixes, Fix{"write " + it.Label, []Edit{{whole, it.Label}}, false, false})
			}
		}
		return fixes
	case "wrong-type":
		if top && s.Way[0].Key == "inputs" || strings.HasPrefix(d.text.Line(at.Line-1), "inputs:") {
			return append(d.otherSource(at), d.withoutDashes(at)...)
		}
	case "unknown-key":
		return append(w.intoInputs(d, at), w.nearName(d, at)...)
	}
	return nil
}

// notInStackNames are the letters that the name of a stack cannot have.
var notInStackNames = regexp.MustCompile(`[^a-z0-9]+`)

// stackName is a name for a stack that is like another one.
func stackName(word string) string {
	name := strings.Trim(notInStackNames.ReplaceAllString(strings.ToLower(word), "-"), "-")
	if name != "" && name[0] <= '9' {
		name = "s" + name
	}
	return strings.TrimRight(name[:min(len(name), 63)], "-")
}

// sources are where a stack file may take the value of an input from.
var sources = []string{"from_env", "from_file", "from_stack"}

var sourceWritten = regexp.MustCompile(`\{\s*(\w+)\s*:`)

// otherSource writes the source of a value as it is called.
func (d *doc) otherSource(at Place) []Fix {
	line := d.text.Line(at.Line)
	m := sourceWritten.FindStringSubmatchIndex(line)
	if m == nil {
		return nil
	}
	near := tosca.Nearest(line[m[2]:m[3]], sources)
	if near == "" {
		return nil
	}
	return one("write "+near, Edit{Range{Place{at.Line, m[2]}, Place{at.Line, m[3]}}, near})
}

var (
	fromStackOnly = regexp.MustCompile(`\{\s*from_stack\s*:\s*([\w.-]+)\s*\}`)
	fromStackPart = regexp.MustCompile(`\{\s*from_stack\s*:\s*\{\s*(stack|output)\s*:\s*([\w.-]+)\s*\}\s*\}`)
)

// fromStack completes what is taken from another stack.
func (d *doc) fromStack(at Place) []Fix {
	line := d.text.Line(at.Line)
	write := func(m []int, stack, output string) []Fix {
		return filled("name its stack and its output", Edit{Range{Place{at.Line, m[0]}, Place{at.Line, m[1]}},
			"{ from_stack: { stack: " + stack + ", output: " + output + " } }"})
	}
	if m := fromStackOnly.FindStringSubmatchIndex(line); m != nil {
		return write(m, line[m[2]:m[3]], blank(1, ""))
	}
	if m := fromStackPart.FindStringSubmatchIndex(line); m != nil {
		if line[m[2]:m[3]] == "stack" {
			return write(m, line[m[4]:m[5]], blank(1, ""))
		}
		return write(m, blank(1, ""), line[m[4]:m[5]])
	}
	return nil
}

// withoutDashes makes a map of inputs of a list of them.
func (d *doc) withoutDashes(at Place) []Fix {
	var edits []Edit
	for n := at.Line; n < len(d.text.Lines); n++ {
		l := parseLine(d.text.Lines[n])
		if l.blank() {
			continue
		}
		if l.indent == 0 && n > at.Line && len(l.dashes) == 0 {
			break
		}
		if len(l.dashes) != 1 || l.colon < 0 || l.key == "" {
			return nil
		}
		edits = append(edits, Edit{Range{Place{n, l.indent}, Place{n, l.column}}, strings.Repeat(" ", 2-min(2, l.indent))})
	}
	if edits == nil {
		return nil
	}
	return []Fix{{"write them as a map", edits, false, true}}
}

// intoInputs moves a value of an input that stands at the margin under inputs.
func (w *Work) intoInputs(d *doc, at Place) []Fix {
	l := parseLine(d.text.Line(at.Line))
	t := w.template(d)
	if l.indent > 0 || l.key == "" || l.rest >= l.end || t == nil || t.file == nil || t.file.Service == nil || t.file.Service.Input(l.key) == nil ||
		d.endOf(at.Line, l.column) != at.Line+1 {
		return nil
	}
	remove, ok := d.withoutEntry(Place{at.Line, l.column})
	if !ok {
		return nil
	}
	add, ok := d.addTo("", "inputs", strings.TrimSpace(d.text.Line(at.Line)[:l.end]))
	if !ok {
		return nil
	}
	if _, have := d.outline.roots["inputs"]; !have { // it begins where the key stood
		line := Range{Place{at.Line, 0}, Place{at.Line, len(d.text.Line(at.Line))}}
		return one("put it under inputs", Edit{line, "inputs:\n  " + d.text.Slice(line)})
	}
	return []Fix{{"put it under inputs", []Edit{remove, add}, false, true}}
}

// addHeads adds the keys that every stack file has.
func (d *doc) addHeads() []Fix {
	var lines []string
	all := []string{"stack", "template", "target"}
	for i, key := range all {
		_, have := d.outline.roots[key]
		for other := range d.outline.roots { // one that is only written wrongly has a fix of its own
			have = have || !slices.Contains(all, other) && tosca.Nearest(other, all) == key
		}
		if !have {
			lines = append(lines, key+": "+blank(i+1, ""))
		}
	}
	if lines == nil {
		return nil
	}
	return []Fix{{"add what is missing", []Edit{{Range{}, strings.Join(lines, "\n") + "\n"}}, true, true}}
}

// addInputs adds the inputs that need a value.
func (w *Work) addInputs(d *doc) []Fix {
	t := w.template(d)
	if t == nil || t.file == nil || t.file.Service == nil {
		return nil
	}
	given := Keys{}
	inputs := -1
	for n, line := range d.text.Lines {
		if strings.HasPrefix(line, "inputs:") {
			inputs = n
		}
	}
	indent := "  "
	if inputs >= 0 {
		l := parseLine(d.text.Lines[inputs])
		if l.rest < l.end {
			return w.addInputsWithin(d, t, Place{inputs, l.rest})
		}
		for n := inputs + 1; n < len(d.text.Lines); n++ {
			if k := parseLine(d.text.Lines[n]); !k.blank() {
				if k.indent > 0 && k.colon >= 0 {
					indent, given = strings.Repeat(" ", k.indent), d.text.keysAt(n, k.column)
				}
				break
			}
		}
	}
	var lines []string
	for _, p := range t.file.Service.Inputs {
		if _, have := given[p.Name]; !have && !p.Optional() {
			lines = append(lines, indent+tosca.KeyText(p.Name)+": "+propertyBlank(p, len(lines)+1))
		}
	}
	if lines == nil {
		return nil
	}
	text := strings.Join(lines, "\n")
	if inputs >= 0 {
		return []Fix{{"add the inputs that need a value", []Edit{lineAfter(inputs, d.text, text)}, true, true}}
	}
	last := len(d.text.Lines) - 1
	for last > 0 && strings.TrimSpace(d.text.Lines[last]) == "" {
		last--
	}
	return []Fix{{"add the inputs that need a value", []Edit{lineAfter(last, d.text, "inputs:\n"+text)}, true, true}}
}

// addInputsWithin adds them to a map that is written in brackets.
func (w *Work) addInputsWithin(d *doc, t *doc, open Place) []Fix {
	if d.text.Line(open.Line)[open.Column] != '{' {
		return nil
	}
	given := d.text.At(Place{open.Line, open.Column + 1}).Keys()
	var list []string
	for _, p := range t.file.Service.Inputs {
		if _, have := given[p.Name]; !have && !p.Optional() {
			list = append(list, tosca.KeyText(p.Name)+": "+propertyBlank(p, len(list)+1))
		}
	}
	edit, ok := d.addTo("", "inputs", strings.Join(list, ", "))
	if !ok || list == nil {
		return nil
	}
	return []Fix{{"add the inputs that need a value", []Edit{edit}, true, true}}
}
