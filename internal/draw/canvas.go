package draw

import (
	"image/color"
	"io"
	"strings"
	"unicode"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// canvas is what pictures are painted on, in points from the top left.
type canvas interface {
	fill(x, y, w, h float64, c color.NRGBA)
	outline(x, y, w, h, width float64, c color.NRGBA)
	line(x0, y0, x1, y1, width float64, c color.NRGBA)
	// text is written with its baseline at y.
	text(x, y, size float64, bold bool, c color.NRGBA, text string)
	write(w io.Writer) error
}

// svgCanvas paints Scalable Vector Graphics, on a canvas that begins at the bottom left.
type svgCanvas struct {
	*vgsvg.Canvas
	h float64
}

func newSVG(w, h float64) *svgCanvas { return &svgCanvas{vgsvg.New(vg.Length(w), vg.Length(h)), h} }

func (s *svgCanvas) at(x, y float64) vg.Point {
	return vg.Point{X: vg.Length(x), Y: vg.Length(s.h - y)}
}

func (s *svgCanvas) fill(x, y, w, h float64, c color.NRGBA) {
	s.SetColor(c)
	s.Fill(vg.Rectangle{Min: s.at(x, y+h), Max: s.at(x+w, y)}.Path())
}

func (s *svgCanvas) outline(x, y, w, h, width float64, c color.NRGBA) {
	s.SetColor(c)
	s.SetLineWidth(vg.Length(width))
	s.Stroke(vg.Rectangle{Min: s.at(x, y+h), Max: s.at(x+w, y)}.Path())
}

func (s *svgCanvas) line(x0, y0, x1, y1, width float64, c color.NRGBA) {
	s.SetColor(c)
	s.SetLineWidth(vg.Length(width))
	var path vg.Path
	path.Move(s.at(x0, y0))
	path.Line(s.at(x1, y1))
	s.Stroke(path)
}

func (s *svgCanvas) text(x, y, size float64, bold bool, c color.NRGBA, text string) {
	s.SetColor(c)
	s.FillString(face(size, bold), s.at(x, y), text)
}

func (s *svgCanvas) write(w io.Writer) error {
	_, err := s.WriteTo(w)
	return err
}

// pdfCanvas paints PDF (ISO 32000) on one page. Its fonts are in the file, as far as they are used, with a map from what is shown to what is meant (section
// 9.10), so that text is found and copied as it is.
type pdfCanvas struct{ *fpdf.Fpdf }

// sans is what the fonts are called in the file.
const sans = "liberation"

func newPDF(w, h float64) *pdfCanvas {
	p := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: w, Ht: h}})
	p.SetMargins(0, 0, 0)
	p.SetAutoPageBreak(false, 0)
	p.SetCatalogSort(true)
	p.AddUTF8FontFromBytes(sans, "", liberationsansregular.TTF)
	p.AddUTF8FontFromBytes(sans, "B", liberationsansbold.TTF)
	p.AddPage()
	return &pdfCanvas{p}
}

func (p *pdfCanvas) stroke(width float64, c color.NRGBA) {
	p.SetDrawColor(int(c.R), int(c.G), int(c.B))
	p.SetLineWidth(width)
}

func (p *pdfCanvas) fill(x, y, w, h float64, c color.NRGBA) {
	p.SetFillColor(int(c.R), int(c.G), int(c.B))
	p.Rect(x, y, w, h, "F")
}

func (p *pdfCanvas) outline(x, y, w, h, width float64, c color.NRGBA) {
	p.stroke(width, c)
	p.Rect(x, y, w, h, "D")
}

func (p *pdfCanvas) line(x0, y0, x1, y1, width float64, c color.NRGBA) {
	p.stroke(width, c)
	p.Line(x0, y0, x1, y1)
}

func (p *pdfCanvas) text(x, y, size float64, bold bool, c color.NRGBA, text string) {
	style := ""
	if bold {
		style = "B"
	}
	p.SetFont(sans, style, size)
	p.SetTextColor(int(c.R), int(c.G), int(c.B))
	p.Text(x, y, strings.Map(shown, text))
}

// shown is a rune as PDF's fonts have it: those have the first plane of Unicode alone.
func shown(r rune) rune {
	if r > 0xffff {
		return unicode.ReplacementChar
	}
	return r
}

func (p *pdfCanvas) write(w io.Writer) error { return p.Output(w) }
