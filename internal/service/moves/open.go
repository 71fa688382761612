package moves

import (
	"context"
	"slices"

	"andamio/internal/core/fault"
	"andamio/internal/store"
)

// SettledBut checks that no run of a deployment goes on, and that no other move of it is open: until that is committed or
// gone back from, what stands is not what is wanted.
func (svc *Service) SettledBut(ctx context.Context, deployment, move int64) error {
	if err := svc.runs.Quiet(ctx, deployment); err != nil {
		return err
	}
	all, err := svc.store.Moves(ctx)
	if err != nil {
		return err
	}
	for _, x := range all {
		if x.Deployment != deployment || x.ID == move {
			continue
		}
		m, err := svc.readMove(ctx, x)
		if err != nil {
			return err
		}
		if m.Open() {
			return fault.Conflictf("move %d of this deployment, %s, is not over: andamio move commit %d or andamio move back %d ends it", m.ID, m.Name, m.ID, m.ID)
		}
	}
	return nil
}

// NoneBetween checks that no move goes on between two sites.
func (svc *Service) NoneBetween(ctx context.Context, x, y string) error {
	all, err := svc.inside().Moves(ctx)
	if err != nil {
		return err
	}
	for _, m := range all {
		if m.Open() && m.Between(x, y) {
			return fault.Conflictf("move %d is between the two and not over: commit it or go back first", m.ID)
		}
	}
	return nil
}

// NoMove checks that a run belongs to no move: one is gone back from, and moved again once it is over.
func (svc *Service) NoMove(ctx context.Context, r store.Run) error {
	all, err := svc.store.Moves(ctx)
	if err != nil {
		return err
	}
	for _, x := range all {
		if !slices.ContainsFunc(x.Runs, func(y store.MoveRun) bool { return y.Run == r.ID }) {
			continue
		}
		m, err := svc.readMove(ctx, x)
		if err != nil {
			return err
		}
		if m.Open() {
			return fault.Conflictf("run %d belongs to move %d: andamio move back %d goes back from it", r.ID, m.ID, m.ID)
		}
		return fault.Conflictf("run %d ended move %d: what was left behind is gone. Move it again, as any other", r.ID, m.ID)
	}
	return nil
}
