package deployments

import (
	"context"
	"fmt"
	"strings"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/tosca"
	"andamio/internal/service/templates"
)

// TemplateOf opens the template of a deployment: the one at a place, "" for where it was opened before.
func (svc *Service) TemplateOf(ctx context.Context, d *Deployment, at templates.Place) (*templates.Template, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: d.ID}); err != nil {
		return nil, err
	}
	if at == (templates.Place{}) {
		at.Path = d.Template
	}
	switch at.Path {
	case "":
		return nil, fault.NotFoundf("where the template of deployment %d is was not kept: name it", d.ID)
	case templates.DemoName:
		return templates.DemoTemplate()
	case templates.SentName:
		t, err := svc.kept(ctx, d)
		if err == nil && t == nil {
			err = fault.NotFoundf("the template that was sent for deployment %d was not kept: send it again", d.ID)
		}
		return t, err
	}
	return templates.OpenTemplate(ctx, at)
}

// Updating works a deployment's template out with its last inputs and those of the wish, and compiles the order that
// leads there.
func (svc *Service) Updating(ctx context.Context, deployment int64, at templates.Place, w templates.DraftRequest) (*templates.Draft, Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, Order{}, err
	}
	d, err := svc.inside().Deployment(ctx, deployment)
	if err != nil {
		return nil, Order{}, err
	}
	t, err := svc.inside().TemplateOf(ctx, d, at)
	if err != nil {
		return nil, Order{}, err
	}
	return svc.updating(ctx, d, t, w)
}

// updating works a template out with the last inputs of a deployment and those of the wish.
func (svc *Service) updating(ctx context.Context, d *Deployment, t *templates.Template, w templates.DraftRequest) (*templates.Draft, Order, error) {
	wanted, err := svc.Wanted(ctx, d.Runs)
	if err != nil {
		return nil, Order{}, err
	}
	if wanted != nil && w.Preset == "" {
		w.Inputs = templates.InputsOf(wanted, w.Inputs)
		if _, err := t.Preset(wanted.Preset); err == nil { // all that it gave is among the inputs
			w.Preset = wanted.Preset
		}
	}
	draft, err := svc.inside().Redraft(ctx, d.ID, t, w)
	if err != nil || draft.Plan == nil {
		return draft, Order{}, err
	}
	o, err := svc.inside().Changed(ctx, d.ID, draft.Plan, "change "+d.Name)
	return draft, o, err
}

// ChangingInput compiles the order that leads a deployment to its design with another value of one input, NAME=VALUE.
func (svc *Service) ChangingInput(ctx context.Context, deployment int64, pair string) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	name, text, _ := strings.Cut(pair, "=")
	v, diags := tosca.ParseInput(strings.TrimSpace(name), strings.TrimSpace(text))
	if diags.Errors() > 0 {
		return Order{}, fault.Invalidf("%s", diags.Error())
	}
	draft, o, err := svc.inside().Updating(ctx, deployment, templates.Place{}, templates.DraftRequest{Inputs: tosca.Inputs{strings.TrimSpace(name): v}})
	switch {
	case err != nil:
		return Order{}, err
	case draft.Diagnostics.Errors() > 0:
		return Order{}, fault.Invalidf("%s", draft.Diagnostics.Error())
	}
	return o, draft.Err
}

// Scaling compiles the order that gives a tier so many instances, by the input that says how many it has.
func (svc *Service) Scaling(ctx context.Context, deployment int64, node string, count int) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	d, err := svc.inside().Deployment(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	t, err := svc.inside().TemplateOf(ctx, d, templates.Place{})
	if err != nil {
		return Order{}, err
	}
	input := t.CountedBy(node)
	if input == "" {
		return Order{}, fault.Refusedf("no input says how many instances %s has, so it cannot be scaled", node)
	}
	o, err := svc.inside().ChangingInput(ctx, deployment, fmt.Sprintf("%s=%d", input, count))
	if err == nil {
		o.Plan.Purpose = fmt.Sprintf("scale %s to %d", node, count)
	}
	return o, err
}
