package part

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
)

// Ask is a question in a strip above the footer. With a word the answer must
// be typed, without one y and n do; with free any text is an answer.
type Ask struct {
	Question string
	Details  []string
	Word     string
	Free     bool
	Input    textinput.Model
	Masked   func(text string) string // what is shown of the answer; nil is all of it
	Then     func(answer string) tea.Cmd
	Else     func() tea.Cmd // what a no does; nil is nothing
}

func NewAsk(question, word string, then func(string) tea.Cmd) *Ask {
	return &Ask{Question: question, Word: word, Then: then, Input: NewInput()}
}

// NewInput is a line of input whose cursor we draw, and which does not blink.
func NewInput() textinput.Model {
	in := textinput.New()
	in.SetVirtualCursor(false)
	in.CharLimit = LongestInput
	in.Focus()
	return in
}

func (a *Ask) Typing() bool { return a.Word != "" || a.Free }

func (a *Ask) Update(msg tea.Msg) tea.Cmd {
	var cmd tea.Cmd
	if a.Typing() {
		a.Input, cmd = EditLine(a.Input, msg)
	}
	return cmd
}

func (a *Ask) Height(w int) int { return 3 + len(Wrap(a.Question, w-4)) + len(a.Details) }

func (a *Ask) Draw(t *Theme, s *Screen, r Rect) {
	ground := uv.Style{Fg: t.Text, Bg: t.Panel}
	s.Fill(r, ground)
	s.Line(r.X, r.Y, r.W, uv.Style{Fg: t.Accent, Bg: t.Ground}, "▁")
	y := r.Y + 1
	for _, line := range Wrap(a.Question, r.W-4) {
		s.Text(r.X+2, y, r.W-4, uv.Style{Fg: t.Bright, Bg: t.Panel, Attrs: uv.AttrBold}, line)
		y++
	}
	for _, line := range a.Details {
		s.Text(r.X+2, y, r.W-4, ground, line)
		y++
	}
	switch {
	case a.Typing():
		x := r.X + 2
		if a.Word != "" {
			x = s.Text(x, y, r.W-4, ground, "Type ")
			x = s.Text(x, y, r.W-4, uv.Style{Fg: t.Hint, Bg: t.Panel, Attrs: uv.AttrBold}, a.Word)
			x = s.Text(x, y, r.W-4, ground, " and press enter: ")
		} else {
			x = s.Text(x, y, r.W-4, ground, "› ")
		}
		in := a.Input
		if a.Masked != nil {
			at := in.Position()
			in.SetValue(a.Masked(in.Value()))
			in.SetCursor(at)
		}
		DrawInput(t, s, x, y, r.X+r.W-x-16, in)
		s.Right(r.X+r.W-2, y, 14, uv.Style{Fg: t.Dim, Bg: t.Panel}, "esc leaves it")
	default:
		x := s.Text(r.X+2, y, r.W-4, uv.Style{Fg: t.Hint, Bg: t.Panel, Attrs: uv.AttrBold}, "y")
		x = s.Text(x, y, r.W-4, ground, " yes   ")
		x = s.Text(x, y, r.W-4, uv.Style{Fg: t.Hint, Bg: t.Panel, Attrs: uv.AttrBold}, "n")
		s.Text(x, y, r.W-4, ground, " no")
	}
}

// DrawInput draws a line of input with its cursor.
func DrawInput(t *Theme, s *Screen, x, y, w int, in textinput.Model) {
	st := t.Field()
	s.Fill(Rect{x, y, w, 1}, st)
	text := []rune(in.Value())
	at := min(in.Position(), len(text))
	from := max(0, at-w+2)
	s.Text(x, y, w, st, string(text[from:]))
	cursor := " "
	if at < len(text) {
		cursor = string(text[at])
	}
	s.Text(x+Width(string(text[from:at])), y, 1, t.Cursor(), cursor)
}

// Filter is what a list or a wall is narrowed down by.
type Filter struct {
	Input  textinput.Model
	Typing bool
}

func NewFilter() Filter {
	f := Filter{Input: NewInput()}
	f.Input.CharLimit = LongestFilter
	return f
}

// Fits reports whether a text has all the words of the filter.
func (f *Filter) Fits(text string) bool {
	return HasAll(strings.ToLower(text), f.Words())
}

// Words are those of the filter, in small letters.
func (f *Filter) Words() []string { return strings.Fields(strings.ToLower(f.Input.Value())) }

// HasAll reports whether a text has all of some words.
func HasAll(text string, words []string) bool {
	for _, word := range words {
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

func (f *Filter) Active() bool { return f.Input.Value() != "" }

// Update hears a message while the filter is being typed; changed is told when its
// words are others.
func (f *Filter) Update(msg tea.Msg, changed func()) (cmd tea.Cmd) {
	if Full(f.Input, msg) {
		return nil
	}
	before := f.Input.Value()
	k := ""
	if press, ok := msg.(tea.KeyPressMsg); ok {
		k = press.String()
	}
	switch k {
	case "enter", "down", "up":
		f.Typing = false
	case "esc":
		f.Typing = false
		f.Input.SetValue("")
	default:
		f.Input, cmd = EditLine(f.Input, msg)
	}
	if f.Input.Value() != before || !f.Typing {
		changed()
	}
	return cmd
}

// Bindings are the keys while it is typed; what they do, Update does.
func (f *Filter) Bindings() []Binding {
	return []Binding{Bind(nil, "enter").Shown("enter", "keep it").As(""), Bind(nil, "esc").Shown("esc", "clear it").As("")}
}

// Draw draws the filter where there is one, and reports whether there is.
func (f *Filter) Draw(t *Theme, s *Screen, x, y, w int) bool {
	switch {
	case f.Typing:
		at := s.Text(x, y, 10, Bold(t.Hinted()), "filter ")
		DrawInput(t, s, at, y, min(40, w-(at-x)-2), f.Input)
	case f.Active():
		s.Text(x, y, w-2, t.Hinted(), "filter: "+f.Input.Value()+"   (esc clears it)")
	default:
		return false
	}
	return true
}

// LongestInput is how much a line of input takes: more is no answer to any of our
// questions, and would only be slow.
const LongestInput = 4096

// LongestFilter is how much a filter takes, and the palette: each letter searches
// anew.
const LongestFilter = 120

// EditLine passes a message on to a line of input. Should that break down at a key,
// the line stays as it was.
func EditLine(in textinput.Model, msg tea.Msg) (out textinput.Model, cmd tea.Cmd) {
	defer func() {
		if recover() != nil {
			out, cmd = in, nil
		}
	}()
	if Full(in, msg) {
		return in, nil
	}
	if k, ok := msg.(tea.KeyPressMsg); ok && key.Matches(k, in.KeyMap.DeleteWordForward) {
		// The component reads past the end where one letter stands behind the
		// cursor.
		if text := []rune(in.Value()); in.Position() == len(text)-1 {
			in.SetValue(string(text[:in.Position()]))
			in.CursorEnd()
			return in, nil
		}
	}
	return in.Update(msg)
}

// Full reports whether a letter comes behind as many as a line of input takes: somebody pours a text in.
func Full(in textinput.Model, msg tea.Msg) bool {
	k, ok := msg.(tea.KeyPressMsg)
	return ok && k.Text != "" && in.CharLimit > 0 && in.Position() >= in.CharLimit
}

// AskFile asks for the name of a file to write, and once more where there is such
// a file already.
func AskFile(sh Shell, question, name string, write func(path string) tea.Cmd) {
	a := NewAsk(question, "", func(path string) tea.Cmd {
		path = InHome(path)
		if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
			sh.Ask(NewAsk(path+" is there already. Write over it?", "", func(string) tea.Cmd { return write(path) }))
			return nil
		}
		return write(path)
	})
	a.Free = true
	a.Input.SetValue(name)
	sh.Ask(a)
}

// InHome gives ~ at the beginning of a path its meaning.
func InHome(path string) string {
	if home, err := os.UserHomeDir(); err == nil && strings.HasPrefix(path, "~/") {
		return filepath.Join(home, path[2:])
	}
	return path
}
