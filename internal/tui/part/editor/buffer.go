// Package editor is a text editor as a component: a buffer that knows how to change a
// text and to take changes back, and a model that draws it and hears keys. It knows YAML
// as far as indentation and comments go, and nothing of templates: what is offered, what
// is wrong and which colours words have is told to it.
package editor

import (
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/rivo/uniseg"

	"brickrow/internal/assist"
)

type (
	// Place is a place in the text, Range a part of it, Text its lines.
	Place = assist.Place
	Range = assist.Range
	Text  = assist.Text
)

// Buffer is a text with a cursor and a selection, that remembers its changes.
type Buffer struct {
	Text *Text
	// Cursor is where is written, and Anchor the other end of the selection; where
	// nothing is selected they are the same.
	Cursor, Anchor Place
	// Version counts changes, also those taken back.
	Version int

	goal   int // the cell that up and down keep to; -1 is that of the cursor
	undo   []step
	redo   []step
	blanks []Range // that are still to be filled in
	blank  Range   // the one that is being filled in
	now    func() time.Time
}

// step is what one undo takes back.
type step struct {
	changes       []change
	before, after Place // of the cursor
	anchor        Place // before
	kind          kind
	at            time.Time
	closed        bool // nothing more joins it
}

// change is one replacement.
type change struct {
	at       Place
	old, new string
}

// kind tells which changes one undo takes back together.
type kind int

const (
	other kind = iota
	typing
	erasing
)

// together is within which time what is typed is one step.
const together = 2 * time.Second

// mostSteps is how many steps are remembered.
const mostSteps = 5000

// NewBuffer is a buffer with a text.
func NewBuffer(text string) *Buffer {
	return &Buffer{Text: assist.NewText(text), goal: -1, now: time.Now}
}

// SetText gives the buffer another text, which was not written here. What was done before
// cannot be taken back then.
func (b *Buffer) SetText(text string) {
	if b.Text.String() == text {
		return
	}
	b.Text, b.undo, b.redo, b.blanks = assist.NewText(text), nil, nil, nil
	b.Version++
	b.Cursor, b.Anchor, b.goal = b.Text.Clamp(b.Cursor), b.Text.Clamp(b.Anchor), -1
}

// Line is the line of the cursor.
func (b *Buffer) Line() string { return b.Text.Line(b.Cursor.Line) }

// Selection is what is selected, from its beginning to its end.
func (b *Buffer) Selection() Range {
	if b.Cursor.Less(b.Anchor) {
		return Range{From: b.Cursor, To: b.Anchor}
	}
	return Range{From: b.Anchor, To: b.Cursor}
}

// Selected is the text that is selected.
func (b *Buffer) Selected() string { return b.Text.Slice(b.Selection()) }

// end is where a text ends that begins at a place.
func end(at Place, text string) Place {
	if n := strings.Count(text, "\n"); n > 0 {
		return Place{Line: at.Line + n, Column: len(text) - strings.LastIndexByte(text, '\n') - 1}
	}
	return Place{Line: at.Line, Column: at.Column + len(text)}
}

// replace puts a text in place of a range, within a step.
func (b *Buffer) replace(s *step, r Range, text string) Place {
	r.From, r.To = b.Text.Clamp(r.From), b.Text.Clamp(r.To)
	if r.To.Less(r.From) {
		r.From, r.To = r.To, r.From
	}
	c := change{r.From, b.Text.Slice(r), text}
	if c.old == c.new {
		return end(r.From, text)
	}
	b.Text = b.Text.Apply(assist.Edit{Range: r, New: text})
	s.changes = append(s.changes, c)
	to := end(r.From, text)
	for i, f := range b.blanks {
		b.blanks[i] = Range{From: moved(f.From, r, to, f.From != f.To), To: moved(f.To, r, to, false)}
	}
	b.blank = Range{From: moved(b.blank.From, r, to, true), To: moved(b.blank.To, r, to, false)}
	return to
}

// moved is where a place is after a range was replaced by what ends at to. Of what is
// inserted at the place itself, stay says that it comes behind it.
func moved(p Place, r Range, to Place, stay bool) Place {
	switch {
	case p.Less(r.From) || p == r.From && stay:
		return p
	case p.Less(r.To):
		return to
	case p.Line == r.To.Line:
		return Place{Line: to.Line, Column: to.Column + p.Column - r.To.Column}
	}
	return Place{Line: p.Line + to.Line - r.To.Line, Column: p.Column}
}

// do makes a change that one undo takes back, together with the ones before where it is
// of the same kind and right behind.
func (b *Buffer) do(k kind, make func(s *step)) {
	s := step{before: b.Cursor, anchor: b.Anchor, kind: k, at: b.now()}
	make(&s)
	b.goal = -1
	if len(s.changes) == 0 {
		return
	}
	s.after = b.Cursor
	b.Version++
	b.redo = nil
	if n := len(b.undo); n > 0 && k != other {
		last := &b.undo[n-1]
		if last.kind == k && !last.closed && last.after == s.before && s.before == s.anchor && s.at.Sub(last.at) < together {
			last.changes = append(last.changes, s.changes...)
			last.after, last.at = s.after, s.at
			return
		}
	}
	if b.undo = append(b.undo, s); len(b.undo) > mostSteps {
		b.undo = append([]step{}, b.undo[len(b.undo)-mostSteps/2:]...)
	}
}

// settle lets what is typed next be a step of its own.
func (b *Buffer) settle() {
	if n := len(b.undo); n > 0 {
		b.undo[n-1].closed = true
	}
}

// Undoable and Redoable report whether there is something to take back, or to do again.
func (b *Buffer) Undoable() bool { return len(b.undo) > 0 }
func (b *Buffer) Redoable() bool { return len(b.redo) > 0 }

// Undo takes the last step back, and Redo makes it again. They report false where there
// is none.
func (b *Buffer) Undo() bool {
	n := len(b.undo)
	if n == 0 {
		return false
	}
	s := b.undo[n-1]
	b.undo, b.blanks = b.undo[:n-1], nil
	for i := len(s.changes) - 1; i >= 0; i-- {
		c := s.changes[i]
		b.Text = b.Text.Apply(assist.Edit{Range: Range{From: c.at, To: end(c.at, c.new)}, New: c.old})
	}
	s.closed = true
	b.redo = append(b.redo, s)
	b.Cursor, b.Anchor, b.goal = s.before, s.anchor, -1
	b.Version++
	b.settle()
	return true
}

func (b *Buffer) Redo() bool {
	n := len(b.redo)
	if n == 0 {
		return false
	}
	s := b.redo[n-1]
	b.redo, b.blanks = b.redo[:n-1], nil
	for _, c := range s.changes {
		b.Text = b.Text.Apply(assist.Edit{Range: Range{From: c.at, To: end(c.at, c.old)}, New: c.new})
	}
	b.undo = append(b.undo, s)
	b.Cursor, b.goal = s.after, -1
	b.Anchor = b.Cursor
	b.Version++
	return true
}

// put sets cursor and anchor.
func (b *Buffer) put(p Place) { b.Cursor, b.Anchor = b.Text.Clamp(p), b.Text.Clamp(p) }

// Insert writes a text in place of the selection.
func (b *Buffer) Insert(text string) {
	k := other
	if utf8.RuneCountInString(text) == 1 && text != "\n" {
		k = typing
	}
	b.do(k, func(s *step) { b.put(b.replace(s, b.Selection(), text)) })
	if text == " " {
		b.settle() // a word is a step
	}
}

// Plain is a text as it may be written: its lines end with \n, and it has no control
// characters but tabs, which become spaces. What was left out is counted.
func Plain(text string) (plain string, left int) {
	text = strings.NewReplacer("\r\n", "\n", "\r", "\n", "\t", "  ").Replace(text)
	plain = strings.Map(func(r rune) rune {
		if r != '\n' && unicode.IsControl(r) || r == utf8.RuneError || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 ||
			r == 0xfeff {
			left++
			return -1
		}
		return r
	}, text)
	return plain, left
}

// Apply makes edits that do not overlap, as one step, and leaves the cursor where it was
// in the text.
func (b *Buffer) Apply(edits []assist.Edit) {
	b.do(other, func(s *step) {
		sorted := append([]assist.Edit{}, edits...)
		for i := 1; i < len(sorted); i++ { // the last one first
			for k := i; k > 0 && !sorted[k].From.Less(sorted[k-1].From); k-- {
				sorted[k], sorted[k-1] = sorted[k-1], sorted[k]
			}
		}
		for _, e := range sorted {
			r := Range{From: b.Text.Clamp(e.From), To: b.Text.Clamp(e.To)}
			to := b.replace(s, r, e.New)
			b.Cursor, b.Anchor = moved(b.Cursor, r, to, true), moved(b.Anchor, r, to, true)
		}
	})
}

// Fill puts a text with blanks in place of a range, and goes to the first blank; the last
// one is where the text ends. Within a blank, those that are still to be filled in stay.
func (b *Buffer) Fill(r Range, text string, blanks []assist.Blank) {
	b.do(other, func(s *step) {
		from := b.Text.Clamp(r.From)
		if !b.inBlank(from) {
			b.blanks = nil
		}
		b.put(b.replace(s, r, text))
		var list []Range
		for _, f := range blanks {
			list = append(list, Range{From: end(from, text[:f.From]), To: end(from, text[:f.To])})
		}
		if n := len(blanks); n > 0 && blanks[n-1].Number != 0 && len(b.blanks) == 0 {
			list = append(list, Range{From: b.Cursor, To: b.Cursor})
		}
		b.blank, b.blanks = Range{From: from, To: b.Cursor}, append(list, b.blanks...)
	})
	if len(blanks) > 0 {
		b.NextBlank()
	}
}

// inBlank reports whether a place is in the blank that is being filled in.
func (b *Buffer) inBlank(p Place) bool {
	return p.Line >= b.blank.From.Line && p.Line <= b.blank.To.Line
}

// NextBlank goes to the next blank that is to be filled in; false where there is none, or
// somebody went elsewhere.
func (b *Buffer) NextBlank() bool {
	if len(b.blanks) > 0 && !b.inBlank(b.Cursor) {
		b.blanks = nil
	}
	if len(b.blanks) == 0 {
		return false
	}
	next := b.blanks[0]
	b.blanks, b.blank = b.blanks[1:], next
	b.Anchor, b.Cursor, b.goal = b.Text.Clamp(next.From), b.Text.Clamp(next.To), -1
	b.settle()
	return true
}

// OnExample reports whether the example of a blank is chosen: typing replaces it.
func (b *Buffer) OnExample() bool {
	s := b.Selection()
	return s.From != s.To && s == b.blank
}

// Deselect leaves what is chosen as it stands, and goes behind it.
func (b *Buffer) Deselect() { b.Move(b.Selection().To, false) }

// BlanksBelow is how many lines below the cursor the last blank stands that is still to be filled in.
func (b *Buffer) BlanksBelow() int {
	below := 0
	for _, r := range b.blanks {
		below = max(below, r.To.Line-b.Cursor.Line)
	}
	return below
}

// Filling reports whether there are blanks to fill in.
func (b *Buffer) Filling() bool { return len(b.blanks) > 0 }

// clusterAfter is the letter at a place, with its marks.
func clusterAfter(line string, at int) string {
	if at >= len(line) {
		return ""
	}
	if line[at] < 0x80 && (at+1 == len(line) || line[at+1] < 0x80) {
		return line[at : at+1]
	}
	cluster, _, _, _ := uniseg.FirstGraphemeClusterInString(line[at:], -1)
	return cluster
}

// before is the column of the letter in front of one.
func before(line string, at int) int {
	if at <= 0 {
		return 0
	}
	if line[at-1] < 0x80 && (at == len(line) || line[at] < 0x80) {
		return at - 1
	}
	from := max(0, at-128) // where no mark belongs to what is in front
	for from > 0 && (line[from] >= 0x80 || line[from-1] >= 0x80) {
		from--
	}
	last := from
	for i := from; i < at; {
		last = i
		i += max(1, len(clusterAfter(line, i)))
	}
	return last
}

// erase takes a range away, or the selection where there is one.
func (b *Buffer) erase(k kind, r Range) {
	if b.Cursor != b.Anchor {
		r, k = b.Selection(), other
	}
	b.do(k, func(s *step) { b.put(b.replace(s, r, "")) })
}

// Backspace takes the letter before the cursor away; within the indentation, as much as
// one step of it.
func (b *Buffer) Backspace() {
	p := b.Cursor
	from := Place{Line: p.Line, Column: before(b.Line(), p.Column)}
	switch {
	case p.Column == 0 && p.Line > 0:
		from = Place{Line: p.Line - 1, Column: len(b.Text.Line(p.Line - 1))}
	case p.Column > 0 && strings.TrimLeft(b.Line()[:p.Column], " ") == "":
		from.Column = (p.Column - 1) / indentation * indentation
	case strings.HasSuffix(b.Line()[:p.Column], "- ") && strings.TrimLeft(b.Line()[:p.Column], " ") == "- ": // an item without a word
		from.Column = p.Column - 2
	}
	b.erase(erasing, Range{From: from, To: p})
}

// Delete takes the letter behind the cursor away.
func (b *Buffer) Delete() {
	p := b.Cursor
	to := Place{Line: p.Line, Column: p.Column + len(clusterAfter(b.Line(), p.Column))}
	if p.Column == len(b.Line()) && p.Line+1 < len(b.Text.Lines) {
		to = Place{Line: p.Line + 1}
	}
	b.erase(erasing, Range{From: p, To: to})
}

// DeleteWord takes the word before the cursor away, and DeleteWordAfter the one behind.
func (b *Buffer) DeleteWord() { b.erase(other, Range{From: b.wordBefore(b.Cursor), To: b.Cursor}) }

func (b *Buffer) DeleteWordAfter() {
	b.erase(other, Range{From: b.Cursor, To: b.wordAfter(b.Cursor)})
}

// GoThrough goes through parts of the text that are to be filled in. One that is empty
// and stands in front of something gets a space for it.
func (b *Buffer) GoThrough(blanks []Range) {
	b.blanks = append([]Range{}, blanks...)
	if len(blanks) > 0 {
		b.put(blanks[0].From)
	}
	b.blank = Range{From: b.Cursor, To: b.Cursor}
	b.do(other, func(s *step) {
		for i := range b.blanks {
			r := b.blanks[i]
			if line := b.Text.Line(r.From.Line); r.From == r.To && r.From.Column < len(line) {
				b.replace(s, r, " ")
				b.blanks[i] = r
			}
		}
	})
	if n := len(b.blanks); n > 0 { // and at last behind it
		b.blanks = append(b.blanks, Range{From: b.blanks[n-1].To, To: b.blanks[n-1].To})
	}
	b.NextBlank()
}
