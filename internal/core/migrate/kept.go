package migrate

import (
	"maps"
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// WithoutKept is a design without what moved workloads left behind under the ids that a move gave it, and without the
// networks that only those were in: what a committed move leads to.
func WithoutKept(p *plan.Plan, renames map[string]string) *plan.Plan {
	kept := map[string]bool{}
	for id := range maps.Values(renames) {
		kept[id] = true
	}
	lost := map[string]bool{}
	linked := map[string]bool{}
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind != kinds.Interface {
			continue
		}
		if kept[r.ID] {
			lost[r.AsInterface().Network] = true
		} else {
			linked[r.AsInterface().Network] = true
		}
	}
	gone := func(id string) bool { return kept[id] || lost[id] && !linked[id] }
	out := *p
	out.Resources = slices.DeleteFunc(slices.Clone(p.Resources), func(r plan.Resource) bool { return gone(r.ID) })
	out.Steps = slices.DeleteFunc(slices.Clone(p.Steps), func(s plan.Step) bool { return gone(s.Resource) })
	filled := map[string]bool{}
	for i := range out.Steps {
		filled[out.Steps[i].Resource] = filled[out.Steps[i].Resource] || out.Steps[i].Op == op.Fill
	}
	out.CostPerHour = 0
	for i := range out.Resources {
		r := &out.Resources[i]
		plan.Respec(r, func(s *plan.InstanceSpec) { s.Asleep = s.Asleep && filled[r.ID] }) // what came is there: should it be lost, it is built as any other
		out.CostPerHour += r.Costs()
	}
	for i := range out.Steps {
		reorder(&out.Steps[i], without(gone))
	}
	return plan.Reindexed(&out)
}
