package promises

import (
	"context"
	"errors"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/promise"
	"andamio/internal/core/window"
	"andamio/internal/store"
)

// Guards says what is promised of a deployment that holds what takes service away from it by itself: guarded hours, or that it is said before, which it is by
// this, once. What was promised for a time of its own was said then.
func (svc *Service) Guards(ctx context.Context, deployment int64, timed bool, now time.Time) (*window.Held, error) {
	was, err := svc.promised(ctx, deployment, promise.Guarded)
	if fault.CodeOf(err) == fault.NotFound {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	d, err := svc.store.Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	until, err := was.Guarded.Until(now)
	if err != nil || !until.IsZero() {
		return &window.Held{Span: d.Name, Guarded: true, Until: until}, err
	}
	if timed || was.Guarded.Said(now) {
		return nil, nil
	}
	at := was.Guarded.Announced
	if !at.After(now) { // nothing was said yet, or too long ago
		if at, err = svc.announce(ctx, was, now); err != nil {
			return nil, err
		}
	}
	return &window.Held{Span: d.Name, Announced: true, Until: at}, nil
}

// announce has be due that service is taken away by itself, and says from when on it may.
func (svc *Service) announce(ctx context.Context, was promise.Promise, now time.Time) (time.Time, error) {
	then, terms := was, *was.Guarded
	if err := terms.Announce(now); err != nil {
		return time.Time{}, err
	}
	then.Guarded, then.Since = &terms, now.UTC()
	err := svc.store.SetPromise(ctx, then, &was)
	if errors.Is(err, store.ErrTaken) {
		return time.Time{}, fault.Conflictf("what is promised of it was changed meanwhile: it is tried again")
	}
	return terms.Announced, err
}
