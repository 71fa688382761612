package react

import (
	"math"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
)

// Load is how much of a tier is used: now, at most within a while, and by the time another machine could serve.
type Load struct {
	Now, Recent, Ahead float64
	// Each is how much one machine has.
	Each float64
	// Of is of how many machines it is known; what the others use is taken to be as much as each of these does.
	Of int
	// Whole says that it is known for all of the while of which Recent is, or nearly.
	Whole bool
	// Words say what Ahead follows from, where it is more than Now.
	Words string
}

// How far back is looked for what is used now, and how sure a trend has to be.
const (
	loadNow = time.Minute
	sure    = 2
	// nearly is of how much of a while a load is known that is known for it.
	nearly = 0.8
)

// Foresee works a load out of what all machines of a tier used together over time, those that are no more included. Usual is what is used at the hour at which another machine could serve; nil if
// that is not known. Settle is how far back counts as recent.
func Foresee(total []measure.Point, usual *alarm.Usual, now time.Time, lead, settle time.Duration) Load {
	var l Load
	sum, n := 0.0, 0
	known, all := 0, 0
	var trend []measure.Point
	for _, p := range total {
		age := now.Sub(p.At)
		if age >= 0 && age <= settle {
			all++
			known += min(p.N, 1)
		}
		if p.N == 0 || age < 0 {
			continue
		}
		if age <= loadNow {
			sum, n = sum+p.Mean, n+1
		}
		if age <= settle {
			l.Recent = max(l.Recent, p.Mean)
		}
		if age <= TrendOver(lead) {
			trend = append(trend, p)
		}
	}
	if n == 0 {
		return Load{}
	}
	l.Now = sum / float64(n)
	l.Ahead = l.Now
	if t := alarm.TrendOf(trend); t != nil {
		if more := (t.PerSecond - sure*t.Off) * lead.Seconds(); more > 0 {
			l.Ahead, l.Words = min(l.Now+more, 2*l.Now), "by how it grows"
		}
	}
	if usual != nil && usual.Middle > l.Ahead && usual.Middle-usual.Spread > l.Now {
		l.Ahead, l.Words = usual.Middle, "as is usual at that hour"
	}
	l.Recent = max(l.Recent, l.Now)
	l.Whole = float64(known) >= nearly*float64(all) && total[0].At.Add(settle-loadNow).Before(now)
	return l
}

// TrendOver is how far back is looked for how a load grows: as long as is looked ahead, and long enough to tell a trend from noise.
func TrendOver(lead time.Duration) time.Duration { return max(2*lead, 10*time.Minute) }

// enough is how many machines it takes for a load, with a share of each used.
func enough(load, each, use float64) int {
	if each <= 0 || use <= 0 {
		return 0
	}
	n := math.Ceil(load/(each*use) - 1e-9)
	return int(min(n, mostCount*10))
}
