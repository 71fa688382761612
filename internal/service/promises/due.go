package promises

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
)

// runWait bounds how long a run is waited for that was due, and looksAgain is how often it is looked at.
const (
	runWait    = 2 * time.Hour
	looksAgain = 250 * time.Millisecond
)

// done begins the run of an order and waits for its end: that is the proof.
func (svc *Service) done(ctx context.Context, o deployments.Order) (string, error) {
	id, err := svc.runs.Begin(ctx, o)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, runWait)
	defer cancel()
	for {
		r, err := svc.store.Run(ctx, id)
		switch state := deployments.EndOf(r); {
		case err != nil:
			return "", err
		case state == run.Standing || state == run.Retired:
			return fmt.Sprintf("run %d", id), nil
		case state == run.Failed || state == run.Stopped:
			return "", fault.Refusedf("run %d %s", id, state)
		}
		select {
		case <-ctx.Done():
			return "", fmt.Errorf("run %d goes on still: %w", id, ctx.Err())
		case <-time.After(looksAgain):
		}
	}
}

// over reports that nothing stands of a deployment any more: what was promised of it is dropped then.
func (svc *Service) over(ctx context.Context, deployment int64) (bool, error) {
	d, err := svc.deployments.Deployment(ctx, deployment)
	if err != nil || d.State() != run.Retired {
		return false, err
	}
	for _, kind := range promise.Kinds {
		if err := svc.store.DropPromise(ctx, deployment, kind, nil); err != nil && fault.CodeOf(err) != fault.NotFound {
			return true, err
		}
	}
	return true, nil
}

const nothingStands = "nothing stands of it any more, so nothing is promised"

// Due does what is due for a promise, and says in a few words what came of it.
func (svc *Service) Due(ctx context.Context, kind string, deployment int64, now time.Time) (string, error) {
	gone, err := svc.over(ctx, deployment)
	if err != nil || gone {
		return nothingStands, err
	}
	switch kind {
	case promise.DueSave:
		return svc.save(ctx, deployment, now)
	case promise.DueCopy:
		return svc.replicate(ctx, deployment, now)
	case promise.DueDrill:
		return svc.drill(ctx, deployment)
	case promise.DueOff, promise.DueOn:
		return svc.hours(ctx, deployment, kind == promise.DueOn, now)
	case promise.DueNotice:
		p, err := svc.promised(ctx, deployment, promise.Lease)
		if err != nil {
			return "", err
		}
		return "it ends " + p.Lease.Until.Format(time.RFC3339), nil
	case promise.DueLimit:
		return svc.limit(ctx, deployment)
	case promise.DueRecover:
		return svc.recover(ctx, deployment, now)
	case promise.DueDrop:
		return svc.dropEnded(ctx, deployment, now)
	case promise.DueAnnounced:
		return "what was said may be done for " + promise.Span(promise.AnnouncedFor), nil
	case promise.DueEnd:
		p, err := svc.promised(ctx, deployment, promise.Lease)
		if err != nil || p.Lease.Gone(now) {
			return "its grace is over too: it is taken away", err
		}
		return svc.power(ctx, deployment, false, all)
	case promise.DueGone:
		o, err := svc.deployments.Retiring(ctx, deployment)
		if err != nil {
			return "", err
		}
		o.Bound = deployments.BoundByBlackouts
		note, err := svc.done(ctx, o)
		if err == nil {
			_, err = svc.over(ctx, deployment)
		}
		return note, err
	}
	return "", fault.Invalidf("%q is nothing that is due for a promise", kind)
}
