package editor

import (
	"fmt"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/tui/part"
)

// Finder is the line in which is written what to look for, and what to put in its place.
type Finder struct {
	search    Search
	find      textinput.Model
	with      textinput.Model
	replacing bool
	inWith    bool   // it is written into the second field
	said      string // of what was replaced
	count     [2]int
	counted   countOf
}

// countOf is what was counted.
type countOf struct {
	text     *Text
	word     string
	regexp   bool
	selected Range
}

// mostFound is how many are counted.
const mostFound = 9999

// OpenFinder begins to look for something: for what is selected, where it is in one line.
func (m *Model) OpenFinder(replacing bool) {
	if m.Finder == nil {
		m.Finder = &Finder{find: part.NewInput(), with: part.NewInput()}
	}
	f := m.Finder
	f.replacing, f.inWith, f.said = replacing, false, ""
	if r := m.Selection(); r.From.Line == r.To.Line && r.From != r.To {
		f.find.SetValue(m.Selected())
		f.search.Text = f.find.Value()
	}
	f.find.CursorEnd()
}

func (f *Finder) height() int {
	if f.replacing {
		return 3
	}
	return 2
}

// Bindings are the keys while something is looked for; what they do, Key does.
func (f *Finder) Bindings() []part.Binding {
	var keys []part.Binding
	switch {
	case f.search.Text == "":
	case f.inWith:
		keys = append(keys, part.Bind(nil).Shown("enter", "put it there").As(""), part.Bind(nil).Shown("alt+a", "everywhere").As(""))
	default:
		keys = append(keys, part.Bind(nil).Shown("enter", "the next").As(""))
	}
	return append(keys, part.Bind(nil).Shown("ctrl+r", "replace").As(""), part.Bind(nil).Shown("alt+x", "pattern, or plain").As(""),
		part.Bind(nil).Shown("esc", "end the search").As(""))
}

// Key hears a key while something is looked for. It is always done.
func (f *Finder) Key(m *Model, k tea.KeyPressMsg) tea.Cmd {
	f.said = ""
	switch k.String() {
	case "esc":
		m.Finder = nil
		return nil
	case "enter", "down", "ctrl+f":
		if f.inWith && k.String() == "enter" {
			m.Replace(&f.search, f.with.Value())
			return nil
		}
		f.jump(m, 1, false)
		return nil
	case "up", "shift+enter":
		f.jump(m, -1, false)
		return nil
	case "tab", "shift+tab", "ctrl+r":
		f.inWith = f.replacing && !f.inWith
		f.replacing = true
		if k.String() == "ctrl+r" {
			f.inWith = true
		}
		return nil
	case "alt+x":
		f.search.Regexp = !f.search.Regexp
		f.jump(m, 1, true)
		return nil
	case "alt+a":
		if f.replacing && f.search.Text != "" && f.search.Err() == nil {
			f.said = fmt.Sprintf("%d replaced", m.ReplaceAll(&f.search, f.with.Value()))
		}
		return nil
	}
	return f.Update(m, k)
}

// Update hears what is written, or pasted.
func (f *Finder) Update(m *Model, msg tea.Msg) tea.Cmd {
	var cmd tea.Cmd
	if f.inWith {
		f.with, cmd = part.EditLine(f.with, msg)
		return cmd
	}
	f.find, cmd = part.EditLine(f.find, msg)
	if f.find.Value() != f.search.Text {
		f.search.Text = f.find.Value()
		f.jump(m, 1, true)
	}
	return cmd
}

func (f *Finder) jump(m *Model, by int, stay bool) {
	if f.search.Text == "" || f.search.Err() != nil {
		return
	}
	if !m.Find(&f.search, by, stay) && m.Cursor != m.Anchor {
		m.Move(m.Selection().From, false)
	}
}

func (f *Finder) draw(m *Model, t *part.Theme, s *part.Screen, r part.Rect) {
	ground := uv.Style{Fg: t.Text, Bg: t.Panel}
	faint := uv.Style{Fg: t.Dim, Bg: t.Panel}
	s.Fill(r, ground)
	s.Line(r.X, r.Y, r.W, uv.Style{Fg: t.Accent, Bg: t.Ground}, "▁")
	room := min(40, r.W/2)
	field := func(y int, name string, in textinput.Model, here bool) {
		s.Text(r.X+1, y, 9, ground, name)
		if here {
			part.DrawInput(t, s, r.X+10, y, room, in)
		} else {
			s.Text(r.X+10, y, room, t.Field(), in.Value())
		}
	}
	field(r.Y+1, "find", f.find, !f.inWith)
	x := r.X + 12 + room
	words, st := "", faint
	switch err := f.search.Err(); {
	case err != nil:
		words, st = "this is no regular expression", uv.Style{Fg: t.States["failed"].Word, Bg: t.Panel}
	case f.search.Text != "":
		if of := (countOf{m.Text, f.search.Text, f.search.Regexp, m.Selection()}); f.counted != of {
			f.count[0], f.count[1] = m.Count(&f.search, mostFound)
			f.counted = of
		}
		if words = fmt.Sprintf("%d of %d", f.count[1], f.count[0]); f.count[0] == 0 {
			words = "nowhere"
		}
	}
	if f.said != "" {
		words = f.said
	}
	x = s.Text(x, r.Y+1, r.X+r.W-x, st, words) + 2
	kind := "alt+x regular expression"
	if f.search.Regexp {
		kind = "alt+x plain text"
	}
	s.Text(x, r.Y+1, r.X+r.W-x-1, faint, "↑ ↓ "+kind+"   esc")
	if f.replacing {
		field(r.Y+2, "put there", f.with, f.inWith)
		x := r.X + 12 + room
		s.Text(x, r.Y+2, r.X+r.W-x-1, faint, "tab, enter puts it there   alt+a everywhere")
	}
}
