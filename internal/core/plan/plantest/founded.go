package plantest

import (
	"fmt"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Unfounded says which steps of a plan do not come after the making of what they stand on: an interface after its network and its instance, an attachment after its
// volume and its instance, what is on an instance after that. What is not made in the plan is there.
func Unfounded(p *plan.Plan) (out []string) {
	before := map[string]map[string]bool{}
	var all func(id string) map[string]bool
	all = func(id string) map[string]bool {
		if known, done := before[id]; done {
			return known
		}
		known := map[string]bool{}
		before[id] = known
		for _, a := range p.Step(id).After {
			known[a] = true
			for b := range all(a) {
				known[b] = true
			}
		}
		return known
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		r := p.Resource(s.Resource)
		on := []string{r.On, r.AsInterface().Network, r.AsInterface().Instance, s.Volume}
		if s.Op == op.Attach {
			on = append(on, r.ID)
		}
		for _, id := range on {
			if made := op.Create.On(id); id != "" && made != s.ID && p.Step(made) != nil && !all(s.ID)[made] {
				out = append(out, fmt.Sprintf("%s does not come after %s", s.ID, made))
			}
		}
	}
	return out
}
