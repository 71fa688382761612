package app

import (
	"cmp"
	"context"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// Decide retries or skips a step of a run that failed; "" is all that failed. A step under way that waits until its site is
// asked again does not wait any longer. If nobody works on the run any more,
// somebody does from then on.
func (a *App) Decide(ctx context.Context, runID int64, step, verb string) error {
	return a.do(ctx, guard.DecideStep, cmp.Or(step, "all that failed"), func() error { return a.decide(ctx, runID, step, verb) }, aboutRun(runID), saying("%s in run %d", verb, runID))
}

func (a *App) decide(ctx context.Context, runID int64, step, verb string) error {
	if verb != run.Retry && verb != run.Skip {
		return fault.Invalidf("a step can be given %s or %s, not %q", run.Retry, run.Skip, verb)
	}
	r, err := a.latest(ctx, runID)
	if err != nil {
		return err
	}
	s, err := a.Replay(ctx, runID)
	if err != nil {
		return err
	}
	if step != "" && s.Step(step) != nil && s.Step(step).Status == run.UnderWay && verb == run.Retry && Alive(r) {
		return a.store.Decide(ctx, runID, store.Decision{Step: step, Verb: verb}) // its worker asks the site again at once
	}
	if step != "" && (s.Step(step) == nil || s.Step(step).Status != run.Failed) {
		return fault.Conflictf("step %q of run %d has not failed, so there is nothing to decide", step, runID)
	}
	n := 0
	for i := range s.Steps {
		st := &s.Steps[i]
		if st.Status == run.Failed && (step == "" || st.ID == step) {
			if err := a.store.Decide(ctx, runID, store.Decision{Step: st.ID, Verb: verb}); err != nil {
				return err
			}
			n++
		}
	}
	if n == 0 {
		return fault.Conflictf("no step of run %d has failed, so there is nothing to decide", runID)
	}
	return a.goOn(ctx, r)
}

// Resume goes on with a run that broke off, was cancelled, or failed; what failed is tried again.
func (a *App) Resume(ctx context.Context, runID int64) error {
	return a.do(ctx, guard.ResumeRun, theRun(runID), func() error { return a.resume(ctx, runID) }, aboutRun(runID))
}

func (a *App) resume(ctx context.Context, runID int64) error {
	r, err := a.latest(ctx, runID)
	if err != nil {
		return err
	}
	switch {
	case r.State == run.Standing:
		return fault.Conflictf("run %d has ended, and everything stands: there is nothing to go on with", runID)
	case r.State == run.UnderWay && Alive(r):
		return fault.Conflictf("run %d is under way; andamio watch %d shows it", runID, runID)
	case r.State == run.Failed:
		if s, err := a.Replay(ctx, runID); err != nil || s.Failures > 0 {
			if err != nil {
				return err
			}
			return a.decide(ctx, runID, "", run.Retry)
		}
	}
	return a.takeUp(ctx, r)
}

// Leave settles that what failed in a run stays as it is.
func (a *App) Leave(ctx context.Context, runID int64) error {
	return a.do(ctx, guard.LeaveRun, theRun(runID), func() error { return a.store.Leave(ctx, runID) }, aboutRun(runID))
}

// latest is a run after which no other of its deployment was begun: going on with an older one would undo what came
// after it.
func (a *App) latest(ctx context.Context, runID int64) (store.Run, error) {
	r, err := a.store.Run(ctx, runID)
	if err != nil {
		return r, err
	}
	runs, err := a.store.RunsOf(ctx, r.Deployment)
	if err != nil {
		return r, err
	}
	if last := runs[len(runs)-1]; last.ID != runID {
		return r, fault.Conflictf("run %d came after run %d on the same deployment: go on with that one", last.ID, runID)
	}
	return r, nil
}

// goOn sets a worker to a run if none works on it.
func (a *App) goOn(ctx context.Context, r store.Run) error {
	if r.State == run.UnderWay && Alive(r) {
		return nil // its worker hears of the decision
	}
	return a.takeUp(ctx, r)
}

// takeUpWithin is how long a new worker may take until it has the run.
const takeUpWithin = 10 * time.Second

// takeUp sets a worker to a run and waits until it has it: until then the run would be taken for one that nobody works on.
func (a *App) takeUp(ctx context.Context, r store.Run) error {
	if err := a.spawn(r.ID); err != nil || a.idle {
		return err
	}
	for limit := time.Now().Add(takeUpWithin); time.Now().Before(limit); {
		now, err := a.store.Run(ctx, r.ID)
		if err != nil || now.Epoch > r.Epoch {
			return err
		}
		select {
		case <-time.After(pollEvery / 5):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return fault.Unavailablef("no worker took run %d up within %s; andamio work %d in the foreground says why", r.ID, takeUpWithin, r.ID)
}
