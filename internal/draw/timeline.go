package draw

import (
	"fmt"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/core/timeline"
)

// Measures of the timeline, in points.
const (
	timelineW = 900.0
	laneH     = 17.0
	laneName  = 110.0
	mostLanes = 40
)

// Timeline is the picture of a run over time.
func Timeline(s *run.State, now time.Time) *Picture {
	t := timeline.New(s, now, mostLanes)
	h := headRoom + footRoom + float64(len(t.Lanes))*laneH + 20
	return &Picture{W: timelineW, H: h, paint: func(p *painter) { paintTimeline(p, s, t, h) }}
}

func paintTimeline(p *painter, s *run.State, t *timeline.Timeline, h float64) {
	p.rect(0, 0, timelineW, h, paper)
	paintTitle(p, s, timelineW)
	left, width := margin+laneName, timelineW-2*margin-laneName
	at := func(d time.Duration) float64 { return left + width*float64(d)/float64(max(t.End, time.Second)) }
	bottom := headRoom + float64(len(t.Lanes))*laneH
	step := timeline.Tick(t.End, 12)
	for d := time.Duration(0); d <= t.End; d += step {
		p.line(at(d), headRoom-4, at(d), bottom, 0.4, pale[run.Planned])
		p.text(at(d)-4, bottom+12, 60, 8, false, dim, d.String())
	}
	for i, l := range t.Lanes {
		y := headRoom + float64(i)*laneH
		p.text(margin, y+11, laneName-8, 8.5, false, ink, l.Name)
		for _, b := range l.Bars {
			fill := status[b.Status]
			if b.Status == run.Planned {
				fill = pale[run.UnderWay]
			}
			p.rect(at(b.From), y+2, max(at(b.To)-at(b.From), 0.8), laneH-6, fill)
			if b.Critical {
				p.rect(at(b.From), y+laneH-4, max(at(b.To)-at(b.From), 0.8), 2, ochre)
			}
		}
	}
	if t.Begun && !t.Over {
		p.line(at(t.Now), headRoom-6, at(t.Now), bottom+2, 1, ink)
		p.text(at(t.Now)+3, headRoom-6, 60, 8, true, ink, "now")
	}
	p.legend(left, h-12, run.UnderWay, run.Standing, run.Failed)
	x := left + 190
	p.rect(x, h-18, 8, 6, pale[run.UnderWay])
	p.text(x+12, h-12, 100, 8, false, dim, "forecast")
	p.rect(x+70, h-15, 12, 2, ochre)
	p.text(x+86, h-12, 200, 8, false, dim, fmt.Sprintf("critical path, expected %s", time.Duration(s.Plan.Seconds*float64(time.Second)).Round(time.Second)))
}
