package part

import (
	"slices"
	"strconv"
	"strings"

	"charm.land/lipgloss/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/rivo/uniseg"

	"brickrow/internal/cloud"
)

// Rect is a part of the screen, in cells.
type Rect struct{ X, Y, W, H int }

func (r Rect) Contains(x, y int) bool { return x >= r.X && x < r.X+r.W && y >= r.Y && y < r.Y+r.H }

// Right cuts n columns off the right side.
func (r Rect) SplitRight(n int) (left, right Rect) {
	n = max(0, min(n, r.W))
	return Rect{r.X, r.Y, r.W - n, r.H}, Rect{r.X + r.W - n, r.Y, n, r.H}
}

// SplitBottom cuts n rows off the bottom.
func (r Rect) SplitBottom(n int) (top, bottom Rect) {
	n = max(0, min(n, r.H))
	return Rect{r.X, r.Y, r.W, r.H - n}, Rect{r.X, r.Y + r.H - n, r.W, n}
}

// Screen is the frame being drawn.
type Screen struct {
	*lipgloss.Canvas
	W, H int
}

func NewScreen(w, h int, ground uv.Style) *Screen {
	s := &Screen{lipgloss.NewCanvas(w, h), w, h}
	s.Fill(Rect{0, 0, w, h}, ground)
	return s
}

func (s *Screen) Fill(r Rect, st uv.Style) {
	for y := max(0, r.Y); y < min(s.H, r.Y+r.H); y++ {
		for x := max(0, r.X); x < min(s.W, r.X+r.W); x++ {
			s.SetCell(x, y, &uv.Cell{Content: " ", Width: 1, Style: st})
		}
	}
}

// Text writes one line into at most w cells from x, cut with … where it is
// longer, and yields the column after it. Control characters become visible.
func (s *Screen) Text(x, y, w int, st uv.Style, text string) int {
	if y < 0 || y >= s.H || w <= 0 {
		return x
	}
	w = min(w, s.W-x)
	text = Clip(cloud.Clean(text), w)
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

// Link makes cells open an address, in a terminal that can.
func (s *Screen) Link(x, y, w int, address string) {
	for i := max(0, x); i < min(s.W, x+w); i++ {
		if c := s.CellAt(i, y); c != nil {
			linked := *c
			linked.Link = uv.NewLink(address)
			s.SetCell(i, y, &linked)
		}
	}
}

// Right writes a line that ends at the column end, and yields where it begins.
func (s *Screen) Right(end, y, w int, st uv.Style, text string) int {
	text = Clip(cloud.Clean(text), w)
	x := end - Width(text)
	s.Text(x, y, w, st, text)
	return x
}

func (s *Screen) Line(x, y, w int, st uv.Style, glyph string) {
	for i := range max(0, w) {
		if x+i < s.W && y >= 0 && y < s.H {
			s.SetCell(x+i, y, &uv.Cell{Content: glyph, Width: 1, Style: st})
		}
	}
}

func (s *Screen) Column(x, y, h int, st uv.Style, glyph string) {
	for i := range max(0, h) {
		if y+i < s.H && x < s.W {
			s.SetCell(x, y+i, &uv.Cell{Content: glyph, Width: 1, Style: st})
		}
	}
}

// MoreBelow says on the last line of some details how many lines are not in sight, that one among them.
func (s *Screen) MoreBelow(r Rect, t *Theme, n int) {
	if n <= 0 {
		return
	}
	s.Fill(Rect{r.X, r.Y + r.H - 1, r.W, 1}, t.Plain())
	s.Right(r.X+r.W, r.Y+r.H-1, r.W, Bold(t.Hinted()), Itoa(n+1)+" more, pgdn")
}

// Span is a piece of a line in one style.
type Span struct {
	Style uv.Style
	Text  string
}

// Spans writes pieces one after the other.
func (s *Screen) Spans(x, y, w int, list ...Span) int {
	end := x + w
	for _, p := range list {
		x = s.Text(x, y, end-x, p.Style, p.Text)
	}
	return x
}

func Width(text string) int {
	for i := range len(text) {
		if text[i] >= 0x80 {
			return uniseg.StringWidth(text)
		}
	}
	return len(text)
}

// Clip cuts text to w cells, with … in the last one.
func Clip(text string, w int) string {
	if w <= 0 {
		return ""
	}
	if Width(text) <= w {
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

// Middle cuts text to w cells, with … in its middle: of names it is often the end that differs.
func Middle(text string, w int) string {
	if Width(text) <= w || w < 5 {
		return Clip(text, w)
	}
	tail, used := text, Width(text)
	for used > w/2 {
		_, rest, width, _ := uniseg.FirstGraphemeClusterInString(tail, -1)
		tail, used = rest, used-width
	}
	return Clip(text, w-used) + tail
}

// Wrap breaks text into lines of at most w cells at spaces.
func Wrap(text string, w int) []string {
	if w <= 0 {
		return nil
	}
	var out []string
	line := ""
	for _, word := range glued(strings.Fields(cloud.Clean(text))) {
		for Width(word) > w { // a word longer than the line
			if line != "" {
				out, line = append(out, line), ""
			}
			head := Clip(word, w+1)
			head = strings.TrimSuffix(head, "…")
			out = append(out, head)
			word = word[len(head):]
		}
		switch {
		case line == "":
			line = word
		case Width(line)+1+Width(word) <= w:
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

// glued joins words that stay on one line: a number and its unit, and the parts of one length of time.
func glued(words []string) []string {
	out := words[:0]
	amount := false // the last word ends with an amount
	for i := 0; i < len(words); i++ {
		w := words[i]
		quantity := isNumber(w) && i+1 < len(words) && slices.Contains(units, strings.TrimRight(words[i+1], ".,:;)"))
		if quantity {
			w += " " + words[i+1]
			i++
		}
		if quantity && amount {
			out[len(out)-1] += " " + w
		} else {
			out = append(out, w)
		}
		amount = quantity && slices.Contains(units, words[i]) // no sign behind it
	}
	return out
}

var units = []string{"ms", "s", "min", "h", "d", "days", "B", "kB", "MB", "GB", "KiB", "MiB", "GiB", "TiB", "%"}

func isNumber(word string) bool {
	word = strings.TrimLeft(word, "(<>=~+-−")
	_, err := strconv.ParseFloat(word, 64)
	return err == nil
}

// R is the part of the screen that begins at a column and a row and has a size.
func R(x, y, w, h int) Rect { return Rect{x, y, w, h} }

// S is a piece of a line in a style.
func S(st uv.Style, text string) Span { return Span{st, text} }
