package editor

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/rivo/uniseg"
)

// glyph is one letter of a line as it is shown.
type glyph struct {
	from, to int // bytes
	x, w     int // cells
	text     string
	odd      bool // it stands for something that cannot be shown
}

// glyphs calls f for the letters of a line, until it says false.
func glyphs(line string, f func(g glyph) bool) {
	x := 0
	for i := 0; i < len(line); {
		g := glyph{from: i, x: x, w: 1}
		c := line[i]
		switch {
		case c == '\t':
			g.to, g.w = i+1, 4-x%4
			g.text, g.odd = "→", true
		case c < 0x20 || c == 0x7f:
			g.to, g.text, g.odd = i+1, "·", true
		case c < 0x80 && (i+1 == len(line) || line[i+1] < 0x80):
			g.to, g.text = i+1, line[i:i+1]
		default:
			cluster, _, w, _ := uniseg.FirstGraphemeClusterInString(line[i:], -1)
			g.to, g.w, g.text = i+len(cluster), w, cluster
			if r, _ := utf8.DecodeRuneInString(cluster); w == 0 || r == utf8.RuneError || unicode.IsControl(r) ||
				r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 {
				g.w, g.text, g.odd = 1, "·", true
			}
		}
		if !f(g) {
			return
		}
		x += g.w
		i = g.to
	}
}

// cellOf is the cell of a column.
func cellOf(line string, column int) int {
	x := 0
	glyphs(line, func(g glyph) bool {
		if g.from >= column {
			return false
		}
		x = g.x + g.w
		return true
	})
	return x
}

// columnAt is the column of the letter at a cell, or of the end of the line.
func columnAt(line string, cell int) int {
	out := len(line)
	glyphs(line, func(g glyph) bool {
		if cell < g.x+g.w {
			out = g.from
			return false
		}
		return true
	})
	return out
}

// Move goes somewhere. With extend the selection reaches there.
func (b *Buffer) Move(to Place, extend bool) {
	b.Cursor = b.Text.Clamp(to)
	if !extend {
		b.Anchor = b.Cursor
	}
	b.goal = -1
	b.settle()
}

// Left and Right go by a letter; without extend they leave a selection at its side.
func (b *Buffer) Left(extend bool) {
	if r := b.Selection(); r.From != r.To && !extend {
		b.Move(r.From, false)
		return
	}
	p := b.Cursor
	if p.Column > 0 {
		p.Column = before(b.Line(), p.Column)
	} else if p.Line > 0 {
		p = Place{Line: p.Line - 1, Column: len(b.Text.Line(p.Line - 1))}
	}
	b.Move(p, extend)
}

func (b *Buffer) Right(extend bool) {
	if r := b.Selection(); r.From != r.To && !extend {
		b.Move(r.To, false)
		return
	}
	p := b.Cursor
	if p.Column < len(b.Line()) {
		p.Column += len(clusterAfter(b.Line(), p.Column))
	} else if p.Line+1 < len(b.Text.Lines) {
		p = Place{Line: p.Line + 1}
	}
	b.Move(p, extend)
}

// Vertical goes up or down by lines and keeps to its cell.
func (b *Buffer) Vertical(lines int, extend bool) {
	goal := b.goal
	if goal < 0 {
		goal = cellOf(b.Line(), b.Cursor.Column)
	}
	n := b.Cursor.Line + lines
	switch {
	case n < 0:
		b.Move(Place{}, extend)
	case n >= len(b.Text.Lines):
		b.Move(Place{Line: len(b.Text.Lines) - 1, Column: len(b.Text.Lines[len(b.Text.Lines)-1])}, extend)
	default:
		b.Move(Place{Line: n, Column: columnAt(b.Text.Line(n), goal)}, extend)
	}
	b.goal = goal
}

// Home goes to where the line begins to say something, or to its beginning.
func (b *Buffer) Home(extend bool) {
	first := len(b.Line()) - len(strings.TrimLeft(b.Line(), " \t"))
	if b.Cursor.Column == first {
		first = 0
	}
	b.Move(Place{Line: b.Cursor.Line, Column: first}, extend)
}

// End goes to the end of the line.
func (b *Buffer) End(extend bool) {
	b.Move(Place{Line: b.Cursor.Line, Column: len(b.Line())}, extend)
}

func isWord(r rune) bool {
	return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r)
}

// wordBefore and wordAfter are the places a word further.
func (b *Buffer) wordBefore(p Place) Place {
	line := b.Text.Line(p.Line)
	if p.Column == 0 {
		if p.Line == 0 {
			return p
		}
		return Place{Line: p.Line - 1, Column: len(b.Text.Line(p.Line - 1))}
	}
	i := p.Column
	back := func(yes func(rune) bool) {
		for i > 0 {
			r, n := utf8.DecodeLastRuneInString(line[:i])
			if !yes(r) {
				return
			}
			i -= n
		}
	}
	back(unicode.IsSpace)
	if r, _ := utf8.DecodeLastRuneInString(line[:i]); isWord(r) {
		back(isWord)
	} else {
		back(func(r rune) bool { return !isWord(r) && !unicode.IsSpace(r) })
	}
	return Place{Line: p.Line, Column: i}
}

func (b *Buffer) wordAfter(p Place) Place {
	line := b.Text.Line(p.Line)
	if p.Column >= len(line) {
		if p.Line+1 >= len(b.Text.Lines) {
			return p
		}
		return Place{Line: p.Line + 1}
	}
	i := p.Column
	on := func(yes func(rune) bool) {
		for i < len(line) {
			r, n := utf8.DecodeRuneInString(line[i:])
			if !yes(r) {
				return
			}
			i += n
		}
	}
	if r, _ := utf8.DecodeRuneInString(line[i:]); isWord(r) {
		on(isWord)
	} else if !unicode.IsSpace(r) {
		on(func(r rune) bool { return !isWord(r) && !unicode.IsSpace(r) })
	}
	on(unicode.IsSpace)
	return Place{Line: p.Line, Column: i}
}

// Word goes a word further; by is -1 or 1.
func (b *Buffer) Word(by int, extend bool) {
	if by < 0 {
		b.Move(b.wordBefore(b.Cursor), extend)
	} else {
		b.Move(b.wordAfter(b.Cursor), extend)
	}
}

// SelectWord selects the word at a place.
func (b *Buffer) SelectWord(p Place) {
	line := b.Text.Line(p.Line)
	from, to := min(p.Column, len(line)), min(p.Column, len(line))
	for from > 0 {
		r, n := utf8.DecodeLastRuneInString(line[:from])
		if !isWord(r) {
			break
		}
		from -= n
	}
	for to < len(line) {
		r, n := utf8.DecodeRuneInString(line[to:])
		if !isWord(r) {
			break
		}
		to += n
	}
	b.Move(Place{Line: p.Line, Column: from}, false)
	b.Move(Place{Line: p.Line, Column: to}, true)
}

// SelectAll selects the whole text.
func (b *Buffer) SelectAll() {
	last := len(b.Text.Lines) - 1
	b.Move(Place{}, false)
	b.Move(Place{Line: last, Column: len(b.Text.Lines[last])}, true)
}
