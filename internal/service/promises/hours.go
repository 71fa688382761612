package promises

import (
	"context"
	"time"

	"andamio/internal/core/promise"
	"andamio/internal/core/rehearse"
	"andamio/internal/service/deployments"
)

// leadLeast is how long before machines are to serve they are switched on at least: what is promised is that it serves then.
const leadLeast = time.Minute

// lead works out of off hours how long before their end machines are switched on: by what starting them took so far.
func (svc *Service) lead(ctx context.Context, p *promise.Promise) error {
	if p.Hours == nil {
		return nil
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, p.Deployment)
	if err != nil {
		return err
	}
	start, err := deployments.Rising(d, wanted)
	if err != nil {
		return err
	}
	h, err := svc.deployments.History(ctx)
	p.Hours.Lead = max(rehearse.Ahead(start, h).Round(time.Second), leadLeast)
	return err
}

// hours switches all of a deployment off or on, as it is to be now: where both were due while nobody looked, the later one counts. What has ended is
// not switched on.
func (svc *Service) hours(ctx context.Context, deployment int64, on bool, now time.Time) (string, error) {
	p, err := svc.promised(ctx, deployment, promise.Hours)
	if err != nil {
		return "", err
	}
	off, err := p.Hours.IsOff(now)
	switch {
	case err != nil:
		return "", err
	case off == on:
		return map[bool]string{true: "it is off again by now", false: "it is on again by now"}[on], nil
	}
	if lease, err := svc.promised(ctx, deployment, promise.Lease); on && err == nil && lease.Lease.Over(now) {
		return "its lease is over", nil
	}
	note, err := svc.power(ctx, deployment, on)
	if err != nil || !on {
		return note, err
	}
	return note, svc.learn(ctx, deployment)
}

// power switches all of a deployment off or on. What is so already is kept so.
func (svc *Service) power(ctx context.Context, deployment int64, on bool) (string, error) {
	o, err := svc.deployments.Powering(ctx, deployment, "", on)
	if err != nil {
		return "", err
	}
	if len(o.Plan.Steps) == 0 {
		return "it was so already", nil
	}
	o.Bound = deployments.BoundByBlackouts
	if on { // nobody is served by what stays off
		o.Bound = deployments.BoundByNothing
	}
	return svc.done(ctx, o)
}

// learn has the next start begin as early as the last ones say.
func (svc *Service) learn(ctx context.Context, deployment int64) error {
	was, err := svc.promised(ctx, deployment, promise.Hours)
	if err != nil {
		return nil // it is no more
	}
	now := was
	terms := *was.Hours
	now.Hours = &terms
	if err := svc.lead(ctx, &now); err != nil || terms.Lead == was.Hours.Lead {
		return err
	}
	now.Since = time.Now().UTC()
	if err := svc.store.SetPromise(ctx, now, &was); err != nil {
		svc.log.Warn("how long starting takes was not learned", "deployment", deployment, "err", err)
	}
	return nil
}
