package change

import (
	"slices"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Found reports that a plan took note of things that stood already.
func Found(p *plan.Plan) bool {
	return slices.ContainsFunc(p.Steps, func(s plan.Step) bool { return s.Finds != "" })
}

// LetGo compiles the plan that forgets what stands: nothing is done at any site, and everything stays there as it is.
func LetGo(from Standing, purpose string) (*plan.Plan, error) {
	p := *from.Plan
	p.Purpose, p.Steps, p.Outputs = purpose, nil, nil
	p.Resources = slices.Clone(p.Resources)
	for i := range p.Resources {
		r := &p.Resources[i]
		r.Change, r.Reasons = plan.Retire, []string{"it is let go: it stays as it is, and is nobody's here"}
		s := plan.Step{ID: op.Clear.On(r.ID), Resource: r.ID, Op: op.Clear, Title: "let go", Site: r.Site, Check: plan.Condition{Kind: plan.CheckNone}}
		for j := range from.Plan.Steps {
			if from.Plan.Steps[j].Resource == r.ID {
				s.Drops = append(s.Drops, from.Plan.Steps[j].ID)
			}
		}
		p.Steps = append(p.Steps, s)
	}
	out := plan.Reindexed(&p)
	return out, out.Arrange()
}
