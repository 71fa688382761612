package deployments

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/store"
)

// unrestored is the inverse of a run that took snapshots or restored them; false of any other. What disks held before they were restored is what is
// restored then; that snapshots were taken is taken back by dropping them.
func (svc *Service) unrestored(ctx context.Context, d *Deployment, r store.Run) (Order, error, bool) {
	p, err := svc.store.Plan(ctx, r.Plan)
	if err != nil {
		return Order{}, err, true
	}
	taken, restored := "", false
	for i := range p.Steps {
		restored = restored || p.Steps[i].Op == op.Restore
	}
	if restored {
		begun, err := svc.restoring(ctx, r.ID)
		if err != nil || !begun { // what the disks hold is what they held: it is taken back as any other
			return Order{}, err, err != nil
		}
	}
	for i := range p.Resources {
		if x := &p.Resources[i]; x.Kind == kinds.Snapshot && x.Change == plan.Build {
			taken = x.AsSnapshot().Set
		}
	}
	switch {
	case r.Purpose == "" || taken == "" && !restored:
		return Order{}, nil, false
	case !restored:
		return Order{}, fault.Refusedf("run %d took the snapshot %s: andamio snapshot drop %s %s takes it away", r.ID, taken, d.Name, taken), true
	case taken == "" || !change.Whole(d.Stand, taken):
		return Order{}, fault.Refusedf("nothing was kept of what run %d restored over, so there is no way back", r.ID), true
	}
	wanted, err := svc.Wanted(ctx, d.Runs)
	if err != nil {
		return Order{}, err, true
	}
	to := change.Restoring{Set: taken, Before: &change.Snapping{Set: change.SetName(d.Stand, "before-", time.Now())}}
	var back *plan.Plan
	if purpose := fmt.Sprintf("roll back run %d", r.ID); change.KeepsMemory(d.Stand, taken) {
		back, err = change.Recalled(d.Stand, to, purpose)
	} else {
		back, err = change.Restored(d.Stand, AtRest(wanted, d.Stand), to, purpose)
	}
	if err != nil {
		return Order{}, fault.Default(fault.Refused, err), true
	}
	return Order{Plan: back, Deployment: d.ID, Wanted: wanted, Template: d.Template}, svc.inside().Timed(ctx, back), true
}

// restoring reports that a run began to restore something.
func (svc *Service) restoring(ctx context.Context, runID int64) (bool, error) {
	s, err := svc.inside().Replay(ctx, runID)
	if err != nil {
		return false, err
	}
	for i := range s.Steps {
		if s.Steps[i].Op == op.Restore && !s.Steps[i].Started.IsZero() {
			return true, nil
		}
	}
	return false, nil
}
