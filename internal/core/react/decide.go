package react

import (
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
)

// Doing is what is done.
type Doing string

// What is done: machines are raised again where they are, built elsewhere, or on another host; a tier has so many machines; a site is left.
const (
	Raising   Doing = "raise"
	Elsewhere Doing = "build elsewhere"
	Scaling   Doing = "scale"
	Spreading Doing = "spread"
	Leaving   Doing = "leave"
)

// Decision is what is to be done now. One without Do does nothing; Holds says then what is in the way, where something would be done.
type Decision struct {
	Do   Doing `json:"do,omitempty"`
	Mode Mode  `json:"mode,omitempty"`
	// Machines are those that it is done to; Falls how they fell.
	Machines []string       `json:"machines,omitempty"`
	Falls    []promise.Fall `json:"falls,omitempty"`
	// Tier has Count machines then, and From now.
	Tier        string `json:"tier,omitempty"`
	From, Count int    `json:"-"`
	// Site is the one that is left, or of the host to which a machine goes; Zone and Host are of that host.
	Site string `json:"site,omitempty"`
	Zone string `json:"zone,omitempty"`
	Host string `json:"host,omitempty"`
	// Not are sites that nothing goes to.
	Not []string `json:"not,omitempty"`
	// Why is the reason, with the figures that it follows from.
	Why   string `json:"why,omitempty"`
	Holds string `json:"holds,omitempty"`
}

// wish is what would be done if nothing were in the way.
type wish struct {
	Decision
	// about names what it is about, and after for how long that has to be so.
	about string
	after time.Duration
	// cool is for how long the deployment is left alone before; beside is when something else was done that counts for it as a run of its own.
	cool   time.Duration
	beside time.Time
	// calls says why a person is called instead; "" if none is.
	calls string
}

// Decide says what a reaction does now about how a deployment is, and takes into its state what was seen. Whoever carries the decision out notes it first ([State.Note]).
func Decide(r *Reaction, st *State, s *Situation, now time.Time) Decision {
	st.forget(now)
	var w *wish
	switch {
	case r.Raise != nil:
		w = r.raise(st, s, now)
	case r.Scale != nil:
		w = r.scale(st, s, now)
	case r.Spread != nil:
		w = r.spread(s)
	case r.Leave != nil:
		w = r.leave(st, s, now)
	}
	d := r.decide(w, st, s, now)
	st.Says = d.Why
	if d.Do == "" {
		st.Says = d.Holds
	}
	return d
}

// Step has all reactions to a deployment decide, in their order, by their states in the same order. At most one of them does something: what the others would do they see anew after it.
func Step(all []*Reaction, states []*State, s *Situation, now time.Time) (which int, d Decision) {
	which = -1
	for i, r := range all {
		one := *s
		if which >= 0 && one.Busy == "" {
			one.Busy = all[which].Name + " comes first"
		}
		if got := Decide(r, states[i], &one, now); got.Do != "" {
			which, d = i, got
		}
	}
	return which, d
}

// decide holds a wish against what bounds it.
func (r *Reaction) decide(w *wish, st *State, s *Situation, now time.Time) Decision {
	if w == nil {
		if s.Busy == "" { // while somebody works on it nothing is known to be well
			st.well()
		}
		return Decision{}
	}
	if w.Do == "" && w.calls == "" {
		return w.Decision
	}
	if st.About != w.about || st.Since.IsZero() {
		st.About, st.Since = w.about, now.UTC()
	}
	hold := func(format string, args ...any) Decision {
		return Decision{Holds: fmt.Sprintf(format, args...), Why: w.Why}
	}
	cool := latest(latest(st.last(), s.LastRun), w.beside).Add(w.cool)
	switch {
	case s.Busy != "":
		return hold("%s: %s", w.Why, s.Busy)
	case now.Sub(st.Since) < w.after:
		return hold("%s since %s: it acts after %s", w.Why, at(st.Since, now), promise.Span(w.after))
	case w.calls != "":
		st.call(now, w.about, "%s: %s", w.Why, w.calls)
		return hold("%s: %s", w.Why, w.calls)
	case !st.Called.IsZero() && st.CalledAbout == w.about:
		return hold("%s: a person was called", w.Why)
	case len(st.Acts) >= r.Tries:
		st.call(now, w.about, "%s, and it did something %s within a day already%s", w.Why, printable.Count(r.Tries, "time"), st.failure())
		return hold("%s", st.CalledFor)
	case cool.After(now):
		return hold("%s%s: it is left alone until %s", w.Why, st.failure(), at(cool, now))
	}
	d := w.Decision
	if d.Mode == "" {
		d.Mode = r.Mode
	}
	if until := r.quiet(now); d.Mode == Do && !until.IsZero() {
		d.Mode = Propose
		d.Why += ", proposed since these are quiet hours"
	}
	if last := len(st.Acts) - 1; d.Mode == Propose && last >= 0 && st.Acts[last].Proposed && st.Acts[last].same(&d) {
		return hold("%s: it was proposed at %s", w.Why, at(st.Acts[last].At, now))
	}
	return d
}

// same reports that an act is what is decided again.
func (a *Act) same(d *Decision) bool {
	return a.Failed == "" && a.Do == d.Do && a.Count == d.Count && a.Site == d.Site && slices.Equal(a.On, d.Machines)
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// at writes a moment by the clock of another one.
func at(t, now time.Time) string { return t.In(now.Location()).Format(time.TimeOnly) }
