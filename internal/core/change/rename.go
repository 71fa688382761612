package change

import (
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Renamed is what stands with some resources under other ids, wherever they are referred to. What is not renamed refers
// to resources by the ids it did: an endpoint goes on belonging to the software of that id.
func Renamed(s Standing, names map[string]string) Standing {
	if len(names) == 0 {
		return s
	}
	r := renaming(names)
	out := Standing{Plan: r.plan(s.Plan), Since: map[string]time.Time{}, Unsure: map[string]bool{}, Order: map[string][]string{}}
	// What is not renamed comes after what goes by those ids: what it stands on there, once that is built.
	for id, before := range s.Order {
		if _, renamed := r[op.ResourceOf(id)]; !renamed {
			out.Order[id] = before
		}
	}
	for id, before := range s.Order {
		if to := r.step(id); to != id {
			out.Order[to] = r.steps(before)
		}
	}
	settleOrder(out.Plan, out.Order)
	for id, v := range s.Since {
		out.Since[r.id(id)] = v
	}
	for id, v := range s.Unsure {
		out.Unsure[r.step(id)] = v
	}
	return out
}

// renaming says by which new id a resource goes.
type renaming map[string]string

func (r renaming) id(id string) string {
	if to, ok := r[id]; ok {
		return to
	}
	return id
}

// step is the id of a step whose resource, or whose volume, is renamed.
func (r renaming) step(id string) string {
	parts := op.ParseID(id)
	if parts.Op == "" {
		return id
	}
	return op.ID{Resource: r.id(parts.Resource), Op: parts.Op, Part: r.id(parts.Part)}.String()
}

func (r renaming) steps(ids []string) []string {
	var out []string
	for _, id := range ids {
		out = append(out, r.step(id))
	}
	return out
}

func (r renaming) plan(p *plan.Plan) *plan.Plan {
	out := *p
	out.Resources, out.Steps = slices.Clone(p.Resources), slices.Clone(p.Steps)
	out.Known = map[string]map[string]string{}
	out.Origins = map[string]string{}
	for id, at := range p.Known {
		out.Known[r.id(id)] = r.attributes(at)
	}
	for id, origin := range p.Origins {
		if to := r.id(id); to != origin {
			out.Origins[to] = origin
		}
	}
	for from, to := range r {
		if p.Resource(from) == nil || p.Origins[from] != "" || to == from {
			continue
		}
		out.Origins[to] = from
	}
	for i := range out.Resources {
		r.resource(&out.Resources[i])
	}
	out.Steps = slices.DeleteFunc(out.Steps, func(s plan.Step) bool {
		_, renamed := r[s.Resource]
		return renamed && s.Op == op.Name // a name goes with what serves, not with what is kept
	})
	for i := range out.Steps {
		s := &out.Steps[i]
		if _, renamed := r[s.Resource]; renamed || r[s.Volume] != "" {
			s.ID, s.Resource, s.Volume = r.step(s.ID), r.id(s.Resource), r.id(s.Volume)
		}
	}
	return plan.Reindexed(&out)
}

// resource renames a resource; one that is renamed refers to others that are by their new ids.
func (r renaming) resource(x *plan.Resource) {
	x.StandsOn = slices.Clone(x.StandsOn)
	if _, renamed := r[x.ID]; !renamed {
		return
	}
	x.ID = r.id(x.ID)
	x.PartOf = r.id(x.PartOf)
	plan.Respec(x, func(s *plan.InterfaceSpec) { s.Instance = r.id(s.Instance) })
	for i, on := range x.StandsOn {
		x.StandsOn[i] = r.id(on)
	}
}

// attributes renames those that are known of a volume.
func (r renaming) attributes(at map[string]string) map[string]string {
	out := maps.Clone(at)
	for name, v := range at {
		if volume, ok := strings.CutPrefix(name, attachmentID); ok && r[volume] != "" {
			delete(out, name)
			out[attachmentID+r.id(volume)] = v
		}
	}
	return out
}

// attachmentID begins the attribute of an instance under which the site's id of an attachment is known.
const attachmentID = "site.id."
