package deployments

import (
	"context"

	"andamio/internal/core/history"
	"andamio/internal/core/plan"
)

// learnedRuns is from how many runs back durations are taken: sites change, and what they did long ago misleads.
const learnedRuns = 200

// History is what is known of how long steps take.
func (svc *Service) History(ctx context.Context) (*history.History, error) {
	if err := svc.desk.Read("how long steps take"); err != nil {
		return nil, err
	}
	samples, err := svc.store.Durations(ctx, learnedRuns)
	if err != nil {
		return nil, err
	}
	return history.New(samples), nil
}

// Timed puts learned durations in the place of a plan's expectations.
func (svc *Service) Timed(ctx context.Context, p *plan.Plan) error {
	if err := svc.desk.Read("how long steps take"); err != nil {
		return err
	}
	h, err := svc.inside().History(ctx)
	if err != nil {
		return err
	}
	return h.Apply(p)
}
