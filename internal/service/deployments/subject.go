package deployments

import (
	"slices"

	"andamio/internal/core/condition"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
)

// Subject is a deployment as what rules are about.
func (d *Deployment) Subject() *condition.Subject { return subject(d.Name, d.Owner, d.Stand.Plan) }

// Subject is what an order makes anew, as what rules are about.
func (o *Order) Subject() *condition.Subject { return subject(o.Plan.Name, o.For, o.Plan) }

func subject(name string, of guard.Owner, p *plan.Plan) *condition.Subject {
	s := &condition.Subject{Name: name, Team: of.Team, Person: of.Person, Stage: of.Stage, Tags: of.Tags}
	if of.Service != "" {
		s.Services = append(s.Services, of.Service)
	}
	for _, x := range p.Services {
		if !slices.Contains(s.Services, x.Name) {
			s.Services = append(s.Services, x.Name)
		}
	}
	return s
}
