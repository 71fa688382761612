package migrate

import (
	"math"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/plan"
)

// Load is what copying one workload takes.
type Load struct {
	// Used is how many bytes its disks hold, Size how many they could.
	Used, Size int64
	// Rate is how many bytes a second it changes, Set how many different bytes it changes at all, 0 if that is not known.
	Rate float64
	Set  int64
	// Bandwidth is how many bytes a second get through to the target, Squeeze what share of the bytes is left of them when
	// they are compressed, 1 if they are not.
	Bandwidth, Squeeze float64
	Mode               change.Mode
	// Pause is for how many seconds it may stand still while the last is copied; 0 is as long as it takes.
	Pause float64
	// Stop and Start are the seconds that stopping and starting take, and all that is waited for after.
	Stop, Start float64
	// Consolidate makes each round one with what the disks had before the next begins; Merge is how many bytes of rounds a
	// second are made one at the target, 0 if that is not known.
	Consolidate bool
	Merge       float64
}

// Round is one round of copying: how many bytes, and for how long.
type Round struct {
	Bytes   int64   `json:"bytes"`
	Seconds float64 `json:"seconds"`
}

// Forecast is how copying a workload is expected to go.
type Forecast struct {
	// Rounds are the first copy and those after it, as far as they make the rest smaller.
	Rounds []Round `json:"rounds"`
	// Last is what is copied while the workload stands still.
	Last Round `json:"last"`
	// Copy is how long copying takes before it can be cut over, Down for how long the workload does not serve, Total both,
	// all in seconds.
	Copy  float64 `json:"copy"`
	Down  float64 `json:"down"`
	Total float64 `json:"total"`
	// Converges says that what is left gets less from round to round, down to what may be left.
	Converges bool `json:"converges"`
	// Pays says that compressing makes it faster.
	Pays bool `json:"compress"`
	// Merging is for how many of these seconds rounds are made one with what the disks had; Layers is in how many layers
	// the disks are kept after the last round where they are not.
	Merging float64 `json:"merging"`
	Layers  int     `json:"layers"`
}

// maxRounds bounds how many rounds are forecast.
const maxRounds = 60

// worthwhile is by how much a round must leave less than the one before to be worth another.
const worthwhile = 0.9

// leastRound is the number of seconds a round lasts at least: less is all overhead.
const leastRound = 0.25

// Predict works out how copying goes.
func Predict(l Load) Forecast {
	bandwidth := l.Bandwidth
	out := Forecast{Pays: l.Squeeze > 0 && l.Squeeze < 0.95}
	if out.Pays {
		bandwidth /= l.Squeeze
	}
	if bandwidth <= 0 {
		return out
	}
	merging := 0.0
	if l.Consolidate && l.Merge > 0 {
		merging = 1 / l.Merge
	}
	seconds := func(bytes float64) float64 { return bytes * (1/bandwidth + merging) }
	first := Round{l.Used, float64(l.Used) / bandwidth}
	out.Layers = 1
	if l.Mode == change.Cold {
		out.Last, out.Converges = first, true
		out.Down = l.Stop + first.Seconds + l.Start
		out.Total = out.Down
		return out
	}
	out.Rounds = []Round{first}
	left := changed(l, first.Seconds)
	for len(out.Rounds) < maxRounds && !enough(l, left, seconds) {
		next := changed(l, max(seconds(left), leastRound))
		if len(out.Rounds) > 1 && next >= worthwhile*left {
			break
		}
		out.Rounds = append(out.Rounds, Round{int64(left), max(seconds(left), leastRound)})
		left = next
	}
	out.Last = Round{int64(left), seconds(left)}
	out.Converges = l.Rate*seconds(1) < worthwhile || l.Set > 0 && enough(l, float64(l.Set), seconds)
	if l.Pause > 0 && out.Last.Seconds > l.Pause {
		out.Converges = false
	}
	for i, r := range out.Rounds {
		out.Copy += r.Seconds
		if i > 0 {
			out.Merging += float64(r.Bytes) * merging
		}
	}
	out.Merging += left * merging
	if !l.Consolidate {
		out.Layers = len(out.Rounds) + 1
	}
	out.Down = out.Last.Seconds + l.Stop + l.Start
	out.Total = out.Copy + out.Down
	return out
}

// changed is how many bytes change in some seconds.
func changed(l Load, seconds float64) float64 {
	out := l.Rate * seconds
	if l.Set > 0 {
		// Pages that are written again and again count once: of a set that is written to at random, so much is new.
		out = float64(l.Set) * (1 - math.Exp(-out/float64(l.Set)))
	}
	return min(out, float64(l.Size))
}

// enough reports that what is left may be copied while the workload stands still.
func enough(l Load, left float64, seconds func(float64) float64) bool {
	pause := l.Pause
	if pause == 0 {
		pause = leastRound
	}
	return seconds(left) <= pause
}

// Fit says whether work of some seconds, begun at a time, ends within windows in which it may go on.
type Fit struct {
	// Begin and End are when it begins and ends; End is zero if the windows do not suffice.
	Begin, End time.Time
	// Share is how much of the window in which it ends is used, from 0 to 1; Windows is how many it takes.
	Share   float64
	Windows int
}

// FitInto lays work into windows, going on in the next where one ends; no windows are one without end.
func FitInto(windows []plan.Window, now time.Time, seconds float64) Fit {
	need := time.Duration(seconds * float64(time.Second))
	if len(windows) == 0 {
		return Fit{Begin: now, End: now.Add(need)}
	}
	var out Fit
	for _, w := range windows {
		from := w.From
		if now.After(from) {
			from = now
		}
		room := w.To.Sub(from)
		if room <= 0 {
			continue
		}
		if out.Begin.IsZero() {
			out.Begin = from
		}
		out.Windows++
		if need <= room {
			out.End = from.Add(need)
			out.Share = float64(out.End.Sub(w.From)) / float64(w.To.Sub(w.From))
			return out
		}
		need -= room
	}
	return out
}
