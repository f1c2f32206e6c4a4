package tui

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/run"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// brick is how a resource looks in the run.
func (v *runView) brick(t *theme, name string) brick {
	p, planned := v.now[name]
	if !planned {
		return brick{mark: "▪", sub: "untouched", paint: t.kinds["same"], faint: true}
	}
	b := brick{mark: stateMarks[p.state], paint: t.states[p.state], sub: string(p.state)}
	switch p.state {
	case run.Waiting:
		b.faint = true
		if w := v.waitsFor(name); w != "" {
			b.sub = "waits: " + w
		}
	case run.Working, run.Settling, run.Undoing, run.Removing:
		b.sub = p.step
		if b.sub == "" {
			b.sub = string(p.state)
		}
		b.fill = min(0.97, time.Since(p.began).Seconds()/max(0.1, p.seconds))
		if v.run.State.Ended() {
			b.fill = 0.5
		}
		b.fill = max(b.fill, 0.03)
	case run.IsReady:
		b.sub = "ready " + whatif.Length(p.ended.Sub(p.began).Seconds())
		if p.step != "" {
			b.sub = p.step
		} else if p.old.state == run.Removed {
			b.sub = "swapped"
		}
	case run.Skipped:
		b.faint = true
	case run.IsUndone, run.Removed:
		b.sub += " " + whatif.Length(p.ended.Sub(p.began).Seconds())
	}
	if p.failed && p.state == run.IsUndone {
		b.mark, b.paint, b.sub = stateMarks[run.HasFailed], t.states[run.HasFailed], "failed, undone"
	}
	b.alarm = p.failed
	return b
}

// waitsFor is the first thing that a resource still waits for.
func (v *runView) waitsFor(name string) string {
	for _, n := range v.graph[name] {
		if p, ok := v.now[n]; ok && p.state != run.IsReady {
			return n
		}
	}
	return ""
}

func (v *runView) draw(m *model, s *screen, r rect) {
	t := m.t
	if v.run == nil {
		words := "reading the run …"
		if v.none {
			words = "This stack has had no run yet. 3 shows what deploying it would do."
		}
		if v.err != nil {
			words = "the run cannot be read: " + v.err.Error()
		}
		s.text(r.x+3, r.y+1, r.w-4, t.plain(), words)
		return
	}
	v.drawTop(m, s, r)
	body := rect{r.x, r.y + 2, r.w, r.h - 2}
	if n := v.explainLines(r.w); n > 0 {
		var strip rect
		body, strip = body.splitBottom(min(n+1, body.h/2))
		v.drawExplain(m, s, strip)
	}
	of := func(name string) brick { return v.brick(t, name) }
	if r.w < 100 {
		v.drawSmall(m, s, body, of)
		return
	}
	wide := max(54, r.w*2/5)
	room := max(5, body.h-v.wall.ideal(r.w-wide)) // the wall stays at its full size where it can
	top, times := body.splitBottom(min(room, body.h*2/5, len(v.timed())+2))
	left, side := top.splitRight(wide)
	s.column(side.x, side.y, side.h, t.on(t.mortar), "│")
	v.wall.draw(s, left, t, of)
	side = rect{side.x + 2, side.y, side.w - 3, side.h}
	if v.run.State == store.RunDone && v.run.Kind != "delete" && len(v.results) > 0 {
		var bottom rect
		side, bottom = side.splitBottom(min(side.h/2, v.resultLines(side.w)+1))
		m.panelTitle(s, bottom, "results", "y copies the marked one, tab the next")
		drawResults(m, s, rect{bottom.x, bottom.y + 1, bottom.w, bottom.h - 1}, v.results, v.result)
	}
	v.drawEvents(m, s, side)
	if times.h > 2 {
		s.line(times.x, times.y, times.w, t.on(t.mortar), "─")
		v.drawTimes(m, s, rect{times.x + 1, times.y + 1, times.w - 2, times.h - 1})
	}
}

func (v *runView) resultLines(w int) int {
	n := 0
	for _, r := range v.results {
		n += 1 + max(1, len(wrap(tosca.Show(r.Value), w-4)))
	}
	return n + 1
}

func (v *runView) drawSmall(m *model, s *screen, body rect, of func(string) brick) {
	top, bottom := body.splitBottom(body.h / 2)
	v.wall.draw(s, top, m.t, of)
	bottom = rect{bottom.x + 1, bottom.y, bottom.w - 2, bottom.h}
	switch {
	case v.pane == 1:
		v.drawTimes(m, s, bottom)
	case v.pane == 2 && len(v.results) > 0:
		m.panelTitle(s, bottom, "results", "y copies the first")
		drawResults(m, s, rect{bottom.x, bottom.y + 1, bottom.w, bottom.h - 1}, v.results, v.result)
	default:
		v.drawEvents(m, s, bottom)
	}
}

// counts is how many steps there are and how many are over.
func (v *runView) counts() (all, over, undone, toUndo int) {
	for _, p := range v.now {
		if !p.planned {
			continue
		}
		all++
		switch p.state {
		case run.IsReady, run.Removed, run.Kept:
			over++
		case run.IsUndone:
			undone++
			toUndo++
		case run.Undoing:
			toUndo++
		}
	}
	return all, over, undone, toUndo
}

func (v *runView) drawTop(m *model, s *screen, r rect) {
	t := m.t
	all, over, undone, _ := v.counts()
	share, col := 1.0, t.states[run.IsReady].ground
	var words []span
	took := time.Since(v.run.Started)
	if v.run.State.Ended() {
		took = v.run.Ended.Sub(v.run.Started)
	}
	gone := whatif.Length(took.Seconds())
	switch v.run.State {
	case store.RunWorking:
		share, col = float64(over)/float64(max(1, all)), t.accent
		words = append(words, span{t.strong(), fmt.Sprintf("%d of %d", over, all)}, span{t.faint(), "   " + gone + " gone, about "}, span{t.strong(), whatif.Length(v.left()) + " left"})
		if held := v.heldUp(); held != "" {
			words = append(words, span{t.faint(), "   held up by " + held})
		}
		if v.holder == "" {
			words = []span{{bold(t.hinted()), "nobody carries it out: its process has ended"}}
		}
	case store.RunUndoing:
		share, col = float64(undone)/float64(max(1, v.toTakeBack())), t.states[run.HasFailed].ground
		words = append(words, span{bold(t.on(t.states[run.HasFailed].word)), fmt.Sprintf("undoing %d of %d", undone, v.toTakeBack())}, span{t.faint(), v.backTo()})
	case store.RunDone:
		word := "done"
		if v.run.Kind == "delete" {
			word = "removed"
		}
		words = append(words, span{bold(t.on(t.states[run.IsReady].word)), fmt.Sprintf("■ %s after %s", word, gone)})
		if v.before >= time.Second {
			words = append(words, span{t.faint(), "   last time " + whatif.Length(v.before.Seconds())})
		}
		if v.run.Reason != "" {
			words = append(words, span{t.plain(), "   " + v.run.Reason})
		}
	case store.RunUndone:
		col = t.states[run.IsUndone].ground
		words = append(words, span{bold(t.on(t.states[run.IsUndone].word)), "↶ failed and undone after " + gone}, span{t.faint(), "   " + v.lastWords()})
	case store.RunHeld:
		col = t.states[run.Working].ground
		words = append(words, span{bold(t.hinted()), "◧ held after " + gone}, span{t.faint(), "   what is built stays"})
	case store.RunStuck:
		col = t.states[run.HasFailed].ground
		words = append(words, span{bold(t.on(t.states[run.HasFailed].word)), "✖ stuck after " + gone})
	}
	long := min(40, r.w/4)
	full := int(share * float64(long))
	s.line(r.x+1, r.y, long, t.on(t.mortar), "░")
	s.fill(rect{r.x + 1, r.y, full, 1}, uv.Style{Bg: col})
	s.line(r.x+1, r.y, full, t.on(col), "█")
	s.spans(r.x+long+3, r.y, r.w-long-4, words...)
}

func (v *runView) backTo() string {
	if v.run.Base == 0 {
		return "   nothing of the stack was there before"
	}
	return fmt.Sprintf("   the stack goes back to revision %d; nothing has been removed", v.run.Base)
}

// lastWords is what the run said last about itself.
func (v *runView) lastWords() string {
	for _, e := range slices.Backward(v.events) {
		if e.Resource == "" {
			return strings.TrimPrefix(e.Step, "undone: ")
		}
	}
	return ""
}

// toTakeBack is what the run said of how much there is to undo.
func (v *runView) toTakeBack() int {
	for _, e := range slices.Backward(v.events) {
		n := 0
		if _, err := fmt.Sscanf(e.Step, "undo: %d to take back", &n); err == nil {
			return n
		}
	}
	return 0
}

// left is how many seconds the run still takes: the longest chain of what is
// not over, or all of it divided by how much is under way at once.
func (v *runView) left() float64 {
	_, seconds := v.graph.CriticalPath(v.remaining)
	sum := 0.0
	for n := range v.now {
		sum += v.remaining(n)
	}
	return max(seconds, sum/whatif.Limit)
}

func (v *runView) remaining(name string) float64 {
	p, ok := v.now[name]
	if !ok {
		return 0
	}
	switch p.state {
	case run.Waiting:
		return p.seconds
	case run.Working, run.Settling, run.Removing:
		return max(0.2, p.seconds-time.Since(p.began).Seconds())
	}
	return 0
}

// heldUp is the resource under way at the beginning of the longest chain.
func (v *runView) heldUp() string {
	path, _ := v.graph.CriticalPath(v.remaining)
	for _, n := range path {
		if p := v.now[n]; p.state == run.Working || p.state == run.Settling || p.state == run.Removing {
			return n
		}
	}
	return ""
}

func (v *runView) drawEvents(m *model, s *screen, r rect) {
	t := m.t
	mode := "newest below · following"
	if !v.follow {
		mode = "newest below · f follows"
	}
	m.panelTitle(s, r, "events", mode)
	rows := r.h - 1
	if rows <= 0 {
		return
	}
	last := max(0, len(v.events)-rows)
	if v.follow || v.top >= last {
		v.top = last
	}
	name := 8
	for _, e := range v.events {
		name = max(name, width(e.Resource))
	}
	name = min(name, r.w/3)
	for i, e := range v.events[v.top:min(len(v.events), v.top+rows)] {
		y := r.y + 1 + i
		p := t.states[e.State]
		st, nameSt := t.plain(), t.strong()
		who := e.Resource
		if who == "" {
			who, nameSt = "run", bold(t.hinted())
		}
		if e.Resource != "" && e.Resource == v.wall.sel {
			nameSt = bold(t.on(t.accent))
		}
		x := s.text(r.x, y, 8, t.faint(), e.Time.Local().Format("15:04:05"))
		x = s.text(x+1, y, 1, bold(t.on(p.word)), stateMarks[e.State])
		s.text(x+1, y, name, nameSt, who)
		x += name + 2
		s.text(x, y, r.x+r.w-x, st, eventWords(e))
	}
}

func eventWords(e run.Event) string {
	words := e.Step
	if e.Reason != "" {
		if words != "" {
			words += ": "
		}
		words += e.Reason
	}
	if words != "" {
		return words
	}
	switch e.State {
	case run.Skipped, run.Kept:
		return string(e.State)
	}
	return string(e.State) + " after " + whatif.Length(e.Elapsed.Seconds())
}

// timed lists the planned resources by when they began.
func (v *runView) timed() []string {
	var names []string
	for n, p := range v.now {
		if p.planned {
			names = append(names, n)
		}
	}
	start := func(n string) time.Time {
		p := v.now[n]
		if len(p.past) > 0 {
			return p.past[0].began
		}
		if !p.began.IsZero() {
			return p.began
		}
		return v.run.Started.Add(time.Hour)
	}
	slices.SortFunc(names, func(a, b string) int {
		if c := start(a).Compare(start(b)); c != 0 {
			return c
		}
		return strings.Compare(a, b)
	})
	return names
}

// drawTimes draws a bar for each resource over the seconds of the run, with
// what is still expected, and a scale below.
func (v *runView) drawTimes(m *model, s *screen, r rect) {
	t := m.t
	names := v.timed()
	if len(names) == 0 || r.h < 2 {
		return
	}
	now := time.Now()
	if v.run.State.Ended() {
		now = v.run.Ended
	}
	sofar := now.Sub(v.run.Started).Seconds()
	total := sofar
	if v.run.State == store.RunWorking {
		total += v.left()
	}
	total = max(total, 0.1)
	label := 10
	for _, n := range names {
		label = max(label, width(n))
	}
	label = min(label, r.w/4)
	long := r.w - label - 2
	x0 := r.x + label + 2
	col := func(sec float64) int { return max(0, min(long, int(sec/total*float64(long)))) }
	path, _ := v.graph.CriticalPath(v.remaining)
	expected := v.expected()
	rows := r.h - 1
	from := 0
	if len(names) > rows { // keep what is under way in sight
		for i, n := range names {
			if p := v.now[n]; p.state == run.Working || p.state == run.Settling || p.state == run.Undoing || p.state == run.Removing {
				from = i
				break
			}
		}
		if at := slices.Index(names, v.wall.sel); v.run.State.Ended() && at >= rows {
			from = at
		}
		from = max(0, min(from-1, len(names)-rows))
	}
	for i, n := range names[from:min(len(names), from+rows)] {
		y := r.y + i
		p := v.now[n]
		st := t.faint()
		if v.run.State == store.RunWorking && v.remaining(n) > 0 && slices.Contains(path, n) {
			st = t.hinted()
		}
		if n == v.wall.sel {
			st = bold(t.on(t.accent))
		}
		s.text(r.x, y, label, st, n)
		switch {
		case !p.began.IsZero():
			b := 0
			done := append(slices.Clone(p.past), segment{p.state, p.began, p.ended})
			if !p.old.began.IsZero() {
				done = append(done, p.old)
			}
			for _, seg := range done {
				end := now
				if !seg.ended.IsZero() {
					end = seg.ended
				}
				a := col(seg.began.Sub(v.run.Started).Seconds())
				b = min(long, max(col(end.Sub(v.run.Started).Seconds()), a+1))
				look := t.states[seg.state]
				s.line(x0+a, y, b-a, t.on(look.ground), "█")
				s.text(x0+a, y, 1, uv.Style{Fg: look.text, Bg: look.ground}, stateMarks[seg.state])
			}
			if rest := v.remaining(n); rest > 0 && v.run.State == store.RunWorking {
				s.line(x0+b, y, col(sofar+rest)-b, t.on(t.mortar), "░")
			}
		case p.state == run.Waiting && v.run.State == store.RunWorking:
			start := sofar + expected[n]
			s.line(x0+col(start), y, max(1, col(start+p.seconds)-col(start)), t.on(t.mortar), "░")
		}
	}
	v.drawScale(m, s, x0, r.y+r.h-1, long, total, sofar)
}

// expected is in how many seconds each resource is thought to begin.
func (v *runView) expected() map[string]float64 {
	begins := make(map[string]float64, len(v.graph))
	order, _ := v.graph.Order()
	for _, name := range order {
		for _, n := range v.graph[name] {
			begins[name] = max(begins[name], begins[n]+v.remaining(n))
		}
	}
	return begins
}

func (v *runView) drawScale(m *model, s *screen, x, y, long int, total, sofar float64) {
	t := m.t
	step := 0.1
	for _, candidate := range []float64{0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600, 7200} {
		step = candidate
		if total/candidate <= float64(long)/14 {
			break
		}
	}
	now, end := -1, -1 // where it stands
	if v.run.State == store.RunWorking {
		now = x + min(long-4, int(sofar/total*float64(long)))
		end = now + width("│now")
		s.text(now, y, 6, bold(t.on(t.accent)), "│now")
	}
	for sec := 0.0; sec <= total; sec += step {
		words := fmt.Sprintf("╵%g s", float64(int(sec*10+0.5))/10)
		if sec >= 60 {
			words = "╵" + whatif.Length(sec)
		}
		at := x + int(sec/total*float64(long))
		if at+width(words) <= x+long && (at+width(words) < now || at > end) {
			s.text(at, y, 12, t.faint(), words)
		}
	}
}

func (v *runView) explainLines(w int) int {
	if len(v.failures) == 0 {
		return 0
	}
	return min(2, len(wrap(v.failures[0].Reason, w-24))) + 3
}

// drawExplain spells the failure out.
func (v *runView) drawExplain(m *model, s *screen, r rect) {
	t := m.t
	e := v.failures[0]
	s.line(r.x, r.y, r.w, t.on(t.mortar), "─")
	p := t.states[run.HasFailed]
	x := s.text(r.x+1, r.y+1, r.w/2, uv.Style{Fg: p.text, Bg: p.ground, Attrs: uv.AttrBold}, " ✖ "+e.Resource+" ")
	words := "failed"
	if e.Step != "" {
		words = "failed while " + e.Step
	}
	s.text(x+2, r.y+1, r.w-x-3, bold(t.on(p.word)), words+" after "+whatif.Length(e.Elapsed.Seconds()))
	y := r.y + 2
	row := func(name string, lines []string, st uv.Style) {
		for i, l := range lines {
			if y >= r.y+r.h {
				return
			}
			if i == 0 {
				s.text(r.x+3, y, 12, t.faint(), name)
			}
			s.text(r.x+16, y, r.w-18, st, l)
			y++
		}
	}
	reason := wrap(e.Reason, r.w-24)
	row("the cloud", reason[:min(2, len(reason))], t.strong())
	if pos, ok := v.pos[e.Resource]; ok && pos.Line > 0 {
		row("template", []string{fmt.Sprintf("%s:%d, %s   t opens it", filepath.Base(pos.File), pos.Line, e.Type)}, t.plain())
	}
	row("now", []string{v.standing()}, t.plain())
}

// standing says how things are after the failure.
func (v *runView) standing() string {
	switch v.run.State {
	case store.RunUndoing:
		return "taking back what this run has done; nothing that was there before has been removed"
	case store.RunUndone:
		return v.lastWords()
	case store.RunHeld:
		return "what is built stays; what failed was cleared away"
	case store.RunStuck:
		return "R goes on from here once the cause is gone"
	case store.RunWorking:
		return "what is under way comes to its end first"
	}
	return string(v.run.State)
}
