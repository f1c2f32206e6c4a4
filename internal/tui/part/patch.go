package part

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Patch shows what would be written into the files of a stack, until it is written or left.
type Patch struct {
	Written *app.Written // nil is that nothing is shown
	// Alone works it out again for what is shown alone, where others get the same value; nil is that it cannot.
	Alone  func() tea.Cmd
	scroll int
}

// Patched is what would be written, as it was worked out for a view.
type Patched struct {
	For     View
	Written *app.Written
	Err     error
}

// Hear shows what was worked out, or says why there is nothing to show.
func (p *Patch) Hear(sh Shell, msg Patched) {
	switch {
	case msg.Err != nil:
		sh.Warn("it cannot be written: %v", msg.Err)
	case len(msg.Written.Files)+len(msg.Written.Cannot) == 0:
		sh.Say("the files say that already: 3 shows what deploying them would do")
	default:
		sh.Say("")
		p.Written, p.scroll = msg.Written, 0
	}
}

// Scroll moves it by some lines.
func (p *Patch) Scroll(by int) { p.scroll = max(0, p.scroll+by) }

// Hint is the next step.
func (p *Patch) Hint() string {
	if len(p.Written.Files) == 0 {
		return "nothing of it can be written: esc"
	}
	return "enter writes it into the files"
}

// Bindings are the keys while it is shown.
func (p *Patch) Bindings(save func() tea.Cmd) []Binding {
	var keys []Binding
	if len(p.Written.Files) > 0 {
		keys = append(keys, Bind(save, "enter").Shown("enter", "write it"))
	}
	if len(p.Written.Shared) > 0 && p.Alone != nil {
		keys = append(keys, Bind(p.Alone, "o").Shown("o", "for this one only").As("Write the value into this node, not where others get theirs from too"))
	}
	by := func(n int) func() tea.Cmd { return Run(func() { p.Scroll(n) }) }
	return append(keys, Bind(Run(func() { p.Written, p.scroll = nil, 0 }), "esc").Shown("esc", "leave it"),
		Bind(by(1), "down", "j").Shown("↑ ↓", "scroll").As(""), Bind(by(-1), "up", "k"), Bind(by(10), "pgdown"), Bind(by(-10), "pgup"))
}

// Save writes it, and says so; then is what is done after it.
func (p *Patch) Save(sh Shell, then func() tea.Msg) tea.Cmd {
	w := p.Written
	p.Written, p.scroll = nil, 0
	return func() tea.Msg {
		told := tea.Msg(Done{Words: "written: " + w.Files[0].Path})
		if n := len(w.Files); n > 1 {
			told = Done{Words: "written: " + stack.Count(n, "file")}
		}
		if err := sh.App().SaveWritten(sh.Context(), w); err != nil {
			told = Failed{Doing: "write it", Err: err}
		}
		say := func(msg tea.Msg) tea.Cmd { return func() tea.Msg { return msg } }
		return tea.BatchMsg{say(then()), say(told)}
	}
}

// Draw draws it.
func (p *Patch) Draw(t *Theme, s *Screen, r Rect) {
	w := p.Written
	var lines []Span
	say := func(st uv.Style, text string) {
		for _, l := range Wrap(text, r.W-4) {
			lines = append(lines, S(st, l))
		}
	}
	if len(w.Files) > 0 {
		say(t.Strong(), "This lets the files say what is there:")
		say(t.Plain(), "")
	}
	for line := range strings.Lines(w.Patch()) {
		st := t.Plain()
		switch {
		case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"), strings.HasPrefix(line, "@@"):
			st = t.Faint()
		case strings.HasPrefix(line, "+"):
			st = t.On(t.Kinds[whatif.New].Word)
		case strings.HasPrefix(line, "-"):
			st = t.On(t.Kinds[whatif.Drop].Word)
		}
		lines = append(lines, S(st, cloud.Clean(strings.TrimSuffix(line, "\n"))))
	}
	for _, c := range w.Cannot {
		say(t.Plain(), "")
		say(t.Hinted(), strings.TrimSpace(c.Name+" "+c.Path)+" cannot be written: "+c.Why)
	}
	for _, c := range w.Shared {
		say(t.Plain(), "")
		words := c.Words()
		if p.Alone != nil {
			words += ": with o it is written for this one only"
		}
		say(t.Hinted(), words)
	}
	if len(w.Left) > 0 && len(w.Files) > 0 {
		say(t.Plain(), "")
		say(t.Faint(), "Deploying the files would change then: "+strings.Join(w.Left, ", "))
	}
	p.scroll = max(0, min(p.scroll, len(lines)-r.H+2))
	for i, l := range lines[p.scroll:min(len(lines), p.scroll+max(0, r.H-2))] {
		s.Text(r.X+2, r.Y+1+i, r.W-3, l.Style, l.Text)
	}
	if more := len(lines) - p.scroll - (r.H - 2); more > 0 {
		s.Right(r.X+r.W-1, r.Y+r.H-1, r.W, Bold(t.Hinted()), fmt.Sprintf("%d more, ↓", more))
	}
}
