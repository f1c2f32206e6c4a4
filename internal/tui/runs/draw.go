package runs

import (
	"fmt"
	"slices"
	"strings"
	"time"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// brick is how a resource looks in the run.
func (v *View) brick(t *part.Theme, name string, now time.Time) part.Brick {
	return part.RunBrick(t, v.run, v.progress, v.setting.Graph, name, now)
}

// Draw draws the wall, beside it the events, and below when what was done.
func (v *View) Draw(s *part.Screen, r part.Rect) {
	t := v.Theme()
	if v.run == nil {
		words := "reading the run …"
		if v.none {
			words = "This stack has had no run yet. 3 shows what deploying it would do."
		}
		if v.err != nil {
			words = "the run cannot be read: " + v.err.Error()
		}
		s.Text(r.X+3, r.Y+1, r.W-4, t.Plain(), words)
		return
	}
	v.drawTop(s, r)
	if v.log.reading {
		v.drawReading(s, part.R(r.X, r.Y+2, r.W, r.H-2))
		return
	}
	body := part.R(r.X, r.Y+2, r.W, r.H-2)
	if v.scripts.reading {
		v.drawScripts(s, body)
		return
	}
	if lines := v.explanation(r.W); len(lines) > 0 {
		if v.why {
			v.drawWhy(s, body, lines)
			return
		}
		var strip part.Rect
		most := body.H / 2
		if r.H < 25 {
			most = body.H * 2 / 5
		}
		body, strip = body.SplitBottom(min(len(lines)+1, most))
		v.drawExplanation(s, strip, lines)
	}
	now := time.Now()
	of := func(name string) part.Brick { return v.brick(t, name, now) }
	if r.W < 100 {
		v.drawSmall(s, body, of)
		return
	}
	wide := max(54, r.W*2/5)
	room := max(5, body.H-v.wall.Ideal(r.W-wide)) // the wall stays at its full size where it can
	top, times := body.SplitBottom(min(room, body.H*2/5, len(v.progress.Order())+2))
	left, side := top.SplitRight(wide)
	s.Column(side.X, side.Y, side.H, t.On(t.Mortar), "│")
	v.wall.Draw(s, left, t, of)
	side = part.R(side.X+2, side.Y, side.W-3, side.H)
	if v.run.State == run.StatusDone && v.run.Kind != run.KindDelete && len(v.results()) > 0 {
		var bottom part.Rect
		side, bottom = side.SplitBottom(min(side.H/2, v.resultLines(side.W)+1))
		part.PanelTitle(v.Theme(), s, bottom, "results", part.ResultKeys(v.results()))
		part.DrawResults(v.Theme(), s, part.R(bottom.X, bottom.Y+1, bottom.W, bottom.H-1), v.results(), v.result)
	}
	if want := v.outputLines(side.W); want > 0 {
		var bottom part.Rect
		side, bottom = side.SplitBottom(min(side.H/2, want))
		v.drawOutput(s, bottom)
	}
	v.drawEvents(s, side)
	if times.H > 2 {
		s.Line(times.X, times.Y, times.W, t.On(t.Mortar), "─")
		v.drawTimes(s, part.R(times.X+1, times.Y+1, times.W-2, times.H-1))
	}
}

func (v *View) resultLines(w int) int {
	n := 0
	for _, r := range v.results() {
		value, was, command := part.ResultLines(r, w-4)
		n += 1 + max(1, len(value)) + len(was) + len(command)
	}
	return n + 1
}

func (v *View) drawSmall(s *part.Screen, body part.Rect, of func(string) part.Brick) {
	wall := max(body.H/2, min(v.wall.Least(body.W, of), body.H-4))
	top, bottom := body.SplitBottom(body.H - wall)
	v.wall.Draw(s, top, v.Theme(), of)
	bottom = part.R(bottom.X+1, bottom.Y, bottom.W-2, bottom.H)
	switch {
	case v.pane == 1:
		v.drawTimes(s, bottom)
	case v.pane == 0 && v.outputLines(bottom.W) > 0 && v.progress.Part(v.wall.Sel) != nil && v.progress.Part(v.wall.Sel).State.Active():
		v.drawOutput(s, bottom)
	case v.pane == 2 && len(v.results()) > 0:
		part.PanelTitle(v.Theme(), s, bottom, "results", "y copies the first")
		part.DrawResults(v.Theme(), s, part.R(bottom.X, bottom.Y+1, bottom.W, bottom.H-1), v.results(), v.result)
	default:
		v.drawEvents(s, bottom)
	}
}

func (v *View) drawTop(s *part.Screen, r part.Rect) {
	t := v.Theme()
	n, graph, now := v.progress.Counts(), v.setting.Graph, time.Now()
	share, col := 1.0, t.States[run.IsReady].Ground
	var words []part.Span
	took := time.Since(v.run.Started)
	if v.run.State.Ended() {
		took = v.run.Ended.Sub(v.run.Started)
	}
	gone := whatif.Length(took.Seconds())
	switch v.run.State {
	case run.StatusWorking:
		share, col = float64(n.Over)/float64(max(1, n.All)), t.Accent
		words = append(words, part.S(t.Strong(), fmt.Sprintf("%d of %d", n.Over, n.All)),
			part.S(t.Faint(), "   "+gone+" gone, "))
		if rest := v.progress.Left(graph, now); rest >= 0.05 {
			words = append(words, part.S(t.Faint(), "about "),
				part.S(t.Strong(), strings.TrimSpace(whatif.Length(rest)+" left "+v.setting.Margin.String())))
		} else {
			words = append(words, part.S(t.Strong(), "a moment left"))
		}
		if v.progress.Crowded(graph, now) {
			words = append(words, part.S(t.Faint(), fmt.Sprintf("   held up by the limit of the target: %d at once", v.progress.Limit())))
		} else if held := v.progress.HeldUp(graph, now); held != "" {
			words = append(words, part.S(t.Faint(), "   held up by "+held))
		}
		switch {
		case v.run.Pause:
			words = []part.Span{part.S(part.Bold(t.Hinted()), fmt.Sprintf("‖ pausing at %d of %d", n.Over, n.All)),
				part.S(t.Faint(), "   what is under way comes to its end, nothing more begins")}
		case v.run.Cancel:
			words = []part.Span{part.S(part.Bold(t.Hinted()), fmt.Sprintf("stopping at %d of %d", n.Over, n.All)),
				part.S(t.Faint(), "   what is under way comes to its end first")}
		case v.run.OnFailure == stack.Hold && v.run.Kind != run.KindDelete:
			words = append(words, part.S(t.Faint(), "   held, should it fail"))
		}
		if v.news.Holder == "" {
			words = []part.Span{part.S(part.Bold(t.Hinted()), "nobody carries it out: its process has ended")}
		}
	case run.StatusUndoing:
		share, col = float64(n.Undone)/float64(max(1, n.ToUndo)), t.States[run.HasFailed].Ground
		words = append(words, part.S(part.Bold(t.On(t.States[run.HasFailed].Word)),
			fmt.Sprintf("undoing %d of %d", n.Undone, n.ToUndo)), part.S(t.Faint(), v.backTo()))
	case run.StatusDone:
		word := "done"
		if v.run.Kind == run.KindDelete {
			word = "removed"
		}
		words = append(words, part.S(part.Bold(t.On(t.States[run.IsReady].Word)),
			fmt.Sprintf("■ %s after %s", word, gone)))
		if len(v.run.Only) > 0 {
			words = append(words, part.S(t.Hinted(), "   only "+strings.Join(v.run.Only, ", ")+"; the rest is still to be deployed"))
		}
		if v.compared != "" {
			words = append(words, part.S(t.Faint(), "   "+v.compared))
		}
		if v.run.Reason != "" {
			words = append(words, part.S(t.Plain(), "   "+v.run.Reason))
		}
	case run.StatusUndone:
		col = t.States[run.IsUndone].Ground
		words = append(words, part.S(part.Bold(t.On(t.States[run.IsUndone].Word)), "↶ failed and undone after "+gone),
			part.S(t.Faint(), "   "+v.lastWords()))
	case run.StatusHeld:
		col = t.States[run.Working].Ground
		words = append(words, part.S(part.Bold(t.Hinted()), "◧ held after "+gone),
			part.S(t.Faint(), "   what is built stays"))
	case run.StatusPaused:
		share, col = float64(n.Over)/float64(max(1, n.All)), t.States[run.Waiting].Word
		at := fmt.Sprintf("‖ paused at %d of %d", n.Over, n.All)
		if v.run.Back {
			share, at = float64(n.Undone)/float64(max(1, n.ToUndo)), fmt.Sprintf("‖ paused, undone %d of %d", n.Undone, n.ToUndo)
		}
		words = append(words, part.S(part.Bold(t.Hinted()), at), part.S(t.Faint(), "   nothing more begins until somebody goes on"))
	case run.StatusStuck:
		col = t.States[run.HasFailed].Ground
		words = append(words, part.S(part.Bold(t.On(t.States[run.HasFailed].Word)), "✖ stuck after "+gone))
	}
	long := min(40, r.W/4)
	full := int(share * float64(long))
	s.Line(r.X+1, r.Y, long, t.On(t.Mortar), "░")
	s.Fill(part.R(r.X+1, r.Y, full, 1), uv.Style{Bg: col})
	s.Line(r.X+1, r.Y, full, t.On(col), "█")
	s.Spans(r.X+long+3, r.Y, r.W-long-4, words...)
}

func (v *View) backTo() string {
	if v.run.Base == 0 {
		return "   nothing of the stack was there before"
	}
	return fmt.Sprintf("   the stack goes back to revision %d; nothing has been removed", v.run.Base)
}

// lastWords is what the run said last about itself.
func (v *View) lastWords() string { return strings.TrimPrefix(v.progress.Last(), "undone: ") }

// drawTimes draws a bar for each resource over the seconds of the run, with
// what is still expected, and a scale below.
func (v *View) drawTimes(s *part.Screen, r part.Rect) {
	t := v.Theme()
	names := v.progress.Order()
	if len(names) == 0 || r.H < 2 {
		return
	}
	graph, now := v.setting.Graph, time.Now()
	if v.run.State.Ended() {
		now = v.run.Ended
	}
	sofar := now.Sub(v.run.Started).Seconds()
	total := sofar
	if v.run.State == run.StatusWorking {
		total += v.progress.Left(graph, now)
	}
	total = max(total, 0.1)
	label := min(max(10, v.progress.Longest()), r.W/4)
	long := r.W - label - 2
	x0 := r.X + label + 2
	col := func(sec float64) int { return max(0, min(long, int(sec/total*float64(long)))) }
	rows := r.H - 1
	from := 0
	if len(names) > rows { // keep what is under way in sight
		for i, n := range names {
			if v.progress.Part(n).State.Active() {
				from = i
				break
			}
		}
		if at := slices.Index(names, v.wall.Sel); v.run.State.Ended() && at >= rows {
			from = at
		}
		from = max(0, min(from-1, len(names)-rows))
	}
	for i, n := range names[from:min(len(names), from+rows)] {
		y := r.Y + i
		p := v.progress.Part(n)
		rest := p.Remaining(now)
		st := t.Faint()
		if v.run.State == run.StatusWorking && rest > 0 && v.progress.OnPath(graph, n, now) {
			st = t.Hinted()
		}
		if n == v.wall.Sel {
			st = part.Bold(t.On(t.Accent))
		}
		s.Text(r.X, y, label, st, n)
		segments := p.Segments()
		b := 0
		for _, seg := range segments {
			end := now
			if !seg.Ended.IsZero() {
				end = seg.Ended
			}
			a := col(seg.Began.Sub(v.run.Started).Seconds())
			b = min(long, max(col(end.Sub(v.run.Started).Seconds()), a+1))
			look := t.States[seg.State]
			s.Line(x0+a, y, b-a, t.On(look.Ground), "█")
			s.Text(x0+a, y, 1, uv.Style{Fg: look.Text, Bg: look.Ground}, part.StateMarks[seg.State])
		}
		switch {
		case v.run.State != run.StatusWorking || rest == 0:
		case len(segments) > 0:
			s.Line(x0+b, y, col(sofar+rest)-b, t.On(t.Mortar), "░")
		case p.State == run.Waiting:
			start := sofar + v.progress.Begins(graph, n, now)
			s.Line(x0+col(start), y, max(1, col(start+p.Seconds)-col(start)), t.On(t.Mortar), "░")
		}
		if took, known := v.before[n]; known && len(segments) > 0 { // where it ended, if it took as long as before
			at := x0 + col(segments[0].Began.Sub(v.run.Started).Seconds()+took.Seconds())
			ground := t.Ground
			for _, seg := range segments {
				if end := seg.Ended; !end.IsZero() && x0+col(end.Sub(v.run.Started).Seconds()) > at || end.IsZero() && x0+b > at {
					ground = t.States[seg.State].Ground
					break
				}
			}
			s.Text(min(at, r.X+r.W-1), y, 1, uv.Style{Fg: t.Bright, Bg: ground}, "╎")
		}
	}
	v.drawScale(s, x0, r.Y+r.H-1, long, total, sofar)
	if len(v.before) > 0 {
		s.Right(r.X+r.W, r.Y+r.H-1, 20, t.Faint(), "╎ as long as before")
	}
}

func (v *View) drawScale(s *part.Screen, x, y, long int, total, sofar float64) {
	t := v.Theme()
	step := 0.1
	for _, candidate := range []float64{0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600, 7200} {
		step = candidate
		if total/candidate <= float64(long)/14 {
			break
		}
	}
	now, end := -1, -1 // where it stands
	if v.run.State == run.StatusWorking {
		now = x + min(long-4, int(sofar/total*float64(long)))
		end = now + part.Width("│now")
		s.Text(now, y, 6, part.Bold(t.On(t.Accent)), "│now")
	}
	for sec := 0.0; sec <= total; sec += step {
		words := fmt.Sprintf("╵%g s", float64(int(sec*10+0.5))/10)
		if sec >= 60 {
			words = "╵" + whatif.Length(sec)
		}
		at := x + int(sec/total*float64(long))
		if at+part.Width(words) <= x+long && (at+part.Width(words) < now || at > end) {
			s.Text(at, y, 12, t.Faint(), words)
		}
	}
}
