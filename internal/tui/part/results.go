package part

import (
	"fmt"
	"slices"
	"strconv"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// PanelTitle writes the title of a part of a view.
func PanelTitle(t *Theme, s *Screen, r Rect, title, faint string) {
	x := s.Text(r.X, r.Y, r.W, Bold(t.Hinted()), title)
	s.Text(x+2, r.Y, r.W-(x+2-r.X), t.Faint(), faint)
}

// DrawResults lists results, each with what it is, the marked one lit.
func DrawResults(t *Theme, s *Screen, r Rect, list []stack.Result, at int) {
	y := r.Y
	for i, res := range list {
		mark, st := "  ", t.Plain()
		if i == at {
			mark, st = "▸ ", t.Strong()
		}
		if y >= r.Y+r.H {
			return
		}
		x := s.Text(r.X, y, r.W, t.On(t.Key), mark+res.Name)
		s.Text(x+2, y, r.X+r.W-x-2, t.Faint(), res.Description)
		y++
		for _, line := range Wrap(tosca.Show(res.Value), r.W-4) {
			if y < r.Y+r.H {
				s.Text(r.X+4, y, r.W-4, st, line)
			}
			y++
		}
	}
}

// narrow is the width below which only what is there is counted.
const narrow = 100

// DrawTally writes the numbers of a change set with their marks.
func DrawTally(t *Theme, s *Screen, x, y, w int, tally whatif.Tally) int {
	end := x + w
	for _, k := range append(slices.Clone(whatif.Kinds), whatif.Adopt, whatif.Keep) {
		if tally.Of(k) == 0 && (k == whatif.Adopt || k == whatif.Keep || w < narrow) {
			continue
		}
		st := Bold(t.On(t.Kinds[k].Word))
		if tally.Of(k) == 0 || k == whatif.Same {
			st = t.Faint()
		}
		x = s.Text(x, y, end-x, st, fmt.Sprintf("%s %d %s", k.Mark(), tally.Of(k), k)) + 3
	}
	if tally.Results > 0 {
		x = s.Text(x, y, end-x, Bold(t.Hinted()), fmt.Sprintf("%d result%s", tally.Results, Plural(tally.Results))) + 3
	}
	return x
}

func Itoa(n int) string { return strconv.Itoa(n) }

func Plural(n int) string {
	if n == 1 {
		return ""
	}
	return "s"
}
