package deployments

import (
	"context"
	"sync"

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
	r, err := svc.store.Run(ctx, runID)
	if err != nil {
		return nil, err
	}
	return svc.cache.replays.of(r).caughtUp(ctx, svc.store)
}

// replays keep runs as far as their journals were read: many look at one that goes on, again and again, and its journal is long.
type replays struct {
	mu   sync.Mutex
	kept map[replayKey]*replay
}

// replayKey names a run with the plan that it carries out.
type replayKey struct{ run, plan int64 }

// replay is a run as far as its journal was read.
type replay struct {
	key   replayKey
	mu    sync.Mutex
	state *run.State
}

// mostReplays bounds what is kept; beyond that all is forgotten.
const mostReplays = 16

func (c *replays) of(r store.Run) *replay {
	c.mu.Lock()
	defer c.mu.Unlock()
	key := replayKey{r.ID, r.Plan}
	if known := c.kept[key]; known != nil {
		return known
	}
	if c.kept == nil || len(c.kept) >= mostReplays {
		c.kept = map[replayKey]*replay{}
	}
	c.kept[key] = &replay{key: key}
	return c.kept[key]
}

// caughtUp is the run by its whole journal, of which only what is new is read. It is whoever asks for it's own.
func (p *replay) caughtUp(ctx context.Context, s Store) (*run.State, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.state == nil {
		of, err := s.Plan(ctx, p.key.plan)
		if err != nil {
			return nil, err
		}
		p.state = run.New(of).Clone() // whoever else has the plan may arrange it anew
	}
	for {
		events, err := s.Events(ctx, p.key.run, p.state.LastSeq, MaxBatch)
		if err != nil {
			return nil, err
		}
		for _, e := range events {
			p.state.Apply(e)
		}
		if len(events) < MaxBatch {
			return p.state.Clone(), nil
		}
	}
}
