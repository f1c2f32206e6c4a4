package tui

import (
	"slices"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/stack"
)

// brick is one resource in a wall.
type brick struct {
	mark, sub string // sub is what it is, or does now
	paint     paint
	fill      float64 // 0 to 1: how much of it is filled
	faint     bool
	alarm     bool // it keeps its colour when it is selected
}

// wall draws a graph of resources as courses of bricks, from the ground up,
// and knows which brick is selected. Bricks shrink from two lines, to one, to
// a single cell, so that the whole wall stays in sight as long as it can.
type wall struct {
	courses [][]string
	labels  []string    // of groups that are no courses; nil for courses, which have numbers
	graph   stack.Graph // of what is shown
	all     stack.Graph // also of what is filtered out
	users   stack.Graph // all turned around
	sel     string
	reach   map[string]bool
	placed  map[string]rect // of the last drawing
	rows    [][]string      // of the last drawing, from the ground up
	scroll  int
}

// set gives the wall its resources, and keeps the selection where it can.
func (w *wall) set(g stack.Graph) {
	w.graph, w.courses, w.labels = g, g.Courses(), nil
	w.within(g)
	w.keep()
}

// group gives the wall its resources in groups of their own, the first one on
// top.
func (w *wall) group(g stack.Graph, labels []string, groups [][]string) {
	w.graph = g
	w.within(g)
	w.labels, w.courses = slices.Clone(labels), slices.Clone(groups)
	slices.Reverse(w.labels)
	slices.Reverse(w.courses)
	w.keep()
}

// within tells the wall the whole graph where it shows a part of it, so that the
// reach of a brick goes through what is hidden.
func (w *wall) within(all stack.Graph) {
	w.all, w.users = all, all.Dependents()
	w.choose(w.sel)
}

// keep keeps the selection where it can.
func (w *wall) keep() {
	g := w.graph
	if _, ok := g[w.sel]; !ok {
		w.sel = ""
		if len(w.courses) > 0 && len(w.courses[0]) > 0 {
			w.sel = w.courses[0][0]
		}
	}
	w.choose(w.sel)
}

// choose selects a brick and lights what carries it and what rests on it.
func (w *wall) choose(name string) {
	if _, ok := w.graph[name]; !ok {
		return
	}
	w.sel, w.reach = name, map[string]bool{}
	for _, n := range append(w.all.Reach(name), w.users.Reach(name)...) {
		w.reach[n] = true
	}
}

// move goes to the neighbour in a direction; up is away from the ground.
func (w *wall) move(dx, dy int) {
	for y, row := range w.rows {
		x := slices.Index(row, w.sel)
		if x < 0 {
			continue
		}
		if dx != 0 {
			w.choose(row[max(0, min(len(row)-1, x+dx))])
			return
		}
		y += dy
		if y < 0 || y >= len(w.rows) {
			return
		}
		from, best, far := w.placed[w.sel], "", 1<<30
		for _, n := range w.rows[y] {
			p := w.placed[n]
			if d := abs(p.x + p.w/2 - from.x - from.w/2); d < far {
				best, far = n, d
			}
		}
		w.choose(best)
		return
	}
}

// walk moves by the name of a key; it reports whether the key is one of these.
func (w *wall) walk(key string) bool {
	switch key {
	case "left", "h":
		w.move(-1, 0)
	case "right", "l":
		w.move(1, 0)
	case "up", "k":
		w.move(0, 1)
	case "down", "j":
		w.move(0, -1)
	default:
		return false
	}
	return true
}

func abs(n int) int { return max(n, -n) }

// at is the brick at a cell of the screen; "" where there is none.
func (w *wall) at(x, y int) string {
	for n, r := range w.placed {
		if r.contains(x, y) {
			return n
		}
	}
	return ""
}

// layout is how bricks are laid at one size.
type layout struct {
	width, height, gap int // of a brick; rows between courses
	perRow             int
	offset             int // of every other row
}

// gutter is the room for the numbers of the courses, or the names of groups.
func (w *wall) gutter() int {
	n := 3
	for _, l := range w.labels {
		n = max(n, min(19, width(l)+3))
	}
	return n
}

// fit chooses the largest bricks with which the wall is no higher than h.
func (w *wall) fit(columns, h int) layout {
	longest, widest := 0, 0
	for _, course := range w.courses {
		widest = max(widest, len(course))
		for _, n := range course {
			longest = max(longest, width(n))
		}
	}
	longest = max(longest, 10) // room for what a brick does
	space := columns - w.gutter()
	var sizes []layout
	for _, full := range []int{longest + 4, min(longest+4, 20), min(longest+4, 17), 15} {
		sizes = append(sizes, layout{width: full, height: 2, gap: 1})
	}
	for _, full := range []int{longest + 4, min(longest+4, 18), 13} {
		sizes = append(sizes, layout{width: full, height: 1, gap: 1}, layout{width: full, height: 1})
	}
	sizes = append(sizes, layout{width: 5, height: 1, gap: 1}, layout{width: 5, height: 1}, layout{width: 3, height: 1}, layout{width: 2, height: 1}, layout{width: 1, height: 1})
	var l layout
	for _, l = range sizes {
		l.width = max(1, min(l.width, space))
		step := l.width + 1
		if l.width <= 2 {
			step = l.width
		} else {
			l.offset = min((l.width+1)/2, 8)
		}
		if w.labels != nil {
			l.offset = 0
		}
		if l.width > 5 && widest*step+l.offset-1 > space { // courses wrap anyway
			l.offset = min(l.offset, 4)
		}
		l.perRow = max(1, (space-l.offset+step-l.width)/step)
		if w.rowsAt(l)*(l.height+l.gap)-l.gap <= h {
			return l
		}
	}
	return l
}

// ideal is the height of the wall with the largest bricks.
func (w *wall) ideal(columns int) int {
	l := w.fit(columns, 1<<20)
	return w.rowsAt(l)*(l.height+l.gap) + 1
}

func (w *wall) rowsAt(l layout) int {
	rows := 0
	for _, course := range w.courses {
		rows += (len(course) + l.perRow - 1) / l.perRow
	}
	return rows
}

// draw lays the wall into r, standing on the lower edge.
func (w *wall) draw(s *screen, r rect, t *theme, of func(name string) brick) {
	w.placed, w.rows = map[string]rect{}, nil
	gutter := w.gutter()
	if r.h < 1 || r.w < gutter+2 || len(w.courses) == 0 {
		return
	}
	l := w.fit(r.w, r.h-1)
	var levels []int
	for level, course := range w.courses {
		parts := slices.Collect(slices.Chunk(course, l.perRow))
		if w.labels != nil { // read from the top
			slices.Reverse(parts)
		}
		for _, part := range parts {
			w.rows = append(w.rows, part)
			levels = append(levels, level)
		}
	}
	w.follow(l, r.h-1)
	ground := r.y + r.h - 1
	if w.labels != nil { // a list begins at the top
		ground = min(ground, r.y+len(w.rows)*(l.height+l.gap))
	}
	s.line(r.x+gutter, ground, r.w-gutter, t.on(t.mortar), "▔")
	for i, row := range w.rows {
		y := ground - (i-w.scroll+1)*(l.height+l.gap) + l.gap
		if y < r.y || y+l.height > ground {
			continue
		}
		switch {
		case w.labels == nil && (i == 0 || levels[i] != levels[i-1]):
			s.right(r.x+gutter-1, y, gutter-1, t.faint(), itoa(levels[i]))
		case w.labels != nil && (i == len(w.rows)-1 || levels[i] != levels[i+1]):
			s.text(r.x+1, y, gutter-2, t.hinted(), w.labels[levels[i]])
		}
		x := r.x + gutter
		if i%2 == 1 { // as in a real wall
			x += l.offset
		}
		for _, n := range row {
			p := rect{x, y, l.width, l.height}
			w.placed[n] = p
			w.drawBrick(s, p, t, n, of(n))
			x += l.width
			if l.width > 2 {
				x++
			}
		}
	}
}

// follow scrolls so that the selected brick is in sight.
func (w *wall) follow(l layout, h int) {
	fits := max(1, (h+l.gap)/(l.height+l.gap))
	for i, row := range w.rows {
		if slices.Contains(row, w.sel) {
			w.scroll = max(min(w.scroll, i), i-fits+1)
		}
	}
	w.scroll = max(0, min(w.scroll, len(w.rows)-fits))
}

func (w *wall) drawBrick(s *screen, p rect, t *theme, name string, b brick) {
	selected := name == w.sel
	text := uv.Style{Fg: b.paint.text, Bg: b.paint.ground, Attrs: uv.AttrBold}
	if b.faint {
		text.Attrs = 0
	}
	if selected && !b.alarm {
		text = uv.Style{Fg: t.selText, Bg: t.selGround, Attrs: uv.AttrBold}
	}
	s.fill(p, text)
	if p.w <= 5 { // too small for a name
		if selected && p.w < 3 { // so that it shows without colour
			text.Attrs |= uv.AttrReverse
			s.fill(p, text)
		} else if selected {
			s.text(p.x, p.y, 1, uv.Style{Fg: t.accent, Bg: text.Bg}, "▐")
			s.text(p.x+p.w-1, p.y, 1, uv.Style{Fg: t.accent, Bg: text.Bg}, "▌")
		} else if w.reach[name] && p.w > 2 {
			s.text(p.x, p.y, 1, uv.Style{Fg: t.hint, Bg: text.Bg}, "▌")
		}
		s.text(p.x+p.w/2, p.y, 1, text, b.mark)
		return
	}
	s.text(p.x+2, p.y, 1, text, b.mark)
	s.text(p.x+4, p.y, p.w-4, text, name)
	if p.h > 1 {
		sub := text
		sub.Attrs = 0
		s.text(p.x+4, p.y+1, p.w-4, sub, b.sub)
	}
	if b.fill > 0 && b.fill < 1 && !selected {
		filled := int(b.fill * float64(p.w))
		for y := p.y; y < p.y+p.h; y++ {
			for x := p.x + filled; x < p.x+p.w; x++ {
				if cell := s.CellAt(x, y); cell != nil {
					shaded := *cell
					shaded.Style.Bg = b.paint.empty
					s.SetCell(x, y, &shaded)
				}
			}
		}
	}
	edge := ""
	st := uv.Style{Fg: t.hint, Bg: text.Bg}
	switch {
	case selected && b.alarm:
		edge = "█"
	case selected:
		edge, st.Fg = "█", t.accent
	case w.reach[name]:
		edge = "▌"
	}
	if edge != "" {
		s.column(p.x, p.y, p.h, st, edge)
	}
}
