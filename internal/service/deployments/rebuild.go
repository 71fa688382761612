package deployments

import (
	"context"
	"slices"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan/op"
	"andamio/internal/service/templates"
)

// Rebuilding compiles the order that builds some machines anew where placement puts them under some choices; each is taken away where it was before. One that would take away any other machine as well,
// or disks, is refused.
func (svc *Service) Rebuilding(ctx context.Context, deployment int64, machines []string, c templates.Choices, purpose string) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	draft, o, err := svc.inside().Updating(ctx, deployment, templates.Place{}, templates.DraftRequest{Choices: c})
	switch {
	case err != nil:
		return Order{}, err
	case draft.Diagnostics.Errors() > 0:
		return Order{}, fault.Invalidf("%s", draft.Diagnostics.Error())
	case draft.Err != nil:
		return Order{}, draft.Err
	}
	for i := range o.Plan.Steps {
		s := &o.Plan.Steps[i]
		r := o.Plan.Resource(s.Resource)
		switch {
		case s.Op != op.Remove:
		case r.Kind == kinds.Volume:
			return Order{}, fault.Refusedf("%s has disks, which would come up empty", r.ID)
		case r.Kind == kinds.Instance && !slices.Contains(machines, r.ID):
			return Order{}, fault.Refusedf("with everything as it is wanted, %s would have to be built anew as well", r.ID)
		}
	}
	o.Plan.Purpose = purpose
	return o, nil
}
