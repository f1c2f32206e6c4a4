package tui

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cli"
	"brickrow/internal/files"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// stackRow is one line of the list: a stack, or a stack file that was not
// deployed yet.
type stackRow struct {
	subject
	run    *store.Run
	locked string
	cachedStack
	order int
}

// interrupted reports whether a run waits for somebody to go on with it.
func (r stackRow) interrupted() bool {
	if r.stack == nil {
		return false
	}
	switch r.stack.State {
	case store.Stuck, store.Partial:
		return true
	case store.Deploying, store.Undoing, store.Removing:
		return r.locked == ""
	}
	return false
}

// courses is how many resources each course of the stack's wall has.
func (r stackRow) courses() []int {
	var out []int
	for _, course := range r.graph.Courses() {
		out = append(out, len(course))
	}
	return out
}

// stacksView lists the stacks.
type stacksView struct {
	rows    []stackRow
	folders []string // where stack files are looked for
	sel     string   // name@target
	removed bool     // show removed ones
	filter  filterLine
	result  int // selected result
	ready   bool
	busy    bool
	list    rect
	top     int
	cache   map[int64]cachedStack
	wall    wall
	fresh   freshness
}

// cachedStack is what is only read again when its stack has changed.
type cachedStack struct {
	updated time.Time
	graph   stack.Graph
	types   map[string]string
	results []store.Result
}

type stacksLoaded struct {
	rows  []stackRow
	cache map[int64]cachedStack
	err   error
}

func newStacksView() *stacksView {
	return &stacksView{filter: newFilter()}
}

func (r stackRow) id() string { return r.name + "@" + r.target }

// load reads the stacks in the background.
func (v *stacksView) load(m *model) tea.Cmd {
	if v.busy {
		return nil
	}
	v.busy = true
	cache, folders := v.cache, slices.Clone(v.folders)
	return func() tea.Msg {
		out := stacksLoaded{cache: map[int64]cachedStack{}}
		out.rows, out.err = readStacks(m, cache, out.cache)
		if out.err == nil {
			out.rows = append(out.rows, findFiles(out.rows, folders)...)
		}
		slices.SortStableFunc(out.rows, func(a, b stackRow) int {
			return cmp.Or(a.order-b.order, strings.Compare(a.name, b.name), strings.Compare(a.target, b.target))
		})
		return out
	}
}

func readStacks(m *model, cache, next map[int64]cachedStack) ([]stackRow, error) {
	list, err := m.app.Store.Stacks(m.ctx)
	if err != nil {
		return nil, err
	}
	runs, err := m.app.Store.LastRuns(m.ctx)
	if err != nil {
		return nil, err
	}
	var rows []stackRow
	for _, st := range list {
		r := stackRow{subject: subject{st.Name, st.StackFile, st.Target.String(), st}, run: runs[st.ID]}
		if st.State == store.Removed {
			r.order = 2
		}
		if r.locked, err = m.app.Store.LockHolder(m.ctx, st.ID); err != nil {
			return nil, err
		}
		c, ok := cache[st.ID]
		if !ok || !c.updated.Equal(st.Updated) || st.State == store.Deploying {
			c = cachedStack{updated: st.Updated}
			recorded, _, err := m.app.Store.Recorded(m.ctx, st.ID)
			if err != nil {
				return nil, err
			}
			c.graph, c.types = stack.RecordedGraph(recorded), map[string]string{}
			for _, r := range recorded {
				c.types[r.Name] = r.Type
			}
			if c.results, err = m.app.Results(m.ctx, st); err != nil {
				return nil, err
			}
		}
		next[st.ID] = c
		r.cachedStack = c
		rows = append(rows, r)
	}
	return rows, nil
}

// findFiles looks for stack files of stacks that were never deployed.
func findFiles(known []stackRow, folders []string) []stackRow {
	have := map[string]bool{}
	for _, r := range known {
		have[r.id()] = true
		if r.file != "" {
			folders = append(folders, filepath.Dir(r.file))
		}
	}
	slices.Sort(folders)
	var out []stackRow
	for _, dir := range slices.Compact(folders) {
		names, err := filepath.Glob(filepath.Join(dir, "*.stack.yaml"))
		if err != nil {
			continue
		}
		for _, path := range names {
			text, err := files.Read(path, 1<<20)
			if err != nil {
				continue
			}
			f, _ := stack.ReadFile(path, text)
			r := stackRow{subject: subject{name: f.Stack, file: path, target: f.Target.String()}, order: 1}
			if f.Stack != "" && !have[r.id()] {
				have[r.id()] = true
				out = append(out, r)
			}
		}
	}
	return out
}

func (v *stacksView) refresh(m *model) tea.Cmd {
	if (m.at == viewStacks || m.about.stack != nil) && v.fresh.stale(m) {
		return v.load(m)
	}
	return nil
}

func (v *stacksView) loaded(m *model, msg stacksLoaded) tea.Cmd {
	v.busy, v.ready = false, true
	if msg.err != nil {
		m.say(true, "the stacks cannot be read: %v", msg.err)
		return nil
	}
	v.rows, v.cache = msg.rows, msg.cache
	if v.sel == "" && len(v.visible()) > 0 {
		v.sel = v.visible()[0].id()
	}
	for _, r := range v.rows {
		if r.name == m.about.name && r.target == m.about.target {
			m.about.stack = r.stack
		}
	}
	if m.at == viewStacks {
		v.aim(m)
	}
	return nil
}

// aim makes the selected row the subject of the other views.
func (v *stacksView) aim(m *model) {
	if r := v.selected(); r != nil {
		m.about = r.subject
	} else {
		m.about = subject{}
	}
}

// visible lists the rows that pass the filter.
func (v *stacksView) visible() []stackRow {
	var out []stackRow
	for _, r := range v.rows {
		if r.order == 2 && !v.removed {
			continue
		}
		state := "empty"
		if r.stack != nil {
			state = string(r.stack.State)
		}
		if v.filter.fits(r.name + " " + r.target + " " + state) {
			out = append(out, r)
		}
	}
	return out
}

func (v *stacksView) selected() *stackRow {
	for _, r := range v.visible() {
		if r.id() == v.sel {
			return &r
		}
	}
	return nil
}

func (v *stacksView) move(m *model, by int) {
	rows := v.visible()
	if len(rows) == 0 {
		return
	}
	i := slices.IndexFunc(rows, func(r stackRow) bool { return r.id() == v.sel })
	v.sel = rows[max(0, min(len(rows)-1, i+by))].id()
	v.result = 0
	v.aim(m)
}

func (v *stacksView) key(m *model, k string) (tea.Cmd, bool) {
	r := v.selected()
	switch k {
	case "up", "k":
		v.move(m, -1)
	case "down", "j":
		v.move(m, 1)
	case "pgup":
		v.move(m, -10)
	case "pgdown":
		v.move(m, 10)
	case "home", "g":
		v.move(m, -len(v.rows))
	case "end", "G":
		v.move(m, len(v.rows))
	case "/":
		v.filter.typing = true
	case "r":
		v.removed = !v.removed
		v.aim(m)
	case "o":
		return v.askFile(m), true
	case "esc":
		if !v.filter.active() {
			return nil, false
		}
		v.filter.input.SetValue("")
		v.aim(m)
	case "enter", "right", "l":
		if r != nil {
			return m.open(viewDraft), true
		}
	case "tab":
		if r != nil && len(r.results) > 0 {
			v.result = (v.result + 1) % len(r.results)
		}
	case "y":
		if r != nil && v.result < len(r.results) {
			return m.copy(r.results[v.result]), true
		}
	case "x":
		if r != nil && r.stack != nil && r.stack.State != store.Removed {
			return m.whatif.openDelete(m), true
		}
	case "u":
		if r != nil && r.stack != nil {
			return m.whatif.openUndo(m), true
		}
	default:
		return nil, false
	}
	return nil, true
}

// copy puts a result on the clipboard.
func (m *model) copy(r store.Result) tea.Cmd {
	m.say(false, "copied %s", r.Name)
	return tea.SetClipboard(cli.ResultText(r, true))
}

func (v *stacksView) line() *filterLine { return &v.filter }

func (v *stacksView) filtered(m *model) {
	if rows := v.visible(); v.selected() == nil && len(rows) > 0 {
		v.sel = rows[0].id()
	}
	v.aim(m)
}

// askFile asks for a stack file or a template to open.
func (v *stacksView) askFile(m *model) tea.Cmd {
	m.ask = newAsk("Which stack file, template or saved change set? The path may begin with ~", "", func(path string) tea.Cmd {
		path = inHome(path)
		if app.IsSaved(path) {
			return m.whatif.openSaved(m, path)
		}
		return func() tea.Msg {
			d, err := m.app.Load(m.ctx, path, app.Values{})
			if err != nil {
				return failed{"open", err}
			}
			return draftLoaded{draft: d, opened: true}
		}
	})
	m.ask.free = true
	return nil
}

func (v *stacksView) click(m *model, _, y int) tea.Cmd {
	rows := v.visible()
	if i := y - v.list.y + v.top; i >= 0 && i < len(rows) && y >= v.list.y && y < v.list.y+v.list.h {
		if v.sel == rows[i].id() {
			return m.open(viewDraft)
		}
		v.sel = rows[i].id()
		v.aim(m)
	}
	return nil
}

func (v *stacksView) wheel(m *model, by int) { v.move(m, by) }

func (v *stacksView) keys(*model) []binding {
	keys := []binding{{"enter", "open it"}}
	r := v.selected()
	if r != nil && len(r.results) > 0 {
		keys = append(keys, binding{"y", "copy the result"}, binding{"tab", "next result"})
	}
	keys = append(keys, binding{"/", "filter"})
	if r != nil && r.stack != nil && r.stack.State != store.Removed {
		keys = append(keys, binding{"x", "delete it"})
	}
	if r != nil && r.stack != nil && (r.stack.Revision != 1 || r.stack.State != store.Ready) && !(r.interrupted() && r.run != nil && r.run.Kind == "delete") {
		keys = append(keys, binding{"u", "undo, or go back"})
	}
	return append(keys, binding{"r", "removed ones"}, binding{"o", "open a file"}, binding{"↑ ↓", "choose"})
}

func (v *stacksView) hint(*model) string {
	r := v.selected()
	switch {
	case v.filter.typing:
		return "type words of name, target or state; enter keeps the filter"
	case r == nil:
		return "o opens a stack file"
	case r.stack == nil:
		return "not deployed yet: enter reads it, 3 shows what it would do"
	case r.stack.State == store.Removed:
		return "removed: 3 shows what standing it up again would do"
	case r.interrupted():
		return "4 shows what happened and how to go on"
	case r.stack.State == store.Deploying || r.stack.State == store.Undoing || r.stack.State == store.Removing:
		return "4 shows the run, live"
	}
	return "next: enter reads the template, 3 shows what would change"
}

func (v *stacksView) status(*model) string {
	if !v.ready {
		return "reading …"
	}
	hidden := 0
	for _, r := range v.rows {
		if r.order == 2 && !v.removed {
			hidden++
		}
	}
	s := fmt.Sprintf("%d of %d stacks", len(v.visible()), len(v.rows))
	if hidden > 0 {
		s += fmt.Sprintf(", %d removed hidden", hidden)
	}
	return s
}

func (v *stacksView) draw(m *model, s *screen, r rect) {
	t := m.t
	rows := v.visible()
	list, detail := r.splitRight(max(46, r.w*2/5))
	if r.w < 110 {
		list, detail = r.splitBottom(min(r.h-4, max(9, r.h-3-len(rows))))
	} else {
		s.column(detail.x-1, r.y+1, r.h-1, t.on(t.mortar), "│")
	}
	y := list.y
	switch {
	case v.filter.draw(m, s, 1, y, list.w):
	default:
		c := v.columns(list.w)
		s.text(c.name, y, 20, t.faint(), "stack")
		s.text(c.target, y, 20, t.faint(), "target")
		s.text(c.state, y, 10, t.faint(), "state")
		s.text(c.rev, y, 5, t.faint(), "rev")
		s.text(c.run, y, list.w-c.run-1, t.faint(), "last run")
	}
	v.list = rect{list.x, list.y + 1, list.w, list.h - 1}
	i := slices.IndexFunc(rows, func(r stackRow) bool { return r.id() == v.sel })
	v.top = max(0, min(v.top, i))
	if i >= v.top+v.list.h {
		v.top = i - v.list.h + 1
	}
	if len(rows) == 0 && v.ready {
		v.drawEmpty(m, s, v.list)
	}
	if free := v.list.h - len(rows) - 2; r.w >= 110 && free >= 8 {
		v.drawWall(m, s, rect{list.x, v.list.y + len(rows) + 2, list.w - 1, free})
		v.list.h = len(rows)
	}
	for j := v.top; j < min(len(rows), v.top+v.list.h); j++ {
		v.drawRow(m, s, rows[j], v.list.y+j-v.top, list.w)
	}
	if sel := v.selected(); sel != nil {
		v.drawDetail(m, s, rect{detail.x + 1, detail.y, detail.w - 2, detail.h}, sel)
	}
}

// drawWall shows the wall of the selected stack under the list.
func (v *stacksView) drawWall(m *model, s *screen, r rect) {
	row := v.selected()
	if row == nil || len(row.graph) == 0 {
		return
	}
	v.wall.set(row.graph)
	v.wall.sel, v.wall.reach = "", nil
	p := m.t.kinds["same"]
	if row.stack.State == store.Ready {
		p = m.t.states["ready"]
	}
	v.wall.draw(s, r, m.t, func(name string) brick {
		return brick{mark: "■", sub: row.types[name], paint: p, faint: true}
	})
}

func (v *stacksView) drawEmpty(m *model, s *screen, r rect) {
	lines := []string{"No stacks here yet.", "", "A stack is a template with its values, deployed to an account and region.", "Small ones to begin with: 'brickrow starters' lists them, 'brickrow new STARTER DIR' writes one.", "o opens a stack file; 'brickrow demo' shows a set of them."}
	if v.filter.active() {
		lines = []string{"No stack matches the filter.", "", "esc clears it."}
	} else if len(v.rows) > 0 {
		lines = []string{"All stacks are removed.", "", "r shows them."}
	}
	for i, l := range lines {
		s.text(r.x+3, r.y+1+i, r.w-4, m.t.plain(), l)
	}
}

// columns are where the columns of the list begin.
type columns struct{ wall, name, target, state, rev, run int }

func (v *stacksView) columns(w int) columns {
	c := columns{wall: 2, name: 11}
	longest := 12
	for _, r := range v.rows {
		longest = max(longest, width(r.name)+2)
	}
	place := 8
	for _, r := range v.rows {
		place = max(place, width(r.place())+2)
	}
	c.target = c.name + min(longest, max(12, w-66))
	c.state = c.target + min(place, 24)
	c.rev = c.state + 12
	c.run = c.rev + 5
	return c
}

func (v *stacksView) drawRow(m *model, s *screen, r stackRow, y, w int) {
	t, c := m.t, v.columns(w)
	base, strong, faint := t.plain(), t.strong(), t.faint()
	selected := r.id() == v.sel
	if selected {
		base = uv.Style{Fg: t.bright, Bg: t.bar}
		strong, faint = bold(base), uv.Style{Fg: t.dim, Bg: t.bar}
		s.fill(rect{0, y, w - 1, 1}, base)
		s.text(0, y, 1, uv.Style{Fg: t.accent, Bg: t.bar}, "▌")
	}
	state := store.Empty
	if r.stack != nil {
		state = r.stack.State
	}
	mark, col := t.stackPaint(state)
	s.text(c.wall, y, 8, uv.Style{Fg: col, Bg: base.Bg}, miniature(r.courses()))
	s.text(c.name, y, c.target-c.name-1, strong, r.name)
	s.text(c.target, y, c.state-c.target-1, faint, r.place())
	s.text(c.state, y, 11, uv.Style{Fg: col, Bg: base.Bg}, mark+" "+string(state))
	if r.stack != nil && r.stack.Revision > 0 {
		s.text(c.rev, y, 4, base, itoa(r.stack.Revision))
	}
	words := ""
	if r.run != nil {
		words = fmt.Sprintf("%s %s", r.run.Kind, ago(r.run.Started))
		if r.run.State == store.RunUndone {
			words = "undone " + ago(r.run.Started)
		}
	}
	if r.locked != "" {
		words = "locked · " + words
	}
	if r.interrupted() {
		words, faint = "did not come to its end", bold(uv.Style{Fg: t.hint, Bg: base.Bg})
	}
	s.text(c.run, y, w-c.run-2, faint, words)
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

func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Local().Format("2006-01-02")
}

func (v *stacksView) drawDetail(m *model, s *screen, r rect, row *stackRow) {
	t := m.t
	y := r.y
	put := func(st uv.Style, text string) {
		for _, line := range wrap(text, r.w-1) {
			if y < r.y+r.h {
				s.text(r.x+1, y, r.w-1, st, line)
			}
			y++
		}
	}
	put(t.strong(), row.name)
	if row.stack == nil {
		put(t.plain(), "A stack file that is not deployed yet.")
		y++
		put(t.faint(), row.file)
		return
	}
	put(t.plain(), row.stack.Description)
	words := fmt.Sprintf("%d resources in %d courses", len(row.graph), len(row.graph.Courses()))
	if len(row.graph) == 0 {
		words = "nothing of it is in the cloud"
	}
	if row.stack.Careful {
		words += " · careful"
	}
	put(t.faint(), words)
	put(t.faint(), tail(row.file, min(44, r.w-2)))
	if row.locked != "" {
		put(t.hinted(), "locked by "+row.locked)
	}
	if row.run != nil {
		y++
		v.drawLastRun(m, s, rect{r.x + 1, y, r.w - 1, r.y + r.h - y}, row)
		y += 2
		if row.run.Reason != "" {
			st := t.faint()
			if row.run.State == store.RunUndone || row.run.State == store.RunStuck {
				st = t.on(t.states["failed"].word)
			}
			put(st, row.run.Reason)
		}
	}
	if len(row.results) > 0 && y+2 < r.y+r.h {
		y++
		m.panelTitle(s, rect{r.x + 1, y, r.w - 1, 1}, "results", "y copies the marked one, tab the next")
		y++
		drawResults(m, s, rect{r.x + 1, y, r.w - 1, r.y + r.h - y}, row.results, v.result)
	}
}

func (v *stacksView) drawLastRun(m *model, s *screen, r rect, row *stackRow) {
	t, run := m.t, row.run
	x := s.text(r.x, r.y, r.w, bold(t.hinted()), "last run")
	took := ""
	if !run.Ended.IsZero() {
		took = " after " + whatif.Length(run.Ended.Sub(run.Started).Seconds())
	}
	s.text(x+2, r.y, r.w-(x-r.x), t.plain(), fmt.Sprintf("%d, %s by %s: %s%s", run.Number, run.Kind, run.By, run.State, took))
	s.text(r.x, r.y+1, r.w, t.faint(), fmt.Sprintf("%s, begun %s", run.Tally, run.Started.Local().Format("2006-01-02 15:04:05")))
}

// drawResults lists results, each with what it is, the marked one lit.
func drawResults(m *model, s *screen, r rect, list []store.Result, at int) {
	t := m.t
	y := r.y
	for i, res := range list {
		mark, st := "  ", t.plain()
		if i == at {
			mark, st = "▸ ", t.strong()
		}
		if y >= r.y+r.h {
			return
		}
		x := s.text(r.x, y, r.w, t.on(t.key), mark+res.Name)
		s.text(x+2, y, r.x+r.w-x-2, t.faint(), res.Description)
		y++
		for _, line := range wrap(tosca.Show(res.Value), r.w-4) {
			if y < r.y+r.h {
				s.text(r.x+4, y, r.w-4, st, line)
			}
			y++
		}
	}
}

// tail is the end of a path, cut at a folder so that it fits.
func tail(path string, w int) string {
	for width(path) > w {
		at := strings.IndexByte(strings.TrimPrefix(path, "…/"), '/')
		if at < 0 {
			return path
		}
		path = "…/" + strings.TrimPrefix(path, "…/")[at+1:]
	}
	return path
}

func cut(target string) (account, region string, ok bool) { return strings.Cut(target, "/") }
