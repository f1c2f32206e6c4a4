package draw

import (
	"cmp"
	"math"
	"slices"

	"brickrow/internal/stack"
)

// wallRow is one row of bricks, with where each begins.
type wallRow struct {
	level int
	names []string
	x     []float64
}

// link is a line from a brick down to one that it needs: level and upright pieces by
// turns, through the mortar.
type link struct {
	from, to string
	strong   bool
	// stops are the places where it turns, from the top: its columns, and between two of
	// them the channel that it runs along, counted by the row above it.
	columns  []float64
	channels []int
	lanes    []int
}

// links are the lines of a wall.
type links struct {
	list  []*link
	lanes []int // how many each channel has, by the row above it
}

// step is how far two lanes of a channel are apart, and most how many it has at most:
// with more, lines lie on each other.
const (
	laneStep  = 2.4
	mostLanes = 16
)

// wanted tells which lines are drawn: all, or those of what some resources need and
// carry.
type wanted struct {
	all bool
	of  []string
}

// strong reports of the lines of a graph which belong to the reach of the chosen ones.
func (w wanted) strong(g stack.Graph) func(from, to string) bool {
	if len(w.of) == 0 {
		return func(string, string) bool { return false }
	}
	needs, carries := map[string]bool{}, map[string]bool{}
	users := g.Dependents()
	for _, name := range w.of {
		needs[name], carries[name] = true, true
		for _, n := range g.Reach(name) {
			needs[n] = true
		}
		for _, n := range users.Reach(name) {
			carries[n] = true
		}
	}
	return func(from, to string) bool { return needs[from] || carries[to] && carries[from] }
}

// route finds the way of each line through the mortar of some rows, which stand from the
// ground up.
func (w wanted) route(g stack.Graph, rows []wallRow, s size) *links {
	out := &links{lanes: make([]int, len(rows))}
	type at struct{ row, i int }
	place := map[string]at{}
	for y, r := range rows {
		for i, n := range r.names {
			place[n] = at{y, i}
		}
	}
	middle := func(n string) float64 { p := place[n]; return rows[p.row].x[p.i] + s.w/2 }
	strong := w.strong(g)
	below, above := map[string][]*link{}, map[string][]*link{}
	for _, r := range rows {
		for _, n := range r.names {
			for _, need := range g[n] {
				if _, there := place[need]; !there || !w.all && !strong(n, need) {
					continue
				}
				l := &link{from: n, to: need, strong: strong(n, need)}
				out.list = append(out.list, l)
				below[n], above[need] = append(below[n], l), append(above[need], l)
			}
		}
	}
	begin, end := map[*link]float64{}, map[*link]float64{}
	spread := func(of map[string][]*link, other func(*link) string, into map[*link]float64) {
		for n, list := range of {
			slices.SortStableFunc(list, func(a, b *link) int { return cmp.Compare(middle(other(a)), middle(other(b))) })
			p := place[n]
			for i, l := range list {
				into[l] = rows[p.row].x[p.i] + s.w*float64(i+1)/float64(len(list)+1)
			}
		}
	}
	spread(below, func(l *link) string { return l.to }, begin)
	spread(above, func(l *link) string { return l.from }, end)
	used := map[[2]int]int{} // gaps of rows, by how many go through them
	for _, l := range out.list {
		from, to := place[l.from].row, place[l.to].row
		x := begin[l]
		l.columns = []float64{x}
		for row := from - 1; row > to; row-- { // through the rows between
			gap, at := nearestGap(rows[row], s, x, end[l])
			n := used[[2]int{row, gap}]
			used[[2]int{row, gap}]++
			aside := float64((n+1)/2) * 1.6 * math.Pow(-1, float64(n))
			x = at + max(-s.gap/2+0.8, min(s.gap/2-0.8, aside))
			l.channels, l.columns = append(l.channels, row+1), append(l.columns, x)
		}
		l.channels, l.columns = append(l.channels, to+1), append(l.columns, end[l])
	}
	out.assign()
	return out
}

// nearestGap is the gap of a row, and its middle, by which one gets from a column to
// another one with the shortest way.
func nearestGap(r wallRow, s size, from, to float64) (gap int, x float64) {
	best := math.Inf(1)
	for i := 0; i <= len(r.x); i++ {
		at := r.x[0] - s.gap/2
		if i > 0 {
			at = r.x[i-1] + s.w + s.gap/2
		}
		if way := math.Abs(at-from) + math.Abs(at-to); way < best {
			best, gap, x = way, i, at
		}
	}
	return gap, x
}

// assign gives each level piece a lane of its channel, so that no two lie on each other.
func (l *links) assign() {
	type piece struct {
		of       *link
		i        int
		from, to float64
	}
	by := make([][]piece, len(l.lanes)+1)
	for _, k := range l.list {
		k.lanes = make([]int, len(k.channels))
		for i, c := range k.channels {
			a, b := k.columns[i], k.columns[i+1]
			by[c] = append(by[c], piece{k, i, min(a, b), max(a, b)})
		}
	}
	for c, list := range by {
		slices.SortStableFunc(list, func(a, b piece) int { return cmp.Compare(a.from, b.from) })
		var ends []float64 // of what lies in each lane
		for _, p := range list {
			lane := slices.IndexFunc(ends, func(end float64) bool { return end+1 < p.from })
			if lane < 0 {
				lane = len(ends)
				ends = append(ends, 0)
			}
			ends[lane] = p.to
			p.of.lanes[p.i] = lane % mostLanes
		}
		if c < len(l.lanes) {
			l.lanes[c] = min(len(ends), mostLanes)
		}
	}
}

// channel is how high the mortar below a row has to be.
func (l *links) channel(row int, s size) float64 {
	if l == nil || row >= len(l.lanes) || l.lanes[row] == 0 {
		return s.gap
	}
	return max(s.gap, float64(l.lanes[row]+1)*laneStep)
}

// draw draws the lines, the strong ones last; y yields the upper edge of a row.
func (l *links) draw(f *flow, y func(row int) float64, s size) {
	fine := colour{0x8A, 0x93, 0x9E}
	for _, strong := range []bool{false, true} {
		for _, k := range l.list {
			if k.strong != strong {
				continue
			}
			c, width := fine, 0.5
			if strong {
				c, width = ink, 1.3
			}
			if s.h < 10 {
				width = min(width, 0.9)
			}
			at := y(k.channels[0]) + s.h // the lower edge of its own row
			for i, channel := range k.channels {
				lane := y(channel) + s.h + float64(k.lanes[i]+1)*laneStep
				lane = min(lane, y(channel-1)-0.4)
				f.line(k.columns[i], at, k.columns[i], lane, c, width)
				f.line(k.columns[i], lane, k.columns[i+1], lane, c, width)
				at = lane
			}
			last := k.columns[len(k.columns)-1]
			foot := y(k.channels[len(k.channels)-1] - 1)
			f.line(last, at, last, foot, c, width)
			if s.h >= 10 { // where it rests
				f.box(last-1.2, foot-1.2, 2.4, 1.2, &c, nil, 0, false)
			}
		}
	}
}
