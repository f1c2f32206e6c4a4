package draw

import (
	"fmt"
	"io"

	"codeberg.org/go-pdf/fpdf"
	svg "github.com/ajstarks/svgo/float"
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
			style := fmt.Sprintf(`font-family="Go, 'DejaVu Sans', Arial, sans-serif" font-size="%.2f" fill="%s"`, sh.size, sh.ink.hex())
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
		for _, sh := range pg.shapes {
			pdfShape(f, sh)
		}
	}
	return f.Output(w)
}

func pdfShape(f *fpdf.Fpdf, sh shape) {
	if sh.text != "" {
		f.SetFont("go", map[face]string{bold: "B"}[sh.face], sh.size)
		f.SetTextColor(int(sh.ink[0]), int(sh.ink[1]), int(sh.ink[2]))
		x := sh.at[0]
		if sh.toRight {
			x -= textWidth(sh.face, sh.size, sh.text)
		}
		f.Text(x, sh.at[1], sh.text)
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
