package deployments

import (
	"context"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// Latest is a run after which no other of its deployment was begun: going on with an older one would undo what came
// after it.
func (svc *Service) Latest(ctx context.Context, runID int64) (store.Run, error) {
	r, err := svc.store.Run(ctx, runID)
	if err != nil {
		return r, err
	}
	runs, err := svc.store.RunsOf(ctx, r.Deployment)
	if err != nil {
		return r, err
	}
	if last := runs[len(runs)-1]; last.ID != runID {
		return r, fault.Conflictf("run %d came after run %d on the same deployment: go on with that one", last.ID, runID)
	}
	return r, nil
}

// EndOf is how a run ended: one that took everything of a deployment away left nothing standing.
func EndOf(r store.Run) run.Status {
	if r.State == run.Standing && r.Wanted == 0 && r.Purpose != "" && r.Name != ByHand {
		return run.Retired
	}
	return r.State
}

// MaxBatch bounds how many events are read at once.
const MaxBatch = 4000

// Replay is a run's state from its whole journal.
func (svc *Service) Replay(ctx context.Context, runID int64) (*run.State, error) {
	if err := svc.desk.See(ctx, acting.Run(runID)); err != nil {
		return nil, err
	}
	return svc.replayed(ctx, runID, time.Time{})
}
