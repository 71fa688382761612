package requests

import (
	"context"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/decide"
	"andamio/internal/core/guard"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// View is a request with how far it is by now.
type View struct {
	Request
	// Stage is what it has come to, Since when.
	Stage string    `json:"stage"`
	Since time.Time `json:"since"`
	// Stages are those that it has been through.
	Stages []Reached `json:"stages"`
	// Waits says for whom or what it waits; "" if for nothing.
	Waits string `json:"waits,omitempty"`
	// Mine says that the actor can decide it.
	Mine bool `json:"mine,omitempty"`
	// Off says of what serves that all of it is switched off since.
	Off bool `json:"off,omitempty"`
	// Next is when the next stage is usually reached; zero if that is not known.
	Next time.Time `json:"next,omitzero"`
}

// Event is an entry of a request's thread.
type Event = store.RequestEvent

// Reached is a stage with when it was reached, and by whom or which rule.
type Reached struct {
	Stage string      `json:"stage"`
	At    time.Time   `json:"at"`
	By    guard.Actor `json:"by"`
	Rule  string      `json:"rule,omitempty"`
	Text  string      `json:"text,omitempty"`
}

// Requests lists what the actor may see, the newest first: their own and their teams', what they may decide, and all of them for whoever may
// read.
func (svc *Service) Requests(ctx context.Context) ([]View, error) {
	all, err := svc.store.Requests(ctx)
	if err != nil {
		return nil, err
	}
	d, err := svc.workspace.Directory()
	if err != nil {
		return nil, err
	}
	usual, err := svc.usual(ctx, all)
	if err != nil {
		return nil, err
	}
	var out []View
	for i := range all {
		if !svc.sees(d, &all[i]) {
			continue
		}
		v, err := svc.view(ctx, all[i], usual)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// sees reports that a request is the actor's business.
func (svc *Service) sees(d *guard.Directory, r *Request) bool {
	if d == nil || r.Person == svc.me() || d.Has(svc.me(), guard.Read) && d.May(svc.me(), guard.Read, thing(r)).Yes {
		return true
	}
	return d.May(svc.me(), guard.Approve, thing(r)).Yes || r.Owner.Team != "" && d.May(svc.me(), guard.Ask, thing(r)).Yes
}

// Request is one of the requests that the actor may see.
func (svc *Service) Request(ctx context.Context, id int64) (View, error) {
	r, err := svc.store.Request(ctx, id)
	if err != nil {
		return View{}, svc.unknown(id)
	}
	d, err := svc.workspace.Directory()
	if err != nil {
		return View{}, err
	}
	if !svc.sees(d, &r) {
		return View{}, svc.unknown(id)
	}
	return svc.view(ctx, r, nil)
}

// Thread is what was done and said about a request that the actor may see.
func (svc *Service) Thread(ctx context.Context, id int64) ([]store.RequestEvent, error) {
	if _, err := svc.Request(ctx, id); err != nil {
		return nil, err
	}
	return svc.store.RequestThread(ctx, id)
}

func (svc *Service) view(ctx context.Context, r Request, usual map[string]time.Duration) (View, error) {
	thread, err := svc.store.RequestThread(ctx, r.ID)
	if err != nil {
		return View{}, err
	}
	v := View{Request: r}
	for _, e := range thread {
		if e.Stage != "" && e.Stage != StageWaiting {
			v.Stages = append(v.Stages, Reached{e.Stage, e.At, e.By, e.Rule, e.Text})
		}
	}
	if r.State == store.RequestBuilt {
		if err := svc.follow(ctx, &v); err != nil {
			return v, err
		}
	}
	last := v.Stages[len(v.Stages)-1]
	v.Stage, v.Since = last.Stage, last.At
	svc.await(&v)
	switch {
	case v.Stage == StageBuilding:
		v.Next = v.Since.Add(time.Duration(r.Seconds * float64(time.Second)))
	case r.State == store.RequestWaiting && usual[r.Decision.Rule] > 0:
		v.Next = r.Asked.Add(usual[r.Decision.Rule])
	}
	return v, nil
}

// follow adds what became of the run of a request, and of what stood then.
func (svc *Service) follow(ctx context.Context, v *View) error {
	all, err := svc.store.RunsOf(ctx, v.Deployment)
	if err != nil || len(all) == 0 {
		return err
	}
	first, last := all[0], all[len(all)-1]
	add := func(stage string, at time.Time, text string) {
		v.Stages = append(v.Stages, Reached{Stage: stage, At: at, Text: text})
	}
	switch {
	case first.State == run.Standing:
		add(StageServing, first.Ended, fmt.Sprintf("run %d", first.ID))
	case first.State == run.Failed, first.State == run.Stopped, runs.Abandoned(first, time.Now()):
		add(StageFailed, first.Ended, fmt.Sprintf("run %d", first.ID))
	}
	if last.ID != first.ID && deployments.EndOf(last) == run.Retired {
		add(StageGone, last.Ended, last.Purpose)
		return nil
	}
	if last.ID == first.ID { // nothing was done to it since
		return nil
	}
	d, err := svc.deployments.Deployment(ctx, v.Deployment)
	if err == nil {
		v.Off = allOff(d)
	}
	return err
}

// await says for whom or what a request waits.
func (svc *Service) await(v *View) {
	switch v.State {
	case store.RequestPriced:
		v.Waits = "its price to be accepted by " + v.Person
	case store.RequestWaiting:
		d := v.Decision
		v.Waits = "to be checked"
		if d.Then == decide.Ask {
			v.Waits = svc.asked(d.Ask, "somebody who may approve")
			if d.Need > 1 {
				v.Waits += fmt.Sprintf(", %d of %d have said yes", len(v.Yes), d.Need)
			}
			if d.Wait > 0 && time.Since(v.Asked) >= d.Wait {
				v.Waits += "; asked too: " + svc.asked(d.Next, "")
			}
		}
		v.Mine = svc.mayDecide(&v.Request, time.Now()) == nil && svc.may(guard.DecideOn, thing(&v.Request))
	}
}

// may reports that the actor has the right to an act.
func (svc *Service) may(act guard.Act, on guard.Thing) bool {
	d, err := svc.workspace.Directory()
	return err == nil && guard.Allow(d, svc.desk.Actor, act, on) == nil
}

// asked names who is asked, with those who decide in their place.
func (svc *Service) asked(names []string, otherwise string) string {
	d, err := svc.workspace.Directory()
	if err != nil || d == nil {
		return who(names, otherwise)
	}
	with := slices.Clone(names)
	for i, name := range with {
		if deputies := d.DeputiesOf(name); deputies != nil {
			with[i] += " (in their place " + who(deputies, "") + ")"
		}
	}
	return who(with, otherwise)
}

func who(names []string, otherwise string) string {
	if len(names) == 0 {
		return otherwise
	}
	out := names[0]
	for _, n := range names[1:] {
		out += ", " + n
	}
	return out
}

// mostUsual is from how many of the last requests it is learned how long a decision takes, leastUsual how many make it usual.
const (
	mostUsual  = 200
	leastUsual = 3
)

// usual is how long decisions took by which rule: the middle one of those of late.
func (svc *Service) usual(ctx context.Context, all []Request) (map[string]time.Duration, error) {
	took := map[string][]time.Duration{}
	for i := range all[:min(len(all), mostUsual)] {
		r := &all[i]
		if r.Decision.Then != decide.Ask || slices.Contains(openStates[:2], r.State) {
			continue
		}
		thread, err := svc.store.RequestThread(ctx, r.ID)
		if err != nil {
			return nil, err
		}
		for _, e := range thread {
			if e.Stage == StageApproved || e.Stage == StageRefused {
				took[r.Decision.Rule] = append(took[r.Decision.Rule], e.At.Sub(r.Asked))
				break
			}
		}
	}
	out := map[string]time.Duration{}
	for rule, list := range took {
		if slices.Sort(list); len(list) >= leastUsual {
			out[rule] = list[len(list)/2]
		}
	}
	return out, nil
}

// Approvals are the workspace's rules of approval.
func (svc *Service) Approvals() (*decide.File, error) {
	if err := svc.desk.Read("what is approved by rule"); err != nil {
		return nil, err
	}
	return svc.workspace.Approvals()
}

// SetApprovals keeps rules of approval, from the text of their file.
func (svc *Service) SetApprovals(ctx context.Context, text []byte) (*decide.File, error) {
	f, err := workspace.ReadNaming(svc.workspace, text, decide.Read)
	if err != nil {
		return nil, err
	}
	return f, svc.desk.Do(ctx, guard.SetApprovals, guard.Named(fmt.Sprintf("%d rules", len(f.Rules))), func() error { return svc.workspace.SetApprovals(text) })
}
