package tui

import (
	"strings"

	"brickrow/internal/app"
	"brickrow/internal/tui/part"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/sahilm/fuzzy"
)

func (m *model) askKey(k string, msg tea.KeyPressMsg) tea.Cmd {
	a := m.ask
	switch {
	case !a.Typing() && k == "n" && a.Else != nil:
		m.ask = nil
		return a.Else()
	case k == "esc", !a.Typing() && k == "n":
		m.ask = nil
		m.Say("nothing was done")
		return nil
	case !a.Typing() && k == "y", a.Free && k == "enter", a.Word != "" && k == "enter" && a.Input.Value() == a.Word:
		m.ask, m.notice = nil, "" // what was said of the answer before is over
		return a.Then(a.Input.Value())
	case a.Word != "" && k == "enter":
		m.Warn("that is not %s; esc leaves it", a.Word)
		return nil
	}
	return a.Update(msg)
}

// command is an entry of the palette.
type command struct {
	name, key string
	run       func() tea.Cmd
}

// palette finds commands by a few letters.
type palette struct {
	input    textinput.Model
	commands []command
	found    []int // indexes into commands
	at       int
}

func newPalette(m *model) *palette {
	p := &palette{input: part.NewInput()}
	p.input.CharLimit = part.LongestFilter
	for _, b := range append(m.bindings(), m.views[m.at].Bindings()...) {
		if b.Command != "" {
			key := b.Help().Key
			if strings.Contains(key, " ") || key == "" && len(b.Keys()) > 0 {
				key = b.Keys()[0]
			}
			p.commands = append(p.commands, command{b.Command, key, b.Do})
		}
	}
	p.search()
	return p
}

// see takes the colours for a look.
func (m *model) see(l part.Look) { m.look, m.t = l, l.Theme() }

func (m *model) swapTheme() {
	m.look.Light, m.grounded = !m.look.Light, true
	m.see(m.look)
	if m.look.Depth <= colorprofile.ASCII {
		m.Say("this terminal shows no colours")
	}
}

// swapContrast takes the other contrast, and keeps it for the next time.
func (m *model) swapContrast() {
	m.look.Strong = !m.look.Strong
	m.see(m.look)
	p := m.app.Preferences()
	if p.Contrast = ""; m.look.Strong {
		p.Contrast = app.Strong
	}
	if err := m.app.SetPreferences(p); err != nil {
		m.Warn("%v", err)
		return
	}
	m.Say("the contrast is %s", map[bool]string{true: "strong", false: "the usual one"}[m.look.Strong])
}

func (p *palette) search() {
	p.found, p.at = nil, 0
	if p.input.Value() == "" {
		for i := range p.commands {
			p.found = append(p.found, i)
		}
		return
	}
	names := make([]string, len(p.commands))
	for i, c := range p.commands {
		names[i] = c.name
	}
	for _, match := range fuzzy.Find(p.input.Value(), names) {
		p.found = append(p.found, match.Index)
	}
}

func (p *palette) update(msg tea.Msg) tea.Cmd {
	var cmd tea.Cmd
	before := p.input.Value()
	p.input, cmd = part.EditLine(p.input, msg)
	if p.input.Value() != before {
		p.search()
	}
	return cmd
}

func (m *model) paletteKey(k string, msg tea.KeyPressMsg) tea.Cmd {
	p := m.palette
	switch k {
	case "esc", "ctrl+p":
		m.palette = nil
		return nil
	case "up":
		p.at = max(0, p.at-1)
		return nil
	case "down", "tab":
		p.at = max(0, min(len(p.found)-1, p.at+1))
		return nil
	case "enter":
		m.palette = nil
		if p.at < len(p.found) {
			return p.commands[p.found[p.at]].run()
		}
		return nil
	}
	return p.update(msg)
}

func (p *palette) draw(t *part.Theme, s *part.Screen, r part.Rect) {
	ground := uv.Style{Fg: t.Text, Bg: t.Panel}
	s.Fill(r, ground)
	s.Line(r.X, r.Y, r.W, uv.Style{Fg: t.Accent, Bg: t.Ground}, "▁")
	x := s.Text(r.X+2, r.Y+1, r.W, uv.Style{Fg: t.Hint, Bg: t.Panel, Attrs: uv.AttrBold}, "Command ")
	part.DrawInput(t, s, x, r.Y+1, r.W-x-30, p.input)
	s.Right(r.X+r.W-2, r.Y+1, 28, uv.Style{Fg: t.Dim, Bg: t.Panel}, "enter runs it, esc leaves")
	if len(p.found) == 0 {
		s.Text(r.X+2, r.Y+3, r.W-4, uv.Style{Fg: t.Dim, Bg: t.Panel}, "no command is called like that")
	}
	rows := r.H - 3
	from := max(0, p.at-rows+1)
	for i := from; i < min(len(p.found), from+rows); i++ {
		c := p.commands[p.found[i]]
		y := r.Y + 3 + i - from
		st := ground
		mark := "  "
		if i == p.at {
			st = t.Chosen()
			mark = "▸ "
		}
		s.Fill(part.R(r.X+1, y, r.W-2, 1), st)
		s.Text(r.X+2, y, r.W-18, st, mark+c.name)
		s.Right(r.X+r.W-3, y, 14, st, c.key)
	}
}
