package watch

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/fault"
	"andamio/internal/core/measure"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// Story is what somebody who is woken by an alert wants to know beside it.
type Story struct {
	// Before is what was done just before it began, the newest first; Since what was done about it.
	Before []Happened `json:"before,omitempty"`
	Since  []Happened `json:"since,omitempty"`
	// Helped is what was done the last time that the same was wrong, before it was over; Last is when that ended.
	Helped []Happened `json:"helped,omitempty"`
	Last   time.Time  `json:"last,omitzero"`
	// Helps says in a few words what would help now, where that can be planned; "" where it cannot.
	Helps string `json:"helps,omitempty"`
}

// Lines tell the story, a line each thing, at times by the clock on the wall here.
func (s *Story) Lines() []string {
	var out []string
	for _, part := range []struct {
		title string
		all   []Happened
	}{{"just before", s.Before}, {"done about it", s.Since}, {"the last time", s.Helped}} {
		for _, h := range part.all[:min(len(part.all), mostTold)] {
			out = append(out, fmt.Sprintf("%s, %s: %s", part.title, h.At.Local().Format("2 Jan 15:04"), h.Says))
		}
	}
	if s.Helps != "" {
		out = append(out, "what would help: "+s.Helps)
	}
	return out
}

// mostTold is how much of each is told in lines.
const mostTold = 5

// Tale is the story of an alert in lines, for a letter about it.
func (svc *Service) Tale(ctx context.Context, id int64) ([]string, error) {
	a, err := svc.Alert(ctx, id)
	if err != nil {
		return nil, err
	}
	s, err := svc.Story(ctx, a)
	return s.Lines(), err
}

// Happened is a run that had to do with something.
type Happened struct {
	At   time.Time `json:"at"`
	Run  int64     `json:"run"`
	Says string    `json:"says"`
}

// How long before an alert is just before it, and how many old alerts are looked at.
const (
	justBefore = time.Hour
	mostOld    = 200
)

// Story is what had to do with an alert.
func (svc *Service) Story(ctx context.Context, a alarm.Alert) (Story, error) {
	if err := svc.desk.See(ctx, alertThing(a)); err != nil {
		return Story{}, err
	}
	runs, err := svc.store.Runs(ctx)
	if err != nil {
		return Story{}, err
	}
	within := func(from, to time.Time, of []int64) (out []Happened) {
		for _, r := range runs { // the newest first
			if at := r.Created; at.Before(from) || !at.Before(to) || !slices.Contains(of, r.Deployment) {
				continue
			}
			out = append(out, Happened{r.Created, r.ID, fmt.Sprintf("%s run %d %s: %s", r.Name, r.ID, cmp.Or(r.Purpose, "raised it"), wordOf(r))})
		}
		return out
	}
	end := a.Ended
	if end.IsZero() {
		end = time.Now()
	}
	out := Story{Before: within(a.Since.Add(-justBefore), a.Since, a.Deployments), Since: within(a.Since, end, a.Deployments), Helps: Helps(&a)}
	old, err := svc.store.AlertsSince(ctx, a.Since.AddDate(-1, 0, 0), mostOld)
	if err != nil {
		return out, err
	}
	for _, o := range old { // the newest first
		if o.ID != a.ID && o.Cause == a.Cause && !o.Ended.IsZero() && o.Into == 0 && o.Since.Before(a.Since) {
			out.Helped, out.Last = within(o.Since, o.Ended, o.Deployments), o.Ended
			break
		}
	}
	return out, nil
}

func wordOf(r store.Run) string {
	if r.State == run.Standing {
		return "done"
	}
	return string(r.State)
}

// fell is how the machine that is the cause of an alert fell; false if the cause is none, or does something still.
func fell(a *alarm.Alert) (promise.Fall, bool) {
	if a.Rank != alarm.Instance.Word() || a.Deployment == 0 || a.Resource == "" || a.Severity < alarm.Critical {
		return promise.Fall{}, false
	}
	f := promise.Fall{Machine: a.Resource, How: promise.FellSilent, Since: a.Since}
	for i := range a.Alarms {
		switch x := &a.Alarms[i]; {
		case x.Thing != a.Cause:
		case x.Measure == measure.On && x.Reached:
			f.How = promise.FellOff
		case x.Measure == measure.On: // its site does not tell of it at all
			f.How = promise.FellGone
		default: // it has nothing left of something, which starting it again does not mend
			return f, false
		}
	}
	return f, true
}

// Helps says what would help against an alert, where that can be planned; "" where it cannot.
func Helps(a *alarm.Alert) string {
	f, is := fell(a)
	switch {
	case !is:
		return ""
	case f.How == promise.FellGone:
		return "build " + a.Name + " again"
	case f.How == promise.FellOff:
		return "switch " + a.Name + " on"
	}
	return "start what runs on " + a.Name + " again"
}

// Helping works out the order that would help against an alert: the machine that is its cause is raised again.
func (svc *Service) Helping(ctx context.Context, id int64) (deployments.Order, error) {
	a, err := svc.Alert(ctx, id)
	if err != nil {
		return deployments.Order{}, err
	}
	f, is := fell(&a)
	if !is {
		return deployments.Order{}, fault.Refusedf("nothing can be planned against alert %d (%s): its cause is no machine of a deployment that is down", id, a.Title())
	}
	return svc.deployments.RaisingAgain(ctx, a.Deployment, []promise.Fall{f})
}
