package runs

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// explanation is what is known of the failure that is explained, line by line; none
// where nothing went wrong.
func (v *View) explanation(w int) [][]part.Span {
	t := v.Theme()
	red := t.States[run.HasFailed]
	title := func(name, words string) []part.Span {
		return []part.Span{part.S(uv.Style{Fg: red.Text, Bg: red.Ground, Attrs: uv.AttrBold}, " ✖ "+name+" "),
			part.S(part.Bold(t.On(red.Word)), "  "+words)}
	}
	const label = 15
	var out [][]part.Span
	row := func(name, text string, st uv.Style) {
		for i, line := range part.Wrap(text, w-label-2) {
			if i > 0 {
				name = ""
			}
			out = append(out, []part.Span{part.S(t.Faint(), fmt.Sprintf("  %-*s", label-2, name)), part.S(st, line)})
		}
	}
	e := v.failure()
	if e == nil { // it is being asked for, or was put right
		if len(v.failures()) == 0 || v.report != nil {
			return nil
		}
		f := v.failures()[0]
		out = append(out, title(f.Resource, "failed after "+whatif.Length(f.Elapsed.Seconds())))
		row("the cloud", f.Reason, t.Strong())
		return out
	}
	out = append(out, title(e.Resource, e.Title()))
	var others []string
	for _, o := range v.report.Failures {
		if o.Resource != e.Resource {
			others = append(others, o.Resource)
		}
	}
	for i, r := range e.Rows() {
		st := t.Plain()
		if i == 0 {
			st = t.Strong()
		}
		row(r.Label, r.Text, st)
	}
	if len(others) > 0 {
		row("also failed", strings.Join(others, ", ")+" (mark the brick)", t.Plain())
	}
	standing := v.run.Standing(v.progress.Last())
	if standing != "" {
		row("the rest", standing, t.Plain())
	}
	return out
}

// drawExplanation draws as much of it as there is room for, and says where the rest is.
func (v *View) drawExplanation(s *part.Screen, r part.Rect, lines [][]part.Span) {
	t := v.Theme()
	s.Line(r.X, r.Y, r.W, t.On(t.Mortar), "─")
	for i, line := range lines {
		y := r.Y + 1 + i
		if y == r.Y+r.H-1 && i+1 < len(lines) {
			s.Text(r.X+1, y, r.W-2, t.Faint(), "  "+stack.Count(len(lines)-i, "line")+" more: w shows all")
			return
		}
		s.Spans(r.X+1, y, r.W-2, line...)
	}
}

// drawWhy draws all of it, in the place of all else.
func (v *View) drawWhy(s *part.Screen, r part.Rect, lines [][]part.Span) {
	v.whyTop, v.whyLong = max(0, min(v.whyTop, len(lines)-r.H)), len(lines) > r.H
	for i, line := range lines[v.whyTop:min(len(lines), v.whyTop+r.H)] {
		s.Spans(r.X+1, r.Y+i, r.W-2, line...)
	}
}

// whyKeys are the keys while a failure is explained.
func (v *View) whyKeys() []part.Binding {
	move := func(by int, keys ...string) part.Binding {
		return part.Bind(part.Run(func() { v.whyTop += by }), keys...)
	}
	keys := []part.Binding{part.Bind(part.Run(func() { v.why = false }), "esc", "w").Shown("esc", "back to the wall"),
		part.Bind(v.copy, "y").Shown("y", "copy it as Markdown")}
	if pos := v.place(v.failure().Resource); pos.Line > 0 {
		keys = append(keys, part.Bind(func() tea.Cmd { return v.Send(part.ShowPlace{Pos: pos}) }, "t").Shown("t", "template line").As("Show the line of the template"))
	}
	up := move(-1, "up", "k")
	if v.whyLong {
		up = up.Shown("↑ ↓", "more of it").As("")
	}
	return append(keys, up, move(1, "down", "j"), move(-8, "pgup"),
		move(8, "pgdown"))
}
