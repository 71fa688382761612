package app

import (
	"maps"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

// Draft is everything worked out on the way from a template to a plan, as far as it went.
type Draft struct {
	Template    *Template
	Preset      string
	Diagnostics tosca.Diagnostics
	Design      *topology.Design
	Placement   *placement.Placement
	Plan        *plan.Plan
	// Err says why there is a design and yet no plan.
	Err error
}

// Draft works a template out with a preset and inputs given beside it, which win.
func (a *App) Draft(t *Template, preset string, inputs tosca.Inputs, e *estate.Estate) *Draft {
	return NewDraft(t, preset, inputs, e)
}

// NewDraft is Draft for callers without a workspace.
func NewDraft(t *Template, preset string, inputs tosca.Inputs, e *estate.Estate) *Draft {
	d := &Draft{Template: t, Preset: preset}
	p, err := t.Preset(preset)
	if err != nil {
		d.Err = err
		return d
	}
	all := tosca.Inputs{}
	maps.Copy(all, p.Inputs)
	maps.Copy(all, inputs)
	d.Design, d.Diagnostics = t.Design(all, p.Diagnostics)
	if d.Design == nil || e == nil {
		return d
	}
	if d.Placement, d.Err = placement.Solve(plan.Problem(d.Design, e)); d.Err != nil {
		return d
	}
	d.Plan, d.Err = plan.Compile(d.Design, d.Placement, e, preset)
	return d
}
