package draw

import (
	"fmt"
	"image/color"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
)

// Curve is a measure of a thing over time, as it is drawn.
type Curve struct {
	// Title is the thing's name, Words what is measured of it, Where its site.
	Title, Words, Where string
	Unit                measure.Unit
	Points              []measure.Point
	// Limit is how much there is of it, 0 where there is no limit.
	Limit float64
	// Usual is what is usual at each of the points, nil where that is not known.
	Usual []*alarm.Usual
}

// Happened is something that is marked along all curves.
type Happened struct {
	At   time.Time
	What string
	// Bad says that it is something that went wrong.
	Bad bool
}

// Measures of curves, in points: each is a plot of so much, two beside each other.
const (
	curveW, curveH, curveTop, curveBottom = 344.0, 92.0, 30.0, 18.0
	curveGap                              = 24.0
	curvesAcross                          = 2
	rowsOfMarks                           = 4
)

// band is what is usual.
var band = color.NRGBA{0xd5, 0xe9, 0xe4, 0xff}

// Curves draws measures over one span of time, two beside each other, with their limits, what is usual behind them, and marks for what happened. A curve goes to its limit, or to the most that was measured.
func Curves(title, span string, all []Curve, happened []Happened) *Picture {
	rows := (len(all) + curvesAcross - 1) / curvesAcross
	h := 76 + float64(rows)*(curveTop+curveH+curveBottom) + 12
	return &Picture{W: chartW, H: h, paint: func(p *painter) {
		p.rect(0, 0, chartW, h, paper)
		p.text(24, 30, chartW-48, 15, true, ink, title)
		x := p.text(24, 48, 300, 9, false, dim, span) + 34
		for _, k := range []struct {
			word string
			fill color.NRGBA
		}{{"mean", sky}, {"least to most", free}, {"usual at that hour", band}, {"limit", coral}} {
			p.rect(x, 40, 10, 10, k.fill)
			x = p.text(x+14, 48, 110, 8, false, dim, k.word) + 12
		}
		for i := range all {
			p.curve(24+float64(i%curvesAcross)*(curveW+curveGap), 70+float64(i/curvesAcross)*(curveTop+curveH+curveBottom), &all[i], happened)
		}
	}}
}

// curve draws one of them.
func (p *painter) curve(x, y float64, c *Curve, happened []Happened) {
	m := measure.Measure{Unit: c.Unit}
	p.text(x, y+12, curveW*0.62, 10, true, ink, c.Title)
	p.text(x, y+23, curveW*0.62, 8, false, dim, c.Words+" · "+c.Where)
	if last := lastKnown(c.Points); last != nil {
		p.textRight(x+curveW, y+12, curveW*0.36, 10, ink, alarm.Figure(&m, last.Mean, c.Limit))
	}
	if len(c.Points) == 0 {
		return
	}
	top, w := y+curveTop, curveW
	most := c.most()
	at := func(v float64) float64 { return top + curveH*(1-min(max(v/most, 0), 1)) }
	each := w / float64(len(c.Points))
	p.rect(x, top, w, curveH, color.NRGBA{0xf7, 0xf8, 0xfa, 0xff})
	for i, u := range c.Usual {
		if u != nil && i < len(c.Points) {
			p.rect(x+float64(i)*each, at(u.Middle+u.Spread), each, max(at(u.Middle-u.Spread)-at(u.Middle+u.Spread), 0.5), band)
		}
	}
	for i := range c.Points {
		if v := &c.Points[i]; v.N > 0 && v.Max > v.Min {
			p.rect(x+float64(i)*each, at(v.Max), each, at(v.Min)-at(v.Max), free)
		}
	}
	for i := range c.Points {
		v := &c.Points[i]
		if v.N == 0 {
			continue
		}
		from := x + float64(i)*each
		p.line(from, at(v.Mean), from+each, at(v.Mean), 1.1, sky)
		if i > 0 && c.Points[i-1].N > 0 {
			p.line(from, at(c.Points[i-1].Mean), from, at(v.Mean), 1.1, sky)
		}
	}
	if c.Limit > 0 {
		p.line(x, at(c.Limit), x+w, at(c.Limit), 0.6, coral)
	}
	p.line(x, top+curveH, x+w, top+curveH, 0.8, steel)
	p.text(x+2, top+8, 90, 7, false, dim, alarm.Figure(&m, most, 0))
	p.times(x, top, w, c, happened)
}

// times draws when it was, and what happened then.
func (p *painter) times(x, top, w float64, c *Curve, happened []Happened) {
	from := c.Points[0].At
	step := time.Minute
	if len(c.Points) > 1 {
		step = c.Points[1].At.Sub(from)
	}
	to := c.Points[len(c.Points)-1].At.Add(step)
	form := "15:04"
	if to.Sub(from) > 26*time.Hour {
		form = "2 Jan 15:04"
	}
	p.text(x, top+curveH+10, 90, 7, false, dim, from.Local().Format(form))
	p.textRight(x+w, top+curveH+10, 90, 7, dim, to.Local().Format(form))
	for i, h := range happened {
		if h.At.Before(from) || h.At.After(to) {
			continue
		}
		mark := ochre
		if h.Bad {
			mark = coral
		}
		at := x + w*float64(h.At.Sub(from))/float64(to.Sub(from))
		p.line(at, top, at, top+curveH, 0.5, mark)
		p.text(min(at+2, x+w-30), top+curveH-3-float64(i%rowsOfMarks)*7, 58, 6, false, dim, h.What) // those beside each other in rows of their own
	}
}

// most is how high a curve goes.
func (c *Curve) most() float64 {
	most := c.Limit
	if most <= 0 {
		for i := range c.Points {
			if c.Points[i].N > 0 {
				most = max(most, c.Points[i].Max)
			}
		}
	}
	if most <= 0 {
		return 1
	}
	return most
}

// lastKnown is the last point at which something is known; nil if nothing is.
func lastKnown(points []measure.Point) *measure.Point {
	for i := len(points) - 1; i >= 0; i-- {
		if points[i].N > 0 {
			return &points[i]
		}
	}
	return nil
}

// Described names a measure of a thing for its curve.
func Described(t *measure.Thing, name string, points []measure.Point, limit float64, usual []*alarm.Usual) Curve {
	m := measure.Of(name)
	where := t.Site
	if t.Host != "" {
		where = fmt.Sprintf("%s, host %s", t.Site, t.Host)
	}
	return Curve{Title: t.Name, Words: m.Words, Where: where, Unit: m.Unit, Points: points, Limit: limit, Usual: usual}
}
