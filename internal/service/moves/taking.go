package moves

import (
	"context"

	"andamio/internal/core/change"
	"andamio/internal/core/plan"
	"andamio/internal/service/deployments"
)

// subject is what is moved: a deployment as it stands, with its whole design. What is to be taken over first stands nowhere yet.
type subject struct {
	deployment *deployments.Deployment
	wanted     *plan.Plan
}

// DraftTaken works out how machines would be moved that are taken over first, by an order that nobody has begun: see [reconcile.Service.TakingOver].
func (svc *Service) DraftTaken(ctx context.Context, take deployments.Order, w Request) (*Draft, error) {
	if err := svc.desk.Read("what may be moved"); err != nil {
		return nil, err
	}
	stand, err := change.Done(change.Nothing(take.Plan), take.Plan)
	if err != nil {
		return nil, err
	}
	stand.Plan.Known = take.Plan.Known
	d := &deployments.Deployment{Stand: stand}
	d.Name = take.Plan.Name
	return svc.draftOf(ctx, &subject{d, take.Wanted}, w)
}

// subjectOf is what a move is of, as it stands now; nothing else may change it meanwhile.
func (svc *Service) subjectOf(ctx context.Context, m *Move) (*subject, error) {
	if m.taken != nil {
		return m.taken, nil
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, m.Deployment)
	if err != nil {
		return nil, err
	}
	return &subject{d, wanted}, svc.SettledBut(ctx, d.ID, m.ID)
}
