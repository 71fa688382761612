package change

import (
	"maps"
	"slices"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Doing is a script that is run once on some instances of what stands.
type Doing struct {
	// Name is what it goes by in ids of steps, Path that of its text, Inputs its variables.
	Name, Path, Text string
	Inputs           []plan.Input
	Instances        []string
}

// Do is the plan that runs a script on instances of what stands. All else is kept as it is, and so are they.
func Do(from Standing, d Doing, purpose string) (*plan.Plan, error) {
	p := kept(from, purpose)
	p.Scripts = map[string]string{d.Path: d.Text}
	for _, id := range d.Instances {
		r := p.Resource(id)
		p.Steps = append(p.Steps, plan.Step{ID: op.Do.For(id, d.Name), Resource: id, Op: op.Do, Site: r.Site, Title: "run " + d.Name, Seconds: 1,
			Script: &plan.Script{Path: d.Path, Inputs: d.Inputs}, Check: plan.Condition{Kind: plan.CheckExit}})
	}
	return p, plan.Reindexed(p).Arrange()
}

// kept is a plan of nothing for what stands, with all of it kept.
func kept(from Standing, purpose string) *plan.Plan {
	p := *from.Plan
	p.Purpose, p.Steps, p.Scripts, p.Files, p.Secrets, p.Notes = purpose, nil, nil, nil, nil, nil
	p.Promised = nil
	p.Order, p.Known = maps.Clone(from.Plan.Order), from.Plan.Known
	p.Resources = slices.Clone(from.Plan.Resources)
	for i := range p.Resources {
		p.Resources[i].Change = plan.Keep
	}
	return plan.Reindexed(&p)
}

// Unchanged is the plan that changes nothing of what stands at its sites.
func Unchanged(from Standing, purpose string) (*plan.Plan, error) {
	p := kept(from, purpose)
	return p, p.Arrange()
}
