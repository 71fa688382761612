package part

import (
	"fmt"
	"math"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/core/timeline"
)

// Timeline draws when the lanes of a run's steps ran and will run: done in teal, under way in sky, the critical path in
// ochre, the forecast dotted, and a line at now.
//
// The band, if it is not empty, is when the whole is likely to end.
func Timeline(c *Canvas, r Rect, t *timeline.Timeline, b Band) {
	if r.H < 3 || r.W < 30 {
		return
	}
	if b.To > t.End && !t.Over { // the axis reaches as far as the whole may
		far := *t
		far.End = b.To
		t = &far
	}
	c = c.Clip(r)
	label := 4
	for _, l := range t.Lanes {
		label = min(max(label, Width(l.Name)), 18)
	}
	d := &timelineDrawing{c: c, t: t, x: r.X + label + 2, w: r.W - label - 4}
	for i, l := range t.Lanes {
		c.Cut(r.X+1, r.Y+i, label, In(Dim), l.Name)
		d.lane(r.Y+i, l)
	}
	d.axis(r.Y + len(t.Lanes))
	if b.To > 0 && !t.Over {
		d.c.Across(d.at(b.From), r.Y+len(t.Lanes), max(d.at(b.To)-d.at(b.From), 1), In(Steel), c.Look.Glyphs.Bar)
	}
	if t.Begun && !t.Over {
		c.Downward(d.at(t.Now), r.Y, len(t.Lanes), In(Text), c.Look.Glyphs.Now)
	}
}

// Band is a span of time in which the whole is likely to end.
type Band struct{ From, To time.Duration }

type timelineDrawing struct {
	c    *Canvas
	t    *timeline.Timeline
	x, w int
}

func (d *timelineDrawing) at(t time.Duration) int {
	return d.x + int(math.Round(float64(d.w)*float64(t)/float64(max(d.t.End, time.Second))))
}

func (d *timelineDrawing) lane(y int, l timeline.Lane) {
	g := d.c.Look.Glyphs
	for _, b := range l.Bars {
		from, to := d.at(b.From), max(d.at(b.To), d.at(b.From)+1)
		ink, ch := InkOf(b.Status), g.Bar
		split := to
		switch b.Status {
		case run.Planned:
			ink, ch = Dim, g.Forecast
		case run.UnderWay:
			split = min(max(d.at(d.t.Now), from+1), to)
		}
		if b.Critical && (b.Status == run.UnderWay || b.Status == run.Planned) {
			ink = Ochre
		}
		d.c.Across(from, y, split-from, In(ink), ch)
		d.c.Across(split, y, to-split, In(ink), g.Forecast)
		if b.Critical && b.Status == run.Standing {
			d.c.Across(from, y, to-from, In(Ochre), g.Bar)
		}
	}
}

// axis writes round times below the lanes.
func (d *timelineDrawing) axis(y int) {
	step := timeline.Tick(d.t.End, max(d.w/10, 1))
	for t := time.Duration(0); t <= d.t.End; t += step {
		hidden := d.t.Begun && !d.t.Over && d.at(t) >= d.at(d.t.Now)-1-Width(Clock(t)) && d.at(t) <= d.at(d.t.Now)+3
		if !hidden && d.at(t)+Width(Clock(t)) <= d.x+d.w+2 {
			d.c.Text(d.at(t), y, In(Dim), Clock(t))
		}
	}
	if d.t.Begun && !d.t.Over {
		x := d.at(d.t.Now)
		d.c.Text(x-1, y, In(Text).Strong(), " now ")
	}
}

// Clock renders a duration as people read a stopwatch: 48s, 2m10s, 1h04m.
func Clock(d time.Duration) string {
	s := int(d.Seconds() + 0.5)
	switch {
	case s < 60:
		return fmt.Sprintf("%ds", s)
	case s < 3600 && s%60 == 0:
		return fmt.Sprintf("%dm", s/60)
	case s < 3600:
		return fmt.Sprintf("%dm%02ds", s/60, s%60)
	}
	return fmt.Sprintf("%dh%02dm", s/3600, s/60%60)
}

// Age renders how long ago something was.
func Age(at, now time.Time) string {
	if at.IsZero() {
		return ""
	}
	d := now.Sub(at)
	if d < time.Second {
		return "now"
	}
	return Clock(d) + " ago"
}
