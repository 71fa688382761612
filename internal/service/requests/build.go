package requests

import (
	"context"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// build makes what was approved, at the price that was agreed: at another, whoever asked is asked again.
func (svc *Service) build(ctx context.Context, r Request) (Request, error) {
	if made, err := svc.made(ctx, &r); err != nil || made != nil {
		if err != nil {
			return r, err
		}
		return svc.built(ctx, r, *made)
	}
	q, err := svc.quote(ctx, &r)
	if err != nil {
		return r, err
	}
	if q.Cannot != "" {
		return svc.refuse(ctx, r, byRule("capacity", StageRefused, "It cannot be had any more: "+q.Cannot))
	}
	if now := q.Draft().Plan.CostPerHour; now > r.PerHour {
		was := r.PerHour
		if err := agreed(&r, q); err != nil {
			return r, err
		}
		text := "It costs more by now, and is built when that is accepted."
		if !r.Hidden {
			text = fmt.Sprintf("It costs %.3f %s/h by now and not %.3f: it is built when that is accepted.", now, r.Currency, was)
		}
		return svc.change(ctx, r, store.RequestPriced, byRule("price", StagePriced, text))
	}
	by := svc.runs.At(svc.desk.OnBehalf(guard.Actor{Name: r.Person, Way: guard.Rule}))
	id, err := by.NewRun(ctx, deployments.Order{Plan: q.Draft().Plan, Template: q.Draft().Template.Origin(), For: r.Owner, Request: r.ID})
	if err != nil {
		refused, back := svc.refuse(ctx, r, byRule("", StageRefused, "It could not be begun: "+err.Error()))
		if back != nil {
			return r, err
		}
		return refused, err
	}
	made, err := svc.store.Run(ctx, id)
	if err != nil {
		return r, err
	}
	return svc.built(ctx, r, made)
}

// made is the run that was made of a request before that broke off; nil if none was.
func (svc *Service) made(ctx context.Context, r *Request) (*store.Run, error) {
	all, err := svc.store.Holds(ctx)
	if err != nil {
		return nil, err
	}
	for _, h := range all {
		if h.Request != r.ID || h.Deployment == 0 {
			continue
		}
		runs, err := svc.store.RunsOf(ctx, h.Deployment)
		if err != nil || len(runs) == 0 {
			return nil, err
		}
		return &runs[0], nil
	}
	return nil, nil
}

// built notes the run of a request, and sets a worker to it.
func (svc *Service) built(ctx context.Context, r Request, made store.Run) (Request, error) {
	r.Run, r.Deployment = made.ID, made.Deployment
	out, err := svc.change(ctx, r, store.RequestBuilt, byRule("", StageBuilding, fmt.Sprintf("run %d", made.ID)))
	if err != nil {
		return r, err
	}
	if made.State != run.Planned {
		return out, nil
	}
	if err := svc.promise(ctx, &out); err != nil {
		return out, err
	}
	return out, svc.runs.Start(made.ID)
}

// promise has what is built end as its offer says, and be kept up as the answers say, in the name of whoever offers it: whoever asked may have no right to
// do what is due for that.
func (svc *Service) promise(ctx context.Context, r *Request) error {
	o, err := svc.offers.Version(ctx, r.Offer, r.Number)
	if err != nil {
		return err
	}
	now := time.Now()
	if level := o.LevelOf(r.Answers); level != "" {
		if err := svc.promising.PromiseLevel(ctx, o.By, r.Deployment, level, now); err != nil {
			return err
		}
	}
	if o.Lease == nil {
		return nil
	}
	terms, err := o.Lease.Terms(now)
	if err != nil {
		return err
	}
	return svc.promising.Promise(ctx, o.By, promise.Promise{Deployment: r.Deployment, Kind: promise.Lease, Lease: terms}, now)
}

// gone reports that nothing stands of a request any more.
func (svc *Service) gone(ctx context.Context, r *Request) (bool, error) {
	if r.Deployment == 0 {
		return false, nil
	}
	runs, err := svc.store.RunsOf(ctx, r.Deployment)
	if err != nil || len(runs) == 0 {
		return true, err
	}
	return deployments.EndOf(runs[len(runs)-1]) == run.Retired, nil
}

// mendAfter is how long a request may stand between two stages that follow each other by themselves.
const mendAfter = 20 * time.Second

// Mend takes up requests that broke off between two stages, and gives back what is held for those that are over.
func (svc *Service) Mend(ctx context.Context, now time.Time) error {
	all, err := svc.store.Requests(ctx)
	if err != nil {
		return err
	}
	stuck := slices.DeleteFunc(all, func(r Request) bool { return now.Sub(r.Changed) < mendAfter })
	for _, r := range stuck { // first what is free again
		if r.State == store.RequestRefused || r.State == store.RequestWithdrawn {
			if err := svc.quotas.GiveBack(ctx, r.ID); err != nil {
				return err
			}
		}
	}
	for _, r := range slices.Backward(stuck) { // who asked first comes first
		if err := svc.takeUp(ctx, r); err != nil {
			svc.log.Warn("a request is not taken up", "request", r.ID, "err", err)
		}
	}
	return nil
}

// takeUp goes on with a request that broke off. One that waits for somebody holds what it needs: what was held for answers that were never kept
// is held after it was changed last.
func (svc *Service) takeUp(ctx context.Context, r Request) error {
	switch {
	case r.State == store.RequestApproved, r.State == store.RequestWaiting && r.Decision.Then == "":
		_, err := svc.proceed(ctx, r)
		return err
	case r.State == store.RequestWaiting, r.State == store.RequestPriced:
		held, err := svc.store.HoldOf(ctx, r.ID, 0)
		if err != nil || held == nil || !held.At.After(r.Changed) {
			return err
		}
		return svc.holdAnew(ctx, r.ID)
	}
	return nil
}
