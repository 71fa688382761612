package react

import (
	"fmt"
	"time"

	"andamio/internal/core/measure"
	"andamio/internal/core/money"
	"andamio/internal/core/promise"
)

// How much less than is to be used has to be used for a tier to shrink, and how much sooner than it shrinks it may grow.
const (
	shrinks = 0.8
	sooner  = 5
)

// scale is how many machines a tier is to have.
func (r *Reaction) scale(st *State, s *Situation, now time.Time) *wish {
	t, c := s.Tiers[r.Scale.Tier], r.Scale
	if t == nil {
		return nil
	}
	w := &wish{Decision: Decision{Do: Scaling, Tier: t.Node, From: t.Count, Machines: []string{t.Node}}, about: "scale"}
	floor, hours := r.floor(t, now)
	most, bound := r.most(t)
	l := t.Load
	up, why := floor, fmt.Sprintf("%sthere are to be at least %d of %s, and there are %d", hours, floor, t.Node, t.Count)
	if l.Each > 0 {
		load, of := max(l.Now, l.Ahead), ""
		if l.Of > 0 && l.Of < t.Count { // the others are taken to use as much
			load *= float64(t.Count) / float64(l.Of)
			of = fmt.Sprintf(" by %d of them", l.Of)
		}
		if n := enough(load, l.Each, c.use); n > up {
			up = n
			why = fmt.Sprintf("%s are used%s%s: %d of %s would do with %s of each, and there are %d", r.figure(load), of, ahead(&l), up, t.Node, c.Use, t.Count)
		}
	}
	switch {
	case t.Count < min(up, most):
		w.Count, w.cool = min(up, most), r.coolDown/sooner
		w.Why = why
		if up > most {
			w.Why += fmt.Sprintf(", and may be %d %s", most, bound)
		}
		return w
	case up > most && t.Count >= most:
		w.after, w.calls = r.coolDown, fmt.Sprintf("more than %d may not be, %s", most, bound)
		w.Why = why
		w.about = "short"
		return w
	}
	return r.shrink(w, st, t, floor, now) // what a person had there be more of goes when it is not needed
}

// shrink takes one machine away where fewer have done for a while, and will.
func (r *Reaction) shrink(w *wish, st *State, t *Tier, floor int, now time.Time) *wish {
	l := t.Load
	if t.Count <= max(floor, 1) || l.Each <= 0 || l.Of < t.Count || !l.Whole { // what is not known of all may be a load
		return nil
	}
	if enough(max(l.Now, l.Recent, l.Ahead), l.Each, shrinks*r.Scale.use) >= t.Count {
		return nil
	}
	w.Count, w.cool = t.Count-1, r.coolDown
	w.Why = fmt.Sprintf("at most %s were used within %s: %d of %s do", r.figure(max(l.Recent, l.Ahead)), promise.Span(r.coolDown), w.Count, t.Node)
	if st.turns(now) >= flaps {
		return &wish{Decision: Decision{Holds: w.Why + fmt.Sprintf(", but it grew and shrank %d times within %s, and stays as it is", st.turns(now), promise.Span(flapsWithin))}}
	}
	return w
}

// Back is how far back is looked for what was used before a tier shrinks.
func (r *Reaction) Back() time.Duration { return r.coolDown }

// floor is how many machines there are at least, with why.
func (r *Reaction) floor(t *Tier, now time.Time) (int, string) {
	n, why := max(r.Scale.Least, t.Least), ""
	for i := range r.Scale.Hours {
		h := &r.Scale.Hours[i]
		goes := !h.End(now).IsZero()
		next := h.Next(now)
		if comes := !next.IsZero() && !next.After(now.Add(t.Lead)); (goes || comes) && h.Least > n {
			n, why = h.Least, "for "+h.Name+" "
		}
	}
	return n, why
}

// most is how many machines there are at most, with what bounds them.
func (r *Reaction) most(t *Tier) (int, string) {
	n, why := r.Scale.Most, "by this reaction"
	if t.Most > 0 && t.Most < n {
		n, why = t.Most, "by its template"
	}
	if r.Budget > 0 && t.PerMonth > 0 {
		if k := int((r.Budget - t.Rest) / t.PerMonth); k < n {
			n, why = max(k, min(t.Count, r.Scale.Least)), fmt.Sprintf("for %s a month", money.Of(r.Budget))
		}
	}
	return n, why
}

// figure writes what is used.
func (r *Reaction) figure(v float64) string {
	if r.Scale.Measure == measure.MemoryUsed {
		return fmt.Sprintf("%.1f GiB", v/(1<<30))
	}
	return fmt.Sprintf("%.2f cores", v)
}

func ahead(l *Load) string {
	if l.Ahead > l.Now && l.Words != "" {
		return " soon, " + l.Words
	}
	return ""
}
