package change

import (
	"maps"
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Rest is a plan with some instances switched off: what runs on them is not started, and nothing asks it. Nor does anything ask an idle load balancer, see
// [Idle].
func Rest(p *plan.Plan, off func(*plan.Resource) bool) *plan.Plan {
	out := *p
	out.Resources = slices.Clone(p.Resources)
	for i := range out.Resources {
		if r := &out.Resources[i]; r.Kind == kinds.Instance {
			r.Off = off(r)
		}
	}
	plan.Reindexed(&out)
	idle := Idle(&out)
	gone := map[string][]string{}
	for i := range p.Steps {
		s := &p.Steps[i]
		r := out.Resource(s.Resource)
		if runs(s.Op) && rests(&out, instanceOf(&out, r)) || s.Op == op.Answer && idle(r.AsEndpoint().EndpointOf) {
			gone[s.ID] = append([]string{}, s.After...)
		}
	}
	out.Steps, out.Order = nil, maps.Clone(p.Order)
	if out.Order == nil && len(gone) > 0 {
		out.Order = map[string][]string{}
	}
	for i := range p.Steps {
		if s := &p.Steps[i]; gone[s.ID] != nil {
			out.Order[s.ID] = whole(s) // what comes after it is to know what it came after
		}
	}
	for _, s := range p.Steps {
		if _, dropped := gone[s.ID]; !dropped {
			s.Whole = whole(&s)
			s.After = through(s.After, gone)
			out.Steps = append(out.Steps, s)
		}
	}
	return plan.Reindexed(&out)
}

// rests reports that an instance is switched off.
func rests(p *plan.Plan, instance string) bool {
	r := p.Resource(instance)
	return r != nil && r.Off
}

// Idle says of the software of a plan that it is a load balancer that has nobody to hand a request to, as all its members rest: each is on an instance that
// is switched off, stands no more, or is such a load balancer itself. It refuses who comes, and that is no fault of it.
func Idle(p *plan.Plan) func(software string) bool {
	known := map[string]bool{}
	var idle func(id string) bool
	idle = func(id string) bool {
		r := p.Resource(id)
		if r == nil || len(r.AsSoftware().LeadsTo) == 0 {
			return false
		}
		if is, has := known[id]; has {
			return is
		}
		known[id] = false // what leads to itself has somebody
		known[id] = !slices.ContainsFunc(r.AsSoftware().LeadsTo, func(member string) bool {
			m := p.Resource(member)
			return m != nil && !rests(p, m.On) && !idle(member)
		})
		return known[id]
	}
	return idle
}

// through replaces steps that are gone by those they came after.
func through(ids []string, gone map[string][]string) []string {
	var out []string
	for _, a := range ids {
		if further, dropped := gone[a]; dropped {
			out = append(out, through(further, gone)...)
		} else {
			out = append(out, a)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
