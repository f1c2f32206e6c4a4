package editor

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
)

// Mark is something to be said of a part of the text.
type Mark struct {
	Range
	Severity tosca.Severity
}

// Model is a buffer on the screen.
type Model struct {
	*Buffer
	// Editing shows a cursor and takes what is typed; without it the text is there to be
	// read.
	Editing bool
	// Plain leaves the colours out: the text is none that is known.
	Plain bool
	// Marks are by line, Sides too, first those against the last commit, then against what
	// is deployed.
	Marks map[int][]Mark
	Sides [2][]app.Side

	Finder *Finder // nil while nothing is looked for

	top, left int
	area      part.Rect // of the text with its gutter
	tokens    []assist.Token
	cached    [3]int // version, from and to of the tokens
	dragging  bool
	clicked   Place // where the last click was, for a second one
	clicks    int
}

// New is a model of a text.
func New(text string) *Model { return &Model{Buffer: NewBuffer(text), cached: [3]int{-1}} }

// gutter is how wide it is: the number, the mark, the sides.
const gutter = 9

// Area is where the text is on the screen.
func (m *Model) Area() part.Rect { return m.area }

// Lines are the lines on the screen, from one up to another.
func (m *Model) Lines() (from, to int) { return m.top, min(m.top+m.area.H, len(m.Text.Lines)) }

// CursorCell is where the cursor is on the screen.
func (m *Model) CursorCell() (x, y int) { return m.cell(m.Cursor) }

// cell is where a place is on the screen.
func (m *Model) cell(p Place) (x, y int) {
	return m.area.X + gutter + cellOf(m.Text.Line(p.Line), p.Column) - m.left, m.area.Y + p.Line - m.top
}

// show scrolls so that the cursor is to be seen.
func (m *Model) show() {
	margin := min(2, m.area.H/4)
	m.top = min(m.top, max(0, m.Cursor.Line-margin))
	below := max(margin, min(m.BlanksBelow()+1, m.area.H-2-margin)) // what is to be filled in is in sight
	m.top = max(m.top, m.Cursor.Line+below-m.area.H+1)
	m.top = max(0, min(m.top, len(m.Text.Lines)-m.area.H))
	room := m.area.W - gutter - 2
	x := cellOf(m.Line(), m.Cursor.Column)
	if x < m.left {
		m.left = max(0, x-room/4)
	}
	if x >= m.left+room {
		m.left = x - room + room/4
	}
}

// Scroll moves the text on the screen, and the cursor with it where it would be off it.
func (m *Model) Scroll(by int) {
	m.top = max(0, min(m.top+by, len(m.Text.Lines)-m.area.H))
	margin := min(2, m.area.H/4)
	line := m.Cursor.Line
	if low := m.top + margin; m.top > 0 && line < low {
		m.Vertical(low-line, false)
	} else if high := m.top + m.area.H - 1 - margin; line > high {
		m.Vertical(high-line, false)
	}
}

// Page is how many lines a page has.
func (m *Model) Page() int { return max(1, m.area.H-2) }

// placeAt is the place at a cell of the screen.
func (m *Model) placeAt(x, y int) Place {
	n := max(0, min(m.top+y-m.area.Y, len(m.Text.Lines)-1))
	return Place{Line: n, Column: columnAt(m.Text.Line(n), max(0, x-m.area.X-gutter+m.left))}
}

// Click puts the cursor where it was clicked; twice selects the word, three times the
// line.
func (m *Model) Click(x, y int) {
	p := m.placeAt(x, y)
	if m.clicks++; p != m.clicked {
		m.clicks = 1
	}
	m.clicked = p
	switch m.clicks {
	case 1:
		m.Move(p, false)
	case 2:
		m.SelectWord(p)
	default:
		m.Move(Place{Line: p.Line}, false)
		m.Move(Place{Line: p.Line + 1}, true)
		m.clicks = 0
	}
	m.dragging = true
}

// Drag selects up to a cell.
func (m *Model) Drag(x, y int) {
	switch {
	case y < m.area.Y:
		m.Scroll(-1)
	case y >= m.area.Y+m.area.H:
		m.Scroll(1)
	}
	if p := m.placeAt(x, y); m.dragging && p != m.Cursor {
		m.clicks = 0
		m.Move(p, true)
	}
}

// colours are the tokens of the lines on the screen.
func (m *Model) colours() []assist.Token {
	from, to := m.Lines()
	if key := [3]int{m.Version, from, to}; m.cached != key {
		m.cached, m.tokens = key, nil
		if !m.Plain {
			m.tokens = m.Text.Tokens(from, to)
		}
	}
	return m.tokens
}

// tokenStyle is the colour of a kind of token.
func tokenStyle(t *part.Theme, k assist.TokenKind) uv.Style {
	switch k {
	case assist.KeywordToken, assist.PropertyToken:
		return uv.Style{Fg: t.Key}
	case assist.FunctionToken:
		return uv.Style{Fg: t.Call}
	case assist.NodeToken, assist.InputToken:
		return uv.Style{Fg: t.Bright}
	case assist.TypeToken:
		return uv.Style{Fg: t.Hint}
	case assist.NumberToken, assist.LiteralToken:
		return uv.Style{Fg: t.Num}
	case assist.CommentToken, assist.DirectiveToken:
		return uv.Style{Fg: t.Comment}
	case assist.StringToken:
		return uv.Style{Fg: t.Str}
	}
	return uv.Style{Fg: t.Dim}
}

// Draw draws the text.
func (m *Model) Draw(t *part.Theme, s *part.Screen, r part.Rect) {
	if m.Finder != nil {
		var bar part.Rect
		r, bar = r.SplitBottom(m.Finder.height())
		m.Finder.draw(m, t, s, bar)
	}
	m.area = r
	m.show()
	from, to := m.Lines()
	tokens := m.colours()
	for n := from; n < to; n++ {
		var of []assist.Token
		for len(tokens) > 0 && tokens[0].From.Line == n {
			of, tokens = append(of, tokens[0]), tokens[1:]
		}
		m.drawLine(t, s, n, of)
	}
}

// drawLine draws one line with what stands beside it.
func (m *Model) drawLine(t *part.Theme, s *part.Screen, n int, tokens []assist.Token) {
	r, y := m.area, m.area.Y+n-m.top
	ground, number := t.Ground, t.Faint()
	if n == m.Cursor.Line {
		ground = t.Bar
		s.Fill(part.R(r.X, y, r.W-1, 1), uv.Style{Bg: ground})
		number = uv.Style{Fg: t.Hint, Bg: ground}
	}
	s.Right(r.X+6, y, 6, number, part.Itoa(n+1))
	marks := m.Marks[n]
	if len(marks) > 0 {
		mark, col := "!", t.Hint
		for _, k := range marks {
			if k.Severity == tosca.Error {
				mark, col = "✖", t.States["failed"].Word
			}
		}
		s.Text(r.X+7, y, 1, part.Bold(uv.Style{Fg: col, Bg: ground}), mark)
	} else if glyph, st := m.side(t, n); glyph != "" {
		st.Bg = ground
		s.Text(r.X+7, y, 1, st, glyph)
	}
	line := m.Text.Line(n)
	selection := m.Selection()
	var found [][]int
	if m.Finder != nil && m.Finder.search.Text != "" && len(line) < 100_000 {
		found = m.Finder.search.inLine(line)
	}
	begin, limit := r.X+gutter, r.X+r.W-1
	if m.left > 0 {
		s.Text(begin-1, y, 1, uv.Style{Fg: t.Dim, Bg: ground}, "…")
	}
	x := begin
	glyphs(line, func(g glyph) bool {
		x = begin + g.x - m.left
		if x+g.w > limit {
			s.Text(limit-1, y, 1, uv.Style{Fg: t.Dim, Bg: ground}, "…")
			return false
		}
		if x < begin {
			return true
		}
		for len(tokens) > 0 && tokens[0].To.Column <= g.from {
			tokens = tokens[1:]
		}
		st := uv.Style{Fg: t.Dim}
		if m.Plain {
			st.Fg = t.Text
		}
		if len(tokens) > 0 && tokens[0].From.Column <= g.from {
			st = tokenStyle(t, tokens[0].Kind)
		}
		st.Bg = ground
		at := Place{Line: n, Column: g.from}
		for len(found) > 0 && found[0][1] <= g.from {
			found = found[1:]
		}
		for _, k := range marks {
			if !at.Less(k.From) && at.Less(k.To) {
				// plain, and in the colour of the text: not every terminal knows more
				if st.Underline, st.Fg = uv.UnderlineSingle, t.Hint; k.Severity == tosca.Error {
					st.Fg = t.States["failed"].Word
				}
			}
		}
		switch {
		case !at.Less(selection.From) && at.Less(selection.To):
			st = t.Chosen()
		case len(found) > 0 && found[0][0] <= g.from:
			st.Underline, st.Fg = uv.UnderlineSingle, t.Accent
		case g.odd:
			st.Fg = t.Mortar
		}
		s.SetCell(x, y, &uv.Cell{Content: g.text, Width: g.w, Style: st})
		if g.text == "→" && g.w > 1 {
			s.SetCell(x, y, &uv.Cell{Content: "→", Width: 1, Style: st})
			for i := 1; i < g.w; i++ {
				s.SetCell(x+i, y, &uv.Cell{Content: " ", Width: 1, Style: st})
			}
		}
		return true
	})
	if end := (Place{Line: n, Column: len(line)}); !end.Less(selection.From) && end.Less(selection.To) { // its end too
		if x, _ := m.cell(end); x >= begin && x < limit {
			s.SetCell(x, y, &uv.Cell{Content: " ", Width: 1, Style: t.Chosen()})
		}
	}
	if m.Editing && n == m.Cursor.Line {
		m.drawCursor(t, s, line, limit)
	}
}

// drawCursor draws the cursor over the letter that it is in front of.
func (m *Model) drawCursor(t *part.Theme, s *part.Screen, line string, limit int) {
	x, y := m.CursorCell()
	if x < m.area.X+gutter || x >= limit {
		return
	}
	c := uv.Cell{Content: " ", Width: 1, Style: t.Cursor()}
	if at := m.Cursor.Column; at < len(line) {
		glyphs(line[at:], func(g glyph) bool {
			if !g.odd && x+g.w <= limit {
				c.Content, c.Width = g.text, g.w
			}
			return false
		})
	}
	s.SetCell(x, y, &c)
}

// side is what the gutter shows of how a line differs.
func (m *Model) side(t *part.Theme, n int) (string, uv.Style) {
	at := func(i int) app.Side {
		if n < len(m.Sides[i]) {
			return m.Sides[i][n]
		}
		return app.Alike
	}
	side, st := at(0), t.On(t.Accent)
	if side == app.Alike {
		side, st = at(1), t.On(t.Dim) // committed, and not deployed yet
	}
	switch side {
	case app.Added:
		return "▌", st
	case app.Altered:
		return "▎", st
	case app.Removed:
		return "▁", st
	}
	return "", st
}

// Type takes a key that writes, or moves; done is false where it is none.
func (m *Model) Type(k tea.KeyPressMsg) (done bool) {
	name := k.String()
	extend := strings.HasPrefix(name, "shift+") || strings.Contains(name, "+shift+")
	switch strings.Replace(strings.Replace(name, "+shift+", "+", 1), "shift+", "", 1) {
	case "left":
		m.Left(extend)
	case "right":
		m.Right(extend)
	case "up":
		m.Vertical(-1, extend)
	case "down":
		m.Vertical(1, extend)
	case "pgup":
		m.Vertical(-m.Page(), extend)
	case "pgdown":
		m.Vertical(m.Page(), extend)
	case "home":
		m.Home(extend)
	case "end":
		m.End(extend)
	case "ctrl+home":
		m.Move(Place{}, extend)
	case "ctrl+end":
		m.Move(Place{Line: len(m.Text.Lines)}, extend)
	case "ctrl+left", "alt+b":
		m.Word(-1, extend)
	case "ctrl+right", "alt+f":
		m.Word(1, extend)
	case "backspace", "ctrl+h":
		m.Backspace()
	case "delete":
		m.Delete()
	case "ctrl+backspace", "alt+backspace", "ctrl+w":
		m.DeleteWord()
	case "ctrl+delete", "alt+delete":
		m.DeleteWordAfter()
	case "enter":
		m.Newline()
	case "tab":
		r := m.Selection()
		switch {
		case extend:
			m.Outdent()
		case r.From != r.To, strings.TrimSpace(m.Line()[:m.Cursor.Column]) != "":
			m.Indent()
		default:
			m.Insert(strings.Repeat(" ", indentation-cellOf(m.Line(), m.Cursor.Column)%indentation))
		}
	default:
		if k.Text == "" || k.Mod.Contains(tea.ModAlt) || k.Mod.Contains(tea.ModCtrl) {
			return false
		}
		if k.Text == "-" {
			m.Dash()
			return true
		}
		text, _ := Plain(k.Text)
		m.Insert(text)
	}
	return true
}

// Paste writes a text that was poured in at once, and says what was left out.
func (m *Model) Paste(text string) string {
	plain, left := Plain(text)
	m.settle()
	m.do(other, func(s *step) { m.put(m.replace(s, m.Selection(), plain)) })
	if left > 0 {
		return fmt.Sprintf("%d control characters were left out", left)
	}
	return ""
}
