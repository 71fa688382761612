package app

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

// learnedRuns is from how many runs back durations are taken: sites change, and what they did long ago misleads.
const learnedRuns = 200

// History is what is known of how long steps take.
func (a *App) History(ctx context.Context) (*history.History, error) {
	samples, err := a.store.Durations(ctx, learnedRuns)
	if err != nil {
		return nil, err
	}
	return history.New(samples), nil
}

// Timed puts learned durations in the place of a plan's expectations.
func (a *App) Timed(ctx context.Context, p *plan.Plan) error {
	h, err := a.History(ctx)
	if err != nil {
		return err
	}
	return h.Apply(p)
}

// Rehearse imagines runs of a plan.
func (a *App) Rehearse(ctx context.Context, p *plan.Plan, l dispatch.Limits) (rehearse.Answer, error) {
	h, err := a.History(ctx)
	if err != nil {
		return rehearse.Answer{}, err
	}
	return rehearse.Plan(p, h, rehearse.Options{Limits: l}), nil
}

// RehearseRest imagines how a run that is under way goes on.
func (a *App) RehearseRest(ctx context.Context, s *run.State, now time.Time) (rehearse.Answer, error) {
	h, err := a.History(ctx)
	if err != nil {
		return rehearse.Answer{}, err
	}
	return rehearse.Rest(s, now, h, rehearse.Options{}), nil
}

// learn keeps how long the steps of a run took that went smoothly: one that was tried again, or that a person or a crash
// held up, says nothing of the next.
func (a *App) learn(ctx context.Context, runID int64) error {
	s, err := a.Replay(ctx, runID)
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
	return a.store.Learn(ctx, runID, all)
}
