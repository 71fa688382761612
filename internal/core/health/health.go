// Package health says how what stands is. What goes in is the state of what stands, as its runs left it, with what its sites
// and endpoints said of it last; what comes out is the condition of each resource, and a tally of each tier and of all. All
// that tells a person how something is reads it here, so that no two of them disagree.
//
// An instance whose site says "active" is ready; one whose site says "it is not there" has gone wrong, and its tier is not
// well.
package health

import (
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// Condition is how one resource is: a status, a word for it, and why.
type Condition struct {
	Status run.Status
	Word   string
	Why    string
}

// Of judges a resource by what we know, what its site says, and whether it answers. A check that has not been made yet speaks
// neither for nor against it. While a run of it is under way, it is as far as that run is.
func Of(s *run.State, r *run.Resource, rising bool) Condition {
	if rising {
		return rises(r)
	}
	switch {
	case r.Off || isOff(s, r):
		return Condition{run.Passed, "switched off", "its instance is switched off, as was asked for"}
	case idle(s, r):
		return Condition{run.Passed, wordIdle, "all that it leads to is switched off, as was asked for: nothing asks it"}
	case unsure(s, r):
		return Condition{run.Failed, "half done", "a run began a step of it that did not end well: how far it is is not known"}
	case r.SiteSaid.Text != "" && !r.SiteSaid.Good && !r.SiteSaid.At.IsZero():
		return Condition{run.Failed, "gone wrong", r.Site + " says: " + r.SiteSaid.Text}
	case r.Kind == kinds.Instance && r.SiteSaid.Good:
		return Condition{run.Standing, "ready", r.Site + " says: " + r.SiteSaid.Text}
	case r.Answer.Text != "" && !r.Answer.Good:
		return Condition{run.Failed, "silent", "it was asked and said: " + r.Answer.Text}
	case r.Answer.Good:
		return Condition{run.Standing, "serving", "it was asked and answered: " + r.Answer.Text}
	case r.SiteSaid.Good:
		return Condition{run.Standing, "ready", r.Site + " says: " + r.SiteSaid.Text}
	}
	return Condition{run.Standing, "standing", "every step that built it was checked when it was done"}
}

// wordIdle is the word for what is not asked.
const wordIdle = "idle"

// rises is how a resource is while a run goes on.
func rises(r *run.Resource) Condition {
	switch r.Status {
	case run.Planned:
		return Condition{run.Planned, "planned", "the run that is under way has not come to it yet"}
	case run.UnderWay:
		return Condition{run.UnderWay, "under way", "the run that is under way works on it"}
	case run.Held:
		return Condition{run.Held, "held", "it waits for something that failed, or for somebody"}
	case run.Failed, run.Stopped:
		return Condition{run.Failed, "failed", "a step of it failed in the run that is under way"}
	case run.Retired:
		return Condition{run.Retired, "gone", "the run that is under way took it away"}
	}
	return Condition{run.Standing, "standing", "every step of it that the run has is done"}
}

// unsure reports that a step of a resource did not end well.
func unsure(s *run.State, r *run.Resource) bool {
	return slices.ContainsFunc(s.StepsOf(r.ID), func(st *run.Step) bool { return st.Status == run.Failed })
}

// idle reports that a resource is the endpoint of a load balancer that is not asked, since it has nobody to hand a request to.
func idle(s *run.State, r *run.Resource) bool {
	of := s.Resource(r.AsEndpoint().EndpointOf)
	return of != nil && len(of.AsSoftware().LeadsTo) > 0 && s.Step(op.Answer.On(r.ID)) == nil
}

// isOff reports that what a resource runs on is off.
func isOff(s *run.State, r *run.Resource) bool {
	on := r.On
	if of := s.Resource(r.AsEndpoint().EndpointOf); of != nil {
		on = of.On
	}
	if on == "" {
		on = r.AsInterface().Instance
	}
	host := s.Resource(on)
	return host != nil && host.Off
}

// Tally is how many of a tier, or of all, are how. Interfaces have readings and no condition of their own.
type Tally struct {
	All, Good, Bad, Off int
	// Idle counts what is not asked, since all that it leads to is switched off.
	Idle int
	// On counts the instances that are switched on.
	On int
	// Rising counts what a run under way has not built yet.
	Rising int
	// Sites and Answers count what was asked of the sites and of the endpoints, SitesGood and AnswersGood what of it is well.
	Sites, SitesGood     int
	Answers, AnswersGood int
	// Cost is what it costs an hour as it is.
	Cost money.Amount
	// Worst is the first that is not well, with the word for it.
	Worst string
}

// Status is a tally as a status.
func (t *Tally) Status() run.Status {
	switch {
	case t.Bad > 0:
		return run.Failed
	case t.Rising > 0:
		return run.UnderWay
	case t.Off > 0 && t.On == 0:
		return run.Passed
	}
	return run.Standing
}

func (t *Tally) count(r *run.Resource, c Condition) {
	t.Cost += r.Costs()
	if r.Kept() { // whether it is there still, the inventory says
		return
	}
	t.read(r)
	if r.Kind == kinds.Interface {
		return
	}
	t.All++
	if r.Kind == kinds.Instance && !r.Off {
		t.On++
	}
	switch c.Status {
	case run.Planned, run.UnderWay, run.Held:
		t.Rising++
	case run.Failed:
		t.Bad++
		if t.Worst == "" {
			t.Worst = r.Title + " " + c.Word
		}
	case run.Passed:
		if c.Word == wordIdle {
			t.Idle++
		} else {
			t.Off++
		}
	default:
		t.Good++
	}
}

func (t *Tally) read(r *run.Resource) {
	if r.SiteSaid.Text != "" && !r.Off { // what is off is not to be active
		t.Sites++
		if r.SiteSaid.Good {
			t.SitesGood++
		}
	}
	if r.Answer.Text != "" {
		t.Answers++
		if r.Answer.Good {
			t.AnswersGood++
		}
	}
}

// Reading is how a deployment is, whole and by tier.
type Reading struct {
	All Tally
	// Tiers are in the order of the plan; By has the tally of each.
	Tiers []string
	By    map[string]*Tally
}

// Read tallies what stands of a deployment.
func Read(s *run.State, rising bool) *Reading {
	out := &Reading{By: map[string]*Tally{}}
	tiers := TiersOf(s.Plan)
	for _, name := range Tiers(s.Plan) {
		out.Tiers, out.By[name] = append(out.Tiers, name), &Tally{}
	}
	for i := range s.Resources {
		r := &s.Resources[i]
		c := Of(s, r, rising)
		out.All.count(r, c)
		if t := out.By[tiers[r.ID]]; t != nil {
			t.count(r, c)
		}
	}
	return out
}

// Deployment is how a deployment is, told in the same words everywhere.
type Deployment struct {
	ID   int64
	Name string
	// Status and Word say how it is; Worst is the first of it that is not well.
	Status      run.Status
	Word, Worst string
	// Cost is what it costs an hour now, in Currency.
	Cost     money.Amount
	Currency string
	// At is when its sites and endpoints were asked last, zero if they have not been.
	At time.Time
}

// Whole says how a deployment is by how its last run left it and by what was read since.
func Whole(left run.Status, t *Tally) (run.Status, string) {
	switch {
	case left != run.Standing && t.Bad > 0 && left != run.UnderWay:
		return left, fmt.Sprintf("%s, %d not well", left, t.Bad)
	case left != run.Standing:
		return left, string(left)
	case t.Bad > 0:
		return run.Failed, fmt.Sprintf("%d not well", t.Bad)
	case t.Off > 0 && t.On == 0:
		return run.Passed, "switched off"
	case t.Off > 0:
		return run.Standing, fmt.Sprintf("standing, %d off", t.Off)
	}
	return run.Standing, string(run.Standing)
}
