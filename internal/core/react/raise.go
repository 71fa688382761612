package react

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/promise"
)

// inVain is how often within what time a machine is raised where it is before that is said not to help.
const (
	inVain     = 2
	vainWithin = time.Hour
)

// raise is what is done about machines that fell.
func (r *Reaction) raise(st *State, s *Situation, now time.Time) *wish {
	if s.Busy != "" { // what goes off and on during a run is no fall; what was known is looked at anew after it
		st.Down = nil
		return nil
	}
	t := promise.RecoveredTerms{After: r.Raise.after, Tries: r.Tries, Rebuild: r.Raise.Rebuild, Down: st.Down}
	t.Look(s.Sights, now)
	st.Down = t.Down
	if len(st.Down) == 0 {
		return nil
	}
	picks := t.Picks(now)
	if len(picks) == 0 {
		return &wish{Decision: Decision{Holds: waits(st.Down, r.Raise.after, now)}}
	}
	return r.helping(st, s, picks, now)
}

// helping is what is done about some machines: those that have to be elsewhere come first, then those that are raised where they are, then those of which only their site can tell; where nothing may be done
// about any of them a person is called.
func (r *Reaction) helping(st *State, s *Situation, picks []promise.Fall, now time.Time) *wish {
	var elsewhere, here, unsure []promise.Fall
	var not []string
	lost, stuck := "", ""
	for _, f := range picks {
		why := r.lost(st, s, f, now)
		switch {
		case why != "" && s.machine(f.Machine).Disks:
			stuck = fmt.Sprintf("%s, and %s has disks, which would be empty elsewhere", why, f.Machine)
		case why != "":
			elsewhere, lost = append(elsewhere, f), why
			if at := s.machine(f.Machine).Site; !slices.Contains(not, at) {
				not = append(not, at)
			}
		case f.How == promise.FellGone && !r.Raise.Rebuild:
			stuck = "what is gone is not built again by this reaction"
		case f.How == promise.FellGone && !asked(s.Sights, f.Machine):
			unsure = append(unsure, f)
		default:
			here = append(here, f)
		}
	}
	w := &wish{cool: r.coolDown}
	switch {
	case len(elsewhere) > 0:
		w.of(Elsewhere, elsewhere, now)
		w.Why, w.Not = w.Why+", and "+lost, not
		if slices.ContainsFunc(elsewhere, func(f promise.Fall) bool { return !asked(s.Sights, f.Machine) }) {
			w.oneSided()
		}
	case len(here) > 0:
		w.of(Raising, here, now)
	case len(unsure) > 0:
		w.of(Raising, unsure, now)
		w.oneSided()
	default:
		w.of(Raising, picks, now)
		w.calls = stuck
	}
	return w
}

// of has a wish be about machines.
func (w *wish) of(do Doing, all []promise.Fall, now time.Time) {
	w.Do, w.Falls, w.Why = do, all, fellWords(all, now)
	for _, f := range all {
		w.Machines = append(w.Machines, f.Machine)
	}
	w.about = string(do) + " " + strings.Join(w.Machines, " ")
}

// oneSided has a wish only be proposed.
func (w *wish) oneSided() {
	w.Mode = Propose
	w.Why += ", which nobody but its site can tell"
}

// lost says why raising a machine where it is does not help: what carries it is down, or it was raised there in vain; "" where it may.
func (r *Reaction) lost(st *State, s *Situation, f promise.Fall, now time.Time) string {
	m := s.machine(f.Machine)
	switch {
	case !r.Raise.Elsewhere || m == nil || f.How == promise.FellOff:
	case st.lastOn(f.Machine) == Elsewhere: // that was tried just now, and it is down still
	case f.How == promise.FellGone && carrierDown(s.Alerts, m) != "":
		return carrierDown(s.Alerts, m)
	case st.since(f.Machine, now.Add(-vainWithin)) >= inVain:
		return "raising it there did not help"
	}
	return ""
}

// asked reports that a machine was asked at an endpoint.
func asked(all []promise.Sight, machine string) bool {
	return slices.ContainsFunc(all, func(s promise.Sight) bool { return s.Machine == machine && s.Tried })
}

// carrierDown says which host or zone below a machine is down; "" if none is.
func carrierDown(all []alarm.Alert, m *Machine) string {
	for i := range all {
		a := &all[i]
		if a.Site != m.Site || a.Severity < alarm.Critical {
			continue
		}
		if a.Rank == alarm.Host.Word() && m.Host != "" && a.Name == m.Host || a.Rank == alarm.Zone.Word() && m.Zone != "" && a.Name == m.Zone {
			return a.Rank + " " + a.Name + " is down"
		}
	}
	return ""
}

func fellWords(all []promise.Fall, now time.Time) string {
	var out []string
	for _, f := range all {
		out = append(out, fmt.Sprintf("%s is %s since %s", f.Machine, f.How, at(f.Since, now)))
	}
	return strings.Join(out, ", ")
}

// waits says what is waited for.
func waits(down []promise.Fall, after time.Duration, now time.Time) string {
	return fmt.Sprintf("%s: it acts once that is sure, and after %s", fellWords(down, now), promise.Span(after))
}
