package runs

import (
	"cmp"
	"context"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// Decide retries or skips a step of a run that failed; "" is all that failed. A step under way that waits until its site is
// asked again does not wait any longer. If nobody works on the run any more,
// somebody does from then on.
func (svc *Service) Decide(ctx context.Context, runID int64, step, verb string) error {
	return svc.desk.Do(ctx, guard.DecideStep, guard.Thing{Name: cmp.Or(step, "all that failed"), Run: runID}, func() error { return svc.decide(ctx, runID, step, verb) }, acting.Saying("%s in run %d", verb, runID))
}

func (svc *Service) decide(ctx context.Context, runID int64, step, verb string) error {
	if verb != run.Retry && verb != run.Skip {
		return fault.Invalidf("a step can be given %s or %s, not %q", run.Retry, run.Skip, verb)
	}
	r, err := svc.deployments.Latest(ctx, runID)
	if err != nil {
		return err
	}
	s, err := svc.deployments.Replay(ctx, runID)
	if err != nil {
		return err
	}
	if step != "" && s.Step(step) != nil && s.Step(step).Status == run.UnderWay && verb == run.Retry && Alive(r) {
		return svc.store.Decide(ctx, runID, store.Decision{Step: step, Verb: verb}) // its worker asks the site again at once
	}
	if step != "" && (s.Step(step) == nil || s.Step(step).Status != run.Failed) {
		return fault.Conflictf("step %q of run %d has not failed, so there is nothing to decide", step, runID)
	}
	n := 0
	for i := range s.Steps {
		st := &s.Steps[i]
		if st.Status == run.Failed && (step == "" || st.ID == step) {
			if err := svc.store.Decide(ctx, runID, store.Decision{Step: st.ID, Verb: verb}); err != nil {
				return err
			}
			n++
		}
	}
	if n == 0 {
		return fault.Conflictf("no step of run %d has failed, so there is nothing to decide", runID)
	}
	return svc.goOn(ctx, r)
}

// Resume goes on with a run that broke off, was cancelled, or failed; what failed is tried again.
func (svc *Service) Resume(ctx context.Context, runID int64) error {
	return svc.desk.Do(ctx, guard.ResumeRun, acting.Run(runID), func() error { return svc.resume(ctx, runID) })
}

func (svc *Service) resume(ctx context.Context, runID int64) error {
	r, err := svc.deployments.Latest(ctx, runID)
	if err != nil {
		return err
	}
	switch {
	case r.State == run.Standing:
		return fault.Conflictf("run %d has ended, and everything stands: there is nothing to go on with", runID)
	case r.State == run.UnderWay && Alive(r):
		return fault.Conflictf("run %d is under way; andamio watch %d shows it", runID, runID)
	case r.State == run.Failed:
		if s, err := svc.deployments.Replay(ctx, runID); err != nil || s.Failures > 0 {
			if err != nil {
				return err
			}
			return svc.decide(ctx, runID, "", run.Retry)
		}
	}
	return svc.takeUp(ctx, r)
}

// Leave settles that what failed in a run stays as it is.
func (svc *Service) Leave(ctx context.Context, runID int64) error {
	return svc.desk.Do(ctx, guard.LeaveRun, acting.Run(runID), func() error { return svc.store.Leave(ctx, runID) })
}

// goOn sets a worker to a run if none works on it.
func (svc *Service) goOn(ctx context.Context, r store.Run) error {
	if r.State == run.UnderWay && Alive(r) {
		return nil // its worker hears of the decision
	}
	return svc.takeUp(ctx, r)
}

// takeUpWithin is how long a new worker may take until it has the run.
const takeUpWithin = 10 * time.Second

// takeUp sets a worker to a run and waits until it has it: until then the run would be taken for one that nobody works on.
func (svc *Service) takeUp(ctx context.Context, r store.Run) error {
	if err := svc.Start(r.ID); err != nil || svc.workers.None {
		return err
	}
	for limit := time.Now().Add(takeUpWithin); time.Now().Before(limit); {
		now, err := svc.store.Run(ctx, r.ID)
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
