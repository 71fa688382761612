package operate

import (
	"slices"

	"andamio/internal/app"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// condition is how one resource is: by what we know, what its site says, and whether it answers.
type condition struct {
	status run.Status
	word   string
	why    string
}

// condition judges a resource. A check that has not been made yet speaks neither for nor against it.
func (v *View) condition(r *run.Resource) condition {
	if d := v.selected(); d != nil && going(d) {
		return rising(r)
	}
	switch {
	case r.Off || v.isOff(r):
		return condition{run.Passed, "switched off", "its instance is switched off, as was asked for"}
	case v.unsure(r):
		return condition{run.Failed, "half done", "a run began a step of it that did not end well: how far it is is not known"}
	case r.SiteSaid.Text != "" && !r.SiteSaid.Good && !r.SiteSaid.At.IsZero():
		return condition{run.Failed, "gone wrong", r.Site + " says: " + r.SiteSaid.Text}
	case r.Kind == plan.Instance && r.SiteSaid.Good:
		return condition{run.Standing, "ready", r.Site + " says: " + r.SiteSaid.Text}
	case r.Answer.Text != "" && !r.Answer.Good:
		return condition{run.Failed, "silent", "it was asked and said: " + r.Answer.Text}
	case r.Answer.Good:
		return condition{run.Standing, "serving", "it was asked and answered: " + r.Answer.Text}
	case r.SiteSaid.Good:
		return condition{run.Standing, "ready", r.Site + " says: " + r.SiteSaid.Text}
	}
	return condition{run.Standing, "standing", "every step that built it was checked when it was done"}
}

// rising is how a resource is while a run goes on.
func rising(r *run.Resource) condition {
	switch r.Status {
	case run.Planned:
		return condition{run.Planned, "planned", "the run that is under way has not come to it yet"}
	case run.UnderWay:
		return condition{run.UnderWay, "under way", "the run that is under way works on it"}
	case run.Held:
		return condition{run.Held, "held", "it waits for something that failed, or for somebody"}
	case run.Failed, run.Stopped:
		return condition{run.Failed, "failed", "a step of it failed in the run that is under way"}
	case run.Retired:
		return condition{run.Retired, "gone", "the run that is under way took it away"}
	}
	return condition{run.Standing, "standing", "every step of it that the run has is done"}
}

// unsure reports that a step of a resource did not end well.
func (v *View) unsure(r *run.Resource) bool {
	s := v.state()
	return s != nil && slices.ContainsFunc(s.StepsOf(r.ID), func(st *run.Step) bool { return st.Status == run.Failed })
}

// isOff reports that what a resource runs on is off.
func (v *View) isOff(r *run.Resource) bool {
	s := v.state()
	if s == nil {
		return false
	}
	on := r.On
	if of := s.Resource(r.Spec.EndpointOf); of != nil {
		on = of.On
	}
	if on == "" {
		on = r.Spec.Instance
	}
	host := s.Resource(on)
	return host != nil && host.Off
}

// health is how a deployment or one of its tiers is.
type health struct {
	all, good, bad, off int
	// rises counts what a run under way has not built yet.
	rises int
	// sites and answers count what the sites say is well, and what answers, of all that were asked.
	sites, sitesGood     int
	answers, answersGood int
	cost                 float64
	worst                string
}

func (v *View) health(d *app.Deployment, tier string) health {
	var h health
	s := v.states[d.ID]
	if s == nil {
		return h
	}
	for i := range s.Resources {
		r := &s.Resources[i]
		if tier != "" && tierOf(r.Resource) != tier {
			continue
		}
		if !r.Off {
			h.cost += r.CostPerHour
		}
		h.readings(r)
		if r.Kind == plan.Interface {
			continue
		}
		h.all++
		c := v.condition(r)
		if going(d) {
			c = rising(r)
		}
		switch c.status {
		case run.Planned, run.UnderWay, run.Held:
			h.rises++
		case run.Failed:
			h.bad++
			if h.worst == "" {
				h.worst = r.Title + " " + c.word
			}
		case run.Passed:
			h.off++
		default:
			h.good++
		}
	}
	return h
}

func (h *health) readings(r *run.Resource) {
	if r.SiteSaid.Text != "" {
		h.sites++
		if r.SiteSaid.Good {
			h.sitesGood++
		}
	}
	if r.Answer.Text != "" {
		h.answers++
		if r.Answer.Good {
			h.answersGood++
		}
	}
}

// status is a health as a glyph's.
func (h health) status() run.Status {
	switch {
	case h.bad > 0:
		return run.Failed
	case h.rises > 0:
		return run.UnderWay
	case h.off > 0 && h.good == 0:
		return run.Passed
	}
	return run.Standing
}
