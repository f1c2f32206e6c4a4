package tui

import (
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/sahilm/fuzzy"
)

// ask is a question in a strip above the footer. With a word the answer must
// be typed, without one y and n do; with free any text is an answer.
type ask struct {
	question string
	details  []string
	word     string
	free     bool
	input    textinput.Model
	masked   func(text string) string // what is shown of the answer; nil is all of it
	then     func(answer string) tea.Cmd
}

func newAsk(question, word string, then func(string) tea.Cmd) *ask {
	return &ask{question: question, word: word, then: then, input: newInput()}
}

// newInput is a line of input whose cursor we draw, and which does not blink.
func newInput() textinput.Model {
	in := textinput.New()
	in.SetVirtualCursor(false)
	in.CharLimit = longestInput
	in.Focus()
	return in
}

func (a *ask) typing() bool { return a.word != "" || a.free }

func (a *ask) update(msg tea.Msg) tea.Cmd {
	var cmd tea.Cmd
	if a.typing() {
		a.input, cmd = edit(a.input, msg)
	}
	return cmd
}

func (m *model) askKey(k string, msg tea.KeyPressMsg) tea.Cmd {
	a := m.ask
	switch {
	case k == "esc", !a.typing() && k == "n":
		m.ask = nil
		m.say(false, "nothing was done")
		return nil
	case !a.typing() && k == "y", a.free && k == "enter", a.word != "" && k == "enter" && a.input.Value() == a.word:
		m.ask = nil
		return a.then(a.input.Value())
	case a.word != "" && k == "enter":
		m.say(true, "that is not %s; esc leaves it", a.word)
		return nil
	}
	return a.update(msg)
}

func (a *ask) height(w int) int { return 3 + len(wrap(a.question, w-4)) + len(a.details) }

func (a *ask) draw(m *model, s *screen, r rect) {
	t := m.t
	ground := uv.Style{Fg: t.text, Bg: t.panel}
	s.fill(r, ground)
	s.line(r.x, r.y, r.w, uv.Style{Fg: t.accent, Bg: t.ground}, "▁")
	y := r.y + 1
	for _, line := range wrap(a.question, r.w-4) {
		s.text(r.x+2, y, r.w-4, uv.Style{Fg: t.bright, Bg: t.panel, Attrs: uv.AttrBold}, line)
		y++
	}
	for _, line := range a.details {
		s.text(r.x+2, y, r.w-4, ground, line)
		y++
	}
	switch {
	case a.typing():
		x := r.x + 2
		if a.word != "" {
			x = s.text(x, y, r.w-4, ground, "Type ")
			x = s.text(x, y, r.w-4, uv.Style{Fg: t.hint, Bg: t.panel, Attrs: uv.AttrBold}, a.word)
			x = s.text(x, y, r.w-4, ground, " and press enter: ")
		} else {
			x = s.text(x, y, r.w-4, ground, "› ")
		}
		in := a.input
		if a.masked != nil {
			at := in.Position()
			in.SetValue(a.masked(in.Value()))
			in.SetCursor(at)
		}
		drawInput(m, s, x, y, r.x+r.w-x-16, in)
		s.right(r.x+r.w-2, y, 14, uv.Style{Fg: t.dim, Bg: t.panel}, "esc leaves it")
	default:
		x := s.text(r.x+2, y, r.w-4, uv.Style{Fg: t.hint, Bg: t.panel, Attrs: uv.AttrBold}, "y")
		x = s.text(x, y, r.w-4, ground, " yes   ")
		x = s.text(x, y, r.w-4, uv.Style{Fg: t.hint, Bg: t.panel, Attrs: uv.AttrBold}, "n")
		s.text(x, y, r.w-4, ground, " no")
	}
}

// drawInput draws a line of input with its cursor.
func drawInput(m *model, s *screen, x, y, w int, in textinput.Model) {
	st := uv.Style{Fg: m.t.bright, Bg: m.t.bar}
	s.fill(rect{x, y, w, 1}, st)
	text := []rune(in.Value())
	at := min(in.Position(), len(text))
	from := max(0, at-w+2)
	s.text(x, y, w, st, string(text[from:]))
	cursor := " "
	if at < len(text) {
		cursor = string(text[at])
	}
	s.text(x+width(string(text[from:at])), y, 1, uv.Style{Fg: m.t.ground, Bg: m.t.hint}, cursor)
}

// filterLine is what a list or a wall is narrowed down by.
type filterLine struct {
	input  textinput.Model
	typing bool
}

func newFilter() filterLine {
	f := filterLine{input: newInput()}
	f.input.CharLimit = longestFilter
	return f
}

// fits reports whether a text has all the words of the filter.
func (f *filterLine) fits(text string) bool {
	text = strings.ToLower(text)
	for word := range strings.FieldsSeq(strings.ToLower(f.input.Value())) {
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

func (f *filterLine) active() bool { return f.input.Value() != "" }

func (f *filterLine) typed(msg tea.Msg) tea.Cmd {
	var cmd tea.Cmd
	f.input, cmd = edit(f.input, msg)
	return cmd
}

// key handles a key while the filter is being typed.
func (f *filterLine) key(k string, msg tea.Msg) tea.Cmd {
	switch k {
	case "enter", "down", "up":
		f.typing = false
	case "esc":
		f.typing = false
		f.input.SetValue("")
	default:
		return f.typed(msg)
	}
	return nil
}

// draw draws the filter where there is one, and reports whether there is.
func (f *filterLine) draw(m *model, s *screen, x, y, w int) bool {
	switch {
	case f.typing:
		at := s.text(x, y, 10, bold(m.t.hinted()), "filter ")
		drawInput(m, s, at, y, min(40, w-(at-x)-2), f.input)
	case f.active():
		s.text(x, y, w-2, m.t.hinted(), "filter: "+f.input.Value()+"   (esc clears it)")
	default:
		return false
	}
	return true
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
	p := &palette{input: newInput()}
	p.input.CharLimit = longestFilter
	press := func(v viewID, key string) func() tea.Cmd {
		return func() tea.Cmd {
			cmd, _ := m.views[v].key(m, key)
			return cmd
		}
	}
	for v := viewStacks; v <= viewRun; v++ {
		p.commands = append(p.commands, command{"Go to " + viewNames[v], itoa(int(v)), func() tea.Cmd { return m.open(v) }})
	}
	for _, b := range m.views[m.at].keys(m) {
		if key := strings.Fields(b.key)[0]; len(key) == 1 || key == "enter" || key == "tab" {
			p.commands = append(p.commands, command{withVerb(b), b.key, press(m.at, key)})
		}
	}
	p.commands = append(p.commands,
		command{"Open a stack file or a template", "", func() tea.Cmd { return m.stacks.askFile(m) }},
		command{"Switch between dark and light colours", "", func() tea.Cmd { m.swapTheme(); return nil }},
		command{"Show the keys of this view", "?", func() tea.Cmd { m.help = true; return nil }},
		command{"Leave; a run goes on without you", "q", func() tea.Cmd { return tea.Quit }})
	p.search()
	return p
}

// withVerb is what a key does, as something that one can ask for.
func withVerb(b binding) string {
	words := b.words
	for _, noun := range []string{"next", "template line", "because and then", "long values", "only changes", "events", "if it failed", "on failure", "inputs", "the ", "removed ones", "what-if"} {
		if strings.HasPrefix(words, noun) {
			words = "show " + words
			break
		}
	}
	if strings.HasSuffix(words, ".yaml") || strings.HasSuffix(words, ".yml") {
		words = "show " + words
	}
	return strings.ToUpper(words[:1]) + words[1:]
}

func (m *model) swapTheme() {
	if m.t == &dark {
		m.t = &light
	} else {
		m.t = &dark
	}
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

func (p *palette) update(_ *model, msg tea.Msg) tea.Cmd {
	var cmd tea.Cmd
	before := p.input.Value()
	p.input, cmd = edit(p.input, msg)
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
	return p.update(m, msg)
}

func (p *palette) draw(m *model, s *screen, r rect) {
	t := m.t
	ground := uv.Style{Fg: t.text, Bg: t.panel}
	s.fill(r, ground)
	s.line(r.x, r.y, r.w, uv.Style{Fg: t.accent, Bg: t.ground}, "▁")
	x := s.text(r.x+2, r.y+1, r.w, uv.Style{Fg: t.hint, Bg: t.panel, Attrs: uv.AttrBold}, "Command ")
	drawInput(m, s, x, r.y+1, r.w-x-30, p.input)
	s.right(r.x+r.w-2, r.y+1, 28, uv.Style{Fg: t.dim, Bg: t.panel}, "enter runs it, esc leaves")
	if len(p.found) == 0 {
		s.text(r.x+2, r.y+3, r.w-4, uv.Style{Fg: t.dim, Bg: t.panel}, "no command is called like that")
	}
	rows := r.h - 3
	from := max(0, p.at-rows+1)
	for i := from; i < min(len(p.found), from+rows); i++ {
		c := p.commands[p.found[i]]
		y := r.y + 3 + i - from
		st := ground
		mark := "  "
		if i == p.at {
			st = uv.Style{Fg: t.selText, Bg: t.selGround, Attrs: uv.AttrBold}
			mark = "▸ "
		}
		s.fill(rect{r.x + 1, y, r.w - 2, 1}, st)
		s.text(r.x+2, y, r.w-18, st, mark+c.name)
		s.right(r.x+r.w-3, y, 14, st, c.key)
	}
}
