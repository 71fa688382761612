package promise

import (
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/clock"
)

// State is how a promise was kept at one time.
type State string

// The states.
const (
	Going  State = "going"
	Kept   State = "kept"
	Late   State = "late"
	Broken State = "broken"
	// Held is what a blackout held, or what waits for a maintenance window.
	Held State = "held"
)

// Firing is what was done when something was due.
type Firing struct {
	At, Began, Ended time.Time
	// Until is by when it had to be done; zero says that it counts when it was begun.
	Until time.Time
	// Done says that it was done, Failed that it could not be, though it may be tried again; Missed how many times before it nobody saw to.
	Done, Failed bool
	// Held says that it may not be done yet.
	Held   bool
	Missed int
	Note   string
}

// Mark is how a promise was kept at one time, or at several before it that nobody saw to.
type Mark struct {
	At    time.Time `json:"at"`
	State State     `json:"state"`
	Note  string    `json:"note,omitempty"`
}

// Proof is what shows that a promise was kept.
type Proof struct {
	// Marks are the last times at which something was due, the oldest first; Kept, Late and Broken count all that are known.
	Marks              []Mark `json:"marks,omitempty"`
	Kept, Late, Broken int
	// Last is when it was kept last; zero says that it never was: it is unproven.
	Last time.Time `json:"last,omitzero"`
}

// ProofOf reads what was done, in any order. What began later than the clock allows, was tried again until then, or was not
// done by when it had to be, was late.
func ProofOf(all []Firing) Proof {
	all = slices.Clone(all)
	slices.SortStableFunc(all, func(a, b Firing) int { return a.At.Compare(b.At) })
	var out Proof
	for _, f := range all {
		if f.Missed > 0 {
			out.Broken += f.Missed
			out.Marks = append(out.Marks, Mark{At: f.At, State: Broken, Note: fmt.Sprintf("%d times before nobody saw to it", f.Missed)})
		}
		m := Mark{At: f.At, State: Going, Note: f.Note}
		switch {
		case f.Done && f.Began.Sub(f.At) <= clock.Grace && (f.Until.IsZero() || !f.Ended.After(f.Until)):
			m.State = Kept
			out.Kept++
		case f.Done:
			m.State = Late
			out.Late++
		case f.Held:
			m.State = Held
		case f.Failed:
			m.State = Broken
			out.Broken++
		}
		if f.Done && f.Ended.After(out.Last) {
			out.Last = f.Ended
		}
		out.Marks = append(out.Marks, m)
	}
	return out
}

// Unproven reports that it was never kept.
func (p *Proof) Unproven() bool { return p.Last.IsZero() }
