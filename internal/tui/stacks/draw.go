package stacks

import (
	"fmt"
	"slices"
	"strings"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// Draw draws the list, and beside it the selected stack.
func (v *View) Draw(s *part.Screen, r part.Rect) {
	t := v.Theme()
	if v.beginning != nil {
		v.drawBegin(s, r)
		return
	}
	rows := v.visible()
	if len(rows) == 0 && v.ready && !v.filter.Active() { // there is nothing beside it
		v.drawEmpty(s, r)
		return
	}
	list, detail := r.SplitRight(max(46, r.W*2/5))
	if r.W < 110 {
		list, detail = r.SplitBottom(min(r.H-4, max(9, r.H-3-len(rows))))
	} else {
		s.Column(detail.X-1, r.Y+1, r.H-1, t.On(t.Mortar), "│")
	}
	y := list.Y
	switch {
	case v.filter.Draw(v.Theme(), s, 1, y, list.W):
	default:
		c := v.columns(list.W)
		s.Text(c.name, y, 20, t.Faint(), "stack")
		s.Text(c.target, y, 20, t.Faint(), "target")
		s.Text(c.state, y, 10, t.Faint(), "state")
		s.Text(c.rev, y, 5, t.Faint(), "rev")
		x := c.run
		if c.signs > 0 && c.run+c.signs+8 <= list.W {
			s.Text(c.run, y, c.signs-1, t.Faint(), "signs")
			x += c.signs
		}
		s.Text(x, y, list.W-x-1, t.Faint(), "last run")
	}
	v.list = part.R(list.X, list.Y+1, list.W, list.H-1)
	i := slices.IndexFunc(rows, func(r line) bool { return r.id() == v.sel })
	v.top = max(0, min(v.top, i))
	if i >= v.top+v.list.H {
		v.top = i - v.list.H + 1
	}
	if len(rows) == 0 && v.ready {
		v.drawEmpty(s, v.list)
	}
	note := 0
	if n := v.inFleets(); n > 0 && len(rows) > 0 && v.list.H > len(rows)+1 {
		note = 1
		s.Text(list.X+v.columns(list.W).name, v.list.Y+len(rows), list.W-13, t.Faint(), fmt.Sprintf("and %d in fleets: 7 shows them, / finds them here", n))
	}
	if free := v.list.H - len(rows) - 2 - note; r.W >= 110 && free >= 8 {
		v.drawWall(s, part.R(list.X, v.list.Y+len(rows)+2+note, list.W-1, free))
		v.list.H = len(rows)
	}
	for j := v.top; j < min(len(rows), v.top+v.list.H); j++ {
		v.drawRow(s, rows[j], v.list.Y+j-v.top, list.W)
	}
	if sel := v.selected(); sel != nil {
		v.drawDetail(s, part.R(detail.X+1, detail.Y, detail.W-2, detail.H), sel)
	}
}

// drawWall shows the wall of the selected stack under the list.
func (v *View) drawWall(s *part.Screen, r part.Rect) {
	row, c := v.selected(), v.shownContents()
	if row == nil || row.Stack == nil || len(c.Graph) == 0 {
		return
	}
	v.wall.Sel, v.wall.Reach = "", nil
	p := v.Theme().Kinds["same"]
	if row.Stack.Shown() == stack.Ready {
		p = v.Theme().States["ready"]
	}
	v.wall.Draw(s, r, v.Theme(), func(name string) part.Brick {
		return part.Brick{Mark: "■", Sub: c.Types[name], Paint: p, Faint: true}
	})
}

// onlyRemoved reports whether there are stacks, and all are removed.
func (v *View) onlyRemoved() bool {
	for _, r := range v.rows {
		if r.order != 2 {
			return false
		}
	}
	return len(v.rows) > 0
}

func (v *View) drawEmpty(s *part.Screen, r part.Rect) {
	lines := []string{"No stacks here yet.", "",
		"A stack is a template with its values, deployed to an account and region.",
		"n begins one: it shows small ones that work, and what has to be filled in.",
		"o opens a stack file; 'brickrow demo' shows a set of them."}
	if v.filter.Active() {
		lines = []string{"No stack matches the filter.", "", "esc clears it."}
	} else if v.onlyRemoved() {
		lines = []string{"All stacks are removed.", "", "r shows them: each can be stood up again.", "n begins a new one."}
	} else if v.inFleets() > 0 {
		lines = []string{"All stacks are places of fleets.", "", "7 shows them."}
	} else if len(v.rows) > 0 {
		lines = []string{"All stacks are removed.", "", "r shows them."}
	}
	for i, l := range lines {
		s.Text(r.X+3, r.Y+1+i, r.W-4, v.Theme().Plain(), l)
	}
}

// columns are where the columns of the list begin.
type columns struct{ wall, name, target, state, rev, run, signs int }

func (v *View) columns(w int) columns {
	c := columns{wall: 2, name: 11}
	longest := 12
	for _, r := range v.rows {
		longest = max(longest, part.Width(r.Name)+2)
	}
	if v.tree == tree {
		longest += 6
	}
	place, state := 8, 12
	for _, r := range v.rows {
		if n := part.Width(signsOf(r)); n > 0 {
			c.signs = max(c.signs, n+2)
		}
		place = max(place, part.Width(r.Place())+2)
		if r.Stack != nil {
			state = max(state, part.Width(string(r.Stack.Shown()))+3)
		}
	}
	c.target = c.name + min(longest, max(12, w-66))
	c.state = c.target + min(place, 24)
	c.rev = c.state + state
	c.run = c.rev + 5
	return c
}

func (v *View) drawRow(s *part.Screen, r line, y, w int) {
	t, c := v.Theme(), v.columns(w)
	base, strong, faint := t.Plain(), t.Strong(), t.Faint()
	selected := r.id() == v.sel
	if selected {
		base = uv.Style{Fg: t.Bright, Bg: t.Bar}
		strong, faint = part.Bold(base), uv.Style{Fg: t.Dim, Bg: t.Bar}
		s.Fill(part.R(0, y, w-1, 1), base)
		s.Text(0, y, 1, uv.Style{Fg: t.Accent, Bg: t.Bar}, "▌")
	}
	state := stack.Empty
	if r.Stack != nil {
		state = r.Stack.Shown()
	}
	mark, col := t.StackPaint(state)
	s.Text(c.wall, y, 8, uv.Style{Fg: col, Bg: base.Bg}, miniature(v.coursesOf(r)))
	name := c.name
	if r.depth > 0 {
		name = s.Text(c.name+2*min(r.depth-1, 3), y, 3, faint, "└ ")
	}
	s.Text(name, y, c.target-name-1, strong, r.Name)
	s.Text(c.target, y, c.state-c.target-1, faint, r.Place())
	s.Text(c.state, y, c.rev-c.state-1, uv.Style{Fg: col, Bg: base.Bg}, mark+" "+string(state))
	if r.Stack != nil && r.Stack.Revision > 0 {
		s.Text(c.rev, y, 4, base, part.Itoa(r.Stack.Revision))
	}
	words := ""
	if r.last.Run != nil {
		words = fmt.Sprintf("%s %s", r.last.Run.Kind, part.Ago(r.last.Run.Started))
		if r.last.Run.State == run.StatusUndone {
			words = "undone " + part.Ago(r.last.Run.Started)
		}
	}
	if r.last.Run != nil && r.last.Run.State == run.StatusQueued {
		words = "waits for a worker"
	}
	if r.last.Waits() {
		words, faint = "did not come to its end", part.Bold(uv.Style{Fg: t.Hint, Bg: base.Bg})
	}
	x, signs := c.run, signsOf(r)
	if c.signs > 0 && c.run+c.signs+8 <= w {
		x += c.signs
	} else if signs != "" {
		x += part.Width(signs) + 1
	}
	s.Text(c.run, y, w-c.run-2, uv.Style{Fg: t.Hint, Bg: base.Bg}, signs)
	s.Text(x, y, w-x-2, faint, words)
}

// signsOf are what is to be known of a stack beside its state: rules that are not kept, what differs, and whether it is
// locked.
func signsOf(r line) string {
	var out []string
	if n := r.last.Broken; n > 0 {
		out = append(out, fmt.Sprintf("! %d", n))
	}
	if r.Stack != nil && r.Stack.Differs > 0 {
		out = append(out, fmt.Sprintf("≠ %d", r.Stack.Differs))
	}
	if r.last.Holder != "" {
		out = append(out, "locked")
	}
	return strings.Join(out, " ")
}

// coursesOf is how many resources each course of a stack has; none where that is not
// known yet.
func (v *View) coursesOf(r line) []int {
	if r.Stack == nil {
		return nil
	}
	return v.outlines[r.Stack.ID].courses
}

// miniature is the wall of a stack in one line: a block for each course, from
// the ground on, as high as the course is wide.
func miniature(courses []int) string {
	levels := []rune("▁▂▃▄▅▆▇█")
	most := 1
	for _, n := range courses {
		most = max(most, n)
	}
	var b strings.Builder
	for i, n := range courses {
		if i == 8 {
			break
		}
		b.WriteRune(levels[max(0, n*len(levels)/most-1)])
	}
	if b.Len() == 0 {
		return "·"
	}
	return b.String()
}

func (v *View) drawDetail(s *part.Screen, r part.Rect, row *line) {
	t, c := v.Theme(), v.shownContents()
	y := r.Y
	put := func(st uv.Style, text string) {
		for _, line := range part.Wrap(text, r.W-1) {
			if y < r.Y+r.H {
				s.Text(r.X+1, y, r.W-1, st, line)
			}
			y++
		}
	}
	put(t.Strong(), row.Name)
	if row.Stack == nil {
		put(t.Plain(), "A stack file that is not deployed yet.")
		y++
		put(t.Faint(), row.File)
		return
	}
	put(t.Plain(), row.Stack.Description)
	words := stack.Count(len(c.Graph), "resource") + " in " + stack.Count(len(c.Courses), "course")
	switch {
	case v.contents == nil:
		words = "reading …"
	case len(c.Graph) == 0:
		words = "nothing of it is in the cloud"
	}
	if row.Stack.Careful {
		words += " · careful"
	}
	put(t.Faint(), words)
	put(t.Faint(), tail(row.File, min(44, r.W-2)))
	if row.last.Holder != "" {
		put(t.Hinted(), "locked by "+row.last.Holder)
	}
	if n := row.Stack.Differs; n > 0 {
		put(t.Hinted(), fmt.Sprintf("≠ %d resource%s %s: 5 shows it", n, part.Plural(n), stack.NotAsRecorded))
	}
	if n := row.last.Broken; n > 0 {
		put(t.Hinted(), fmt.Sprintf("! %d time%s a rule is not kept by what runs: 5 shows it", n, part.Plural(n)))
	}
	if row.last.Run != nil {
		y++
		v.drawLastRun(s, part.R(r.X+1, y, r.W-1, r.Y+r.H-y), row)
		y += 2
		if row.last.Run.Reason != "" {
			st := t.Faint()
			if row.last.Run.State == run.StatusUndone || row.last.Run.State == run.StatusStuck {
				st = t.On(t.States["failed"].Word)
			}
			put(st, row.last.Run.Reason)
		}
	}
	if len(c.Results) > 0 && y+2 < r.Y+r.H {
		y++
		part.PanelTitle(v.Theme(), s, part.R(r.X+1, y, r.W-1, 1), "results", part.ResultKeys(c.Results))
		y++
		part.DrawResults(v.Theme(), s, part.R(r.X+1, y, r.W-1, r.Y+r.H-y), c.Results, v.result)
	}
}

func (v *View) drawLastRun(s *part.Screen, r part.Rect, row *line) {
	t, run := v.Theme(), row.last.Run
	x := s.Text(r.X, r.Y, r.W, part.Bold(t.Hinted()), "last run")
	took := ""
	if !run.Ended.IsZero() {
		took = " after " + whatif.Length(run.Ended.Sub(run.Started).Seconds())
	}
	s.Text(x+2, r.Y, r.W-(x-r.X), t.Plain(),
		fmt.Sprintf("%d, %s by %s: %s%s", run.Number, run.Kind, run.By, run.Shown(), took))
	what := run.Tally.String()
	if run.Origin.What != "" {
		what = run.Origin.What
	}
	s.Text(r.X, r.Y+1, r.W, t.Faint(), fmt.Sprintf("%s, begun %s", what,
		run.Started.Local().Format("2006-01-02 15:04:05")))
}

// tail is the end of a path, cut at a folder so that it fits.
func tail(path string, w int) string {
	for part.Width(path) > w {
		at := strings.IndexByte(strings.TrimPrefix(path, "…/"), '/')
		if at < 0 {
			return path
		}
		path = "…/" + strings.TrimPrefix(path, "…/")[at+1:]
	}
	return path
}
