package runs

import (
	"context"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
)

// Release gives back the addresses and VLANs that a run has, and says how many. A run under way keeps them.
func (svc *Service) Release(ctx context.Context, id int64) (out int64, err error) {
	err = svc.desk.Do(ctx, guard.GiveBack, acting.Run(id), func() (err error) {
		out, err = svc.release(ctx, id)
		return err
	})
	return out, err
}

func (svc *Service) release(ctx context.Context, id int64) (int64, error) {
	r, err := svc.store.Run(ctx, id)
	if err != nil {
		return 0, err
	}
	if r.State == run.UnderWay || r.State == run.Standing {
		return 0, fault.Conflictf("run %d is %s: what it has is in use", id, r.State)
	}
	return svc.store.Release(ctx, id)
}
