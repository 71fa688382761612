package deployments

import (
	"context"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/health"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// Deployment is what runs left standing.
type Deployment struct {
	store.Deployment
	// Runs are its runs, the oldest first.
	Runs  []store.Run     `json:"runs,omitempty"`
	Stand change.Standing `json:"stand"`
}

// Last is the last run.
func (d *Deployment) Last() store.Run { return d.Runs[len(d.Runs)-1] }

// Deployments lists all deployments with what stands of them, the newest first.
func (svc *Service) Deployments(ctx context.Context) ([]Deployment, error) {
	all, err := svc.store.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	if all, err = acting.Seen(ctx, svc.desk, all, func(d store.Deployment) guard.Thing { return guard.Thing{Name: d.Name, Deployment: d.ID} }); err != nil {
		return nil, err
	}
	var out []Deployment
	for _, d := range all {
		x, err := svc.Whole(ctx, d)
		if err != nil {
			return nil, err
		}
		if len(x.Runs) > 0 {
			out = append(out, *x)
		}
	}
	return out, nil
}

// NothingAt checks that nothing of any deployment stands at a site.
func (svc *Service) NothingAt(ctx context.Context, site string) error {
	all, err := svc.inside().Deployments(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		d := &all[i]
		for k := range d.Stand.Plan.Resources {
			if r := &d.Stand.Plan.Resources[k]; r.Site == site {
				return fault.Conflictf("%s of deployment %d (%s) stands at %s: retire it before the site is removed, or nothing could take it away", r.ID, d.ID, d.Name, site)
			}
		}
	}
	return nil
}

// Deployment returns one with what stands of it.
func (svc *Service) Deployment(ctx context.Context, id int64) (*Deployment, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: id}); err != nil {
		return nil, err
	}
	d, err := svc.store.Deployment(ctx, id)
	if err != nil {
		return nil, err
	}
	return svc.Whole(ctx, d)
}

// Whole is a deployment with its runs and what stands of it.
func (svc *Service) Whole(ctx context.Context, d store.Deployment) (*Deployment, error) {
	out := &Deployment{Deployment: d}
	var err error
	if out.Runs, err = svc.store.RunsOf(ctx, d.ID); err != nil {
		return nil, err
	}
	out.Stand, err = svc.Fold(ctx, out.Runs)
	return out, err
}

// Wanted is the whole design that the last of some runs led to; nil if that was nothing.
func (svc *Service) Wanted(ctx context.Context, runs []store.Run) (*plan.Plan, error) {
	for i := len(runs) - 1; i >= 0; i-- {
		if runs[i].Void {
			continue
		}
		if runs[i].Wanted == 0 {
			return nil, nil
		}
		return svc.store.Plan(ctx, runs[i].Wanted)
	}
	return nil, nil
}

// DesignOf is a deployment with the whole design that it was led to last. One of which nothing is wanted is an error.
func (svc *Service) DesignOf(ctx context.Context, deployment int64) (*Deployment, *plan.Plan, error) {
	d, err := svc.inside().Deployment(ctx, deployment)
	if err != nil {
		return nil, nil, err
	}
	wanted, err := svc.Wanted(ctx, d.Runs)
	if err == nil && wanted == nil {
		err = fault.NotFoundf("nothing stands of deployment %d", deployment)
	}
	return d, wanted, err
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

// ByHand is the name of the deployment to which runs belong that handle what belongs to none.
const ByHand = "by-hand"
