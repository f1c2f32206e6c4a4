package runs

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// scripts are those on the servers of the stack, and what they print.
type scripts struct {
	list    []cloud.Script // the oldest first
	busy    bool
	waiting bool // it is asked again in a moment
	failed  error

	reading bool  // they are shown in the place of all else
	number  int64 // the one that is marked
	up      int   // so many lines up from the end of what it has printed
	long    bool  // there are more lines than are in sight
}

type scriptsHeard struct {
	stack int64
	list  []cloud.Script
	err   error
}

type askScripts struct{}

// scriptPause is how often one looks at scripts that run.
const scriptPause = 400 * time.Millisecond

// scripted reports whether anything of the run is on servers.
func (v *View) scripted() bool {
	return v.run != nil && (len(v.scripts.list) > 0 || slices.ContainsFunc(v.run.Plan.Steps, func(s run.Step) bool {
		return s.Type == "Software" || s.Type == "Server" || s.Type == "ServerGroup"
	}))
}

// loadScripts asks for them, unless that is under way.
func (v *View) loadScripts() tea.Cmd {
	st := v.about.Stack
	if st == nil || v.scripts.busy || !v.scripted() {
		return nil
	}
	v.scripts.busy = true
	return func() tea.Msg {
		list, err := v.App().Scripts(v.Context(), st, "")
		return scriptsHeard{st.ID, list, err}
	}
}

// heardScripts takes them over; while one runs they are asked for again.
func (v *View) heardScripts(msg scriptsHeard) tea.Cmd {
	s := &v.scripts
	s.busy = false
	if v.about.Stack == nil || v.about.Stack.ID != msg.stack {
		return nil
	}
	if s.failed = msg.err; msg.err == nil {
		s.list = msg.list
	}
	open := slices.ContainsFunc(s.list, func(c cloud.Script) bool { return c.State == "waiting" || c.State == "running" })
	if !open || s.waiting || !v.Front(v) {
		return nil
	}
	s.waiting = true
	return tea.Tick(scriptPause, func(time.Time) tea.Msg { return askScripts{} })
}

// of is the script of a resource that is looked at: one that runs, or the last.
func (s *scripts) of(name string) *cloud.Script {
	var out *cloud.Script
	for i := range s.list {
		if c := &s.list[i]; (c.Node == name || c.ServerNode == name && c.State == "running") && (out == nil || out.State != "running" && c.State != "waiting") {
			out = c
		}
	}
	return out
}

func scriptLook(t *part.Theme, state string) (mark string, st uv.Style) {
	at := map[string]run.State{"waiting": run.Waiting, "running": run.Working, "done": run.IsReady, "failed": run.HasFailed}[state]
	return part.StateMarks[at], t.On(t.States[at].Word)
}

// scriptWords say how far a script is.
func scriptWords(c *cloud.Script) string {
	switch {
	case c.Begun == nil:
		return "waits for its turn"
	case c.State == "running":
		return "runs for " + whatif.Length(c.Seconds)
	case c.State == "failed" && c.Problem != "":
		return "failed after " + whatif.Length(c.Seconds) + ": " + c.Problem
	case c.State == "failed":
		return fmt.Sprintf("failed after %s with exit code %d", whatif.Length(c.Seconds), c.ExitCode)
	}
	words := "done after " + whatif.Length(c.Seconds)
	if c.Changed != nil && !*c.Changed {
		words += ", nothing changed"
	}
	return words
}

// printed are the lines that a script has printed.
func printed(t *part.Theme, c *cloud.Script, w int) (out [][]part.Span) {
	add := func(text string, st uv.Style) {
		for _, l := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
			if text != "" {
				out = append(out, []part.Span{part.S(st, part.Clip(l, w))})
			}
		}
	}
	add(c.Output, t.Plain())
	if c.Errors != "" {
		out = append(out, []part.Span{part.S(t.Faint(), "── as errors")})
		add(c.Errors, t.On(t.States[run.HasFailed].Word))
	}
	for _, k := range sortedKeys(c.Results) {
		out = append(out, []part.Span{part.S(t.Faint(), "result "), part.S(t.On(t.Key), k+" "), part.S(t.Strong(), part.Clip(c.Results[k], max(1, w-8-len(k))))})
	}
	return out
}

func sortedKeys(m map[string]string) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// outputLines is how much room the output of the marked brick wants; 0 is that it has none.
func (v *View) outputLines(w int) int {
	c := v.scripts.of(v.wall.Sel)
	if c == nil {
		return 0
	}
	return 2 + max(1, len(printed(v.Theme(), c, w)))
}

// drawOutput shows the end of what the script of the marked brick has printed.
func (v *View) drawOutput(s *part.Screen, r part.Rect) {
	t, c := v.Theme(), v.scripts.of(v.wall.Sel)
	if c == nil || r.H < 3 {
		return
	}
	part.PanelTitle(t, s, r, "output", "s shows all scripts")
	mark, st := scriptLook(t, c.State)
	s.Spans(r.X, r.Y+1, r.W, part.S(st, mark+" "), part.S(t.Strong(), c.Operation), part.S(t.Faint(), " of "+c.Node+" on "+where(c)+", "), part.S(st, scriptWords(c)))
	lines := printed(t, c, r.W)
	if len(lines) == 0 {
		lines = [][]part.Span{{part.S(t.Faint(), "it has printed nothing")}}
	}
	room := r.H - 2
	for i, l := range lines[max(0, len(lines)-room):] {
		s.Spans(r.X, r.Y+2+i, r.W, l...)
	}
}

// where is the server of a script, as people call it.
func where(c *cloud.Script) string {
	if c.ServerNode == "" {
		return c.Server
	}
	if _, n, group := strings.Cut(c.Server, "/"); group {
		return c.ServerNode + " " + n
	}
	return c.ServerNode
}

// readScripts shows them all, with the one of the marked brick marked, or the last.
func (v *View) readScripts() {
	s := &v.scripts
	s.reading, s.up = true, 0
	if c := s.of(v.wall.Sel); c != nil {
		s.number = c.Number
	} else if len(s.list) > 0 {
		s.number = s.list[len(s.list)-1].Number
	}
}

func (s *scripts) at() int {
	return max(0, slices.IndexFunc(s.list, func(c cloud.Script) bool { return c.Number == s.number }))
}

func (s *scripts) move(by int) {
	if len(s.list) > 0 {
		s.number, s.up = s.list[max(0, min(s.at()+by, len(s.list)-1))].Number, 0
	}
}

// scriptKeys are the keys while they are shown.
func (v *View) scriptKeys() []part.Binding {
	s := &v.scripts
	move := func(by int, keys ...string) part.Binding { return part.Bind(part.Run(func() { s.move(by) }), keys...) }
	keys := []part.Binding{part.Bind(part.Run(func() { s.reading = false }), "esc", "s").Shown("esc", "back to the wall")}
	if len(s.list) > 0 {
		c := s.list[s.at()]
		keys = append(keys, part.Bind(func() tea.Cmd {
			v.Say("copied what %s of %s has printed", c.Operation, c.Node)
			return tea.SetClipboard(c.Output + c.Errors)
		}, "y").Shown("y", "copy what it printed"))
		if pos := v.place(c.Node); pos.Line > 0 {
			keys = append(keys, part.Bind(func() tea.Cmd { return v.Send(part.ShowPlace{Pos: pos}) }, "t").Shown("t", "template line").As("Show the line of the template"))
		}
		keys = append(keys, part.Bind(part.Run(func() {
			s.reading = false
			v.wall.Choose(c.Node)
		}), "enter").Shown("enter", "its brick").As("Go to the brick of the script"))
	}
	older := part.Bind(part.Run(func() { s.up += 8 }), "pgup")
	if s.long {
		older = older.Shown("pgup pgdn", "older, newer lines").As("")
	}
	return append(keys, move(-1, "up", "k").Shown("↑ ↓", "choose").As(""), move(1, "down", "j"),
		older, part.Bind(part.Run(func() { s.up = max(0, s.up-8) }), "pgdown"))
}

// drawScripts lists all scripts, and beneath them what the marked one has printed.
func (v *View) drawScripts(s *part.Screen, r part.Rect) {
	t, all := v.Theme(), &v.scripts
	if len(all.list) == 0 {
		words := "no script was carried out for this stack: a node of the type Software has some"
		if all.failed != nil {
			words = "the scripts cannot be read: " + all.failed.Error()
		}
		s.Text(r.X+2, r.Y, r.W-3, t.Plain(), words)
		return
	}
	top, below := r.SplitBottom(r.H - min(len(all.list)+2, max(4, r.H/2)))
	part.PanelTitle(t, s, part.R(top.X+1, top.Y, top.W-2, 1), "scripts", inFlight(all.list))
	rows, at := top.H-2, all.at()
	from := max(0, min(at-rows/2, len(all.list)-rows))
	node, host := 8, 8
	for i := range all.list {
		node, host = max(node, part.Width(all.list[i].Node)), max(host, part.Width(where(&all.list[i])))
	}
	node, host = min(node, r.W/4), min(host, r.W/4)
	for i, c := range all.list[from:min(len(all.list), from+rows)] {
		y := top.Y + 1 + i
		mark, st := scriptLook(t, c.State)
		name := t.Plain()
		if from+i == at {
			s.Text(top.X, y, 1, t.On(t.Accent), "▸")
			name = part.Bold(t.On(t.Accent))
		}
		x := top.X + 2
		s.Text(x, y, 2, st, mark)
		s.Text(x+2, y, 9, name, c.Operation)
		s.Text(x+12, y, node, name, c.Node)
		s.Text(x+14+node, y, host, t.Faint(), where(&c))
		begun := "        "
		if c.Begun != nil {
			begun = c.Begun.Local().Format("15:04:05")
		}
		s.Text(x+16+node+host, y, 8, t.Faint(), begun)
		s.Text(x+26+node+host, y, r.X+r.W-(x+26+node+host)-1, st, scriptWords(&c))
	}
	c := &all.list[at]
	below = part.R(below.X+2, below.Y, below.W-3, below.H)
	if below.H < 2 {
		return
	}
	part.PanelTitle(t, s, part.R(below.X-1, below.Y, below.W, 1), "output of "+c.Operation+" of "+c.Node, where(c)+"  "+c.Server)
	lines := printed(t, c, below.W)
	if len(lines) == 0 {
		s.Text(below.X, below.Y+1, below.W, t.Faint(), "it has printed nothing")
	}
	room := below.H - 1
	all.up, all.long = max(0, min(all.up, len(lines)-room)), len(lines) > room
	first := max(0, len(lines)-room-all.up)
	for i, l := range lines[first:min(len(lines), first+room)] {
		s.Spans(below.X, below.Y+1+i, below.W, l...)
	}
}

// inFlight says how many scripts run, and how many wait.
func inFlight(list []cloud.Script) string {
	n := map[string]int{}
	for _, c := range list {
		n[c.State]++
	}
	words := fmt.Sprintf("%d", len(list))
	for _, state := range []string{"running", "waiting", "failed"} {
		if n[state] > 0 {
			words += fmt.Sprintf(", %d %s", n[state], state)
		}
	}
	return words
}
