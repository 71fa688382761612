package requests

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// Spending says what a deployment has cost within a time, by site.
type Spending interface {
	CostOf(ctx context.Context, deployment int64, from, to time.Time) (map[string]money.Amount, error)
}

// Having is what somebody has of a request that was built.
type Having struct {
	// Status and Word say how it is by what its runs left, Off that all of it is switched off.
	Status run.Status `json:"status"`
	Word   string     `json:"word"`
	Off    bool       `json:"off,omitempty"`
	// PerHour is what it costs now, Cost what it has cost so far; Hidden says that the offer shows neither.
	PerHour  money.Amount `json:"per_hour"`
	Cost     money.Amount `json:"cost"`
	Currency string       `json:"currency,omitempty"`
	Hidden   bool         `json:"hidden,omitempty"`
	// Ends is when it ends by its lease; nil is never. Extensions are how often whoever it is of may have it end later.
	Ends       *time.Time `json:"ends,omitempty"`
	Extensions int        `json:"extensions,omitempty"`
	// Level is its service level; "" is none.
	Level string `json:"level,omitempty"`
	// Turns are what whoever asks may do to it.
	Turns []Turn `json:"turns,omitempty"`
}

// Turn is what whoever asked for something may do to it without asking anybody.
type Turn string

// The turns. What is given back is taken away, with what is on it.
const (
	Stop     Turn = "stop"
	Begin    Turn = "start"
	GiveBack Turn = "give back"
)

// done says that a turn was done.
var done = map[Turn]string{Stop: "stopped it", Begin: "started it", GiveBack: "gave it back"}

// Have is what somebody has of a request; nil where nothing was built of it, or it is gone, or another's by now.
func (svc *Service) Have(ctx context.Context, id int64, now time.Time) (*Having, error) {
	v, err := svc.Request(ctx, id)
	if err != nil || v.Deployment == 0 || v.Stage == StageGone {
		return nil, err
	}
	d, err := svc.deployments.Deployment(ctx, v.Deployment)
	if err != nil || d.Stand.Empty() || !still(&v.Request, d.Owner) {
		return nil, err
	}
	h := d.Health()
	out := &Having{Status: h.Status, Word: h.Word, PerHour: h.Cost, Currency: v.Currency, Hidden: v.Hidden}
	out.Off = allOff(d)
	costs, err := svc.spending.CostOf(ctx, v.Deployment, v.Created, now)
	if err != nil {
		return nil, err
	}
	for _, c := range costs {
		out.Cost += c
	}
	lease, err := svc.promising.LeaseOf(ctx, v.Deployment)
	if err != nil {
		return nil, err
	}
	if lease != nil {
		out.Ends, out.Extensions = &lease.Until, lease.Times-lease.Extended
	}
	if out.Level, err = svc.promising.LevelOf(ctx, v.Deployment); err != nil {
		return nil, err
	}
	if out.Hidden {
		out.Cost, out.PerHour = 0, 0
	}
	if _, err := svc.mine(ctx, id); err == nil && svc.may(guard.TurnOwn, thing(&v.Request)) && d.State() != run.UnderWay {
		out.Turns = []Turn{Stop, GiveBack}
		if out.Off {
			out.Turns = []Turn{Begin, GiveBack}
		}
	}
	return out, nil
}

// still reports that what was built of a request is whose it was asked for: it may have been given away since.
func still(r *Request, now guard.Owner) bool {
	return now.Team == r.Owner.Team && now.Person == r.Owner.Person
}

// allOff reports that a deployment has instances, and none of them is on.
func allOff(d *deployments.Deployment) bool {
	if len(deployments.OffIn(d.Stand)) == 0 {
		return false
	}
	for i := range d.Stand.Plan.Resources {
		if r := &d.Stand.Plan.Resources[i]; r.Kind == kinds.Instance && !r.Off {
			return false
		}
	}
	return true
}

// turning compiles what a turn does.
func (svc *Service) turning(ctx context.Context, r *Request, t Turn) (deployments.Order, error) {
	switch t {
	case Stop, Begin:
		return svc.deployments.Powering(ctx, r.Deployment, "", t == Begin)
	case GiveBack:
		return svc.deployments.Retiring(ctx, r.Deployment)
	}
	return deployments.Order{}, fault.Invalidf("%q is not what can be done to it: there are %s, %s and %s", t, Stop, Begin, GiveBack)
}

// Turning is what a turn would do, before it is done.
func (svc *Service) Turning(ctx context.Context, id int64, t Turn) (deployments.Order, error) {
	r, err := svc.mine(ctx, id)
	if err != nil {
		return deployments.Order{}, err
	}
	if r.State != store.RequestBuilt {
		return deployments.Order{}, fault.Conflictf("request %d is %s: nothing was built of it", r.ID, r.State)
	}
	d, err := svc.deployments.Deployment(ctx, r.Deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	if !still(&r, d.Owner) {
		return deployments.Order{}, fault.As(fault.NotAllowed, fmt.Errorf("what was built of request %d was given to somebody else", r.ID))
	}
	o, err := svc.turning(ctx, &r, t)
	if err == nil && len(o.Plan.Steps) == 0 {
		err = fault.Conflictf("there is nothing to do: it is so already")
	}
	return o, err
}

// TurnIt stops, starts or gives back what was built of a request, for whoever asked for it: a plan like any other, and a run that they began.
// It returns the run.
func (svc *Service) TurnIt(ctx context.Context, id int64, t Turn) (runID int64, err error) {
	o, err := svc.Turning(ctx, id, t)
	if err != nil {
		return 0, err
	}
	r, err := svc.mine(ctx, id)
	if err != nil {
		return 0, err
	}
	err = svc.desk.Do(ctx, guard.TurnOwn, thing(&r), func() error {
		o.Bound = deployments.BoundByNothing // somebody does it, though by a right that a rule gives
		by := svc.runs.At(svc.desk.OnBehalf(guard.Actor{Name: svc.me(), Way: guard.Rule}))
		if runID, err = by.NewRun(ctx, o); err != nil {
			return err
		}
		if _, err := svc.change(ctx, r, r.State, svc.event("", fmt.Sprintf("%s, run %d", done[t], runID))); err != nil {
			svc.log.Warn("the thread of a request does not say what was done", "request", id, "err", err)
		}
		return svc.runs.Start(runID)
	})
	return runID, err
}

// Turned is how the run stands that somebody began with [Service.TurnIt] of what they have.
func (svc *Service) Turned(ctx context.Context, id, runID int64) (run.Status, error) {
	r, err := svc.mine(ctx, id)
	if err != nil {
		return "", err
	}
	x, err := svc.store.Run(ctx, runID)
	if err != nil || x.Deployment != r.Deployment {
		return "", fault.NotFoundf("run %d is none of request %d", runID, id)
	}
	return deployments.EndOf(x), nil
}
