package assist

import (
	"fmt"
	"strings"

	"brickrow/internal/tosca"
)

// SetInput gives an input of a stack file another value, which is written as YAML in one
// line. Comments and the order of the others stay. The error says why it cannot.
func (w *Work) SetInput(path, name, value string) ([]Edit, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.setInput(path, name, value)
}

func (w *Work) setInput(path, name, value string) ([]Edit, error) {
	d := w.doc(path)
	if d == nil || d.outline.Kind != StackFile {
		return nil, fmt.Errorf("%s is not a stack file", path)
	}
	inputs := -1
	for n, line := range d.text.Lines {
		if l := parseLine(line); l.indent == 0 && l.key == "inputs" && l.colon >= 0 {
			inputs = n
			break
		}
	}
	if inputs < 0 {
		e, ok := d.addTo("", "inputs", tosca.KeyText(name)+": "+value)
		return []Edit{e}, orBrackets(ok)
	}
	l := parseLine(d.text.Lines[inputs])
	if startsFlow(d.text.Lines[inputs], l.rest) {
		return w.setInBrackets(d, Place{inputs, l.rest}, name, value)
	}
	for n := inputs + 1; n < len(d.text.Lines); n++ {
		k := parseLine(d.text.Lines[n])
		if k.blank() {
			continue
		}
		if k.indent == 0 {
			break
		}
		if k.key != name || k.colon < 0 || d.text.inBlockText(n) || k.indent != d.indentUnder(inputs) {
			continue
		}
		end := n // the last line of its value
		for m := n + 1; m < len(d.text.Lines); m++ {
			if deeper := parseLine(d.text.Lines[m]); !deeper.blank() {
				if deeper.indent <= k.indent && !(len(deeper.dashes) > 0 && deeper.indent == k.indent) {
					break
				}
				end = m
			}
		}
		line := d.text.Lines[n]
		to := Place{n, len(strings.TrimRight(line[:k.end], " "))}
		if end > n {
			to = Place{end, len(d.text.Lines[end])}
		}
		return []Edit{{Range{Place{n, k.colon + 1}, to}, " " + value}}, nil
	}
	e, ok := d.addTo("", "inputs", tosca.KeyText(name)+": "+value)
	return []Edit{e}, orBrackets(ok)
}

func orBrackets(ok bool) error {
	if !ok {
		return fmt.Errorf("the inputs are written in a way that only you should change")
	}
	return nil
}

// indentUnder is the indentation of what stands under a key.
func (d *doc) indentUnder(line int) int {
	for n := line + 1; n < len(d.text.Lines); n++ {
		if l := parseLine(d.text.Lines[n]); !l.blank() {
			return l.indent
		}
	}
	return 0
}

// setInBrackets gives an input another value where they stand in { }.
func (w *Work) setInBrackets(d *doc, open Place, name, value string) ([]Edit, error) {
	line := d.text.Lines[open.Line]
	for i := open.Column + 1; i <= len(line); i++ {
		s := d.text.At(Place{open.Line, i})
		n := len(s.Way)
		if s.Kind == AtValue && n == 2 && s.Way[1].Key == name && s.From.Line == open.Line {
			r := s.Range
			if s.Quote != 0 {
				r.From.Column--
				r.To.Column++
			}
			if r.From != r.To {
				return []Edit{{r, value}}, nil
			}
		}
	}
	if _, have := d.text.At(Place{open.Line, open.Column + 1}).Keys()[name]; have {
		return nil, orBrackets(false)
	}
	e, ok := d.addTo("", "inputs", tosca.KeyText(name)+": "+value)
	return []Edit{e}, orBrackets(ok)
}
