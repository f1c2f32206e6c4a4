package fleets

import (
	"context"
	"fmt"
	"image/color"
	"strings"
	"time"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/fleet"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

type contextOf = context.Context

func show(v tosca.Value) string { return cloud.Clean(tosca.Show(v)) }

// mark is how the state of a place looks: shape before colour.
func (v *View) mark(s fleet.State) (string, part.Paint) {
	t := v.Theme()
	switch s {
	case fleet.Ready:
		return "■", t.States[run.IsReady]
	case fleet.Removed:
		return "□", t.States[run.Removed]
	case fleet.Working:
		return "▶", t.States[run.Working]
	case fleet.Begun:
		return "▷", t.States[run.Working]
	case fleet.Failed:
		return "✖", t.States[run.HasFailed]
	case fleet.Asks:
		return "◈", t.States[run.Settling]
	}
	return "·", t.States[run.Waiting]
}

// markOf is how a place looks: as it stands, or by the gravest that would happen there.
func (v *View) markOf(p *app.PlaceOf) (string, part.Paint) {
	if v.whatif == nil || p.State == fleet.Failed {
		return v.mark(p.State)
	}
	k := most(p.Tally)
	if k == whatif.Same {
		return "·", v.Theme().Kinds[k]
	}
	return k.Mark(), v.Theme().Kinds[k]
}

// Draw draws the places, and beside them the chosen one.
func (v *View) Draw(s *part.Screen, r part.Rect) {
	v.hits = v.hits[:0]
	t := v.Theme()
	if name, about := v.title(); name != "" {
		x := s.Text(r.X+1, r.Y, r.W-2, part.Bold(t.On(t.Accent)), name)
		s.Text(x+2, r.Y, r.X+r.W-x-3, t.Faint(), about)
		r.Y, r.H = r.Y+1, r.H-1
	}
	switch {
	case v.whatif != nil && v.whatif.err == nil:
		v.whatif.drawHead(t, s, part.R(r.X, r.Y, r.W, 2))
		if v.whatif.pv == nil {
			return
		}
	case v.whatif != nil || v.r == nil || len(v.places) == 0:
		v.empty(s, r)
		return
	default:
		v.head(s, part.R(r.X, r.Y, r.W, 2))
	}
	r = part.R(r.X, r.Y+2, r.W, r.H-2)
	left, side := r.SplitRight(max(44, r.W*2/5))
	if r.W < 100 {
		below := min(r.H/2, 11)
		if !v.waves && !v.filter.Active() { // the grid takes what it needs
			below = max(below, r.H-len(v.grid.accounts)-2)
		}
		left, side = r.SplitBottom(below)
		s.Line(side.X, side.Y, side.W, t.On(t.Mortar), "─")
		side = part.R(side.X+1, side.Y+1, side.W-2, side.H-1)
	} else {
		s.Column(side.X, side.Y, side.H, t.On(t.Mortar), "│")
		side = part.R(side.X+2, side.Y, side.W-3, side.H)
	}
	if v.filter.Draw(t, s, left.X+1, left.Y, left.W) {
		left.Y, left.H = left.Y+1, left.H-1
	}
	switch {
	case len(v.shown) == 0:
		s.Text(left.X+3, left.Y+1, left.W-4, t.Plain(), "No place has these words; esc shows all.")
	case v.waves:
		v.drawWaves(s, left)
	default:
		v.drawGrid(s, left)
	}
	if v.whatif != nil {
		v.whatif.drawPlace(v, s, side)
	} else {
		v.drawPlace(s, side)
	}
}

func (v *View) empty(s *part.Screen, r part.Rect) {
	words := []string{"reading …"}
	switch {
	case v.whatif != nil:
		words = append([]string{"It cannot be said what would happen.", ""}, strings.Split(v.whatif.err.Error(), "\n")...)
	case v.err != nil:
		words = []string{"The fleets cannot be read: " + v.err.Error()}
	case v.ready && v.files[v.name] != "":
		words = []string{v.name + " was not deployed yet.", "", "Its file is " + v.files[v.name] + ".",
			"d looks what a deployment would do in all its places, and changes nothing."}
	case v.ready:
		words = []string{"No fleet was deployed yet.", "",
			"A fleet is one stack in many places: a fleet file names the accounts and regions, in which waves they come, how many may fail, and what differs in each.",
			"", "One whose name ends in .fleet.yaml, in the folder in which this was begun, stands here by itself.",
			"'brickrow fleet deploy --help' says how one is deployed.", "", "How it goes stands here then, on whatever machine it is carried out."}
	}
	y := r.Y + 1
	for _, l := range words {
		for _, piece := range part.Wrap(l, min(90, r.W-6)) {
			s.Text(r.X+3, y, r.W-6, v.Theme().Plain(), piece)
			y++
		}
		if l == "" {
			y++
		}
	}
}

// head says how many places are where, and how many may fail.
func (v *View) head(s *part.Screen, r part.Rect) {
	t := v.Theme()
	done, under, waiting, failed, asks := v.counts()
	of := len(v.places)
	x := s.Text(r.X+1, r.Y, r.W-2, t.Strong(), fmt.Sprintf("%d of %d places done", done, of))
	add := func(n int, state fleet.State, words string) {
		if n == 0 {
			return
		}
		mark, paint := v.mark(state)
		x = s.Text(x+3, r.Y, r.X+r.W-x-4, t.On(paint.Word), mark+" ")
		x = s.Text(x, r.Y, r.X+r.W-x-1, t.Plain(), fmt.Sprintf("%d %s", n, words))
	}
	add(under, fleet.Working, "under way")
	add(asks, fleet.Asks, "ask")
	add(waiting, fleet.Waiting, "waiting")
	mark, paint := v.mark(fleet.Failed)
	st := t.Faint()
	if failed > 0 {
		st = t.On(paint.Word)
	}
	x = s.Text(x+3, r.Y, r.X+r.W-x-4, st, fmt.Sprintf("%s %d failed", mark, failed))
	x = s.Text(x, r.Y, r.X+r.W-x-1, t.Faint(), fmt.Sprintf(" of %d tolerated", v.r.Tolerate))
	about := whatif.Length(v.since().Seconds())
	if v.holder != "" {
		about += " · " + v.holder
	}
	if part.Width(about) < r.X+r.W-x-4 {
		s.Right(r.X+r.W-1, r.Y, r.X+r.W-x-3, t.Faint(), about)
	}
}

// cell draws a place as a small wall that fills, and notes where it is.
func (v *View) cell(s *part.Screen, x, y, w, i int) {
	t, p := v.Theme(), &v.places[i]
	mark, paint := v.markOf(p)
	chosen := p.Target == v.sel
	on := func(c color.Color) uv.Style {
		if chosen {
			return t.Chosen()
		}
		return uv.Style{Fg: c, Bg: t.Ground}
	}
	s.Fill(part.R(x, y, w, 1), on(t.Text))
	s.Text(x, y, 1, part.Bold(on(paint.Word)), mark)
	v.hits = append(v.hits, hit{part.R(x, y, w, 1), i})
	room := w - 3
	if room < 3 {
		return
	}
	if number := fmt.Sprint(p.Wave); room > 9 { // of the wave
		s.Right(x+w-1, y, 4, on(t.Dim), number)
		room -= 4
	}
	if v.whatif != nil {
		bricks(t, s, x+2, y, room, p.Tally, func(is part.Paint) uv.Style { return on(is.Word) })
		return
	}
	n := p.Tally.New + p.Tally.Edit + 2*p.Tally.Swap + p.Tally.Drop
	bricks := max(1, min(room, p.Tally.Same+n))
	filled := bricks
	switch {
	case p.State == fleet.Working && n > 0:
		filled = min(bricks-1, bricks*p.Steps/n)
	case p.State == fleet.Begun, p.State == fleet.Waiting, p.State == fleet.Asks:
		filled = 0
	}
	full, none := "▪", "▫"
	s.Text(x+2, y, room, on(paint.Word), strings.Repeat(full, filled))
	rest := t.Dim
	s.Text(x+2+filled, y, room-filled, on(rest), strings.Repeat(none, bricks-filled))
}

// drawGrid draws accounts down and regions across.
func (v *View) drawGrid(s *part.Screen, r part.Rect) {
	t, g := v.Theme(), v.grid
	names := 8
	for _, a := range g.accounts {
		names = max(names, min(22, part.Width(a)+1))
	}
	wide := max(4, min(20, (r.W-names-3)/max(1, len(g.regions))))
	for c, region := range g.regions {
		x := r.X + 2 + names + c*wide
		s.Text(x, r.Y, wide-1, t.Faint(), region)
		if wide-4 > 9 && part.Width(region)+6 < wide {
			s.Right(x+wide-2, r.Y, 5, t.Faint(), "wave")
		}
	}
	rows := r.H - 2
	row := 0
	for i, a := range g.accounts {
		if a == v.sel.Account {
			row = i
		}
	}
	v.scroll = max(0, min(v.scroll, len(g.accounts)-rows))
	if row < v.scroll {
		v.scroll = row
	}
	if row >= v.scroll+rows {
		v.scroll = row - rows + 1
	}
	for y := range min(rows, len(g.accounts)-v.scroll) {
		a := g.accounts[v.scroll+y]
		st := t.Plain()
		if a == v.sel.Account {
			st = t.Strong()
		}
		s.Text(r.X+1, r.Y+1+y, names, st, a)
		for c, region := range g.regions {
			if i, ok := g.at[targetOf(a, region)]; ok {
				v.cell(s, r.X+2+names+c*wide, r.Y+1+y, wide-1, i)
			}
		}
	}
	if more := len(g.accounts) - v.scroll - rows; more > 0 {
		s.Text(r.X+1, r.Y+r.H-1, r.W-2, t.Faint(), stack.Count(more, "account")+" more below")
	}
}

// across is how many places stand in a line of the overview.
func (v *View) across() int {
	w, _ := v.Size()
	room := w - max(44, w*2/5)
	if w < 100 {
		room = w
	}
	return max(1, (room-12)/2)
}

// drawWaves draws each wave as a band of places, one mark each.
func (v *View) drawWaves(s *part.Screen, r part.Rect) {
	t := v.Theme()
	across := v.across()
	type line struct {
		wave  int // 0 where the band goes on
		cells []int
		about string
	}
	var lines []line
	at := 0
	for _, wave := range v.wavesOf() {
		done := 0
		for _, i := range wave {
			if v.places[i].State.Over() {
				done++
			}
		}
		about := fmt.Sprintf("%d of %d", done, len(wave))
		if v.whatif != nil {
			about = stack.Count(len(wave), "place")
			if len(wave) == 1 {
				about = "1 place"
			}
		}
		for n := 0; n < len(wave); n += across {
			l := line{cells: wave[n:min(len(wave), n+across)]}
			if n == 0 {
				l.wave, l.about = v.places[wave[0]].Wave, about
			}
			for _, i := range l.cells {
				if v.places[i].Target == v.sel {
					at = len(lines)
				}
			}
			lines = append(lines, l)
		}
		lines = append(lines, line{})
	}
	v.scroll = max(0, min(v.scroll, len(lines)-r.H))
	if at < v.scroll {
		v.scroll = at
	}
	if at >= v.scroll+r.H {
		v.scroll = at - r.H + 1
	}
	for y := range min(r.H, len(lines)-v.scroll) {
		l := lines[v.scroll+y]
		if l.wave > 0 {
			s.Text(r.X+1, r.Y+y, 9, t.Faint(), fmt.Sprintf("wave %d", l.wave))
		}
		for c, i := range l.cells {
			p := &v.places[i]
			mark, paint := v.markOf(p)
			st := uv.Style{Fg: paint.Word, Bg: t.Ground}
			if p.Target == v.sel {
				st = t.Chosen()
			}
			s.Text(r.X+10+2*c, r.Y+y, 1, st, mark)
			v.hits = append(v.hits, hit{part.R(r.X+10+2*c, r.Y+y, 2, 1), i})
		}
		if x := r.X + 12 + 2*len(l.cells); l.about != "" && x+part.Width(l.about) < r.X+r.W {
			s.Text(x, r.Y+y, r.X+r.W-x, t.Faint(), l.about)
		}
	}
}

// drawPlace draws what there is to know of the chosen place.
func (v *View) drawPlace(s *part.Screen, r part.Rect) {
	p := v.selected()
	if p == nil {
		return
	}
	t := v.Theme()
	y := r.Y
	put := func(st uv.Style, text string) {
		for _, l := range part.Wrap(text, r.W) {
			if y < r.Y+r.H {
				s.Text(r.X, y, r.W, st, l)
				y++
			}
		}
	}
	mark, paint := v.mark(p.State)
	x := s.Text(r.X, y, r.W, part.Bold(t.On(paint.Word)), mark+" ")
	x = s.Text(x, y, r.X+r.W-x, t.Strong(), p.Target.Account+" / "+p.Target.Region)
	if p.Careful {
		s.Text(x+2, y, r.X+r.W-x-2, t.Hinted(), "careful")
	}
	y++
	put(t.Faint(), p.Stack)
	state := fmt.Sprintf("%s · wave %d", p.State, p.Wave)
	if p.Run > 0 {
		state += fmt.Sprintf(" · run %d", p.Run)
	}
	if took := app.PlaceTook(*p); took > 0 {
		state += " · " + whatif.Length(took.Seconds())
	}
	put(t.Plain(), state)
	put(t.Plain(), p.Tally.String())
	if p.Reason != "" {
		y++
		st := t.Plain()
		if p.State == fleet.Failed {
			st = t.On(paint.Word)
		}
		put(st, cloud.Clean(p.Reason))
	}
	d, known := v.detail[keyOf(v.r, p)]
	if !known {
		return
	}
	if len(d.Inputs) > 0 {
		y++
		put(t.Faint(), "its own values")
		put(t.Plain(), inputs(d.Inputs))
	}
	if len(d.Events) > 0 {
		y++
		put(t.Faint(), "its run")
		list := d.Events
		if room := r.Y + r.H - y; len(list) > room && room > 0 {
			list = list[len(list)-room:]
		}
		for _, e := range list {
			if y >= r.Y+r.H {
				break
			}
			name := e.Resource
			if name == "" {
				name = "(run)"
			}
			words := strings.TrimSpace(strings.TrimPrefix(e.Step+" "+e.Reason, string(e.State)+": "))
			paint := t.States[e.State]
			x := s.Text(r.X, y, r.W, t.Faint(), e.Time.Format(time.TimeOnly)+" ")
			x = s.Text(x, y, r.X+r.W-x, t.On(paint.Word), part.StateMarks[e.State]+" ")
			x = s.Text(x, y, min(18, r.X+r.W-x), t.Plain(), name) + 1
			s.Text(x, y, r.X+r.W-x, t.Faint(), part.Clip(string(e.State)+" "+cloud.Clean(words), r.X+r.W-x))
			y++
		}
	}
}

func targetOf(account, region string) stack.Target {
	return stack.Target{Account: account, Region: region}
}
