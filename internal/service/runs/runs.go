package runs

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/core/trail"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/store"
)

// Begin keeps a plan, makes a run of it and sets a worker to it. The run goes on when the caller ends.
func (svc *Service) Begin(ctx context.Context, o deployments.Order) (int64, error) {
	id, err := svc.NewRun(ctx, o)
	if err != nil {
		return 0, err
	}
	return id, svc.Start(id)
}

// NewRun keeps a plan and makes a run of it that nobody works on yet. What is sure to be missing is an error here,
// before anything is built.
func (svc *Service) NewRun(ctx context.Context, o deployments.Order) (int64, error) {
	act := actOf(o)
	if err := svc.desk.Allow(ctx, act, thing(o)); err != nil {
		return 0, err
	}
	if o.Plan.Promised != nil {
		if err := svc.desk.Allow(ctx, guard.SetPromise, thing(o)); err != nil {
			return 0, err
		}
	}
	if err := svc.bounded(ctx, o, time.Now()); err != nil {
		return 0, err
	}
	if err := svc.ready(ctx, o); err != nil {
		return 0, err
	}
	if err := svc.deployments.KeepSource(ctx, cmp.Or(o.Wanted, o.Plan)); err != nil {
		return 0, err
	}
	r := store.Run{Deployment: o.Deployment, Purpose: o.Plan.Purpose, Steps: len(o.Plan.Steps)}
	limits, err := json.Marshal(o.Limits)
	if err != nil {
		return 0, err
	}
	r.Limits = string(limits)
	if r.Plan, err = svc.store.SavePlan(ctx, o.Plan); err != nil {
		return 0, err
	}
	if r.Wanted, err = svc.saveWanted(ctx, o, r.Plan); err != nil {
		return 0, err
	}
	if r.Deployment == 0 {
		if r.Deployment, err = svc.store.CreateDeployment(ctx, o.Plan.Name, cmp.Or(o.Template, o.Plan.Template), o.For); err != nil {
			return 0, err
		}
	}
	id, err := svc.store.CreateRun(ctx, r)
	if err != nil {
		return 0, err
	}
	if o.Deployment == 0 {
		if err := svc.first(ctx, o.Plan.Name, r.Deployment); err != nil {
			return 0, errors.Join(err, svc.store.Forget(ctx, id))
		}
	}
	if err := svc.store.Reserve(ctx, id, sites.ReservationsOf(o.Plan)); err != nil {
		return 0, errors.Join(err, svc.store.Forget(ctx, id))
	}
	if err := svc.takeQuota(ctx, r.Deployment, o); err != nil {
		return 0, errors.Join(err, svc.store.Forget(ctx, id), svc.settleQuota(context.WithoutCancel(ctx), r.Deployment))
	}
	if err := svc.noteRun(ctx, act, id, r, o); err != nil {
		return 0, errors.Join(err, svc.store.Forget(ctx, id), svc.settleQuota(context.WithoutCancel(ctx), r.Deployment))
	}
	if o.Plan.Promised == nil {
		return id, nil
	}
	if err := svc.promises.KeepPromised(ctx, r.Deployment, o.Plan.Promised, svc.desk.Actor, time.Now()); err != nil {
		return 0, errors.Join(err, svc.store.Forget(ctx, id), svc.settleQuota(context.WithoutCancel(ctx), r.Deployment))
	}
	return id, nil
}

// takeQuota takes of quotas what an order may need.
func (svc *Service) takeQuota(ctx context.Context, deployment int64, o deployments.Order) error {
	now := time.Now()
	if o.Request != 0 {
		if err := svc.quotas.Built(ctx, o.Request, deployment, now); err != nil {
			return err
		}
	}
	wanted := o.Wanted
	if wanted == nil && o.Plan.Purpose == "" {
		wanted = o.Plan
	}
	if wanted == nil { // what is taken away needs nothing
		return nil
	}
	return svc.quotas.Before(ctx, deployment, wanted, now)
}

// settleQuota has a deployment take of quotas what stands of it.
func (svc *Service) settleQuota(ctx context.Context, deployment int64) error {
	stands, err := svc.deployments.Standing(ctx, deployment)
	if err != nil {
		return err
	}
	return svc.quotas.After(ctx, deployment, stands, time.Now())
}

// actOf is what making a run of an order is.
func actOf(o deployments.Order) guard.Act {
	if o.Plan.Purpose == "" {
		return guard.BeginRun
	}
	return guard.ChangeRun
}

// MadeFor says what a plan is for, and of which deployment.
func MadeFor(p *plan.Plan) string {
	switch {
	case p.Purpose == "":
		return "raise " + p.Name
	case strings.Contains(p.Purpose, p.Name):
		return p.Purpose
	}
	return p.Purpose + " of " + p.Name
}

// saying says in the log what an order is for, and why.
func saying(o deployments.Order) acting.Detail {
	if o.Why == "" {
		return acting.Saying("%s", MadeFor(o.Plan))
	}
	return acting.Saying("%s (%s)", MadeFor(o.Plan), o.Why)
}

// noteRun notes who has a run made, and of which plan.
func (svc *Service) noteRun(ctx context.Context, act guard.Act, id int64, r store.Run, o deployments.Order) error {
	digest, err := svc.store.PlanDigest(ctx, r.Plan)
	if err != nil {
		return err
	}
	return svc.desk.Note(ctx, act, acting.Run(id), saying(o), func(e *trail.Entry) { e.Plan = digest })
}

// first checks that no other deployment was made of the same name meanwhile, by somebody who came before.
func (svc *Service) first(ctx context.Context, name string, id int64) error {
	all, err := svc.store.Deployments(ctx)
	if err != nil {
		return err
	}
	for _, d := range all {
		if d.Name != name || d.ID >= id {
			continue
		}
		x, err := svc.deployments.Whole(ctx, d)
		if err != nil {
			return err
		}
		if len(x.Runs) > 0 && x.State() != run.Retired {
			return &deployments.NameTaken{Name: name, Deployment: d.ID}
		}
	}
	return nil
}

// saveWanted keeps the whole design that a run leads to, and returns its number; 0 where nothing is wanted.
func (svc *Service) saveWanted(ctx context.Context, o deployments.Order, planID int64) (int64, error) {
	switch {
	case o.Wanted == nil && o.Plan.Purpose == "":
		return planID, nil
	case o.Wanted == nil || len(o.Wanted.Resources) == 0:
		return 0, nil
	}
	return svc.store.SavePlan(ctx, o.Wanted)
}

// ready checks that a plan can be run: its secrets and sites are there, and nobody else changes its deployment.
func (svc *Service) ready(ctx context.Context, o deployments.Order) error {
	if _, err := svc.workspace.Secrets(o.Plan.Secrets); err != nil {
		return err
	}
	sites, err := svc.sites.Sites()
	if err != nil {
		return err
	}
	for _, s := range o.Plan.Sites {
		if sites[s.Name] == nil {
			return fault.Refusedf("the plan needs the site %s, which this workspace is not connected to", s.Name)
		}
	}
	if err := svc.namesFree(ctx, o); err != nil {
		return err
	}
	if o.Deployment == 0 {
		if err := deployments.CheckFresh(o.Plan); err != nil {
			return err
		}
		return svc.deployments.NameFree(ctx, o.Plan.Name)
	}
	return svc.moving.SettledBut(ctx, o.Deployment, o.Move)
}

// Quiet checks that no run of a deployment goes on.
func (svc *Service) Quiet(ctx context.Context, deployment int64) error {
	runs, err := svc.store.RunsOf(ctx, deployment)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.State == run.UnderWay && Alive(r) {
			return fault.Conflictf("run %d of this deployment is under way; andamio watch %d shows it", r.ID, r.ID)
		}
	}
	return nil
}

// Cancel asks a run to stop; its worker does so within a second, and leaves what stands as it is.
func (svc *Service) Cancel(ctx context.Context, runID int64) error {
	return svc.desk.Do(ctx, guard.CancelRun, acting.Run(runID), func() error { return svc.store.Cancel(ctx, runID) })
}

// thing is what an order changes, as far as it is asked who may.
func thing(o deployments.Order) guard.Thing {
	return guard.Thing{Name: o.Plan.Name, Deployment: o.Deployment, Team: o.For.Team, Person: o.For.Person, Stage: o.For.Stage, Sites: o.Plan.SiteNames()}
}
