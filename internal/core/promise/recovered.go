package promise

import (
	"errors"
	"fmt"
	"slices"
	"time"
)

// RecoveredTerms say that machines which fell are raised again by themselves: switched on where somebody or something switched them off at their
// site, started again where they run and answer nobody, built again where they are gone. It takes evidence that lasts, and ends after some tries.
type RecoveredTerms struct {
	// After is for how long a machine has to be down before something is done.
	After time.Duration `json:"after"`
	// Tries is how often something is done within [TriesWithin]; when that did not help a person is called.
	Tries int `json:"tries"`
	// Rebuild has what its site does not have any more be built again, with nothing of what only its own disk held.
	Rebuild bool `json:"rebuild,omitempty"`

	// Down are the machines that are down.
	Down []Fall `json:"down,omitempty"`
	// At is when something is done about them; zero while none is down, or a person was called.
	At time.Time `json:"at,omitzero"`
	// Tried are the times within the last day at which something was done.
	Tried []time.Time `json:"tried,omitempty"`
	// Called is when a person was called; zero once all is well again.
	Called time.Time `json:"called,omitzero"`
}

// How is in which way a machine is down.
type How string

// The ways.
const (
	// FellOff is that its site has it switched off, which nobody here asked for.
	FellOff How = "off"
	// FellSilent is that its site says it runs, and that it answers at nothing it is asked at.
	FellSilent How = "silent"
	// FellGone is that its site does not have it.
	FellGone How = "gone"
)

// Fall is a machine that is down, since when that is known without a look in between at which it was well, and how high the lowest of what it is
// asked at stands in its plan.
type Fall struct {
	Machine string    `json:"machine"`
	How     How       `json:"how"`
	Level   int       `json:"level"`
	Since   time.Time `json:"since"`

	// sure says that the last look saw it so: nothing is done about what was not seen just now.
	sure bool
}

// as is the same of all but whether it was seen just now.
func (f Fall) as(b Fall) bool {
	f.sure = b.sure
	return f == b
}

// Sight is what was seen of a machine at a moment: by its site, and by asking it.
type Sight struct {
	Machine string
	// Level is how high the lowest of what it is asked at stands in its plan: what that depends on is lower.
	Level int
	// Asked says that its site answered, else nothing is known of what the site has; Has that the site has it; On that it runs there, and Off
	// that it is switched off or failed. One that is neither is on the way from one to the other.
	Asked, Has, On, Off bool
	// Tried says that it was asked at an endpoint, Answered that it answered at one.
	Tried, Answered bool
}

// fell is the way in which a machine is down; well says that it is known not to be. Neither is so of what is not known.
func (s *Sight) fell() (how How, well bool) {
	switch {
	case s.Answered: // whatever its site says
		return "", true
	case !s.Asked:
		return "", false
	case !s.Has:
		return FellGone, false
	case s.Off:
		return FellOff, false
	case s.On && s.Tried:
		return FellSilent, false
	}
	return "", s.On
}

// TriesWithin is the time within which tries are counted.
const TriesWithin = 24 * time.Hour

// stillDue is how long after it was due something is left to whoever sees to it.
const stillDue = time.Minute

// Bounds of what may be said.
const (
	leastAfter = 10 * time.Second
	mostAfter  = 24 * time.Hour
	mostTries  = 20
)

func (t *RecoveredTerms) check() error {
	switch {
	case t.After < leastAfter || t.After > mostAfter:
		return fmt.Errorf("after: machines are down for between %s and %s before something is done, not %s", Span(leastAfter), Span(mostAfter), Span(t.After))
	case t.Tries < 1 || t.Tries > mostTries:
		return fmt.Errorf("tries: between 1 and %d times a day something is done, not %d", mostTries, t.Tries)
	}
	return nil
}

// Recovering reads how long machines have to be down, as in 5m, and how often something is done.
func Recovering(after string, tries int, rebuild bool) (*RecoveredTerms, error) {
	span, err := ParseSpan(after)
	if err != nil {
		return nil, fmt.Errorf("after: %w", err)
	}
	out := &RecoveredTerms{After: span, Tries: tries, Rebuild: rebuild}
	return out, out.check()
}

// Look takes what was seen at a moment into account, and reports whether that changed anything. A machine of which nothing is known stays as
// it was thought to be; one that is not looked at any more is none of ours.
func (t *RecoveredTerms) Look(all []Sight, now time.Time) (changed bool) {
	was := *t
	t.Down = nil
	for i := range all {
		s := &all[i]
		before := slices.IndexFunc(was.Down, func(f Fall) bool { return f.Machine == s.Machine })
		how, well := s.fell()
		switch {
		case well || how == "" && before < 0:
		case before < 0:
			t.Down = append(t.Down, Fall{Machine: s.Machine, How: how, Level: s.Level, Since: now.UTC(), sure: true})
		default:
			f := was.Down[before]
			if f.sure = how != ""; f.sure {
				f.How = how
			}
			t.Down = append(t.Down, f)
		}
	}
	slices.SortFunc(t.Down, func(a, b Fall) int { return a.Since.Compare(b.Since) })
	t.Tried = slices.DeleteFunc(slices.Clone(t.Tried), func(at time.Time) bool { return !at.Add(TriesWithin).After(now) })
	t.At, t.Called = t.next(now), was.Called
	if len(t.Down) == 0 {
		t.Called = time.Time{}
	}
	return !slices.EqualFunc(t.Down, was.Down, Fall.as) || !t.At.Equal(was.At) || !t.Called.Equal(was.Called) || len(t.Tried) != len(was.Tried)
}

// next is when something is to be done about what is down: once that has been so for long enough, and as long after the last try. What could not be
// done when it was due, as where a site did not answer, is due again as long after that.
func (t *RecoveredTerms) next(now time.Time) time.Time {
	if len(t.Down) == 0 || !t.Called.IsZero() {
		return time.Time{}
	}
	at := t.Down[0].Since.Add(t.After)
	if n := len(t.Tried); n > 0 && t.Tried[n-1].Add(t.After).After(at) {
		at = t.Tried[n-1].Add(t.After)
	}
	if t.At.Add(stillDue).After(now) && !t.At.Before(at) { // it is due then already
		return t.At
	}
	if !at.After(now) {
		at = now.Add(t.After)
	}
	return at.UTC()
}

// Picks are the machines about which something is done now: those that were down for long enough, and were seen so by the last look. Machines that run and answer nobody may do so
// because of others that are down: they are left until these are up, and those of them that stand lowest come first.
func (t *RecoveredTerms) Picks(now time.Time) []Fall {
	var sure, silent []Fall
	lowest := 0
	for _, f := range t.Down {
		switch {
		case f.How == FellSilent && (silent == nil || f.Level < lowest):
			lowest = f.Level
			fallthrough
		case f.How == FellSilent:
			silent = append(silent, f)
		default:
			sure = append(sure, f)
		}
	}
	if sure == nil {
		sure = slices.DeleteFunc(silent, func(f Fall) bool { return f.Level > lowest })
	}
	return slices.DeleteFunc(sure, func(f Fall) bool { return !f.sure || f.Since.Add(t.After).After(now) })
}

// ErrCalled is that a person is called: what was tried did not help.
var ErrCalled = errors.New("a person has to look")

// Try notes that something is done now. It is an error, and a person is called, where it was done as often as it may be.
func (t *RecoveredTerms) Try(now time.Time) error {
	t.Tried = slices.DeleteFunc(slices.Clone(t.Tried), func(at time.Time) bool { return !at.Add(TriesWithin).After(now) })
	if len(t.Tried) >= t.Tries {
		t.Called, t.At = now.UTC(), time.Time{}
		return fmt.Errorf("it was raised again %d times within a day, and is down again: %w", len(t.Tried), ErrCalled)
	}
	t.Tried = append(t.Tried, now.UTC())
	return nil
}

func (t *RecoveredTerms) words() string {
	text := fmt.Sprintf("raised again by itself after %s down, %d times a day at most", Span(t.After), t.Tries)
	if t.Rebuild {
		text += ", built again where it is gone"
	}
	return text
}
