package draw

import (
	"fmt"
	"io"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	svg "github.com/ajstarks/svgo/float"
	"golang.org/x/image/font/sfnt"
)

// SVG draws a picture on one page that is as tall as it takes.
func SVG(w io.Writer, p Picture) error {
	out := &sticky{w: w}
	pg := layOut(p, false).pages[0]
	s := svg.New(out)
	s.Decimals = 2
	s.Startview(pageWidth, pg.height, 0, 0, pageWidth, pg.height)
	s.Title(plain(p.title()))
	s.Rect(0, 0, pageWidth, pg.height, `fill="`+paper.hex()+`"`)
	for _, sh := range pg.shapes {
		if sh.text != "" {
			style := fmt.Sprintf(`font-family="Go, 'DejaVu Sans', Arial, sans-serif" font-size="%.2f" fill="%s"`,
				sh.size, sh.ink.hex())
			if sh.face == bold {
				style += ` font-weight="bold"`
			}
			if sh.toRight {
				style += ` text-anchor="end"`
			}
			s.Text(sh.at[0], sh.at[1], sh.text, style)
			continue
		}
		style := fmt.Sprintf(`fill="%s"`, hexOrNone(sh.fill))
		if sh.stroke != nil {
			style += fmt.Sprintf(` stroke="%s" stroke-width="%.2f"`, sh.stroke.hex(), sh.width)
		}
		if sh.dashed {
			style += ` stroke-dasharray="4 2.5"`
		}
		if len(sh.points) == 2 {
			s.Line(sh.points[0][0], sh.points[0][1], sh.points[1][0], sh.points[1][1], style)
			continue
		}
		var xs, ys []float64
		for _, pt := range sh.points {
			xs, ys = append(xs, pt[0]), append(ys, pt[1])
		}
		s.Polygon(xs, ys, style)
	}
	s.End()
	return out.err
}

func hexOrNone(c *colour) string {
	if c == nil {
		return "none"
	}
	return c.hex()
}

// sticky keeps the first error of a writer, which the SVG package passes over.
type sticky struct {
	w   io.Writer
	err error
}

func (s *sticky) Write(b []byte) (int, error) {
	if s.err == nil {
		_, s.err = s.w.Write(b)
	}
	return len(b), nil
}

// PDF draws a picture on pages of A4, the long side across.
func PDF(w io.Writer, p Picture) error {
	f := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: pageWidth, Ht: pageHeight}})
	f.SetAutoPageBreak(false, 0)
	f.SetMargins(0, 0, 0)
	f.SetTitle(plain(p.title()), true)
	f.SetProducer("Brick Row", true)
	f.SetCreationDate(p.made())
	f.SetModificationDate(p.made())
	f.SetCatalogSort(true)
	f.AddUTF8FontFromBytes("go", "", fonts[regular])
	f.AddUTF8FontFromBytes("go", "B", fonts[bold])
	for _, pg := range layOut(p, true).pages {
		f.AddPage()
		lacks := false
		for _, sh := range pg.shapes {
			pdfShape(f, sh)
			lacks = lacks || inFont(sh.face, sh.text) != sh.text
		}
		if lacks {
			pdfShape(f, shape{text: "The font of this page lacks letters that stand here as " + missing +
				"; the SVG has them.", size: 7.5, ink: dim, at: [2]float64{right, pg.height - margin}, toRight: true})
		}
	}
	return f.Output(w)
}

// missing stands for a letter that the font lacks.
const missing = "□"

// inFont is text with what the font lacks made visible.
func inFont(fc face, s string) string {
	var buf sfnt.Buffer
	return strings.Map(func(r rune) rune {
		if r < 0x80 {
			return r
		}
		if g, err := parsed()[fc].GlyphIndex(&buf, r); err != nil || g == 0 || r > 0xFFFF {
			return []rune(missing)[0]
		}
		return r
	}, s)
}

func pdfShape(f *fpdf.Fpdf, sh shape) {
	if sh.text != "" {
		f.SetFont("go", map[face]string{bold: "B"}[sh.face], sh.size)
		f.SetTextColor(int(sh.ink[0]), int(sh.ink[1]), int(sh.ink[2]))
		x, text := sh.at[0], inFont(sh.face, sh.text)
		if sh.toRight {
			x -= textWidth(sh.face, sh.size, text)
		}
		f.Text(x, sh.at[1], text)
		return
	}
	style := ""
	if sh.fill != nil {
		f.SetFillColor(int(sh.fill[0]), int(sh.fill[1]), int(sh.fill[2]))
		style = "F"
	}
	if sh.stroke != nil {
		f.SetDrawColor(int(sh.stroke[0]), int(sh.stroke[1]), int(sh.stroke[2]))
		f.SetLineWidth(sh.width)
		style += "D"
	}
	dash := []float64{}
	if sh.dashed {
		dash = []float64{4, 2.5}
	}
	f.SetDashPattern(dash, 0)
	if len(sh.points) == 2 {
		f.Line(sh.points[0][0], sh.points[0][1], sh.points[1][0], sh.points[1][1])
		return
	}
	points := make([]fpdf.PointType, len(sh.points))
	for i, pt := range sh.points {
		points[i] = fpdf.PointType{X: pt[0], Y: pt[1]}
	}
	f.Polygon(points, style)
}
