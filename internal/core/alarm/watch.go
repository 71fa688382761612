// Package alarm says what is wrong, since when, why, and whom it hits. In go thresholds, readings of measures, and what stands on what; out come alerts: one for each
// cause, with everything that fails because of it silent below it.
//
// It works in three steps. A [Watch] holds one measure of one thing against one threshold and knows how long it has been over. [Find] gathers what is over by what it
// hangs on, down to the deepest thing that explains it, which may be one that nobody measures: a host of which every machine is silent. A [Book] follows the causes over
// time, so that one and the same is one alert, however it widens and however it is seen at last.
package alarm

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/measure"
)

// Severity is how bad something is.
type Severity int

// The severities. Unknown is worse than a warning and less bad than critical: nobody can say that it is well.
const (
	Well Severity = iota
	Warning
	Unknown
	Critical
)

// String is the severity as a word.
func (s Severity) String() string {
	words := [...]string{"well", "warning", "unknown", "critical"}
	if s < 0 || int(s) >= len(words) {
		return fmt.Sprintf("severity %d", int(s))
	}
	return words[s]
}

// MarshalText is the severity as a word.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads a severity.
func (s *Severity) UnmarshalText(text []byte) error {
	for x := Well; x <= Critical; x++ {
		if x.String() == string(text) {
			*s = x
			return nil
		}
	}
	return fmt.Errorf("%q is no severity", text)
}

// Reading is what is known of a measure at a moment.
type Reading struct {
	// Has says that it was measured, Value is what.
	Has   bool
	Value float64
	// Limit is how much there is of it, 0 where that is not known.
	Limit float64
	// Trend is how it goes on, Usual what it is at this hour; nil where too little is known.
	Trend *Trend
	Usual *Usual
	// Said is what whoever was asked said, in words; Reached that it said something, though it may be wrong.
	Said    string
	Reached bool
}

// Watch holds a measure of a thing against a threshold.
type Watch struct {
	State Severity
	// Since is when the state began, Seen when the measure was known last.
	Since, Seen time.Time
	// over are since when the conditions of a warning, and of what is critical, hold.
	warning, critical time.Time
	// turns are when it began to be over lately, of which worst is the worst and calm the last moment at which it was.
	turns []time.Time
	worst Severity
	calm  time.Time
	// Flaps says that it begins and ends again and again, however briefly: it is over until it is calm.
	Flaps bool
	// Said is what was said of it last, Reached whether it answered then.
	Said    string
	Reached bool
}

// over reports that it is over at this moment.
func (w *Watch) over() bool { return !w.critical.IsZero() || !w.warning.IsZero() }

// Something flaps when it began to be over so often within a while, and is calm when nothing of it was seen for so long. What has to be over for longer than flapFor
// does not: that it is over for a moment again and again is nothing. Neither does what belongs together: each of its parts may have had something once.
const (
	flapTurns  = 4
	flapWithin = 10 * time.Minute
	flapCalm   = 5 * time.Minute
	flapFor    = time.Minute
)

// Step takes a reading, and reports whether the state is another.
func (w *Watch) Step(t *Threshold, r *Reading, now time.Time) bool {
	before := w.State
	next := w.judge(t, r, now)
	if r.Has && measure.Of(t.Measure).Of != measure.OfWhole {
		w.flap(t, now)
	}
	if w.Flaps {
		next = max(next, w.worst)
	}
	if next == before {
		return false
	}
	w.State, w.Since = next, now
	return true
}

// Rest has nothing be over, since nobody expects it to be well: it was switched off, or a run works on it.
func (w *Watch) Rest(now time.Time) bool {
	was := w.State
	*w = Watch{}
	if was != Well {
		w.Since = now
	}
	return was != Well
}

func (w *Watch) judge(t *Threshold, r *Reading, now time.Time) Severity {
	if !r.Has {
		if t.missing > 0 && !w.Seen.IsZero() && now.Sub(w.Seen) >= t.missing && w.State < Unknown {
			return Unknown
		}
		return w.State // what was known last counts
	}
	w.Seen = now
	last := w.State
	if last == Unknown {
		last = Well
	}
	critical := held(&w.critical, t.Critical, r, last >= Critical, now)
	warning := held(&w.warning, t.Warning, r, last >= Warning, now)
	switch {
	case critical:
		return Critical
	case warning:
		return Warning
	}
	return Well
}

// held reports that a condition has held for as long as it has to, or holds still of what is over already.
func held(since *time.Time, o *Over, r *Reading, already bool, now time.Time) bool {
	if o == nil || !o.holds(r, already) {
		*since = time.Time{}
		return false
	}
	if since.IsZero() {
		*since = now
	}
	return already || now.Sub(*since) >= o.for_
}

// holds reports that a reading is over; of what is over already it is asked whether it is well again.
func (o *Over) holds(r *Reading, already bool) bool {
	bound := o.at
	if already {
		bound = o.until
	}
	switch {
	case o.Above != "":
		v, ok := bound.of(r)
		return ok && r.Value > v
	case o.Below != "":
		v, ok := bound.of(r)
		return ok && r.Value < v
	case o.Full != "":
		return r.Trend != nil && r.Limit > 0 && r.Trend.Reaches(r.Value, r.Limit, o.full)
	}
	factor := o.Unlike
	if already { // it has to come nearer than it had to go
		factor *= 0.75
	}
	return r.Usual != nil && r.Usual.Far(r.Value) > factor
}

// flap notes that it is over, for however short, and finds whether that began too often.
func (w *Watch) flap(t *Threshold, now time.Time) {
	is := w.brief(t)
	if is > Well {
		if w.calm.IsZero() { // it was not a moment ago
			w.turns, w.worst = append(w.turns, now), max(w.worst, is)
		}
		w.calm = now
	}
	for len(w.turns) > 0 && now.Sub(w.turns[0]) > flapWithin {
		w.turns = w.turns[1:]
	}
	switch {
	case w.Flaps && now.Sub(w.last()) >= flapCalm:
		w.Flaps, w.turns = false, nil
	case len(w.turns) >= flapTurns:
		w.Flaps = true
	}
	if is == Well {
		w.calm = time.Time{}
	}
	if !w.Flaps && len(w.turns) == 0 {
		w.worst = Well
	}
}

// brief is how bad it is at this moment, of what counts for flapping.
func (w *Watch) brief(t *Threshold) Severity {
	switch {
	case !w.critical.IsZero() && t.Critical.for_ <= flapFor:
		return Critical
	case !w.warning.IsZero() && t.Warning.for_ <= flapFor:
		return Warning
	}
	return Well
}

// last is when it began to be over last.
func (w *Watch) last() time.Time {
	if !w.calm.IsZero() {
		return w.calm
	}
	if len(w.turns) == 0 {
		return time.Time{}
	}
	return w.turns[len(w.turns)-1]
}

// Words say what is over, with the figure.
func Words(t *Threshold, r *Reading, severity Severity) string {
	m := measure.Of(t.Measure)
	if severity == Unknown {
		return m.Words + ": nothing is known of it any more"
	}
	over := t.Critical
	if severity == Warning || over == nil {
		over = t.Warning
	}
	if over == nil {
		return t.Name
	}
	switch {
	case m.Unit == measure.State && r.Said != "":
		return r.Said
	case m.Unit == measure.State:
		return t.Name
	case over.Full != "" && r.Trend != nil:
		return fmt.Sprintf("%s %s, %s", m.Words, Figure(&m, r.Value, r.Limit), r.Trend.Words(r.Value, r.Limit))
	case over.Unlike > 0 && r.Usual != nil:
		return fmt.Sprintf("%s %s, at this hour usually %s", m.Words, Figure(&m, r.Value, 0), Figure(&m, r.Usual.Middle, 0))
	}
	return fmt.Sprintf("%s %s", m.Words, Figure(&m, r.Value, r.Limit))
}

// Figure is a value with its unit, and how much that is of its limit if that is not 0.
func Figure(m *measure.Measure, v, limit float64) string {
	text := amount(m.Unit, v)
	if limit > 0 {
		return fmt.Sprintf("%s of %s (%.0f %%)", text, amount(m.Unit, limit), 100*v/limit)
	}
	return text
}

func amount(u measure.Unit, v float64) string {
	switch u {
	case measure.Bytes:
		return bytes(v)
	case measure.BytesPerSecond:
		return bytes(v) + "/s"
	case measure.Seconds:
		return seconds(v)
	case measure.Share:
		return fmt.Sprintf("%.0f %%", 100*v)
	case measure.State:
		if v >= 1 {
			return "yes"
		}
		return "no"
	}
	return strings.TrimSuffix(strings.TrimRight(strconv.FormatFloat(v, 'f', 2, 64), "0"), ".")
}

func bytes(v float64) string {
	for _, s := range sizes[:4] { // by powers of 1024
		if math.Abs(v) >= s.is {
			return fmt.Sprintf("%.3g %s", v/s.is, s.unit)
		}
	}
	return fmt.Sprintf("%.0f B", v)
}

func seconds(v float64) string {
	switch d := math.Abs(v); {
	case d > 0 && d < 0.01:
		return fmt.Sprintf("%.1f ms", v*1000)
	case d < 1:
		return fmt.Sprintf("%.0f ms", v*1000)
	case d < 120:
		return fmt.Sprintf("%.3g s", v)
	case d < 2*3600:
		return fmt.Sprintf("%.0f min", v/60)
	case d < 48*3600:
		return fmt.Sprintf("%.0f h", v/3600)
	}
	return fmt.Sprintf("%.0f days", v/86400)
}
