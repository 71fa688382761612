package runs

import (
	"context"
	"time"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/history"
	"andamio/internal/core/plan"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// Rehearse imagines runs of a plan.
func (svc *Service) Rehearse(ctx context.Context, p *plan.Plan, l dispatch.Limits) (rehearse.Answer, error) {
	if err := svc.desk.Read("how long steps take"); err != nil {
		return rehearse.Answer{}, err
	}
	h, err := svc.deployments.History(ctx)
	if err != nil {
		return rehearse.Answer{}, err
	}
	return rehearse.Plan(p, h, rehearse.Options{Limits: l}), nil
}

// RehearseRest imagines how a run that is under way goes on.
func (svc *Service) RehearseRest(ctx context.Context, s *run.State, now time.Time) (rehearse.Answer, error) {
	if err := svc.desk.Read("how long steps take"); err != nil {
		return rehearse.Answer{}, err
	}
	h, err := svc.deployments.History(ctx)
	if err != nil {
		return rehearse.Answer{}, err
	}
	return rehearse.Rest(s, now, h, rehearse.Options{Between: givesWay()}), nil
}

// longestPause bounds one pause of givesWay.
const longestPause = 5 * time.Millisecond

// givesWay is called between pieces of work that nobody waits for, and pauses for as long as the last of them took: what
// somebody does at a screen meanwhile waits for a piece at most, and not for the whole.
func givesWay() func() {
	began := time.Now()
	return func() {
		time.Sleep(min(time.Since(began), longestPause))
		began = time.Now()
	}
}

// learn keeps how long the steps of a run took that went smoothly: one that was tried again, or that a person or a crash
// held up, says nothing of the next.
func (svc *Service) learn(ctx context.Context, runID int64) error {
	s, err := svc.deployments.Replay(ctx, runID)
	if err != nil {
		return err
	}
	var all []store.Took
	for i := range s.Steps {
		st := &s.Steps[i]
		smooth := st.Status == run.Standing && st.Retries == 0 && st.Tries == 0 && st.Discards == 0 && !st.Started.IsZero()
		copies := st.Copying != nil || st.Filling != nil // takes as long as there are bytes, or as somebody waits
		if smooth && !copies && st.Seconds > 0 && s.Resumes == 0 {
			all = append(all, store.Took{Key: history.Key(s.Plan, st.Step), Step: st.ID, Seconds: st.Ended.Sub(st.Started).Seconds(), At: st.Ended})
		}
	}
	return svc.store.Learn(ctx, runID, all)
}
