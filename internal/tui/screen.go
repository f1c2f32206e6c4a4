package tui

import (
	"strings"

	"charm.land/lipgloss/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/rivo/uniseg"

	"brickrow/internal/cloud"
)

// rect is a part of the screen, in cells.
type rect struct{ x, y, w, h int }

func (r rect) contains(x, y int) bool { return x >= r.x && x < r.x+r.w && y >= r.y && y < r.y+r.h }

// right cuts n columns off the right side.
func (r rect) splitRight(n int) (left, right rect) {
	n = max(0, min(n, r.w))
	return rect{r.x, r.y, r.w - n, r.h}, rect{r.x + r.w - n, r.y, n, r.h}
}

// splitBottom cuts n rows off the bottom.
func (r rect) splitBottom(n int) (top, bottom rect) {
	n = max(0, min(n, r.h))
	return rect{r.x, r.y, r.w, r.h - n}, rect{r.x, r.y + r.h - n, r.w, n}
}

// screen is the frame being drawn.
type screen struct {
	*lipgloss.Canvas
	w, h int
}

func newScreen(w, h int, ground uv.Style) *screen {
	s := &screen{lipgloss.NewCanvas(w, h), w, h}
	s.fill(rect{0, 0, w, h}, ground)
	return s
}

func (s *screen) fill(r rect, st uv.Style) {
	for y := max(0, r.y); y < min(s.h, r.y+r.h); y++ {
		for x := max(0, r.x); x < min(s.w, r.x+r.w); x++ {
			s.SetCell(x, y, &uv.Cell{Content: " ", Width: 1, Style: st})
		}
	}
}

// text writes one line into at most w cells from x, cut with … where it is
// longer, and yields the column after it. Control characters become visible.
func (s *screen) text(x, y, w int, st uv.Style, text string) int {
	if y < 0 || y >= s.h || w <= 0 {
		return x
	}
	w = min(w, s.w-x)
	text = clip(cloud.Clean(text), w)
	for len(text) > 0 {
		var cluster string
		width := 1
		if text[0] < 0x80 {
			cluster, text = text[:1], text[1:]
		} else {
			cluster, text, width, _ = uniseg.FirstGraphemeClusterInString(text, -1)
		}
		if width > 0 && x >= 0 {
			s.SetCell(x, y, &uv.Cell{Content: cluster, Width: width, Style: st})
		}
		x += width
	}
	return x
}

// right writes a line that ends at the column end, and yields where it begins.
func (s *screen) right(end, y, w int, st uv.Style, text string) int {
	text = clip(cloud.Clean(text), w)
	x := end - width(text)
	s.text(x, y, w, st, text)
	return x
}

func (s *screen) line(x, y, w int, st uv.Style, glyph string) {
	for i := range max(0, w) {
		if x+i < s.w && y >= 0 && y < s.h {
			s.SetCell(x+i, y, &uv.Cell{Content: glyph, Width: 1, Style: st})
		}
	}
}

func (s *screen) column(x, y, h int, st uv.Style, glyph string) {
	for i := range max(0, h) {
		if y+i < s.h && x < s.w {
			s.SetCell(x, y+i, &uv.Cell{Content: glyph, Width: 1, Style: st})
		}
	}
}

// span is a piece of a line in one style.
type span struct {
	st   uv.Style
	text string
}

// spans writes pieces one after the other.
func (s *screen) spans(x, y, w int, list ...span) int {
	end := x + w
	for _, p := range list {
		x = s.text(x, y, end-x, p.st, p.text)
	}
	return x
}

func width(text string) int {
	for i := range len(text) {
		if text[i] >= 0x80 {
			return uniseg.StringWidth(text)
		}
	}
	return len(text)
}

// clip cuts text to w cells, with … in the last one.
func clip(text string, w int) string {
	if w <= 0 {
		return ""
	}
	if width(text) <= w {
		return text
	}
	var b strings.Builder
	used := 0
	for g := uniseg.NewGraphemes(text); g.Next(); {
		if used+g.Width() > w-1 {
			break
		}
		used += g.Width()
		b.WriteString(g.Str())
	}
	return b.String() + "…"
}

// wrap breaks text into lines of at most w cells at spaces.
func wrap(text string, w int) []string {
	if w <= 0 {
		return nil
	}
	var out []string
	line := ""
	for _, word := range strings.Fields(cloud.Clean(text)) {
		for width(word) > w { // a word longer than the line
			if line != "" {
				out, line = append(out, line), ""
			}
			head := clip(word, w+1)
			head = strings.TrimSuffix(head, "…")
			out = append(out, head)
			word = word[len(head):]
		}
		switch {
		case line == "":
			line = word
		case width(line)+1+width(word) <= w:
			line += " " + word
		default:
			out, line = append(out, line), word
		}
	}
	if line != "" {
		out = append(out, line)
	}
	return out
}
