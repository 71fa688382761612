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
	w := &wish{Decision: Decision{Do: Raising, Falls: picks, Why: fellWords(picks, now)}, cool: r.coolDown}
	for _, f := range picks {
		w.Machines = append(w.Machines, f.Machine)
	}
	w.about = strings.Join(w.Machines, " ")
	if lost, why := r.lost(st, s, picks, now); len(lost) > 0 {
		return r.elsewhere(w, s, lost, why, now)
	}
	for _, f := range picks {
		if f.How != promise.FellGone {
			continue
		}
		if !r.Raise.Rebuild {
			w.calls = "what is gone is not built again by this reaction"
		}
		if !asked(s.Sights, f.Machine) { // only its site says so
			w.Mode = Propose
			w.Why += ", which nobody but its site can tell"
		}
	}
	return w
}

// lost are machines that raising where they are does not help, with why: what carries them is down, or they were raised there in vain.
func (r *Reaction) lost(st *State, s *Situation, picks []promise.Fall, now time.Time) (out []promise.Fall, why string) {
	if !r.Raise.Elsewhere {
		return nil, ""
	}
	for _, f := range picks {
		m := s.machine(f.Machine)
		switch {
		case m == nil || f.How == promise.FellOff:
		case st.lastOn(f.Machine) == Elsewhere: // that was tried just now, and it is down still
		case f.How == promise.FellGone && carrierDown(s.Alerts, m) != "":
			out, why = append(out, f), carrierDown(s.Alerts, m)
		case st.since(f.Machine, now.Add(-vainWithin)) >= inVain:
			out, why = append(out, f), "raising it there did not help"
		}
	}
	return out, why
}

// elsewhere builds machines at another site; what is left of them where they were is taken away before. What has disks comes up there without what is on them: a person decides.
func (r *Reaction) elsewhere(w *wish, s *Situation, lost []promise.Fall, why string, now time.Time) *wish {
	w.Do, w.Falls, w.Machines = Elsewhere, lost, nil
	w.Why = fellWords(lost, now) + ", and " + why
	for _, f := range lost {
		m := s.machine(f.Machine)
		w.Machines = append(w.Machines, f.Machine)
		if m.Disks {
			w.calls = f.Machine + " has disks, which would be empty elsewhere"
		}
		if f.How == promise.FellGone && !asked(s.Sights, f.Machine) {
			w.Mode = Propose
		}
		if !slices.Contains(w.Not, m.Site) {
			w.Not = append(w.Not, m.Site)
		}
	}
	w.about = "elsewhere " + strings.Join(w.Machines, " ")
	return w
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
