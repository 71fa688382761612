package migrate

import (
	"time"

	"andamio/internal/core/plan"
)

// Slot is when a wave goes on. Fits is false where no window that is known has room for it.
type Slot struct {
	From, To time.Time
	Fits     bool
}

// Schedule lays waves into windows, each wave as a whole into the next window with room for it, after the one before.
// Without windows they follow each other from now on. A wave that is longer than any window goes on from window to
// window.
func Schedule(waves []Wave, windows []plan.Window, now time.Time) []Slot {
	out := make([]Slot, len(waves))
	for i, w := range waves {
		out[i] = slot(w, windows, now)
		if out[i].Fits {
			now = out[i].To
		}
	}
	return out
}

func slot(w Wave, windows []plan.Window, now time.Time) Slot {
	need := time.Duration(w.Seconds * float64(time.Second))
	if len(windows) == 0 {
		return Slot{now, now.Add(need), true}
	}
	if w.TooLong {
		f := FitInto(windows, now, w.Seconds)
		return Slot{f.Begin, f.End, !f.End.IsZero()}
	}
	for _, open := range windows {
		from := open.From
		if now.After(from) {
			from = now
		}
		if !from.Add(need).After(open.To) {
			return Slot{from, from.Add(need), true}
		}
	}
	return Slot{}
}
