// Package assist helps at a place in a text: what can stand there, what stands
// there, where it is defined and who uses it, and how a finding is put right. It is
// pure, and knows no editor: the one in the terminal and the language server ask the
// same.
//
// The texts may be broken anywhere, as they are while somebody types. So a place is
// found by the lines around it alone, by their indentation and brackets, and never
// waits for the YAML to be whole again.
package assist

import (
	"strings"
	"unicode/utf8"
)

// Place is a place in a text. Line counts from 0, Column in bytes from 0.
type Place struct{ Line, Column int }

// Less reports whether a place comes before another one.
func (p Place) Less(o Place) bool { return p.Line < o.Line || p.Line == o.Line && p.Column < o.Column }

// Range is from a place up to another one.
type Range struct{ From, To Place }

// Edit replaces a range by a text.
type Edit struct {
	Range
	New string
}

// Text is a text in lines, without their ends.
type Text struct{ Lines []string }

// NewText cuts a text into lines.
func NewText(s string) *Text {
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		lines[i] = strings.TrimSuffix(l, "\r")
	}
	return &Text{lines}
}

// String is the text as a whole, its lines ended by \n.
func (t *Text) String() string { return strings.Join(t.Lines, "\n") }

// Line is a line; "" where there is none.
func (t *Text) Line(n int) string {
	if n < 0 || n >= len(t.Lines) {
		return ""
	}
	return t.Lines[n]
}

// Clamp is the nearest place that the text has, at the beginning of a letter.
func (t *Text) Clamp(p Place) Place {
	if p.Line < 0 {
		return Place{}
	}
	if p.Line >= len(t.Lines) {
		p.Line = len(t.Lines) - 1
		p.Column = len(t.Lines[p.Line])
	}
	line := t.Lines[p.Line]
	p.Column = min(max(p.Column, 0), len(line))
	for p.Column > 0 && p.Column < len(line) && !utf8.RuneStart(line[p.Column]) {
		p.Column--
	}
	return p
}

// Slice is what stands in a range.
func (t *Text) Slice(r Range) string {
	from, to := t.Clamp(r.From), t.Clamp(r.To)
	if to.Less(from) {
		return ""
	}
	if from.Line == to.Line {
		return t.Lines[from.Line][from.Column:to.Column]
	}
	out := []string{t.Lines[from.Line][from.Column:]}
	out = append(out, t.Lines[from.Line+1:to.Line]...)
	return strings.Join(append(out, t.Lines[to.Line][:to.Column]), "\n")
}

// Apply is the text after an edit. The text itself stays as it is.
func (t *Text) Apply(e Edit) *Text {
	from, to := t.Clamp(e.From), t.Clamp(e.To)
	if to.Less(from) {
		from, to = to, from
	}
	middle := strings.Split(t.Lines[from.Line][:from.Column]+strings.ReplaceAll(e.New, "\r\n", "\n")+
		t.Lines[to.Line][to.Column:], "\n")
	lines := make([]string, 0, len(t.Lines)+len(middle))
	lines = append(lines, t.Lines[:from.Line]...)
	lines = append(lines, middle...)
	return &Text{append(lines, t.Lines[to.Line+1:]...)}
}

// Difference is the one edit that makes another text of a text: of the lines between
// those that both begin and end with.
func (t *Text) Difference(to *Text) Edit {
	same := 0
	for same < min(len(t.Lines), len(to.Lines)) && t.Lines[same] == to.Lines[same] {
		same++
	}
	tail := 0
	for tail < min(len(t.Lines), len(to.Lines))-same && t.Lines[len(t.Lines)-1-tail] == to.Lines[len(to.Lines)-1-tail] {
		tail++
	}
	end, toEnd := len(t.Lines)-tail, len(to.Lines)-tail
	if tail > 0 { // whole lines
		text := strings.Join(to.Lines[same:toEnd], "\n")
		if same < toEnd {
			text += "\n"
		}
		return Edit{Range{Place{same, 0}, Place{end, 0}}, text}
	}
	if same == 0 {
		return Edit{Range{Place{}, Place{end - 1, len(t.Lines[end-1])}}, to.String()}
	}
	from := Place{same - 1, len(t.Lines[same-1])}
	text := ""
	for _, l := range to.Lines[same:] {
		text += "\n" + l
	}
	return Edit{Range{from, Place{end - 1, len(t.Lines[end-1])}}, text}
}

// UTF16 is a column in UTF-16 units, as most editors count, of one in bytes.
func UTF16(line string, column int) int {
	n := 0
	for _, r := range line[:min(max(column, 0), len(line))] {
		n++
		if r > 0xFFFF {
			n++
		}
	}
	return n
}

// FromUTF16 is a column in bytes of one in UTF-16 units.
func FromUTF16(line string, units int) int {
	n := 0
	for i, r := range line {
		if n >= units {
			return i
		}
		n++
		if r > 0xFFFF {
			n++
		}
	}
	return len(line)
}
