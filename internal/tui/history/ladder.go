package history

import (
	"time"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/tui/part"
)

// ladder is a list of rungs, the newest above, of which one is chosen.
type ladder struct {
	top     int
	area    part.Rect
	heights []int // of the rungs in sight, from the top on
	scroll  int   // of what stands beside it
}

// draw draws the rungs that find room, so that the chosen one is among them. tall is how many
// lines a rung takes with the gap under it.
func (l *ladder) draw(r part.Rect, n, chosen int, tall func(i int) int, rung func(r part.Rect, i int)) {
	l.area = r
	l.top = max(0, min(l.top, chosen))
	used := 0
	for k := chosen; k >= l.top; k-- {
		if used += tall(k); used > r.H && k < chosen {
			l.top = k + 1
			break
		}
	}
	l.heights = l.heights[:0]
	y := r.Y
	for k := l.top; k < n && y < r.Y+r.H; k++ {
		h := tall(k)
		rung(part.R(r.X, y, r.W, min(h, r.Y+r.H-y)), k)
		l.heights = append(l.heights, h)
		y += h
	}
}

// at is the rung at a place of the screen; -1 is none.
func (l *ladder) at(x, y int) int {
	from := l.area.Y
	for i, h := range l.heights {
		if y >= from && y < from+h && l.area.Contains(x, y) {
			return l.top + i
		}
		from += h
	}
	return -1
}

// look are the styles of a rung; the chosen one has a ground of its own.
type look struct {
	plain, strong, faint uv.Style
	ground               func(uv.Style) uv.Style
}

// rung draws the ground of a rung, and yields how its words look.
func rung(t *part.Theme, s *part.Screen, r part.Rect, own int, chosen bool) look {
	l := look{t.Plain(), t.Strong(), t.Faint(), func(st uv.Style) uv.Style { return st }}
	if chosen {
		l.ground = func(st uv.Style) uv.Style { st.Bg = t.Bar; return st }
		l.plain = uv.Style{Fg: t.Bright, Bg: t.Bar}
		l.strong, l.faint = part.Bold(l.plain), uv.Style{Fg: t.Dim, Bg: t.Bar}
		s.Fill(part.R(r.X, r.Y, r.W-1, min(own, r.H)), l.plain)
		s.Column(r.X, r.Y, min(own, r.H), uv.Style{Fg: t.Accent, Bg: t.Bar}, "▌")
	}
	return l
}

// gap draws how long it was between a rung and the one under it.
func gap(t *part.Theme, s *part.Screen, x, y, w int, d time.Duration) {
	words := "│"
	if d >= time.Minute {
		words += " " + span(d)
	}
	s.Text(x, y, w, t.On(t.Mortar), words)
}

// beside draws what stands beside a ladder, as far down as it was scrolled.
func (l *ladder) beside(t *part.Theme, s *part.Screen, r part.Rect, lines [][]part.Span) {
	room := r.H
	if len(lines) > room {
		room--
	}
	l.scroll = max(0, min(l.scroll, len(lines)-room))
	for i, line := range lines[l.scroll:min(len(lines), l.scroll+max(0, room))] {
		s.Spans(r.X, r.Y+i, r.W, line...)
	}
	if l.scroll+room < len(lines) {
		s.MoreBelow(r, t, len(lines)-l.scroll-room)
	}
}
