package draw

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// look is how a kind of change looks: light grounds, told apart by their marks
// and edges also without colour.
type look struct {
	ground, text colour
	edge         float64
	dashed       bool
}

var looks = map[whatif.Kind]look{
	whatif.New:   {colour{0xD2, 0xEA, 0xE7}, colour{0x0D, 0x47, 0x44}, 1.8, false},
	whatif.Edit:  {colour{0xF8, 0xE8, 0xBE}, colour{0x57, 0x3D, 0x08}, 1.2, false},
	whatif.Swap:  {colour{0xE4, 0xDA, 0xF4}, colour{0x40, 0x27, 0x68}, 1.8, false},
	whatif.Drop:  {colour{0xF6, 0xDB, 0xD1}, colour{0x6A, 0x2D, 0x1B}, 1.2, true},
	whatif.Same:  {colour{0xF3, 0xF4, 0xF6}, colour{0x48, 0x50, 0x5A}, 0.5, false},
	whatif.Adopt: {colour{0xD6, 0xE4, 0xF6}, colour{0x1B, 0x3E, 0x6D}, 1.2, false},
	"":           {paper, ink, 0.8, false}, // nothing happens: the picture of a stack
	whatif.Keep:  {colour{0xE0, 0xE6, 0xEC}, colour{0x33, 0x44, 0x57}, 1.2, true},
}

// mark draws the mark of a kind into a square of side a.
func (f *flow) mark(k whatif.Kind, x, y, a float64, c colour) {
	w := max(0.7, a/9)
	up := [][2]float64{{x, y + a}, {x + a/2, y}, {x + a, y + a}}
	diamond := func(r float64) [][2]float64 {
		m, n := x+a/2, y+a/2
		return [][2]float64{{m, n - r}, {m + r, n}, {m, n + r}, {m - r, n}}
	}
	switch k {
	case whatif.New:
		f.polygon(&c, nil, 0, up...)
	case whatif.Edit:
		f.box(x, y, a, a, nil, &c, w, false)
		f.box(x, y, a/2, a, &c, nil, 0, false)
	case whatif.Swap:
		for i, s := range []float64{-1, 1} { // one up, one down
			m := x + a*(0.27+0.46*float64(i))
			tip, tail := y+a/2+s*a/2, y+a/2-s*a/2
			f.line(m, tail, m, tip-s*a*0.25, c, w)
			f.polygon(&c, nil, 0, [2]float64{m, tip}, [2]float64{m - a*0.2, tip - s*a*0.38},
				[2]float64{m + a*0.2, tip - s*a*0.38})
		}
	case whatif.Drop:
		f.polygon(nil, &c, w, [2]float64{x, y}, [2]float64{x + a, y}, [2]float64{x + a/2, y + a})
	case whatif.Adopt:
		f.polygon(nil, &c, w, diamond(a/2)...)
		f.polygon(&c, nil, 0, diamond(a/4)...)
	case whatif.Keep:
		f.polygon(nil, &c, w, diamond(a/2)...)
	default:
		f.box(x+a*0.28, y+a*0.28, a*0.44, a*0.44, &c, nil, 0, false)
	}
}

// brick is one resource in a wall.
type brick struct {
	name, sub string
	kind      whatif.Kind
	chosen    bool // it stands out
}

type size struct{ w, h, text, gap float64 }

// wall draws courses of bricks, from the ground up, as large as fit into h, with lines
// from brick to brick where some are wanted.
func (f *flow) wall(g stack.Graph, h float64, w wanted, of func(name string) brick) {
	courses := g.Courses()
	if len(courses) == 0 {
		return
	}
	const gutter, offset = 16.0, 10.0
	longest := 0.0
	for n := range g {
		b := of(n)
		longest = max(longest, f.width(bold, 9, b.name), f.width(regular, 7.5, b.sub))
	}
	space := right - left - gutter - offset
	whole := min(longest+26, space)
	sizes := []size{{whole, 30, 9, 5}, {min(whole, 128), 30, 9, 5}, {min(whole, 112), 26, 8, 4},
		{min(whole*0.8, 98), 15, 7.5, 3}, {min(whole*0.7, 74), 12, 6.5, 2}, {14, 14, 0, 2}, {9, 9, 0, 1},
		{5, 5, 0, 0.6}}
	if w.all { // the lines need mortar
		for i := range sizes {
			sizes[i].gap = max(sizes[i].gap, min(10, sizes[i].w/8))
		}
	}
	var fits size
	var rows []wallRow
	var lines *links
	for _, fits = range sizes {
		rows = laid(courses, fits, space, left+gutter, offset)
		if lines = nil; w.all || len(w.of) > 0 {
			lines = w.route(g, rows, fits)
		}
		high := 6.0
		for i := range rows {
			high += fits.h + lines.channel(i, fits)
		}
		if high <= h {
			break
		}
	}
	if lines != nil {
		f.need(h)
	}
	tops := make([]float64, len(rows))
	for i := len(rows) - 1; i >= 0; i-- {
		if lines == nil {
			f.need(fits.h + fits.gap + 2)
		}
		if i == 0 || rows[i-1].level != rows[i].level {
			f.write(left, f.y+fits.h/2+2.5, 7, regular, dim, fmt.Sprint(rows[i].level))
		}
		tops[i] = f.y
		for k, n := range rows[i].names {
			f.brick(rows[i].x[k], f.y, fits, of(n))
		}
		f.y += fits.h + lines.channel(i, fits)
	}
	if lines != nil {
		lines.draw(f, func(row int) float64 { return tops[row] }, fits)
	}
	f.line(left+gutter, f.y, right, f.y, ink, 1.4)
	f.y += 4
}

// laid lays courses in rows of bricks of a size.
func laid(courses [][]string, s size, space, begin, offset float64) []wallRow {
	perRow := max(1, int((space+s.gap)/(s.w+s.gap)))
	var rows []wallRow
	for level, c := range courses {
		for part := range slices.Chunk(c, perRow) {
			r := wallRow{level: level, names: part}
			x := begin
			if len(rows)%2 == 1 {
				x += min(offset, s.w/2)
			}
			for range part {
				r.x = append(r.x, x)
				x += s.w + s.gap
			}
			rows = append(rows, r)
		}
	}
	return rows
}

func (f *flow) brick(x, y float64, s size, b brick) {
	l := looks[b.kind]
	if b.chosen {
		l.ground, l.edge = colour{0xF3, 0xDD, 0xD2}, 2.2
	}
	f.box(x, y, s.w, s.h, &l.ground, &l.text, min(l.edge, s.h/8), l.dashed && s.text > 0)
	if s.text == 0 {
		inset := s.h * 0.22
		if b.kind != "" {
			f.mark(b.kind, x+(s.w-s.h)/2+inset, y+inset, s.h-2*inset, l.text)
		}
		return
	}
	a := s.text * 0.95
	first := y + s.h/2 + s.text*0.36
	if s.h > 20 {
		first = y + s.h*0.42
	}
	tx := x + 6
	if b.kind != "" {
		f.mark(b.kind, x+6, first-s.text*0.36-a/2, a, l.text)
		tx += a + 5
	}
	weight := bold
	if b.kind == whatif.Same {
		weight = regular
	}
	f.clipped(tx, first, x+s.w-tx-3, s.text, weight, l.text, b.name)
	if s.h > 20 {
		f.clipped(tx, y+s.h*0.82, x+s.w-tx-3, s.text-1.5, regular, l.text, b.sub)
	}
}

// head is the title of every picture.
func (f *flow) head(name string, target stack.Target, careful bool, under string) {
	f.y += 20
	x := f.write(left, f.y-2, 20, bold, ink, name)
	words := target.Account + " / " + target.Region
	if careful {
		words += "  careful"
	}
	w := f.width(bold, 11, words) + 16
	x = max(x+14, 0)
	if careful { // its own ground
		f.box(x, f.y-17, w, 19, &ink, &ink, 1, false)
		f.write(x+8, f.y-3.5, 11, bold, paper, words)
	} else {
		f.box(x, f.y-17, w, 19, nil, &ink, 1, false)
		f.write(x+8, f.y-3.5, 11, bold, ink, words)
	}
	f.y += 2
	f.paragraph(left, 0, 9, regular, dim, under)
	f.y += 4
}

// legend says what the marks of some kinds mean.
func (f *flow) legend(kinds []whatif.Kind) {
	f.need(16)
	f.y += 6
	x := left + 16
	for _, k := range kinds {
		words := string(k) + ": " + meanings[k]
		if x+14+f.width(regular, 7.5, words) > right {
			f.y += 12
			f.need(12)
			x = left + 16
		}
		f.mark(k, x, f.y, 7, looks[k].text)
		x = f.write(x+11, f.y+6.5, 7.5, regular, dim, words) + 16
	}
	f.y += 12
}

var meanings = map[whatif.Kind]string{
	whatif.New: "is built", whatif.Edit: "is changed in place", whatif.Swap: "a new one is built, the old one goes", whatif.Drop: "is removed",
	whatif.Same: "stays as it is", whatif.Adopt: "exists already, comes under the stack",
	whatif.Keep: "leaves the stack, stays in the cloud",
}

// Stack is a picture of how a stack is built.
type Stack struct {
	Name      string
	Target    stack.Target
	Careful   bool
	About     string // such as "revision 4, ready"
	Purpose   string // what it is for
	Resources []Resource
	Made      time.Time
	// Links draws a line from each brick to those that it needs. Of names resources: the
	// lines of what they need and carry are strong, and drawn also without Links.
	Links bool
	Of    []string
}

// Resource is one resource of a stack.
type Resource struct {
	Name, Type string
	Needs      []string
	Place      string // such as bulletin.yaml:12
}

// Choose lets what a node needs and carries stand out; of one with a count it is that of
// all its resources. "" is none.
func (s *Stack) Choose(node string) error {
	if node == "" {
		return nil
	}
	s.Of = nil
	var names []string
	for _, r := range s.Resources {
		if base, _, _ := strings.Cut(r.Name, "#"); r.Name == node || base == node || strings.HasPrefix(r.Name, node+"/") {
			s.Of = append(s.Of, r.Name)
		}
		names = append(names, r.Name)
	}
	if len(s.Of) == 0 {
		fix := tosca.Suggest(node, names)
		return fmt.Errorf("there is no resource '%s' in it; %s", node, fix)
	}
	return nil
}

func (s Stack) title() string   { return s.Name + " in " + s.Target.String() }
func (s Stack) made() time.Time { return s.Made }
func (s Stack) footer() string {
	return fmt.Sprintf("Brick Row · %s in %s · %s", s.Name, s.Target, s.Made.UTC().Format("2006-01-02 15:04 UTC"))
}

func (s Stack) lay(f *flow) {
	f.head(s.Name, s.Target, s.Careful, fmt.Sprintf("%s; %s. %s", stack.Count(len(s.Resources), "resource"), s.About,
		s.Made.UTC().Format("2006-01-02 15:04 UTC")))
	if s.Purpose != "" {
		f.paragraph(left, 0, 9, regular, ink, s.Purpose)
	}
	f.y += 8
	g := stack.Graph{}
	types := map[string]string{}
	for _, r := range s.Resources {
		g[r.Name], types[r.Name] = r.Needs, r.Type
	}
	reach := map[string]bool{}
	for _, n := range s.Of {
		reach[n] = true
	}
	f.wall(g, min(f.room()-30, 1200), wanted{s.Links, s.Of}, func(n string) brick {
		b := brick{name: n, sub: types[n]}
		b.chosen = reach[n]
		return b
	})
	f.y += 8
	words := "Each brick stands above what it needs; what is built first lies on the ground (0)."
	if s.Links {
		words += " A line leads from each down to what it needs."
	}
	if len(s.Of) > 0 {
		words += " Strong lines are what " + strings.Join(s.Of, ", ") + " needs and carries."
	}
	f.paragraph(left+16, 0, 7.5, regular, dim, words)
	f.heading("Resources, in the order of building")
	for _, course := range g.Courses() {
		for _, n := range course {
			i := slices.IndexFunc(s.Resources, func(r Resource) bool { return r.Name == n })
			r := s.Resources[i]
			f.need(12)
			f.y += 12
			f.clipped(left, f.y-3, 170, 8.5, bold, ink, r.Name)
			f.clipped(left+176, f.y-3, 90, 8.5, regular, ink, r.Type)
			f.clipped(right-120, f.y-3, 120, 8.5, regular, dim, r.Place)
			on := strings.Join(r.Needs, ", ")
			if on == "" {
				on = "–"
			}
			lines := f.wrap(regular, 8.5, right-left-270-130, "rests on "+on)
			for k, l := range lines {
				if k > 0 {
					f.need(11)
					f.y += 11
				}
				f.write(left+270, f.y-3, 8.5, regular, dim, l)
			}
		}
	}
}
