package change

import (
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// What runs on a machine has put something on the disks that were attached to it, and nobody knows on which: where one of them is built anew, and so is empty, or is
// there no more, all of it is done anew.

// bereft is a volume without which, or with another in the place of which, an instance is after the change; "" if it has what it had. What is built anew itself, or comes with its
// disks, misses nothing.
func (c *compiler) bereft(instance string) string {
	if c.fresh(instance) || c.moving[instance] {
		return ""
	}
	for _, s := range c.oldSteps[instance] {
		if s.Op == op.Attach && c.undo[s.ID] && (c.fresh(s.Volume) || c.to.Step(s.ID) == nil) {
			return s.Volume
		}
	}
	return ""
}

// putsOn is the instance to whose disks a step put something; "" if to none.
func putsOn(p *plan.Plan, s *plan.Step) string {
	r := p.Resource(s.Resource)
	if s.Script == nil || r == nil {
		return ""
	}
	if r.Kind == kinds.Instance {
		return r.ID
	}
	return r.On
}

// forget takes what was put on the disks of instances out of what stands, but not that it runs: it is to be stopped.
func (f *fold) forget(instances []string) {
	for id, s := range f.steps {
		if s.Op != op.Start && slices.Contains(instances, putsOn(f.was, &s)) {
			delete(f.steps, id)
			delete(f.unsure, id)
		}
	}
}

// had are the instances that had a volume.
func had(p *plan.Plan, volume string) []string {
	var out []string
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Op == op.Attach && s.Volume == volume {
			out = append(out, s.Resource)
		}
	}
	return out
}

// bereaves has what was put on disks that a run took away be unsure: if the run did not come to doing it again, the next change does.
func (f *fold) bereaves(s *plan.Step) {
	volume := f.of.Resource(s.Resource)
	if s.Op != op.Remove || volume == nil || volume.Kind != kinds.Volume || len(f.of.Renames) > 0 {
		return
	}
	without := had(f.was, volume.ID)
	for id, st := range f.steps {
		on := putsOn(f.was, &st)
		if on == "" || !slices.Contains(without, on) {
			continue
		}
		if r := f.of.Resource(on); r == nil || r.Change == plan.Keep || r.Change == plan.Amend {
			f.unsure[id] = true
			f.unsure[stopOf(id)] = f.unsure[stopOf(id)] || st.Op == op.Start
		}
	}
}
