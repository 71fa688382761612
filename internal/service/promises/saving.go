package promises

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/promise"
	"andamio/internal/service/deployments"
	"andamio/internal/service/snapshots"
)

// save takes a snapshot and drops the oldest of those taken by rule that are too many.
func (svc *Service) save(ctx context.Context, deployment int64, now time.Time) (string, error) {
	p, err := svc.promised(ctx, deployment, promise.Saved)
	if err != nil {
		return "", err
	}
	if taken, err := svc.taken(ctx, &p, now); err != nil || taken != "" {
		if err != nil {
			return "", err
		}
		return svc.thin(ctx, deployment, p.Saved.Keep, taken+" was taken before")
	}
	o, err := svc.snapshots.Taking(ctx, deployment, snapshots.TakeRequest{Prefix: snapshots.RulePrefix, Of: p.Saved.Of, Barrier: p.Saved.Barrier}, now)
	if err != nil {
		return "", err
	}
	o.Bound = deployments.BoundByWindows
	note, err := svc.done(ctx, o)
	if err != nil {
		return note, err
	}
	return svc.thin(ctx, deployment, p.Saved.Keep, note)
}

// taken is the set that was taken by rule since the promise was due last; "" if none was: who waited for it may have ended while it was taken.
func (svc *Service) taken(ctx context.Context, p *promise.Promise, now time.Time) (string, error) {
	due, err := p.Saved.Last(now)
	if err != nil || due.IsZero() {
		return "", err
	}
	sets, err := svc.snapshots.Snapshots(ctx, p.Deployment)
	for i := range sets {
		if s := &sets[i]; s.Whole && s.ByRule() && !s.Taken.Before(due) && !s.Taken.After(now) {
			return s.Name, err
		}
	}
	return "", err
}

// thin drops the oldest snapshots that were taken by rule, until so many are left.
func (svc *Service) thin(ctx context.Context, deployment int64, keep int, note string) (string, error) {
	sets, err := svc.snapshots.Snapshots(ctx, deployment)
	if err != nil {
		return note, err
	}
	sets = slices.DeleteFunc(sets, func(s snapshots.Set) bool { return !s.Whole || !s.ByRule() })
	for dropped := 0; len(sets)-dropped > keep; dropped++ {
		o, err := svc.snapshots.DroppingSnapshot(ctx, deployment, sets[dropped].Name)
		if err != nil {
			return note, err
		}
		o.Bound = deployments.BoundByWindows
		last, err := svc.done(ctx, o)
		if err != nil {
			return note, err
		}
		note = fmt.Sprintf("%s, and %s dropped %s", cmp.Or(note, "kept"), last, sets[dropped].Name)
	}
	return note, nil
}
