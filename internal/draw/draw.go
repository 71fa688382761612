// Package draw renders the pictures of plans and runs, elevations and timelines, as SVG and PDF.
//
// In goes the same arrangement that the screens show; each picture is painted once, on a vector canvas, and written in
// either format.
package draw

import (
	"fmt"
	"image/color"
	"io"
	"sync"

	weight "golang.org/x/image/font"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/vg"

	"andamio/internal/core/printable"
	"andamio/internal/core/run"
)

// Picture is something that can be painted, in points from the top left.
type Picture struct {
	W, H  float64
	paint func(p *painter)
}

// Formats are those that [Picture.Write] knows.
var Formats = []string{"svg", "pdf"}

// Write paints the picture in a format.
func (pic *Picture) Write(w io.Writer, format string) error {
	var on canvas
	switch format {
	case "svg":
		on = newSVG(pic.W, pic.H)
	case "pdf":
		on = newPDF(pic.W, pic.H)
	default:
		return fmt.Errorf("pictures are written as svg or pdf, not %q", format)
	}
	pic.paint(&painter{c: on})
	return on.write(w)
}

// painter paints on a canvas.
type painter struct{ c canvas }

// Colours on paper.
var (
	ink    = color.NRGBA{0x1b, 0x22, 0x29, 0xff}
	dim    = color.NRGBA{0x6b, 0x76, 0x80, 0xff}
	steel  = color.NRGBA{0x7d, 0x8b, 0x99, 0xff}
	ochre  = color.NRGBA{0xd9, 0xa4, 0x41, 0xff}
	paper  = color.NRGBA{0xff, 0xff, 0xff, 0xff}
	status = map[run.Status]color.NRGBA{
		run.Planned: {0x9a, 0xa6, 0xb2, 0xff}, run.UnderWay: {0x5a, 0xa9, 0xe6, 0xff}, run.Standing: {0x3f, 0xb6, 0xa8, 0xff},
		run.Failed: {0xe5, 0x67, 0x4f, 0xff}, run.Held: {0x9d, 0x7f, 0xe0, 0xff}, run.Stopped: {0xe5, 0x67, 0x4f, 0xff},
		run.Passed: {0x9a, 0xa6, 0xb2, 0xff}, run.Retired: {0x9a, 0xa6, 0xb2, 0xff},
	}
	pale = map[run.Status]color.NRGBA{
		run.Planned: {0xee, 0xf1, 0xf4, 0xff}, run.UnderWay: {0xe0, 0xef, 0xfb, 0xff}, run.Standing: {0xda, 0xf1, 0xee, 0xff},
		run.Failed: {0xfb, 0xe3, 0xde, 0xff}, run.Held: {0xea, 0xe3, 0xf9, 0xff}, run.Stopped: {0xfb, 0xe3, 0xde, 0xff},
		run.Passed: {0xee, 0xf1, 0xf4, 0xff}, run.Retired: {0xee, 0xf1, 0xf4, 0xff},
	}
)

func (p *painter) rect(x, y, w, h float64, fill color.NRGBA) {
	if w <= 0 || h <= 0 {
		return
	}
	p.c.fill(x, y, w, h, fill)
}

func (p *painter) line(x0, y0, x1, y1, width float64, c color.NRGBA) {
	p.c.line(x0, y0, x1, y1, width, c)
}

// fonts are read once, at the first picture: the program must start fast without them.
var fonts = sync.OnceValue(func() *font.Cache { return font.NewCache(liberation.Collection()) })

func face(size float64, bold bool) font.Face {
	f := font.Font{Typeface: "Liberation", Variant: "Sans"}
	if bold {
		f.Weight = weight.WeightBold
	}
	return fonts().Lookup(f, vg.Length(size))
}

// text draws text with its baseline at y, cut to w; it returns where it ends.
func (p *painter) text(x, y, w, size float64, bold bool, c color.NRGBA, text string) float64 {
	f := face(size, bold)
	text = fit(f, printable.Clean(text), w)
	p.c.text(x, y, size, bold, c, text)
	return x + float64(f.Width(text))
}

// textRight draws text that ends at x.
func (p *painter) textRight(x, y, w, size float64, c color.NRGBA, text string) {
	f := face(size, false)
	text = fit(f, printable.Clean(text), w)
	p.c.text(x-float64(f.Width(text)), y, size, false, c, text)
}

// fit cuts text to a width, ending in "…" where it does not fit.
func fit(f font.Face, text string, w float64) string {
	if w <= 0 {
		return ""
	}
	if float64(f.Width(text)) <= w {
		return text
	}
	r := []rune(text)
	for len(r) > 0 && float64(f.Width(string(r)+"…")) > w {
		r = r[:len(r)-1]
	}
	if len(r) == 0 {
		return ""
	}
	return string(r) + "…"
}

// mark draws a status's shape, as the screens' glyph: a plank outlined, half filled, filled, crossed, barred.
func (p *painter) mark(x, y, size float64, s run.Status) {
	c := status[s]
	switch s {
	case run.Planned:
		p.outline(x, y, size, c)
	case run.UnderWay:
		p.outline(x, y, size, c)
		p.rect(x, y, size/2, size, c)
	case run.Failed:
		p.line(x, y, x+size, y+size, 1.4, c)
		p.line(x, y+size, x+size, y, 1.4, c)
	case run.Held:
		p.line(x+size*0.3, y, x+size*0.3, y+size, 1.4, c)
		p.line(x+size*0.7, y, x+size*0.7, y+size, 1.4, c)
	case run.Stopped:
		p.outline(x, y, size, c)
		p.rect(x+size/2, y, size/2, size, c)
	case run.Retired:
		p.rect(x, y+size*0.7, size, size*0.3, c)
	default:
		p.rect(x, y, size, size, c)
	}
}

func (p *painter) outline(x, y, size float64, c color.NRGBA) {
	p.c.outline(x, y, size, size, 0.9, c)
}

// legend draws what the marks mean.
func (p *painter) legend(x, y float64, statuses ...run.Status) {
	for _, s := range statuses {
		p.mark(x, y-6, 6, s)
		x = p.text(x+10, y, 200, 8, false, dim, string(s)) + 16
	}
}
