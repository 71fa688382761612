package app

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/health"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// Deployment is what runs left standing.
type Deployment struct {
	store.Deployment
	// Runs are its runs, the oldest first.
	Runs  []store.Run
	Stand change.Standing
}

// Last is the last run.
func (d *Deployment) Last() store.Run { return d.Runs[len(d.Runs)-1] }

// Deployments lists all deployments with what stands of them, the newest first.
func (a *App) Deployments(ctx context.Context) ([]Deployment, error) {
	all, err := a.store.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	var out []Deployment
	for _, d := range all {
		x, err := a.deployment(ctx, d)
		if err != nil {
			return nil, err
		}
		if len(x.Runs) > 0 {
			out = append(out, *x)
		}
	}
	return out, nil
}

// Deployment returns one with what stands of it.
func (a *App) Deployment(ctx context.Context, id int64) (*Deployment, error) {
	d, err := a.store.Deployment(ctx, id)
	if err != nil {
		return nil, err
	}
	return a.deployment(ctx, d)
}

func (a *App) deployment(ctx context.Context, d store.Deployment) (*Deployment, error) {
	out := &Deployment{Deployment: d}
	var err error
	if out.Runs, err = a.store.RunsOf(ctx, d.ID); err != nil {
		return nil, err
	}
	out.Stand, err = a.fold(ctx, out.Runs)
	return out, err
}

// Standing is what stands of a deployment, by the journals of its runs.
func (a *App) Standing(ctx context.Context, deployment int64) (change.Standing, error) {
	runs, err := a.store.RunsOf(ctx, deployment)
	if err != nil {
		return change.Standing{}, err
	}
	return a.fold(ctx, runs)
}

// fold works out what runs left standing, one after another.
func (a *App) fold(ctx context.Context, runs []store.Run) (change.Standing, error) {
	key := foldKey(runs)
	if kept, ok := a.folds.get(key); ok {
		return kept, nil
	}
	out, done := a.folds.longest(runs)
	out, err := a.foldOn(ctx, out, runs[done:])
	if err == nil {
		a.folds.keep(key, out)
	}
	return out, err
}

// foldOn works out what runs left standing, over what stood before them; a plan of nil stands for nothing.
func (a *App) foldOn(ctx context.Context, out change.Standing, runs []store.Run) (change.Standing, error) {
	for _, r := range runs {
		if r.Void {
			continue
		}
		s, err := a.Replay(ctx, r.ID)
		if err != nil {
			return out, err
		}
		if out.Plan == nil {
			out = change.Nothing(s.Plan)
		}
		if out, err = change.After(out, s); err != nil {
			return out, fmt.Errorf("run %d: %w", r.ID, err)
		}
	}
	return out, nil
}

// wanted is the whole design that the last of some runs led to; nil if that was nothing.
func (a *App) wanted(ctx context.Context, runs []store.Run) (*plan.Plan, error) {
	for i := len(runs) - 1; i >= 0; i-- {
		if runs[i].Void {
			continue
		}
		if runs[i].Wanted == 0 {
			return nil, nil
		}
		return a.store.Plan(ctx, runs[i].Wanted)
	}
	return nil, nil
}

// designOf is a deployment with the whole design that it was led to last. One of which nothing is wanted is an error.
func (a *App) designOf(ctx context.Context, deployment int64) (*Deployment, *plan.Plan, error) {
	d, err := a.Deployment(ctx, deployment)
	if err != nil {
		return nil, nil, err
	}
	wanted, err := a.wanted(ctx, d.Runs)
	if err == nil && wanted == nil {
		err = fault.NotFoundf("nothing stands of deployment %d", deployment)
	}
	return d, wanted, err
}

// Changed compiles the order that leads a deployment to a design. An order without steps says that nothing is to be done.
func (a *App) Changed(ctx context.Context, deployment int64, to *plan.Plan, purpose string) (Order, error) {
	d, err := a.Deployment(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	return a.order(ctx, d, atRest(to, d.Stand), to, purpose)
}

// offIn are the instances of a deployment that are switched off.
func offIn(s change.Standing) []string {
	var out []string
	for i := range s.Plan.Resources {
		if r := &s.Plan.Resources[i]; r.Kind == kinds.Instance && r.Off {
			out = append(out, r.ID)
		}
	}
	return out
}

// atRest is a design in which what was stopped stays so: only starting it switches it on.
func atRest(p *plan.Plan, s change.Standing) *plan.Plan {
	off := offIn(s)
	if len(off) == 0 {
		return p
	}
	return change.Rest(p, func(r *plan.Resource) bool { return r.Off || slices.Contains(off, r.ID) })
}

// order compiles the change from what stands to a design; wanted is that design whole.
func (a *App) order(ctx context.Context, d *Deployment, to, wanted *plan.Plan, purpose string) (Order, error) {
	if err := a.settled(ctx, d.ID); err != nil {
		return Order{}, err
	}
	p, err := change.Compile(d.Stand, to, purpose)
	if err != nil {
		return Order{}, fault.Default(fault.Refused, err)
	}
	if err := a.Timed(ctx, p); err != nil {
		return Order{}, err
	}
	return Order{Plan: p, Deployment: d.ID, Wanted: wanted, Template: d.Template}, nil
}

// Retiring compiles the order that takes everything of a deployment away.
func (a *App) Retiring(ctx context.Context, deployment int64) (Order, error) {
	d, err := a.Deployment(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	if last := d.Last(); d.Stand.Empty() && d.State() != run.Retired {
		return Order{}, fault.Conflictf("everything of %s was taken away, and run %d has not looked at the sites to its end: andamio resume %d does", d.Name, last.ID, last.ID)
	}
	if d.Stand.Empty() {
		return Order{}, fault.NotFoundf("nothing stands of deployment %d", deployment)
	}
	return a.order(ctx, d, change.Nothing(d.Stand.Plan).Plan, nil, "retire "+d.Name)
}

// RollingBack compiles the inverse of a run: the order that leads back to what stood before it.
func (a *App) RollingBack(ctx context.Context, runID int64) (Order, error) {
	r, err := a.latest(ctx, runID)
	if err != nil {
		return Order{}, err
	}
	if err := a.noMove(ctx, r); err != nil {
		return Order{}, err
	}
	d, err := a.Deployment(ctx, r.Deployment)
	if err != nil {
		return Order{}, err
	}
	earlier := d.Runs[:len(d.Runs)-1]
	before, err := a.fold(ctx, earlier)
	if err != nil {
		return Order{}, err
	}
	if len(earlier) == 0 {
		before = change.Nothing(d.Stand.Plan)
	}
	wanted, err := a.wanted(ctx, earlier)
	if err != nil {
		return Order{}, err
	}
	o, err := a.order(ctx, d, before.Plan, wanted, fmt.Sprintf("roll back run %d", runID))
	if err == nil && len(o.Plan.Steps) == 0 {
		err = fault.Conflictf("run %d changed nothing, so there is nothing to roll back", runID)
	}
	return o, err
}

// Powering compiles the order that switches the instances of a tier off, or on again: those of a service, of a node, or
// one alone by its name; "" is all.
func (a *App) Powering(ctx context.Context, deployment int64, tier string, on bool) (Order, error) {
	d, wanted, err := a.designOf(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	found := false
	to := change.Rest(wanted, func(r *plan.Resource) bool {
		if tier == "" || r.Service == tier || r.Node == tier || r.ID == tier {
			found = true
			return !on
		}
		now := d.Stand.Plan.Resource(r.ID)
		return now != nil && now.Off
	})
	if !found {
		return Order{}, fault.NotFoundf("deployment %d has no instance of a tier %q; there are %s", deployment, tier, strings.Join(tiers(wanted), ", "))
	}
	verb := map[bool]string{true: "start", false: "stop"}[on]
	return a.order(ctx, d, to, wanted, strings.TrimSpace(verb+" "+tier))
}

// tiers are the services and nodes of a plan's instances.
func tiers(p *plan.Plan) []string {
	var out []string
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance {
			out = append(out, r.Service, r.Node)
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(s string) bool { return s == "" })
}

// CostPerHour is what a deployment costs now: what is switched off costs what that costs.
func (d *Deployment) CostPerHour() money.Amount {
	var sum money.Amount
	for i := range d.Stand.Plan.Resources {
		sum += d.Stand.Plan.Resources[i].Costs()
	}
	return sum
}

// Health is how a deployment is by what its runs left, without asking anybody.
func (d *Deployment) Health() health.Deployment {
	t := health.Read(run.Stood(d.Stand.Plan, d.Stand.Unsure), d.State() == run.UnderWay).All
	return d.HealthBy(&t)
}

// HealthBy is how a deployment is by a tally of it.
func (d *Deployment) HealthBy(t *health.Tally) health.Deployment {
	out := health.Deployment{ID: d.ID, Name: d.Name, Worst: t.Worst, Cost: d.CostPerHour(), Currency: d.Stand.Plan.Currency}
	out.Status, out.Word = health.Whole(d.State(), t)
	return out
}

// State is how a deployment is, by its last run and what stands.
func (d *Deployment) State() run.Status {
	last := d.Last()
	switch {
	case last.State == run.UnderWay || last.State == run.Planned:
		return run.UnderWay
	case d.Stand.Empty() && (last.State == run.Standing || last.Wanted != 0):
		return run.Retired // the sites were looked at, or nothing was begun
	case last.State == run.Failed && last.Left:
		return run.Stopped
	}
	return last.State
}

// Since is when the first run of a deployment began.
func (d *Deployment) Since() time.Time { return d.Runs[0].Created }
