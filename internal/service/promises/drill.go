package promises

import (
	"context"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/promise"
	"andamio/internal/service/deployments"
	"andamio/internal/service/snapshots"
)

// drillName is what the deployment is called in which restoring another is tried.
func drillName(deployment int64) string { return fmt.Sprintf("drill-%d", deployment) }

// drill raises the newest snapshot beside, with networks and addresses of its own, until all of it serves, and takes that away again. What is left of
// a drill that broke off goes first. A copy counts as proven when this was done.
func (svc *Service) drill(ctx context.Context, deployment int64) (string, error) {
	p, err := svc.promised(ctx, deployment, promise.Drilled)
	if err != nil {
		return "", err
	}
	set, err := svc.newest(ctx, deployment)
	if err != nil {
		return "", err
	}
	if err := svc.clear(ctx, deployment); err != nil {
		return "", fmt.Errorf("what is left of the last drill could not be taken away: %w", err)
	}
	began := time.Now()
	if err := svc.raise(ctx, deployment, set.Name); err != nil {
		return "", errors.Join(fmt.Errorf("%s could not be raised: %w", set.Name, err), svc.clear(context.WithoutCancel(ctx), deployment))
	}
	served := time.Now()
	if err := svc.proven(ctx, p, set.Name, served); err != nil {
		svc.log.Warn("which snapshot was raised is not noted", "deployment", deployment, "err", err)
	}
	note := fmt.Sprintf("%s served %s after it was begun", set.Name, promise.Span(served.Sub(began).Round(time.Second)))
	if err := svc.clear(ctx, deployment); err != nil {
		return "", fmt.Errorf("%s, and could not be taken away: %w", note, err)
	}
	return note, nil
}

// newest is the set of snapshots that was taken last, of those that are whole.
func (svc *Service) newest(ctx context.Context, deployment int64) (*snapshots.Set, error) {
	sets, err := svc.snapshots.Snapshots(ctx, deployment)
	if err != nil {
		return nil, err
	}
	for i := len(sets) - 1; i >= 0; i-- {
		if sets[i].Whole {
			return &sets[i], nil
		}
	}
	return nil, fault.Refusedf("there is no snapshot that could be raised")
}

// raise raises a set beside, for whom the deployment is.
func (svc *Service) raise(ctx context.Context, deployment int64, set string) error {
	d, err := svc.store.Deployment(ctx, deployment)
	if err != nil {
		return err
	}
	o, err := svc.snapshots.Trying(ctx, deployment, set, drillName(deployment))
	if err != nil {
		return err
	}
	o.For, o.Bound, o.BoundAs = d.Owner, deployments.BoundByWindows, deployment
	_, err = svc.done(ctx, o)
	return err
}

// clear takes away what stands of a drill.
func (svc *Service) clear(ctx context.Context, deployment int64) error {
	d, err := svc.deployments.Taken(ctx, drillName(deployment))
	if err != nil || d == nil {
		return err
	}
	o, err := svc.deployments.Retiring(ctx, d.ID)
	if err != nil {
		return err
	}
	o.Bound = deployments.BoundByNothing
	_, err = svc.done(ctx, o)
	return err
}

// proven notes which set was raised.
func (svc *Service) proven(ctx context.Context, was promise.Promise, set string, at time.Time) error {
	now := was
	terms := *was.Drilled
	terms.Raised, terms.At = set, at.UTC()
	now.Drilled, now.Since = &terms, at.UTC()
	return svc.store.SetPromise(ctx, now, &was)
}
