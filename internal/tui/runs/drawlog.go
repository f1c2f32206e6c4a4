package runs

import (
	"fmt"
	"image/color"
	"path/filepath"
	"strings"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/run"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// drawEvents lists the events beside the wall, each as a whole.
func (v *View) drawEvents(s *part.Screen, r part.Rect) {
	t, l := v.Theme(), &v.log
	v.drawLogTitle(s, r)
	rows := r.H - 1
	if rows <= 0 {
		return
	}
	fields := v.fields(r.W)
	words := fields.words(r)
	told := func(e run.Event) []string { // whole, on as many lines as it takes
		lines := part.Wrap(eventWords(e), r.X+r.W-words)
		return lines[:min(len(lines), rows)]
	}
	last := l.len()
	for room := rows; last > 0; last-- { // the first of those that fit below
		if room -= max(1, len(told(l.at(last-1)))); room < 0 {
			break
		}
	}
	if l.follow || l.top >= last {
		l.top = last
	}
	y, end := r.Y+1, r.Y+1+rows
	for i := l.top; i < l.len() && y < end; i++ {
		e := l.at(i)
		fields.draw(v, s, r.X, y, e, t.Ground)
		lines := told(e)
		for i, line := range lines[:min(len(lines), end-y)] {
			s.Text(words, y+i, r.X+r.W-words, t.Plain(), line)
		}
		y += max(1, len(lines))
	}
	if l.len() == 0 {
		s.Text(r.X, r.Y+1, r.W, t.Faint(), v.noEvents())
	}
}

func (v *View) noEvents() string {
	if v.log.filter.Active() {
		return "no event has these words; esc clears the filter"
	}
	return "nothing has happened yet"
}

func (v *View) drawLogTitle(s *part.Screen, r part.Rect) {
	l := &v.log
	count := ""
	if l.filter.Active() {
		count = fmt.Sprintf("%d of %d", l.len(), len(l.all))
	}
	if l.filter.Draw(v.Theme(), s, r.X, r.Y, r.W-14) {
		s.Right(r.X+r.W, r.Y, 14, v.Theme().Faint(), count)
		return
	}
	if l.search.Typing {
		x := s.Text(r.X, r.Y, 10, part.Bold(v.Theme().Hinted()), "search ")
		part.DrawInput(v.Theme(), s, x, r.Y, min(40, r.W-10), l.search.Input)
		return
	}
	mode := "newest below · following"
	switch {
	case l.reading:
		mode = fmt.Sprintf("%d of %d", min(l.cursor+1, l.len()), l.len())
		if l.follow {
			mode += " · following"
		}
		if l.search.Active() {
			mode += " · search: " + l.search.Input.Value() + ", n older, N newer"
		}
	case !l.follow:
		mode = "newest below · f follows"
	}
	part.PanelTitle(v.Theme(), s, r, "events", mode)
}

// fields are the columns of the list, as wide as there is room.
type fields struct {
	name  int   // of the resource
	shown []int // of columns
}

func (v *View) fields(w int) fields {
	f := fields{name: min(max(8, v.progress.Longest()), w/3)}
	room := w - f.name - 3 - min(24, w/3) // what happened needs some
	for i, c := range columns {
		if v.log.shows(c.name) && room > c.width {
			f.shown = append(f.shown, i)
			room -= c.width + 1
		}
	}
	return f
}

// words is where what happened begins.
func (f fields) words(r part.Rect) int {
	x := r.X + f.name + 3
	for _, i := range f.shown {
		x += columns[i].width + 1
	}
	return x
}

// draw draws all of a line but what happened.
func (f fields) draw(v *View, s *part.Screen, x, y int, e run.Event, ground color.Color) {
	t := v.Theme()
	faint, nameSt, mark := t.Faint(), t.Strong(), part.Bold(t.On(t.States[e.State].Word))
	who := e.Resource
	if who == "" {
		who, nameSt = "run", part.Bold(t.Hinted())
	}
	if e.Resource != "" && e.Resource == v.wall.Sel {
		nameSt = part.Bold(t.On(t.Accent))
	}
	faint.Bg, nameSt.Bg, mark.Bg = ground, ground, ground
	cell := func(i int) {
		c := columns[i]
		s.Text(x, y, c.width, faint, c.text(e))
		x += c.width + 1
	}
	if len(f.shown) > 0 && f.shown[0] == 0 { // the time comes first
		cell(0)
	}
	s.Text(x, y, 1, mark, part.StateMarks[e.State])
	s.Text(x+2, y, f.name, nameSt, who)
	x += f.name + 3
	for _, i := range f.shown {
		if i > 0 {
			cell(i)
		}
	}
}

// drawReading lists the events over the whole width, a line each, with one marked that
// is told in full below.
func (v *View) drawReading(s *part.Screen, r part.Rect) {
	t, l := v.Theme(), &v.log
	r = part.R(r.X+1, r.Y, r.W-2, r.H)
	e, ok := l.marked()
	var whole []part.Span
	if ok {
		whole = v.whole(e, r.W)
	}
	if l.choosing {
		whole = v.choices()
	}
	list, below := r.SplitBottom(min(len(whole)+1, r.H/2))
	v.drawLogTitle(s, list)
	v.drawList(s, part.R(list.X, list.Y+1, list.W, list.H-1))
	s.Line(below.X-1, below.Y, below.W+2, t.On(t.Mortar), "─")
	for i, line := range whole {
		if i+1 < below.H {
			s.Text(below.X, below.Y+1+i, below.W, line.Style, line.Text)
		}
	}
}

func (v *View) drawList(s *part.Screen, r part.Rect) {
	t, l := v.Theme(), &v.log
	if r.H < 2 {
		return
	}
	fields := v.fields(r.W)
	words := fields.words(r)
	x := r.X
	head := func(w int, name string) {
		s.Text(x, r.Y, w, t.Faint(), name)
		x += w + 1
	}
	if len(fields.shown) > 0 && fields.shown[0] == 0 {
		head(8, "time")
	}
	x += 2
	head(fields.name, "resource")
	for _, i := range fields.shown {
		if i > 0 {
			head(columns[i].width, columns[i].name)
		}
	}
	s.Text(words, r.Y, r.X+r.W-words, t.Faint(), "what happened")
	l.rows = r.H - 1
	l.top = max(0, min(l.top, l.cursor, l.len()-l.rows))
	if l.cursor >= l.top+l.rows {
		l.top = l.cursor - l.rows + 1
	}
	if l.len() == 0 {
		s.Text(r.X, r.Y+1, r.W, t.Faint(), v.noEvents())
	}
	for i := range min(l.rows, l.len()-l.top) {
		e, y, plain := l.at(l.top+i), r.Y+1+i, t.Plain()
		ground := t.Ground
		if l.top+i == l.cursor {
			ground, plain = t.Panel, uv.Style{Fg: t.Bright, Bg: t.Panel}
			s.Fill(part.R(r.X-1, y, r.W+2, 1), plain)
			s.Text(r.X-1, y, 1, uv.Style{Fg: t.Accent, Bg: t.Panel}, "▌")
		}
		fields.draw(v, s, r.X, y, e, ground)
		s.Text(words, y, r.X+r.W-words, plain, part.Clip(strings.ReplaceAll(eventWords(e), "\n", " "), r.X+r.W-words))
	}
}

// whole is all that an event says.
func (v *View) whole(e run.Event, w int) []part.Span {
	t := v.Theme()
	who := e.Resource
	if who == "" {
		who = "the run"
	}
	about := []string{e.Time.Local().Format("2006-01-02 15:04:05.000")}
	if e.Type != "" && e.Resource != "" {
		about = append(about, e.Type)
	}
	if e.Attempt > 1 {
		about = append(about, fmt.Sprintf("attempt %d", e.Attempt))
	}
	if e.Resource != "" {
		about = append(about, whatif.Length(e.Elapsed.Seconds())+" after it began")
	}
	if e.CloudID != "" {
		about = append(about, e.CloudID)
	}
	if pos := v.place(e.Resource); pos.Line > 0 {
		about = append(about, fmt.Sprintf("%s:%d", filepath.Base(pos.File), pos.Line))
	}
	out := []part.Span{part.S(part.Bold(t.On(t.States[e.State].Word)), part.StateMarks[e.State]+" "+who+" "+string(e.State))}
	for _, line := range part.Wrap(strings.Join(about, " · "), w) {
		out = append(out, part.S(t.Faint(), line))
	}
	for _, line := range part.Wrap(eventWords(e), w) {
		out = append(out, part.S(t.Plain(), line))
	}
	return out
}

// choices are the columns there are, and which of them are shown.
func (v *View) choices() []part.Span {
	t := v.Theme()
	out := []part.Span{part.S(part.Bold(t.Hinted()), "columns")}
	for i, c := range columns {
		mark, st, shown := "  ", t.Plain(), "hidden"
		if i == v.log.choice {
			mark, st = "▸ ", t.Strong()
		}
		if v.log.shows(c.name) {
			shown = "shown"
		}
		out = append(out, part.S(st, fmt.Sprintf("%s%-12s %s", mark, c.name, shown)))
	}
	return out
}
