package deployments

import (
	"context"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/service/templates"
)

// Cloning compiles the order that raises another deployment like one, under a name of its own: placed anew, as near as
// can be to how the first was, with addresses of its own.
func (svc *Service) Cloning(ctx context.Context, deployment int64, name string) (Order, error) {
	return svc.Raising(ctx, deployment, name, Raised{})
}

// Raising works out the same for some sites.
func (svc *Service) Raising(ctx context.Context, deployment int64, name string, at Raised) (Order, error) {
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
	p := svc.redrawn(ctx, d, wanted, name, at, e)
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
func (svc *Service) redrawn(ctx context.Context, d *Deployment, wanted *plan.Plan, name string, at Raised, e *estate.Estate) *plan.Plan {
	t, err := svc.inside().TemplateOf(ctx, d, templates.Place{})
	if err != nil {
		return nil
	}
	w, err := svc.Ruled(templates.DraftRequest{Name: name, Preset: wanted.Preset, Inputs: templates.InputsOf(wanted, nil), Workflow: wanted.Workflow, Like: templates.PlacementOf(wanted),
		Lifted: wanted.Lifted})
	if err != nil {
		return nil
	}
	at.choose(&w)
	draft := templates.NewDraft(t, w, e)
	if draft.Plan == nil || !alike(draft.Plan, wanted, at.Cheaply) {
		return nil
	}
	return draft.Plan
}

// Raised says where something is raised that is like something else.
type Raised struct {
	// Sites are where instances have to be; all others are where it is best.
	Sites map[string]string
	// Cheaply has what costs least be best, wherever the other is: it will not be there for long.
	Cheaply bool
}

func (at Raised) choose(w *templates.DraftRequest) {
	for id, site := range at.Sites {
		if w.Choices.Pins == nil {
			w.Choices.Pins = map[string]placement.Spot{}
		}
		w.Choices.Pins[id] = placement.Spot{Site: site}
	}
	if at.Cheaply {
		w.Like, w.Choices.Weights = nil, &placement.Weights{Cost: placement.Usual.Cost}
	}
}

// alike reports that two plans have the same resources but for networks, which stand where those are that link to them; where they may be elsewhere, whatever
// the size is called there.
func alike(a, b *plan.Plan, elsewhere bool) bool {
	count := map[string]int{}
	of := func(r *plan.Resource) string {
		if elsewhere {
			return string(r.Kind) + " " + r.ID
		}
		return string(r.Kind) + " " + r.ID + " " + r.Detail
	}
	for i := range a.Resources {
		if r := &a.Resources[i]; r.Kind != kinds.Network {
			count[of(r)]++
		}
	}
	for i := range b.Resources {
		if r := &b.Resources[i]; r.Kind != kinds.Network {
			count[of(r)]--
		}
	}
	for _, n := range count {
		if n != 0 {
			return false
		}
	}
	return true
}
