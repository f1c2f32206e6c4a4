package history

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
)

// line is the other ladder: what has become of the resources in the cloud, by runs and by
// hand.
type line struct {
	ladder
	on     bool
	one    *part.ShowTrail // of this resource alone; nil is of the stack, or of all
	all    []stack.Trace
	rungs  []stack.Trace // that pass the filter
	ready  bool
	busy   bool
	again  bool
	err    error
	sel    int64
	marked int64 // 0 is none
	patch  part.Patch
}

type lineRead struct {
	list []stack.Trace
	err  error
}

// loadLine reads the time line in the background.
func (v *View) loadLine() tea.Cmd {
	l := &v.line
	if l.again = l.busy; l.busy {
		return nil
	}
	l.busy = true
	one, st := l.one, v.Subject().Stack
	if v.all {
		st = nil
	}
	return func() tea.Msg {
		var out lineRead
		if one != nil {
			out.list, out.err = v.App().TraceOf(v.Context(), one.Of)
		} else {
			out.list, out.err = v.App().TracesOf(v.Context(), st)
		}
		return out
	}
}

func (v *View) lineLoaded(msg lineRead) tea.Cmd {
	l := &v.line
	l.busy, l.ready, l.err, l.all = false, true, msg.err, msg.list
	v.layLine()
	if l.again {
		return v.loadLine()
	}
	return nil
}

func (v *View) layLine() {
	l := &v.line
	l.rungs = l.rungs[:0]
	for _, t := range l.all {
		text := called(&t) + " " + t.ID + " " + t.Stack + " " + t.Type + " " + t.Target.String() + " " + string(t.Kind) + " " + t.Who()
		for _, c := range t.Differences {
			text += " " + c.Path
		}
		if v.filter.Fits(text) {
			l.rungs = append(l.rungs, t)
		}
	}
	if l.index(l.sel) < 0 && len(l.rungs) > 0 {
		l.sel, l.scroll = l.rungs[0].Number, 0
	}
}

func (l *line) index(number int64) int {
	return slices.IndexFunc(l.rungs, func(t stack.Trace) bool { return t.Number == number })
}

func (l *line) selected() *stack.Trace {
	if i := l.index(l.sel); i >= 0 {
		return &l.rungs[i]
	}
	return nil
}

func (l *line) choose(i int) {
	if len(l.rungs) > 0 {
		l.sel, l.scroll = l.rungs[max(0, min(len(l.rungs)-1, i))].Number, 0
	}
}

// between is what is left of all that changed after the earlier of the marked and the chosen
// one, up to the later.
func (l *line) between() (from, to *stack.Trace, list []stack.Trace) {
	i, k := l.index(l.sel), l.index(l.marked)
	if i < 0 || k < 0 || i == k {
		return nil, nil, nil
	}
	newer, older := min(i, k), max(i, k)
	return &l.rungs[older], &l.rungs[newer], stack.Net(l.rungs[newer:older])
}

// called is the name of a resource in its stack, or its id.
func called(t *stack.Trace) string {
	if t.Node == "" {
		return t.ID
	}
	return cloud.Clean(t.Node)
}

// show turns to the time line, of one resource or of all.
func (v *View) show(one *part.ShowTrail) tea.Cmd {
	v.line = line{on: true, one: one}
	v.filter = part.NewFilter()
	return v.loadLine()
}

// lineBindings are the keys of the time line.
func (v *View) lineBindings() []part.Binding {
	l := &v.line
	if l.patch.Written != nil {
		return l.patch.Bindings(func() tea.Cmd {
			return l.patch.Save(v, func() tea.Msg { return part.StoreChanged{} })
		})
	}
	var keys []part.Binding
	if t := l.selected(); t != nil {
		keys = append(keys, part.Bind(func() tea.Cmd {
			return v.Send(part.ShowThere{Target: t.Target, ID: t.ID})
		}, "enter", "right", "l").Shown("enter", "see it in the cloud"))
		if t.Stack != "" && t.Kind == stack.WasChanged {
			keys = append(keys, part.Bind(v.writeFormer, "w").Shown("w", "write how it was before").
				As("Write into the files how the resource was before"))
		}
		keys = append(keys, part.Bind(part.Run(v.markTrace), "m").Shown("m", "mark: what changed between").
			As("Mark a moment, to see what changed between it and another"))
	}
	keys = append(keys, part.Bind(v.toRuns, "t").Shown("t", "runs").As("Show the runs, or what changed in the cloud"))
	if l.one == nil {
		keys = append(keys, part.Bind(v.turn, "a").Shown("a", v.turnWords()))
	}
	keys = append(keys, part.Bind(part.Run(func() { v.filter.Typing = true }), "/").Shown("/", "filter"))
	switch {
	case v.filter.Active():
		keys = append(keys, part.Bind(part.Run(func() { v.filter.Input.SetValue(""); v.layLine() }), "esc").Shown("esc", "show all"))
	case l.marked != 0:
		keys = append(keys, part.Bind(part.Run(func() { l.marked = 0 }), "esc").Shown("esc", "take the mark away"))
	case l.one != nil:
		keys = append(keys, part.Bind(func() tea.Cmd { return v.show(nil) }, "esc").Shown("esc", "of all resources"))
	}
	by := func(n int) func() tea.Cmd { return part.Run(func() { l.choose(l.index(l.sel) + n) }) }
	return append(keys,
		part.Bind(by(-1), "up", "k").Shown("↑ ↓", "choose").As(""), part.Bind(by(1), "down", "j"),
		part.Bind(by(-len(l.rungs)), "home", "g"), part.Bind(by(len(l.rungs)), "end", "G"),
		part.Bind(part.Run(func() { l.scroll += 5 }), "pgdown").Shown("pgdn", "more of what changed").As(""),
		part.Bind(part.Run(func() { l.scroll = max(0, l.scroll-5) }), "pgup"))
}

func (v *View) toRuns() tea.Cmd {
	v.line.on, v.filter = false, part.NewFilter()
	return v.load()
}

func (v *View) markTrace() {
	if l := &v.line; l.marked == l.sel {
		l.marked = 0
	} else {
		l.marked = l.sel
		v.Say("marked; choose another moment, and what changed between the two stands beside")
	}
}

// writeFormer works out what lets the files say how the resource was before the chosen change.
func (v *View) writeFormer() tea.Cmd {
	t := *v.line.selected()
	v.Say("looking what %s was like …", called(&t))
	return func() tea.Msg {
		out := part.Patched{For: v}
		var st *stack.Stack
		if st, out.Err = v.App().Find(v.Context(), t.Stack+"@"+t.Target.String()); out.Err == nil {
			out.Written, out.Err = v.App().WriteFormer(v.Context(), st, t.Node, t.At)
		}
		return out
	}
}

func (v *View) lineHint() string {
	l := &v.line
	t := l.selected()
	switch {
	case l.patch.Written != nil:
		return l.patch.Hint()
	case v.filter.Typing:
		return "words of name, type, kind, who, path; enter keeps it"
	case t == nil && v.filter.Active():
		return "esc shows all"
	case t == nil:
		return ""
	case l.marked != 0 && l.marked != l.sel:
		return "beside: what changed between the two"
	case l.marked != 0:
		return "choose another moment"
	case t.Foreign() && t.Kind == stack.WasChanged && t.Stack != "":
		return t.Author.Short() + ": w writes how it was before"
	}
	return "m marks a moment, to see what changed since"
}

func (v *View) lineStatus() string {
	l := &v.line
	words := fmt.Sprintf("%d change%s", len(l.rungs), part.Plural(len(l.rungs)))
	switch {
	case !l.ready:
		return "reading …"
	case l.one != nil:
		words += " of " + cloud.Clean(l.one.Name)
	}
	return words
}

// drawLine draws the time line.
func (v *View) drawLine(s *part.Screen, r part.Rect) {
	l, t := &v.line, v.Theme()
	if l.patch.Written != nil {
		l.patch.Draw(t, s, r)
		return
	}
	if len(l.rungs) == 0 {
		words := []string{"reading …"}
		switch {
		case l.err != nil:
			words = []string{"The time line cannot be read: " + l.err.Error()}
		case !l.ready:
		case v.filter.Active():
			words = []string{"No change has these words.", "", "esc shows all."}
		default:
			words = []string{"Nothing was seen to change yet.", "", "Runs, what-ifs, the Cloud view and 'brickrow observe' add to it: each change of what is",
				"in the cloud then stands here, whoever made it."}
		}
		v.empty(s, r, words)
		l.heights = nil
		return
	}
	left, side := v.halves(s, r)
	l.draw(left, len(l.rungs), l.index(l.sel), v.tall, func(r part.Rect, i int) { v.drawTrace(s, r, i) })
	var lines [][]part.Span
	if from, to, list := l.between(); from != nil {
		lines = v.net(side.W, from, to, list)
	} else {
		lines = v.trace(side.W, l.selected())
	}
	l.beside(t, s, side, lines)
}

// tall is how many lines a change takes, with the gap to the one before.
func (v *View) tall(i int) int {
	if list := v.line.rungs; i+1 < len(list) && list[i].At.Sub(list[i+1].At) >= time.Minute {
		return 3
	}
	return 2
}

func (v *View) drawTrace(s *part.Screen, r part.Rect, i int) {
	t, one := v.Theme(), &v.line.rungs[i]
	look := rung(t, s, r, 2, one.Number == v.line.sel)
	end := r.X + r.W - 1
	mark, col := part.TraceLook(t, one)
	x := s.Text(r.X+2, r.Y, end-r.X-2, look.ground(part.Bold(t.On(col))), mark) + 1
	x = s.Text(x, r.Y, end-x, look.strong, called(one)) + 1
	x = s.Text(x, r.Y, end-x, look.plain, string(one.Kind)+" "+one.Who())
	if one.Number == v.line.marked {
		s.Text(x+2, r.Y, end-x-2, look.ground(part.Bold(t.On(t.Accent))), "● marked")
	}
	if r.H > 1 {
		if i+1 < len(v.line.rungs) {
			s.Text(r.X+2, r.Y+1, 1, look.ground(t.On(t.Mortar)), "│")
		}
		words := one.At.Local().Format("2006-01-02 15:04:05") + "  " + one.Type
		if v.all && one.Stack != "" {
			words += " of " + cloud.Clean(one.Stack)
		}
		for k, c := range one.Differences {
			if words += map[bool]string{true: " · ", false: ", "}[k == 0]; k == 3 {
				words += "…"
				break
			}
			words += cloud.Clean(c.Path)
		}
		s.Text(r.X+4, r.Y+1, end-r.X-4, look.faint, words)
	}
	if r.H > 2 {
		gap(t, s, r.X+2, r.Y+2, r.W-3, one.At.Sub(v.line.rungs[i+1].At))
	}
}

// trace spells one change out.
func (v *View) trace(w int, one *stack.Trace) [][]part.Span {
	t := v.Theme()
	lines := [][]part.Span{{part.S(t.Strong(), called(one)), part.S(t.Faint(), "  "+one.Type+"  "+one.ID)},
		{part.S(t.Faint(), one.Target.String()+" · "+one.At.Local().Format("2006-01-02 15:04:05"))}, nil}
	lines = append(lines, wrapped(t.Plain(), w, string(one.Kind)+" "+one.Who())...)
	if one.Seen.Sub(one.At) > time.Minute {
		lines = append(lines, wrapped(t.Faint(), w, "seen "+one.Seen.Local().Format("2006-01-02 15:04:05"))...)
	}
	if one.Stack != "" {
		lines = append(lines, wrapped(t.Faint(), w, "it was "+cloud.Clean(one.Node)+" of "+cloud.Clean(one.Stack))...)
	}
	lines = append(lines, nil)
	return append(lines, v.differences(w, one)...)
}

// net tells what changed between two moments.
func (v *View) net(w int, from, to *stack.Trace, list []stack.Trace) [][]part.Span {
	t := v.Theme()
	const at = "2006-01-02 15:04:05"
	lines := [][]part.Span{{part.S(t.Strong(), "what changed between")},
		{part.S(t.Faint(), from.At.Local().Format(at)+" and "+to.At.Local().Format(at)+", "+span(to.At.Sub(from.At)))}, nil}
	if len(list) == 0 {
		return append(lines, wrapped(t.Plain(), w, "Nothing is other than it was: what changed was put back, or went again.")...)
	}
	for i := range list {
		one := &list[i]
		mark, col := part.TraceLook(t, one)
		lines = append(lines, []part.Span{part.S(part.Bold(t.On(col)), mark+" "), part.S(t.Strong(), called(one)),
			part.S(t.Faint(), "  "+one.Type+"  "+string(one.Kind)+", last "+one.Who())})
		lines = append(lines, v.differences(w, one)...)
	}
	return lines
}

func (v *View) differences(w int, one *stack.Trace) [][]part.Span {
	t := v.Theme()
	var lines [][]part.Span
	for _, c := range one.Differences {
		lines = append(lines, []part.Span{part.S(t.Plain(), "  "+cloud.Clean(c.Path))})
		for _, side := range []struct {
			label string
			value tosca.Value
		}{{"was", c.Before}, {"is", c.After}} {
			words := "not set"
			if side.value != nil {
				words = cloud.Clean(tosca.Show(side.value))
			}
			for k, piece := range part.Wrap(words, w-10) {
				lines = append(lines, []part.Span{part.S(t.Faint(), fmt.Sprintf("    %-4s", map[bool]string{true: side.label, false: ""}[k == 0])), part.S(t.Plain(), piece)})
			}
		}
	}
	return lines
}

func wrapped(st uv.Style, w int, text string) [][]part.Span {
	var out [][]part.Span
	for _, l := range part.Wrap(strings.TrimSpace(text), w-1) {
		out = append(out, []part.Span{part.S(st, l)})
	}
	return out
}

// trailShown is what History does when somebody wants to see what has become of a resource.
func (v *View) trailShown(one part.ShowTrail) tea.Cmd {
	v.Bring(v)
	if v.Subject().Name == "" {
		v.all = true
	}
	return v.show(&one)
}
