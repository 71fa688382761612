package react

import (
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
)

// leave moves what is at a site that is in trouble.
func (r *Reaction) leave(st *State, s *Situation, now time.Time) *wish {
	for i := range s.Alerts {
		a := &s.Alerts[i]
		if a.Rank != alarm.Site.Word() || a.Severity < alarm.Critical || a.Quiet(now) {
			continue
		}
		var here []string
		for k := range s.Machines {
			if s.Machines[k].Site == a.Name {
				here = append(here, s.Machines[k].ID)
			}
		}
		if len(here) == 0 {
			continue
		}
		w := &wish{Decision: Decision{Do: Leaving, Machines: here, Site: a.Name, Not: append(troubled(s.Alerts), st.Left()...), Why: fmt.Sprintf("site %s: %s", a.Name, a.Words)},
			about: "leave " + a.Name, after: r.Leave.after, cool: r.coolDown}
		if a.Known != nil {
			return &wish{Decision: Decision{Holds: w.Why + ": " + a.Known.By + " sees to it"}}
		}
		if silent(a) {
			return &wish{Decision: Decision{Holds: w.Why + ": it does not answer, so that nothing can be moved from it and nothing is known of what runs there"}}
		}
		return w
	}
	return nil
}

// silent reports that a site does not answer.
func silent(a *alarm.Alert) bool {
	return slices.ContainsFunc(a.Alarms, func(x alarm.Alarm) bool { return x.Thing == a.Cause && x.Measure == measure.SiteAnswers })
}

// troubled are the sites of which an alert goes on.
func troubled(all []alarm.Alert) []string {
	var out []string
	for i := range all {
		if all[i].Rank == alarm.Site.Word() && !slices.Contains(out, all[i].Name) {
			out = append(out, all[i].Name)
		}
	}
	return out
}
