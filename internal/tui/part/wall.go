package part

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/stack"
)

// Brick is one resource in a wall.
type Brick struct {
	Mark, Sub string        // sub is what it is, or does now
	More      func() string // what else there is to say of it, asked where there is room; nil is nothing
	Paint     Paint
	Fill      float64 // 0 to 1: how much of it is filled
	Faint     bool
	Alarm     bool // it keeps its colour when it is selected
}

// Wall draws a graph of resources as courses of bricks, from the ground up,
// and knows which brick is selected. Bricks shrink from two lines, to one, to
// a single cell, so that the whole wall stays in sight as long as it can.
type Wall struct {
	courses [][]string
	Labels  []string    // of groups that are no courses; nil for courses, which have numbers
	Graph   stack.Graph // of what is shown
	all     stack.Graph // also of what is filtered out
	Users   stack.Graph // all turned around
	Sel     string
	Reach   map[string]bool
	Placed  map[string]Rect // of the last drawing
	Rows    [][]string      // of the last drawing, from the ground up
	Tall    bool            // bricks have more to say, where there is room for it
	scroll  int
}

// Set gives the wall its resources, and keeps the selection where it can.
func (w *Wall) Set(g stack.Graph) {
	w.Graph, w.courses, w.Labels = g, g.Courses(), nil
	w.Within(g)
	w.keep()
}

// Group gives the wall its resources in groups of their own, the first one on
// top.
func (w *Wall) Group(g stack.Graph, labels []string, groups [][]string) {
	w.Graph = g
	w.Within(g)
	w.Labels, w.courses = slices.Clone(labels), slices.Clone(groups)
	slices.Reverse(w.Labels)
	slices.Reverse(w.courses)
	w.keep()
}

// Within tells the wall the whole graph where it shows a part of it, so that the
// reach of a brick goes through what is hidden.
func (w *Wall) Within(all stack.Graph) {
	w.all, w.Users = all, all.Dependents()
	w.Choose(w.Sel)
}

// keep keeps the selection where it can.
func (w *Wall) keep() {
	g := w.Graph
	if _, ok := g[w.Sel]; !ok {
		w.Sel = ""
		if len(w.courses) > 0 && len(w.courses[0]) > 0 {
			w.Sel = w.courses[0][0]
		}
	}
	w.Choose(w.Sel)
}

// Choose selects a brick and lights what carries it and what rests on it.
func (w *Wall) Choose(name string) {
	if _, ok := w.Graph[name]; !ok {
		return
	}
	w.Sel, w.Reach = name, map[string]bool{}
	for _, n := range append(w.all.Reach(name), w.Users.Reach(name)...) {
		w.Reach[n] = true
	}
}

// Move goes to the neighbour in a direction; up is away from the ground.
func (w *Wall) Move(dx, dy int) {
	for y, row := range w.Rows {
		x := slices.Index(row, w.Sel)
		if x < 0 {
			continue
		}
		if dx != 0 {
			w.Choose(row[max(0, min(len(row)-1, x+dx))])
			return
		}
		y += dy
		if y < 0 || y >= len(w.Rows) {
			return
		}
		from, best, far := w.Placed[w.Sel], "", 1<<30
		for _, n := range w.Rows[y] {
			p := w.Placed[n]
			if d := abs(p.X + p.W/2 - from.X - from.W/2); d < far {
				best, far = n, d
			}
		}
		w.Choose(best)
		return
	}
}

// Bindings are the keys that walk the wall.
func (w *Wall) Bindings() []Binding {
	to := func(dx, dy int) func() tea.Cmd { return Run(func() { w.Move(dx, dy) }) }
	return []Binding{Bind(to(-1, 0), "left", "h"), Bind(to(0, -1), "down", "j"), Bind(to(0, 1), "up", "k"),
		Bind(to(1, 0), "right", "l")}
}

func abs(n int) int { return max(n, -n) }

// At is the brick at a cell of the screen; "" where there is none.
func (w *Wall) At(x, y int) string {
	for n, r := range w.Placed {
		if r.Contains(x, y) {
			return n
		}
	}
	return ""
}

// layout is how bricks are laid at one size.
type layout struct {
	width, height, gap int // of a brick; rows between courses
	folded             int // the width of those that stay, which have no name then; 0 is that of all
	offset             int // of every other row
}

// few is how wide a brick without a name is among others that have one.
const few = 3

// widthOf is how wide a brick is.
func (l *layout) widthOf(main bool) int {
	if l.folded > 0 && !main {
		return l.folded
	}
	return l.width
}

// gutter is the room for the numbers of the courses, or the names of groups.
func (w *Wall) gutter() int {
	n := 3
	for _, l := range w.Labels {
		n = max(n, min(19, Width(l)+3))
	}
	return n
}

// fit chooses the largest bricks with which the wall is no higher than h: first their names are cut, then those
// that stay as they are lose theirs, and only then all do. main says which bricks those are that matter.
func (w *Wall) fit(columns, h int, main func(string) bool) layout {
	longest, widest, all := 0, 0, 0
	for _, course := range w.courses {
		all += len(course)
		widest = max(widest, len(course))
		for _, n := range course {
			longest = max(longest, Width(n))
		}
	}
	longest = max(longest, 10) // room for what a brick does
	space := columns - w.gutter()
	var sizes []layout
	if w.Tall && h < 1<<20 {
		sizes = append(sizes, layout{width: min(max(longest+6, 27), 36), height: 3, gap: 1})
	}
	if roomy := min(22, (space-8)/max(1, widest)-1); roomy > longest+4 { // what it is has room too
		sizes = append(sizes, layout{width: roomy, height: 2, gap: 1})
	}
	for _, full := range []int{longest + 4, min(longest+4, 20), min(longest+4, 17), 15} {
		sizes = append(sizes, layout{width: full, height: 2, gap: 1})
	}
	for _, full := range []int{longest + 4, min(longest+4, 18), 13} {
		sizes = append(sizes, layout{width: full, height: 1, gap: 1}, layout{width: full, height: 1})
	}
	folds := all*(few+1) <= (space+1)*h // else it is not asked of each brick whether it matters
	if folds {
		for _, full := range []int{longest + 4, min(longest+4, 18), 13} {
			sizes = append(sizes, layout{width: full, height: 1, folded: few})
		}
	}
	sizes = append(sizes, layout{width: 10, height: 1})
	if folds {
		sizes = append(sizes, layout{width: 10, height: 1, folded: few})
	}
	sizes = append(sizes, layout{width: 5, height: 1, gap: 1}, layout{width: 5, height: 1},
		layout{width: 3, height: 1}, layout{width: 2, height: 1}, layout{width: 1, height: 1})
	var l layout
	for _, l = range sizes {
		l.width = max(1, min(l.width, space))
		if l.width > 2 && l.folded == 0 && w.Labels == nil {
			l.offset = min((l.width+1)/2, 8)
			if l.width > 5 && widest*(l.width+1)+l.offset-1 > space { // courses wrap anyway
				l.offset = min(l.offset, 4)
			}
		}
		if w.rowsAt(l, space, h, main)*(l.height+l.gap)-l.gap <= h {
			return l
		}
	}
	return l
}

// Ideal is the height of the wall with the largest bricks.
func (w *Wall) Ideal(columns int) int {
	l := w.fit(columns, 1<<20, everything)
	return w.rowsAt(l, columns-w.gutter(), 1<<20, everything)*(l.height+l.gap) + 1
}

// Least is the height of the wall in which all that matters still has its name.
func (w *Wall) Least(columns int, of func(string) Brick) int {
	l := layout{width: 18, height: 1, folded: few}
	return w.rowsAt(l, columns-w.gutter(), 1<<20, func(name string) bool { return !of(name).Faint }) + 1
}

func everything(string) bool { return true }

// rowsAt is how many rows the wall has at a size; more than h is enough to know.
func (w *Wall) rowsAt(l layout, space, h int, main func(string) bool) int {
	rows := 0
	for _, course := range w.courses {
		if rows > h {
			return rows
		}
		if l.folded == 0 {
			each := l.perRow(space)
			rows += (len(course) + each - 1) / each
			continue
		}
		l.pack(course, space, main, func([]string) { rows++ })
	}
	return rows
}

// perRow is how many bricks of one width stand in a row.
func (l *layout) perRow(space int) int {
	step := l.width + 1
	if l.width <= 2 {
		step = l.width
	}
	return max(1, (space-l.offset+step-l.width)/step)
}

// pack cuts a course into rows.
func (l *layout) pack(course []string, space int, main func(string) bool, row func([]string)) {
	if l.folded == 0 {
		for part := range slices.Chunk(course, l.perRow(space)) {
			row(part)
		}
		return
	}
	from, used := 0, 0
	for i, n := range course {
		width := l.widthOf(main(n)) + 1
		if used+width-1 > space && i > from {
			row(course[from:i])
			from, used = i, 0
		}
		used += width
	}
	if from < len(course) {
		row(course[from:])
	}
}

// Draw lays the wall into r, standing on the lower edge.
func (w *Wall) Draw(s *Screen, r Rect, t *Theme, of func(name string) Brick) {
	w.Placed, w.Rows = map[string]Rect{}, nil
	gutter := w.gutter()
	if r.H < 1 || r.W < gutter+2 || len(w.courses) == 0 {
		return
	}
	bricks := map[string]Brick{}
	main := func(name string) bool {
		b, known := bricks[name]
		if !known {
			b = of(name)
			bricks[name] = b
		}
		return !b.Faint || name == w.Sel
	}
	l := w.fit(r.W, r.H-1, main)
	var levels []int
	for level, course := range w.courses {
		var parts [][]string
		l.pack(course, r.W-gutter, main, func(row []string) { parts = append(parts, row) })
		if w.Labels != nil { // read from the top
			slices.Reverse(parts)
		}
		for _, part := range parts {
			w.Rows = append(w.Rows, part)
			levels = append(levels, level)
		}
	}
	w.follow(l, r.H-1)
	ground := r.Y + r.H - 1
	if w.Labels != nil { // a list begins at the top
		ground = min(ground, r.Y+len(w.Rows)*(l.height+l.gap))
	}
	s.Line(r.X+gutter, ground, r.W-gutter, t.On(t.Mortar), "▔")
	for i, row := range w.Rows {
		y := ground - (i-w.scroll+1)*(l.height+l.gap) + l.gap
		if y < r.Y || y+l.height > ground {
			continue
		}
		switch {
		case w.Labels == nil && (i == 0 || levels[i] != levels[i-1]):
			s.Right(r.X+gutter-1, y, gutter-1, t.Faint(), Itoa(levels[i]))
		case w.Labels != nil && (i == len(w.Rows)-1 || levels[i] != levels[i+1]):
			s.Text(r.X+1, y, gutter-2, t.Hinted(), w.Labels[levels[i]])
		}
		x := r.X + gutter
		if i%2 == 1 { // as in a real wall
			x += l.offset
		}
		for _, n := range row {
			b, known := bricks[n]
			if !known {
				b = of(n)
			}
			p := Rect{x, y, l.width, l.height}
			if l.folded > 0 {
				p.W = l.widthOf(main(n))
			}
			w.Placed[n] = p
			w.drawBrick(s, p, t, n, b)
			x += p.W
			if p.W > 2 {
				x++
			}
		}
	}
	w.beyond(s, r, t, l)
}

// beyond says how much of the wall is above and below what is in sight.
func (w *Wall) beyond(s *Screen, r Rect, t *Theme, l layout) {
	fits := max(1, (r.H-1+l.gap)/(l.height+l.gap))
	if over := len(w.Rows) - w.scroll - fits; over > 0 {
		s.Right(r.X+r.W, r.Y, r.W, Bold(t.Hinted()), fmt.Sprintf(" ↑ %d more row%s", over, Plural(over)))
	}
	if w.scroll > 0 {
		s.Right(r.X+r.W, r.Y+r.H-1, r.W, Bold(t.Hinted()), fmt.Sprintf(" ↓ %d more row%s", w.scroll, Plural(w.scroll)))
	}
}

// follow scrolls so that the selected brick is in sight.
func (w *Wall) follow(l layout, h int) {
	fits := max(1, (h+l.gap)/(l.height+l.gap))
	for i, row := range w.Rows {
		if slices.Contains(row, w.Sel) {
			w.scroll = max(min(w.scroll, i), i-fits+1)
		}
	}
	w.scroll = max(0, min(w.scroll, len(w.Rows)-fits))
}

func (w *Wall) drawBrick(s *Screen, p Rect, t *Theme, name string, b Brick) {
	selected := name == w.Sel
	text := uv.Style{Fg: b.Paint.Text, Bg: b.Paint.Ground, Attrs: uv.AttrBold}
	if b.Faint {
		text.Attrs = 0
	}
	if selected && !b.Alarm {
		text = t.Chosen()
	}
	s.Fill(p, text)
	if t.Outlined && p.W > 5 {
		s.Column(p.X-1, p.Y, p.H, t.On(t.Mortar), "│")
		s.Column(p.X+p.W, p.Y, p.H, t.On(t.Mortar), "│")
	}
	if p.W <= 5 { // too small for a name
		if selected && p.W < 3 { // so that it shows without colour
			text.Attrs |= uv.AttrReverse
			s.Fill(p, text)
		} else if selected {
			s.Text(p.X, p.Y, 1, uv.Style{Fg: t.Accent, Bg: text.Bg}, "▐")
			s.Text(p.X+p.W-1, p.Y, 1, uv.Style{Fg: t.Accent, Bg: text.Bg}, "▌")
		} else if w.Reach[name] && p.W > 2 {
			s.Text(p.X, p.Y, 1, uv.Style{Fg: t.Hint, Bg: text.Bg}, "▌")
		}
		s.Text(p.X+p.W/2, p.Y, 1, text, b.Mark)
		return
	}
	s.Text(p.X+2, p.Y, 1, text, b.Mark)
	s.Text(p.X+4, p.Y, p.W-4, text, Middle(name, p.W-4))
	if p.H > 1 {
		sub := text
		sub.Attrs &^= uv.AttrBold
		s.Text(p.X+4, p.Y+1, p.W-4, sub, b.Sub)
		if p.H > 2 && b.More != nil {
			s.Text(p.X+4, p.Y+2, p.W-5, sub, b.More())
		}
	}
	if b.Fill > 0 && b.Fill < 1 && !selected {
		filled := int(b.Fill * float64(p.W))
		for y := p.Y; y < p.Y+p.H; y++ {
			for x := p.X; x < p.X+p.W; x++ {
				cell := s.CellAt(x, y)
				if cell == nil || !t.Outlined && x < p.X+filled {
					continue
				}
				shaded := *cell
				if !t.Outlined {
					shaded.Style.Bg = b.Paint.Empty
				} else if x < p.X+filled {
					shaded.Style.Attrs |= uv.AttrReverse
				}
				s.SetCell(x, y, &shaded)
			}
		}
	}
	edge := ""
	st := uv.Style{Fg: t.Hint, Bg: text.Bg}
	switch {
	case selected && b.Alarm:
		edge = "█"
	case selected:
		edge, st.Fg = "█", t.Accent
	case w.Reach[name]:
		edge = "▌"
	}
	if edge != "" {
		s.Column(p.X, p.Y, p.H, st, edge)
	}
}
