// Package draw makes pictures for paper and reviews: the wall of a stack, what
// a deployment would change, and how long a run took, as SVG and PDF. Both come
// from the same drawing: a picture lays shapes and text on pages, and the two
// writers put them down. Lengths are in points (1/72 inch), from the upper left
// corner.
package draw

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"
	"unicode"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"

	"brickrow/internal/whatif"
)

// A4, the long side across.
const (
	pageWidth  = 842.0
	pageHeight = 595.0
	margin     = 36.0
)

// colour is red, green and blue.
type colour [3]uint8

func (c colour) hex() string { return fmt.Sprintf("#%02X%02X%02X", c[0], c[1], c[2]) }

var (
	ink   = colour{0x1B, 0x1F, 0x24}
	dim   = colour{0x57, 0x60, 0x6B}
	rule  = colour{0xB5, 0xBC, 0xC4}
	paper = colour{0xFF, 0xFF, 0xFF}
	alarm = colour{0x9B, 0x1C, 0x22}
)

// face is one of the fonts.
type face int

const (
	regular face = iota
	bold
)

// shape is a polygon, a line of two points, or text.
type shape struct {
	points  [][2]float64
	fill    *colour
	stroke  *colour
	width   float64
	dashed  bool
	text    string
	face    face
	size    float64
	ink     colour
	at      [2]float64 // of the text, on its base line
	toRight bool       // the text ends there
}

// page is a page with what is on it.
type page struct {
	height float64
	shapes []shape
}

// Picture is something that can be drawn.
type Picture interface {
	title() string
	made() time.Time
	footer() string
	lay(*flow)
}

// flow lays things one below the other, over pages or on one that is as tall
// as it takes.
type flow struct {
	pages []*page
	y     float64
	paged bool
}

const (
	left   = margin
	right  = pageWidth - margin
	top    = margin
	bottom = pageHeight - margin - 14 // above the footer
)

func layOut(p Picture, paged bool) *flow {
	f := &flow{paged: paged}
	f.newPage()
	p.lay(f)
	if !paged {
		f.pages[0].height = f.y + margin + 14
	}
	for i, pg := range f.pages {
		y := pg.height - margin
		words := p.footer()
		if paged {
			words += fmt.Sprintf(" · page %d of %d", i+1, len(f.pages))
		}
		pg.shapes = append(pg.shapes, shape{points: [][2]float64{{left, y - 10}, {right, y - 10}}, stroke: &rule,
			width: 0.5}, shape{text: plain(words), size: 7.5, ink: dim, at: [2]float64{left, y}})
	}
	return f
}

func (f *flow) newPage() {
	f.pages = append(f.pages, &page{height: pageHeight})
	f.y = top
}

// room is how much of the page is left; very much where there is one page only.
func (f *flow) room() float64 {
	if !f.paged {
		return 1e6
	}
	return bottom - f.y
}

// need begins a new page where h does not fit any more.
func (f *flow) need(h float64) {
	if h > f.room() && f.y > top {
		f.newPage()
	}
}

func (f *flow) add(s shape) {
	p := f.pages[len(f.pages)-1]
	p.shapes = append(p.shapes, s)
}

func (f *flow) polygon(fill, stroke *colour, width float64, points ...[2]float64) {
	f.add(shape{points: points, fill: fill, stroke: stroke, width: width})
}

func (f *flow) box(x, y, w, h float64, fill, stroke *colour, width float64, dashed bool) {
	f.add(shape{points: [][2]float64{{x, y}, {x + w, y}, {x + w, y + h}, {x, y + h}}, fill: fill, stroke: stroke,
		width: width, dashed: dashed})
}

func (f *flow) line(x1, y1, x2, y2 float64, c colour, width float64) {
	f.add(shape{points: [][2]float64{{x1, y1}, {x2, y2}}, stroke: &c, width: width})
}

// write puts one line of text on the base line y and yields where it ends.
func (f *flow) write(x, y, size float64, fc face, c colour, s string) float64 {
	if s = plain(s); s != "" {
		f.add(shape{text: s, face: fc, size: size, ink: c, at: [2]float64{x, y}})
	}
	return x + f.width(fc, size, s)
}

// writeTo puts one line of text so that it ends at x.
func (f *flow) writeTo(x, y, size float64, fc face, c colour, s string) {
	f.add(shape{text: plain(s), face: fc, size: size, ink: c, at: [2]float64{x, y}, toRight: true})
}

// width is how wide text may be. An SVG is shown with whatever font there is,
// and many are wider than the one that a PDF carries along.
func (f *flow) width(fc face, size float64, s string) float64 {
	w := textWidth(fc, size, s)
	if !f.paged {
		w *= map[face]float64{regular: 1.14, bold: 1.22}[fc]
	}
	return w
}

// clipped writes one line that is no wider than w.
func (f *flow) clipped(x, y, w, size float64, fc face, c colour, s string) float64 {
	return f.write(x, y, size, fc, c, f.clip(fc, size, w, s))
}

// paragraph writes text over as many lines as it takes, the later ones further
// in by hang.
func (f *flow) paragraph(x, hang, size float64, fc face, c colour, s string) {
	for i, l := range f.wrap(fc, size, right-x-hang, s) {
		f.need(size * 1.4)
		f.y += size * 1.4
		at := x
		if i > 0 {
			at += hang
		}
		f.write(at, f.y-size*0.35, size, fc, c, l)
	}
}

func (f *flow) heading(s string) {
	f.need(40)
	f.y += 22
	f.write(left, f.y-6, 11, bold, ink, s)
	f.line(left, f.y-1, right, f.y-1, rule, 0.6)
	f.y += 4
}

// marksInWords are the marks that fonts on paper do not have.
var marksInWords = func() *strings.Replacer {
	var pairs []string
	for _, k := range allKinds {
		pairs = append(pairs, k.Mark()+" ", string(k)+" ", k.Mark(), string(k))
	}
	return strings.NewReplacer(append(pairs, "⏎", "/", "√", "v")...)
}()

var allKinds = []whatif.Kind{whatif.New, whatif.Edit, whatif.Swap, whatif.Drop, whatif.Same, whatif.Adopt, whatif.Keep}

// plain is text without marks that the fonts lack and without control
// characters.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case unicode.IsControl(r) || !unicode.IsPrint(r) && r != ' ':
			return '·'
		}
		return r
	}, marksInWords.Replace(s))
}

var fonts = map[face][]byte{regular: goregular.TTF, bold: gobold.TTF}

var parsed = sync.OnceValue(func() map[face]*sfnt.Font {
	out := map[face]*sfnt.Font{}
	for fc, ttf := range fonts {
		f, err := opentype.Parse(ttf)
		if err != nil {
			panic(err) // it is part of the program
		}
		out[fc] = f
	}
	return out
})

// advances are the widths of the common letters, in parts of the size.
var advances = sync.OnceValue(func() *[2][0x250]float64 {
	var out [2][0x250]float64
	for fc := range out {
		for r := range out[fc] {
			out[fc][r] = advance(face(fc), rune(r))
		}
	}
	return &out
})

func advance(fc face, r rune) float64 {
	const units = 2048
	var buf sfnt.Buffer
	g, err := parsed()[fc].GlyphIndex(&buf, r)
	if err != nil {
		return 1
	}
	w, err := parsed()[fc].GlyphAdvance(&buf, g, fixed.I(units), font.HintingNone)
	if err != nil {
		return 1
	}
	return float64(w) / 64 / units
}

// textWidth is how wide text is at a size.
func textWidth(fc face, size float64, s string) float64 {
	sum, known := 0.0, &advances()[fc]
	for _, r := range s {
		if int(r) < len(known) {
			sum += known[r]
		} else {
			sum += advance(fc, r)
		}
	}
	return sum * size
}

// fits counts the letters of text that are together no wider than w.
func (f *flow) fits(fc face, size, w float64, s []rune) int {
	for n, r := range s {
		if w -= f.width(fc, size, string(r)); w < 0 {
			return n
		}
	}
	return len(s)
}

// clip shortens text to a width.
func (f *flow) clip(fc face, size, w float64, s string) string {
	s = plain(s)
	if f.width(fc, size, s) <= w {
		return s
	}
	runes := []rune(s)
	if n := f.fits(fc, size, w-f.width(fc, size, "…"), runes); n > 0 {
		return string(runes[:n]) + "…"
	}
	return ""
}

// wrap breaks text into lines of a width, at spaces where it can.
func (f *flow) wrap(fc face, size, w float64, s string) []string {
	var out []string
	line := ""
	for word := range strings.FieldsSeq(plain(s)) {
		for {
			try := word
			if line != "" {
				try = line + " " + word
			}
			if f.width(fc, size, try) <= w {
				line = try
				break
			}
			if line != "" {
				out, line = append(out, line), ""
				continue
			}
			runes := []rune(word)
			n := max(1, f.fits(fc, size, w, runes))
			out, word = append(out, string(runes[:n])), string(runes[n:])
			if word == "" {
				break
			}
		}
	}
	if line != "" {
		out = append(out, line)
	}
	return out
}

// Write draws a picture in the form that the name of a file asks for: .svg or
// .pdf.
func Write(w io.Writer, name string, p Picture) error {
	switch {
	case strings.HasSuffix(strings.ToLower(name), ".svg"):
		return SVG(w, p)
	case strings.HasSuffix(strings.ToLower(name), ".pdf"):
		return PDF(w, p)
	}
	return fmt.Errorf("the name must end in .svg or .pdf, and it is %s", name)
}
