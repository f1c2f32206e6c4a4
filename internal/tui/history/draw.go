package history

import (
	"fmt"
	"image/color"
	"strings"
	"time"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// Draw draws the ladder, and beside it what the chosen run changed.
func (v *View) Draw(s *part.Screen, r part.Rect) {
	if v.line.on {
		v.drawLine(s, r)
		return
	}
	if len(v.rungs) == 0 {
		words := []string{"reading …"}
		switch {
		case v.err != nil:
			words = []string{"The history cannot be read: " + v.err.Error()}
		case !v.ready:
		case v.filter.Active():
			words = []string{"No run has these words.", "", "esc shows all."}
		case v.all:
			words = []string{"Nothing was done yet.", "", "Each deployment, way back and deletion stands here then: who began it, from which", "commit, what it changed and how it ended."}
		default:
			words = []string{v.Subject().Name + " was not deployed yet.", "", "3 shows what deploying it would do; a shows everybody's history."}
		}
		v.empty(s, r, words)
		v.heights = nil
		return
	}
	left, side := v.halves(s, r)
	v.draw(left, len(v.rungs), v.index(), v.lines, func(r part.Rect, i int) { v.drawRung(s, r, i) })
	v.drawDetail(s, side)
}

// empty says why there is nothing.
func (v *View) empty(s *part.Screen, r part.Rect, words []string) {
	y := r.Y + 1
	for _, l := range words {
		for _, piece := range part.Wrap(l, r.W-6) {
			s.Text(r.X+3, y, r.W-6, v.Theme().Plain(), piece)
			y++
		}
		if l == "" {
			y++
		}
	}
}

// halves are the room of the ladder, under the filter, and that beside it.
func (v *View) halves(s *part.Screen, r part.Rect) (left, side part.Rect) {
	t := v.Theme()
	left, side = r.SplitRight(max(50, r.W*2/5))
	if r.W < 100 {
		left, side = r.SplitBottom(r.H / 2)
		s.Line(side.X, side.Y, side.W, t.On(t.Mortar), "─")
		side = part.R(side.X+1, side.Y+1, side.W-2, side.H-1)
	} else {
		s.Column(side.X, side.Y+1, side.H-1, t.On(t.Mortar), "│")
		side = part.R(side.X+2, side.Y, side.W-3, side.H)
	}
	if v.filter.Draw(t, s, left.X+1, left.Y, left.W) {
		left.Y, left.H = left.Y+1, left.H-1
	}
	return left, side
}

// paintOf is how the state of a run looks.
func (v *View) paintOf(s run.Status) (mark string, col color.Color) {
	t := v.Theme()
	switch s {
	case run.StatusDone:
		return "■", t.States[run.IsReady].Word
	case run.StatusUndone:
		return "↶", t.States[run.IsUndone].Word
	case run.StatusHeld, run.StatusPaused, run.StatusInterrupted:
		return "◧", t.Hint
	case run.StatusStuck:
		return "✖", t.States[run.HasFailed].Word
	}
	return "▶", t.States[run.Working].Word
}

// lines are how many lines a rung takes: its own two or three, and the gap under it.
func (v *View) lines(i int) int {
	n := 2
	if len(v.rungs[i].Notes()) > 0 {
		n++
	}
	return n + 1
}

func (v *View) drawRung(s *part.Screen, r part.Rect, i int) {
	t, g := v.Theme(), &v.rungs[i]
	own := v.lines(i) - 1
	look := rung(t, s, r, own, g.Run.ID == v.sel)
	plain, strong, faint := look.plain, look.strong, look.faint
	put := func(y, x int, st uv.Style, text string) int {
		if y >= r.H {
			return x
		}
		return s.Text(x, r.Y+y, r.X+r.W-x-2, st, text)
	}
	mark, col := v.paintOf(g.Run.Shown())
	x := put(0, r.X+2, look.ground(part.Bold(t.On(col))), mark)
	if v.all {
		x = put(0, x+1, strong, g.Of.Stack.Name) + 1
	}
	x = put(0, x+1, strong, g.Words())
	if g.Revision != nil && g.Revision.Current {
		x = put(0, x+2, look.ground(t.On(t.Hint)), "deployed now")
	}
	if g.Run.ID == v.marked {
		put(0, x+2, look.ground(part.Bold(t.On(t.Accent))), "● marked")
	}
	x = put(1, r.X+4, faint, g.Run.Started.Local().Format("2006-01-02 15:04")+" by "+g.Run.By)
	for _, k := range append(append([]whatif.Kind{}, whatif.Kinds...), whatif.Adopt, whatif.Keep) {
		if n := g.Run.Tally.Of(k); n > 0 && k != whatif.Same && r.H > 1 {
			x = put(1, x+2, look.ground(t.On(t.Kinds[k].Word)), fmt.Sprintf("%s %d %s", k.Mark(), n, k))
		}
	}
	if notes := g.Notes(); len(notes) > 0 {
		put(2, r.X+4, plain, cloud.Clean(strings.Join(notes, " · ")))
	}
	if own < r.H && i+1 < len(v.rungs) {
		gap(t, s, r.X+2, r.Y+own, r.W-3, g.Run.Started.Sub(v.rungs[i+1].Run.Started))
	}
}

// span is a length of time in words, as one says it.
func span(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return stack.Count(int(d.Hours()/24), "day")
	case d >= 2*time.Hour:
		return stack.Count(int(d.Hours()), "hour")
	case d >= 2*time.Minute:
		return stack.Count(int(d.Minutes()), "minute")
	}
	return whatif.Length(d.Seconds())
}

// drawDetail spells the chosen run out.
func (v *View) drawDetail(s *part.Screen, r part.Rect) {
	t, g := v.Theme(), v.selected()
	var lines [][]part.Span
	say := func(st uv.Style, text string) {
		for _, l := range part.Wrap(text, r.W-1) {
			lines = append(lines, []part.Span{part.S(st, l)})
		}
	}
	rest := func(label, text string) {
		head := fmt.Sprintf("%-11s", label)
		for _, l := range part.Wrap(cloud.Clean(text), r.W-12) {
			lines = append(lines, []part.Span{part.S(t.Faint(), head), part.S(t.Plain(), l)})
			head = strings.Repeat(" ", 11)
		}
	}
	_, col := v.paintOf(g.Run.Shown())
	lines = append(lines, []part.Span{part.S(t.Strong(), fmt.Sprintf("run %d of %s", g.Run.Number, g.Of.Stack.Name)), part.S(t.Plain(), "  "),
		part.S(part.Bold(t.On(col)), string(g.Run.Shown()))})
	say(t.Faint(), g.Of.Stack.Target.String()+" · "+g.Run.Started.Local().Format("2006-01-02 15:04:05"))
	lines = append(lines, nil)
	who := g.Run.By
	if g.Run.Origin.Host != "" {
		who += " on " + g.Run.Origin.Host
	}
	rest("by", who)
	if len(g.Run.Origin.ApprovedBy) > 0 {
		rest("approved", "by "+strings.Join(g.Run.Origin.ApprovedBy, ", "))
	}
	if g.Run.Origin.Note != "" {
		rest("note", g.Run.Origin.Note)
	}
	if o := &g.Run.Origin; o.Commit != "" {
		words := o.Commit[:min(10, len(o.Commit))]
		if o.Branch != "" {
			words += " on " + o.Branch
		}
		if o.Changed {
			words += ", with changes that are in no commit"
		}
		rest("commit", words)
		if len(o.Files) > 0 {
			rest("changed", strings.Join(o.Files, ", "))
		}
	}
	if job := g.Run.Origin.Job; job != "" {
		rest("job", job)
	}
	if g.Revision != nil && g.Run.Base > 0 {
		rest("revision", fmt.Sprintf("from %d to %d", g.Run.Base, g.Revision.Number))
	} else if g.Revision != nil {
		rest("revision", part.Itoa(g.Revision.Number))
	}
	if !g.Run.Ended.IsZero() {
		words := whatif.Length(g.Took().Seconds())
		if g.Before != nil && g.Run.State == run.StatusDone {
			before := g.Before.Ended.Sub(g.Before.Started)
			switch d := (g.Took() - before).Seconds(); {
			case d > 0.5:
				words += fmt.Sprintf(", %s longer than run %d", whatif.Length(d), g.Before.Number)
			case d < -0.5:
				words += fmt.Sprintf(", %s shorter than run %d", whatif.Length(-d), g.Before.Number)
			default:
				words += fmt.Sprintf(", as long as run %d", g.Before.Number)
			}
		}
		rest("took", words)
	}
	if failed := g.Failed(); len(failed) > 0 {
		rest("failed", strings.Join(failed, ", "))
	}
	if g.Run.Reason != "" {
		lines = append(lines, nil)
		st := t.Plain()
		if len(g.Failed()) > 0 {
			st = t.On(t.States[run.HasFailed].Word)
		}
		say(st, cloud.Clean(g.Run.Reason))
	}
	lines = append(lines, nil)
	lines = append(lines, v.changed(g)...)
	v.beside(t, s, r, lines)
}

// changed lists what a run changed.
func (v *View) changed(g *app.Rung) [][]part.Span {
	t := v.Theme()
	list, known := v.changes[g.Run.ID]
	title := "what it changed"
	if g.Run.State != run.StatusDone {
		title = "what it set out to change"
	}
	lines := [][]part.Span{{part.S(part.Bold(t.Hinted()), title)}}
	switch {
	case !known:
		return append(lines, []part.Span{part.S(t.Faint(), "  reading …")})
	case len(list) == 0 && g.Of.Stack.State != stack.Empty:
		return append(lines, []part.Span{part.S(t.Faint(), "  its plan was thinned out, or had no steps")})
	}
	for _, c := range list {
		col := t.Kinds[c.Kind].Word
		line := []part.Span{part.S(part.Bold(t.On(col)), "  "+c.Kind.Mark()+" "), part.S(t.Plain(), c.Name), part.S(t.Faint(), "  "+c.Type)}
		if c.Failed {
			line = append(line, part.S(part.Bold(t.On(t.States[run.HasFailed].Word)), "  failed"))
		}
		lines = append(lines, line)
	}
	return lines
}
