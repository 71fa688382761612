package deployments

import (
	"context"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/service/templates"
)

// Cloning compiles the order that raises another deployment like one, under a name of its own: placed anew, as near as
// can be to how the first was, with addresses of its own.
func (svc *Service) Cloning(ctx context.Context, deployment int64, name string) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	d, wanted, err := svc.DesignOf(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	if name == d.Name {
		return Order{}, fault.Invalidf("the clone needs a name of its own")
	}
	if err := svc.NameFree(ctx, name); err != nil {
		return Order{}, err
	}
	e, err := svc.sites.Estate(ctx)
	if err != nil {
		return Order{}, err
	}
	p := svc.redrawn(ctx, d, wanted, name, e)
	if p == nil {
		if e, err = svc.sites.Estate(ctx); err != nil { // the first may have taken of it
			return Order{}, err
		}
		if p, err = plan.Clone(wanted, name, e); err != nil {
			return Order{}, err
		}
	}
	o := Order{Plan: p, Template: d.Template}
	if filled(p) {
		o.Wanted = p
		if o.Plan, err = change.Compile(change.Nothing(p), p, ""); err != nil {
			return Order{}, fault.Default(fault.Refused, err)
		}
	}
	return o, svc.inside().Timed(ctx, o.Plan)
}

// filled reports that something of a plan begins with disks that are filled from a package.
func filled(p *plan.Plan) bool {
	for i := range p.Steps {
		if p.Steps[i].Op == op.Fill {
			return true
		}
	}
	return false
}

// redrawn is the design of a deployment worked out anew from its template, for a deployment of another name; nil where
// the template is not there any more, or gives something else by now.
func (svc *Service) redrawn(ctx context.Context, d *Deployment, wanted *plan.Plan, name string, e *estate.Estate) *plan.Plan {
	t, err := svc.inside().TemplateOf(ctx, d, "")
	if err != nil {
		return nil
	}
	w, err := svc.Ruled(templates.DraftRequest{Name: name, Preset: wanted.Preset, Inputs: templates.InputsOf(wanted, nil), Workflow: wanted.Workflow, Like: templates.PlacementOf(wanted),
		Lifted: wanted.Lifted})
	if err != nil {
		return nil
	}
	draft := templates.NewDraft(t, w, e)
	if draft.Plan == nil || !alike(draft.Plan, wanted) {
		return nil
	}
	return draft.Plan
}

// alike reports that two plans have the same resources but for networks, which stand where those are that link to them.
func alike(a, b *plan.Plan) bool {
	count := map[string]int{}
	for i := range a.Resources {
		if r := &a.Resources[i]; r.Kind != kinds.Network {
			count[string(r.Kind)+" "+r.ID+" "+r.Detail]++
		}
	}
	for i := range b.Resources {
		if r := &b.Resources[i]; r.Kind != kinds.Network {
			count[string(r.Kind)+" "+r.ID+" "+r.Detail]--
		}
	}
	for _, n := range count {
		if n != 0 {
			return false
		}
	}
	return true
}
