package deployments

import (
	"context"
	"maps"
	"slices"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
)

// Script is one that is run once on instances of a deployment.
type Script struct {
	// Name is what it goes by, Text what it says, Inputs its variables.
	Name, Text string
	Inputs     map[string]string
	// Meant says on which instances it is run, by any of their names: their own, their tier's, and that of the node they were made of.
	Meant func(names ...string) bool
}

// Doing works out the order that runs a script on instances of a deployment, of which nothing else changes. What is switched off is left out.
func (svc *Service) Doing(ctx context.Context, deployment int64, s Script, purpose string) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	d, wanted, err := svc.DesignOf(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	if err := svc.moving.SettledBut(ctx, deployment, 0); err != nil {
		return Order{}, err
	}
	doing := change.Doing{Name: s.Name, Path: "hooks/" + s.Name + ".sh", Text: s.Text}
	for _, name := range slices.Sorted(maps.Keys(s.Inputs)) {
		doing.Inputs = append(doing.Inputs, plan.Input{Name: name, Value: plan.Expr{Literal: s.Inputs[name]}})
	}
	for i := range d.Stand.Plan.Resources {
		if r := &d.Stand.Plan.Resources[i]; r.Kind == kinds.Instance && !r.Off && s.Meant(r.ID, r.Service, r.Node) {
			doing.Instances = append(doing.Instances, r.ID)
		}
	}
	if doing.Instances == nil {
		return Order{}, fault.Refusedf("no instance of %s that runs is meant by %s", d.Name, s.Name)
	}
	p, err := change.Do(d.Stand, doing, purpose)
	if err != nil {
		return Order{}, err
	}
	return Order{Plan: p, Deployment: d.ID, Wanted: wanted, Template: d.Template}, svc.inside().Timed(ctx, p)
}
