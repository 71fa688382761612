package change

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
)

// Declared is a design in which what is accepted is declared as it was seen from now on, and what is given up no more. Whatever leads to
// the design afterwards (starting, scaling, rolling back) would take back otherwise what somebody accepted: a disk that was made larger
// would be built anew as small as it was. Whether an instance is on is not the design's: what was stopped stays so by itself.
func Declared(wanted *plan.Plan, all []Deviation) (*plan.Plan, error) {
	if wanted == nil {
		return nil, nil
	}
	out := *wanted
	out.Resources, out.Steps = slices.Clone(wanted.Resources), slices.Clone(wanted.Steps)
	p := plan.Reindexed(&out)
	gone := map[string]bool{}
	for i := range all {
		d := &all[i]
		r := p.Resource(d.Resource)
		switch {
		case r == nil:
		case d.Verb == Accept:
			declare(r, d.Seen)
		case d.Verb == GiveUp:
			gone[r.ID] = true
		}
	}
	if len(gone) > 0 {
		p = withoutResources(p, gone)
	}
	if err := p.Arrange(); err != nil {
		return nil, fmt.Errorf("what is wanted from now on cannot be put in order: %w", err)
	}
	return p, nil
}

// declare makes of a resource what was seen of it.
func declare(r *plan.Resource, seen map[string]string) {
	for name, v := range seen {
		switch name {
		case "zone":
			r.Zone = v
		case "site":
			r.Site = v
		default:
			patchSpec(r, name, v)
		}
	}
	redetail(r)
}

// redetail says anew in a few words how large something is.
func redetail(r *plan.Resource) {
	switch r.Kind {
	case kinds.Volume:
		r.Detail = estate.GiB(r.DiskGiB())
	case kinds.Instance:
		i := r.AsInstance()
		r.Detail = strings.TrimSpace(i.Size + " " + estate.Cores(i.Cores) + " " + estate.GiB(i.MemoryGiB))
	}
}

// withoutResources is a design without some resources, and without all that is on them.
func withoutResources(p *plan.Plan, gone map[string]bool) *plan.Plan {
	for more := true; more; {
		more = false
		for i := range p.Resources {
			r := &p.Resources[i]
			on := []string{r.On, r.PartOf, r.AsInterface().Instance, r.AsEndpoint().EndpointOf}
			if !gone[r.ID] && slices.ContainsFunc(on, func(id string) bool { return gone[id] }) {
				gone[r.ID], more = true, true
			}
		}
	}
	out := *p
	out.Resources = nil
	for _, r := range p.Resources {
		if gone[r.ID] {
			continue
		}
		r.StandsOn = slices.DeleteFunc(slices.Clone(r.StandsOn), func(id string) bool { return gone[id] })
		r.Dangle(func(id string) bool { return gone[id] })
		out.Resources = append(out.Resources, r)
	}
	out.Steps = Without(p.Steps, func(s *plan.Step) bool { return gone[s.Resource] || gone[s.Volume] })
	for i := range out.Steps {
		unpacked(&out.Steps[i], func(id string) bool { return !gone[id] })
	}
	return plan.Reindexed(&out)
}

// unpacked has disks that were filled from a package at their site, which is not kept there any more, be filled from its file if they ever are again.
func unpacked(s *plan.Step, there func(id string) bool) {
	if s.Filling == nil || s.Filling.Object == "" || there(s.Filling.Object) {
		return
	}
	from := *s.Filling
	from.Object = ""
	s.Filling, s.Title = &from, "write its disks"
}

// Without is the steps of a plan but some. What came after those comes after what they came after, as it stands and in the whole of what is wanted.
func Without(steps []plan.Step, gone func(s *plan.Step) bool) []plan.Step {
	after, all := map[string][]string{}, map[string][]string{}
	for i := range steps {
		if s := &steps[i]; gone(s) {
			after[s.ID], all[s.ID] = s.After, whole(s)
		}
	}
	out := make([]plan.Step, 0, len(steps)-len(after))
	for _, s := range steps {
		if _, is := after[s.ID]; is {
			continue
		}
		s.After = through(s.After, after)
		if s.Whole != nil {
			s.Whole = through(s.Whole, all)
		}
		out = append(out, s)
	}
	return out
}
