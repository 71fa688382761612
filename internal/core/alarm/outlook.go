package alarm

import (
	"fmt"
	"math"
	"slices"
	"time"

	"andamio/internal/core/measure"
)

// Trend is a straight line through what was measured: how much more it is every second, and how sure that is.
type Trend struct {
	PerSecond float64
	// Off is the standard error of PerSecond.
	Off float64
}

// leastPoints is how many points a trend, or a usual value, takes.
const leastPoints = 12

// TrendOf fits a line to points by least squares; nil where there are too few of them.
func TrendOf(points []measure.Point) *Trend {
	var n, sx, sy float64
	var first time.Time
	for i := range points {
		if p := &points[i]; p.N > 0 {
			if first.IsZero() {
				first = p.At
			}
			n, sx, sy = n+1, sx+p.At.Sub(first).Seconds(), sy+p.Mean
		}
	}
	if n < leastPoints {
		return nil
	}
	mx, my := sx/n, sy/n
	var xx, xy, yy float64
	for i := range points {
		if p := &points[i]; p.N > 0 {
			dx, dy := p.At.Sub(first).Seconds()-mx, p.Mean-my
			xx, xy, yy = xx+dx*dx, xy+dx*dy, yy+dy*dy
		}
	}
	if xx == 0 {
		return nil
	}
	slope := xy / xx
	left := max(yy-slope*xy, 0)
	return &Trend{PerSecond: slope, Off: math.Sqrt(left / (n - 2) / xx)}
}

// sure is how many standard errors a trend is believed less than it says.
const sure = 2

// Reaches reports that a value reaches its limit within a time, though it grows no faster than is sure.
func (t *Trend) Reaches(value, limit float64, within time.Duration) bool {
	slope := t.PerSecond - sure*t.Off
	return value < limit && slope > 0 && (limit-value)/slope <= within.Seconds()
}

// Words say when a value reaches its limit, as early and as late as is likely.
func (t *Trend) Words(value, limit float64) string {
	early, late := (limit-value)/(t.PerSecond+sure*t.Off), (limit-value)/(t.PerSecond-sure*t.Off)
	if late < 0 || math.IsInf(late, 0) || late > mostSpan.Seconds() {
		return "full in " + seconds(early) + " at the earliest"
	}
	if from, to := seconds(early), seconds(late); from != to {
		return fmt.Sprintf("full in %s to %s", from, to)
	}
	return "full in " + seconds(late)
}

// Usual is what a measure is at an hour of the week: the middle of what it was, and how far from it it usually is.
type Usual struct{ Middle, Spread float64 }

// Far is how many times as far from the middle a value is as usually.
func (u *Usual) Far(v float64) float64 {
	if u.Spread <= 0 {
		return 0
	}
	return math.Abs(v-u.Middle) / u.Spread
}

// UsualOf is what was usual at the hour of a moment on the same day of the week, or on any day where fewer weeks are known; nil where too little is. The middle is the
// median and the spread the median distance from it, so that what was wrong once does not become usual.
func UsualOf(points []measure.Point, step float64, now time.Time) *Usual {
	var sameDay, anyDay []float64
	for i := range points {
		p := &points[i]
		if p.N == 0 || p.At.Hour() != now.Hour() || now.Sub(p.At) < 12*time.Hour {
			continue
		}
		anyDay = append(anyDay, p.Mean)
		if p.At.Weekday() == now.Weekday() {
			sameDay = append(sameDay, p.Mean)
		}
	}
	of := sameDay
	if len(of) < leastPoints {
		of = anyDay
	}
	if len(of) < leastPoints {
		return nil
	}
	middle := median(of)
	far := make([]float64, len(of))
	for i, v := range of {
		far[i] = math.Abs(v - middle)
	}
	// What hardly ever differs would be unlike itself by one step: some spread is always granted.
	return &Usual{middle, max(median(far), 0.02*math.Abs(middle), step)}
}

func median(of []float64) float64 {
	of = slices.Sorted(slices.Values(of))
	if n := len(of); n%2 == 0 {
		return (of[n/2-1] + of[n/2]) / 2
	}
	return of[len(of)/2]
}
