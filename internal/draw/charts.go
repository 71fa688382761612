package draw

import (
	"fmt"
	"image/color"

	"andamio/internal/core/cost"
	"andamio/internal/core/usage"
)

// Measures of the charts, in points.
const (
	chartW    = 760.0
	chartName = 130.0
	chartBar  = 11.0
	chartRow  = 15.0
)

var (
	sky  = color.NRGBA{0x5a, 0xa9, 0xe6, 0xff}
	free = color.NRGBA{0xe9, 0xed, 0xf1, 0xff}
	teal = color.NRGBA{0x3f, 0xb6, 0xa8, 0xff}
	// coral is what failed.
	coral = color.NRGBA{0xe5, 0x67, 0x4f, 0xff}
)

// Capacity draws how full every site is, before and after a plan: cores, memory and disk.
func Capacity(name string, sites []usage.Site) *Picture {
	h := 78 + float64(len(sites))*(3*chartRow+14)
	return &Picture{W: chartW, H: h, paint: func(p *painter) {
		p.rect(0, 0, chartW, h, paper)
		p.text(24, 30, chartW-48, 15, true, ink, name+": capacity before and after")
		x := 24.0
		for _, k := range []struct {
			word string
			fill color.NRGBA
		}{{"used", steel}, {"this plan", sky}, {"free", free}} {
			p.rect(x, 42, 10, 10, k.fill)
			x = p.text(x+14, 51, 100, 9, false, dim, k.word) + 14
		}
		y := 68.0
		for _, s := range sites {
			p.text(24, y+11, chartName-30, 10, true, ink, s.Site.Name)
			p.text(24, y+24, chartName-30, 8, false, dim, string(s.Site.Kind))
			p.load(y, "cores", s.Cores)
			p.load(y+chartRow, "GiB memory", s.Memory)
			p.load(y+2*chartRow, "GiB disk", s.Disk)
			y += 3*chartRow + 14
			p.line(24, y-8, chartW-24, y-8, 0.5, free)
		}
	}}
}

// load draws one bar: used, this plan, free, and in numbers what is taken of what.
func (p *painter) load(y float64, unit string, l usage.Load) {
	x, w := chartName+70, chartW-chartName-70-150
	p.textRight(x-8, y+9, 80, 8, dim, unit)
	p.rect(x, y, w, chartBar, free)
	if l.Total > 0 {
		used := min(w*l.Used/l.Total, w)
		p.rect(x, y, used, chartBar, steel)
		p.rect(x+used, y, min(w*l.Plan/l.Total, w-used), chartBar, sky)
	}
	p.textRight(chartW-24, y+9, 140, 8, ink, fmt.Sprintf("%.0f + %.0f of %.0f", l.Used, l.Plan, l.Total))
}

// CostBySite draws what a placement costs an hour at each site, by part.
func CostBySite(name, currency string, lines []cost.Line) *Picture {
	h := 84 + float64(len(lines))*30
	most, total := 0.0, 0.0
	for _, l := range lines {
		most, total = max(most, l.PerHour.Units()), total+l.PerHour.Units()
	}
	return &Picture{W: chartW, H: h, paint: func(p *painter) {
		p.rect(0, 0, chartW, h, paper)
		p.text(24, 30, chartW-48, 15, true, ink, fmt.Sprintf("%s: %.3f %s an hour, by site", name, total, currency))
		parts := []struct {
			word string
			fill color.NRGBA
			of   func(cost.Line) float64
		}{{"instances", teal, func(l cost.Line) float64 { return l.Parts.Compute.Units() }}, {"volumes and disk", steel, func(l cost.Line) float64 { return l.Parts.Storage.Units() }},
			{"addresses", sky, func(l cost.Line) float64 { return l.Parts.Address.Units() }}, {"traffic", ochre, func(l cost.Line) float64 { return l.Parts.Egress.Units() }}}
		x := 24.0
		for _, k := range parts {
			p.rect(x, 42, 10, 10, k.fill)
			x = p.text(x+14, 51, 140, 9, false, dim, k.word) + 14
		}
		y := 72.0
		for _, l := range lines {
			p.text(24, y+12, chartName-10, 10, true, ink, l.Of)
			at, w := chartName+24, chartW-chartName-24-110
			for _, k := range parts {
				width := 0.0
				if most > 0 {
					width = w * k.of(l) / most
				}
				p.rect(at, y, width, 16, k.fill)
				at += width
			}
			p.textRight(chartW-24, y+12, 100, 9, ink, fmt.Sprintf("%.3f", l.PerHour))
			y += 30
		}
	}}
}
