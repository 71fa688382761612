package promises

import (
	"context"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// limiting is by how much a promise bounds volumes; nil bounds none.
func limiting(t *promise.LimitedTerms) change.Limiting {
	if t == nil {
		return change.Limiting{}
	}
	return change.Limiting{PerSecond: t.PerSecond, MiBPerSecond: t.MiBPerSecond}
}

// watchLimits has be due that volumes are bounded which are not: those that were built since.
func (svc *Service) watchLimits(ctx context.Context, was *promise.Promise, now time.Time) error {
	d, err := svc.At(svc.desk.Inside()).deployments.Deployment(ctx, was.Deployment)
	if fault.CodeOf(err) == fault.NotFound || err == nil && d.State() != run.Standing {
		return nil
	}
	if err != nil {
		return fmt.Errorf("deployment %d: %w", was.Deployment, err)
	}
	then, terms := *was, *was.Limited
	if !terms.Look(len(limiting(&terms).Unlimited(d.Stand)), now) {
		return nil
	}
	then.Limited, then.Since = &terms, now.UTC()
	if err := svc.store.SetPromise(ctx, then, was); err != nil && !errors.Is(err, store.ErrTaken) {
		return err
	}
	return nil
}

// limit bounds the volumes of a deployment that are not.
func (svc *Service) limit(ctx context.Context, deployment int64) (string, error) {
	p, err := svc.promised(ctx, deployment, promise.Limited)
	if err != nil {
		return "", err
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, deployment)
	if err != nil {
		return "", err
	}
	with := limiting(p.Limited)
	all := with.Unlimited(d.Stand)
	if len(all) == 0 {
		return "all are bounded", nil
	}
	out, err := change.Limit(d.Stand, with, "bound "+printable.Count(len(all), "volume"))
	if err != nil {
		return "", err
	}
	o := deployments.Order{Plan: out, Deployment: d.ID, Wanted: wanted, Template: d.Template, Bound: deployments.BoundByBlackouts}
	if err := svc.deployments.Timed(ctx, o.Plan); err != nil {
		return "", err
	}
	return svc.done(ctx, o)
}

// bounds adds to a plan that gives or takes a service level the steps that bound volumes as is promised then, or bound them no more. What was promised by
// itself stays.
func (svc *Service) bounds(ctx context.Context, d *deployments.Deployment, p *plan.Plan, promised *plan.Promised) error {
	var now *promise.LimitedTerms
	for i := range promised.Promises {
		if t := promised.Promises[i].Limited; t != nil {
			now = t
		}
	}
	was, err := svc.promised(ctx, d.ID, promise.Limited)
	if err != nil && fault.CodeOf(err) != fault.NotFound {
		return err
	}
	if now == nil && err == nil && was.Level == "" {
		return nil
	}
	limiting(now).Into(d.Stand, p)
	return plan.Reindexed(p).Arrange()
}
