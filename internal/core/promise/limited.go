package promise

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// LimitedTerms say by how much volumes are bounded, those that are built later too.
type LimitedTerms struct {
	// PerSecond is how often a second each is read or written at most, MiBPerSecond how many MiB go there and back; 0 does not bound it.
	PerSecond    int     `json:"per_second,omitempty"`
	MiBPerSecond float64 `json:"mib_per_second,omitempty"`

	// At is when those are bounded that are not yet; zero while all are.
	At time.Time `json:"at,omitzero"`
}

func (t *LimitedTerms) check() error {
	switch {
	case t.PerSecond < 0 || t.MiBPerSecond < 0:
		return errors.New("nothing is bounded by less than nothing")
	case t.PerSecond == 0 && t.MiBPerSecond == 0:
		return errors.New("it bounds nothing: say how often a second volumes are read and written at most, how many MiB, or both")
	}
	return nil
}

// Look takes into account how many volumes are not bounded at a moment, and reports whether that changed anything. What could not be done when it was
// due is due again.
func (t *LimitedTerms) Look(unlimited int, now time.Time) (changed bool) {
	was := t.At
	switch {
	case unlimited == 0:
		t.At = time.Time{}
	case t.At.IsZero() || !t.At.Add(stillDue).After(now):
		t.At = now.Add(time.Second).UTC()
	}
	return !t.At.Equal(was)
}

func (t *LimitedTerms) words() string {
	var out []string
	if t.PerSecond > 0 {
		out = append(out, fmt.Sprintf("%d reads and writes", t.PerSecond))
	}
	if t.MiBPerSecond > 0 {
		out = append(out, fmt.Sprintf("%g MiB", t.MiBPerSecond))
	}
	return "each volume bounded to " + strings.Join(out, " and ") + " a second"
}
