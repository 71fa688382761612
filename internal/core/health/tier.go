package health

import (
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// TierOf is the tier a resource is of by itself: its service, or its node where it has none.
func TierOf(r *plan.Resource) string {
	if r.Service != "" {
		return r.Service
	}
	return r.Node
}

// TiersOf is the tier of each resource of a plan. What software runs on, and what belongs to that, is of the software's tier,
// unless it is of a service itself: a tier has what it needs, and costs what that costs.
func TiersOf(p *plan.Plan) map[string]string {
	out := make(map[string]string, len(p.Resources))
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind == kinds.Software && out[r.On] == "" && r.On != "" {
			if host := p.Resource(r.On); host != nil && host.Service == "" {
				out[host.ID] = TierOf(r) // the first that runs on it
			}
		}
	}
	for i := range p.Resources {
		if r := &p.Resources[i]; out[r.ID] == "" {
			out[r.ID] = TierOf(r)
		}
	}
	belongs := func(id, on string) {
		if r := p.Resource(id); r != nil && r.Service == "" && out[on] != "" {
			out[id] = out[on]
		}
	}
	for i := range p.Resources {
		switch r := &p.Resources[i]; r.Kind {
		case kinds.Interface:
			belongs(r.ID, r.AsInterface().Instance)
		case kinds.Endpoint:
			belongs(r.ID, r.AsEndpoint().EndpointOf)
		}
	}
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Op == op.Attach {
			belongs(s.Volume, s.Resource)
		}
	}
	return out
}

// Tiers are the tiers of a plan: its services that have something, in their order, then what is of none.
func Tiers(p *plan.Plan) []string {
	of := TiersOf(p)
	has, seen := map[string]bool{}, map[string]bool{}
	for i := range p.Resources {
		has[of[p.Resources[i].ID]] = true
	}
	var out []string
	add := func(name string) {
		if name != "" && has[name] && !seen[name] {
			seen[name] = true
			out = append(out, name)
		}
	}
	for _, s := range p.Services {
		add(s.Name)
	}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Software || r.Kind == kinds.Instance {
			add(of[r.ID])
		}
	}
	return out
}
