package runs

import (
	"cmp"
	"context"
	"slices"
	"time"

	"andamio/internal/core/condition"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/service/deployments"
)

// bounded checks that what is done by itself may be done now: blackouts and maintenance windows do not bound people, nor what people asked for.
func (svc *Service) bounded(ctx context.Context, o deployments.Order, now time.Time) error {
	way := svc.desk.Actor.Way
	if way != guard.Schedule && way != guard.Rule || o.Request != 0 || o.Bound == deployments.BoundByNothing || changesNothing(o.Plan) {
		return nil
	}
	f, err := svc.workspace.Windows()
	if err != nil {
		return err
	}
	of, err := svc.subject(ctx, &o)
	if err != nil {
		return err
	}
	held, err := f.Holds(of, o.Bound != deployments.BoundByBlackouts && disturbs(o.Plan), now)
	if err == nil && held == nil && o.Bound != deployments.BoundByBlackouts && o.Deployment != 0 && disturbs(o.Plan) {
		held, err = svc.promises.Guards(ctx, o.Deployment, o.Bound == deployments.BoundByWindows, now)
	}
	if err != nil || held == nil {
		return err
	}
	return fault.Default(fault.Refused, held)
}

func (svc *Service) subject(ctx context.Context, o *deployments.Order) (*condition.Subject, error) {
	of := cmp.Or(o.BoundAs, o.Deployment)
	if of == 0 {
		return o.Subject(), nil
	}
	d, err := svc.inside().deployments.Deployment(ctx, of)
	if err != nil {
		return nil, err
	}
	return d.Subject(), nil
}

// changesNothing reports a plan that only takes note of how things are.
func changesNothing(p *plan.Plan) bool {
	return !slices.ContainsFunc(p.Steps, func(s plan.Step) bool { return !s.Op.Notes() })
}

// disturbs reports a plan that takes away what serves, for a while or for good: snapshots and copies serve nobody.
func disturbs(p *plan.Plan) bool {
	return slices.ContainsFunc(p.Steps, func(s plan.Step) bool {
		r := p.Resource(s.Resource)
		return s.Op.Takes() && r.Kind != kinds.Snapshot && !r.IsCopy()
	})
}
