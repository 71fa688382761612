package change_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// write has everything that is on write something to all its disks.
func (w *lifeWorld) write() {
	for id, m := range w.machines {
		if m.on && m.site != w.gone && !m.void && !m.aside { // what is written there is lost
			w.truth[workload(id)]++
			m.wrote = w.truth[workload(id)]
		}
	}
	for id, v := range w.volumes {
		if m := w.machines[v.at]; m != nil && m.on && m.site != w.gone && !m.void && !m.aside {
			w.truth[workload(id)]++
			v.wrote = w.truth[workload(id)]
		}
	}
}

// forgets refuses to remove the last of what was written, unless the plan says so.
func (w *lifeWorld) forgets(p *plan.Plan, s *plan.Step) error {
	wrote := 0
	if m := w.machines[s.Resource]; m != nil {
		wrote = m.wrote
	}
	if v := w.volumes[s.Resource]; v != nil {
		wrote = v.wrote
	}
	name := workload(s.Resource)
	if wrote == 0 || wrote != w.truth[name] {
		return nil
	}
	for id, m := range w.machines {
		if id != s.Resource && workload(id) == name && m.wrote == wrote {
			return nil
		}
	}
	for id, v := range w.volumes {
		if id != s.Resource && workload(id) == name && v.wrote == wrote {
			return nil
		}
	}
	if !slices.ContainsFunc(p.Losses(), func(l plan.Loss) bool { return l.Resource == s.Resource }) {
		return fmt.Errorf("the last of what was written to %s goes, and the plan does not say so", s.Resource)
	}
	w.truth[name] = 0
	return nil
}

// snap keeps what a disk holds.
func (w *lifeWorld) snap(r *plan.Resource) error {
	of := r.AsSnapshot().Of
	s := &lifeSnap{site: r.Site}
	machine := of
	v, m := w.volumes[of], w.machines[of]
	switch {
	case w.snaps[r.ID] != nil:
		return fmt.Errorf("it is there already")
	case r.AsSnapshot().Memory:
		return w.remember(r, m)
	case v != nil && v.site == r.Site:
		s.wrote, machine, s.soft = v.wrote, v.at, maps.Clone(v.soft)
	case m != nil && m.site == r.Site:
		s.wrote, s.soft = m.wrote, maps.Clone(m.soft)
	default:
		return fmt.Errorf("there is no %s at %s", of, r.Site)
	}
	if on := w.machines[machine]; on != nil && on.on && r.AsSnapshot().Barrier {
		return fmt.Errorf("%s is on, and was to stand still", machine)
	}
	if on := w.machines[machine]; on != nil && on.on && !w.broke {
		for id, x := range on.soft {
			if x.runs && x.quiesces && !x.quiet && !w.unsure[id+"/start"] && !w.unsure[machine+"/halt"] {
				return fmt.Errorf("%s on %s is not quiet", id, machine)
			}
		}
	}
	w.snaps[r.ID] = s
	return nil
}

// remember keeps the memory of a machine that stands still: what runs there, on which disks.
func (w *lifeWorld) remember(r *plan.Resource, m *lifeMachine) error {
	if m == nil || m.site != r.Site || m.on || !m.suspended {
		return fmt.Errorf("%s does not stand still: %+v", r.AsSnapshot().Of, m)
	}
	w.snaps[r.ID] = &lifeSnap{site: r.Site, soft: maps.Clone(m.soft), disks: w.written(r.AsSnapshot().Of), spec: m.spec}
	return nil
}

// written is what all disks of a machine hold.
func (w *lifeWorld) written(machine string) map[string]int {
	out := map[string]int{machine: w.machines[machine].wrote}
	for id, v := range w.volumes {
		if v.at == machine {
			out[id] = v.wrote
		}
	}
	return out
}

// recall has a machine that is off go on from what a snapshot keeps of its memory: all its disks must hold what they held then.
func (w *lifeWorld) recall(s *plan.Step) error {
	from, m := w.snaps[s.Restoring.Snapshot], w.machines[s.Resource]
	switch {
	case from == nil || m == nil:
		return fmt.Errorf("there is no memory %s of %s", s.Restoring.Snapshot, s.Resource)
	case m.on || m.suspended:
		return fmt.Errorf("%s is not off while its memory is recalled", s.Resource)
	case m.spec != from.spec || !maps.Equal(from.disks, w.written(s.Resource)):
		return fmt.Errorf("%s is another than when its memory was kept: %v, %v", s.Resource, from.disks, w.written(s.Resource))
	}
	m.on, m.soft = true, maps.Clone(from.soft)
	return nil
}

// restore has a disk hold what a snapshot keeps; its machine must be off.
func (w *lifeWorld) restore(s *plan.Step) error {
	from, ofCopy := w.snaps[s.Restoring.Snapshot], strings.Contains(s.Restoring.Snapshot, "~")
	v, m := w.volumes[s.Resource], w.machines[s.Resource]
	switch {
	case from == nil:
		return fmt.Errorf("there is no snapshot %s", s.Restoring.Snapshot)
	case v != nil:
		if on := w.machines[v.at]; on != nil && (on.on || on.suspended) {
			return fmt.Errorf("%s is on while %s is restored", v.at, s.Resource)
		}
		v.wrote, v.begins = from.wrote, ofCopy
	case m == nil || m.on || m.suspended:
		return fmt.Errorf("%s is not off while it is restored", s.Resource)
	default:
		m.wrote, m.soft, m.begins = from.wrote, maps.Clone(from.soft), ofCopy
		m.still()
	}
	if !ofCopy {
		w.truth[workload(s.Resource)] = from.wrote
	}
	return nil
}

// counts has what the disks of a machine hold be what was written last, whatever another writes that may be on in its place.
func (w *lifeWorld) counts(machine, other string) {
	if m := w.machines[other]; m != nil {
		m.void = true
	}
	if m := w.machines[machine]; m != nil {
		m.aside = false
		w.truth[workload(machine)] = m.wrote
	}
	for id, v := range w.volumes {
		if v.at == machine {
			w.truth[workload(id)] = v.wrote
		}
	}
}

// copy copies disks: what is copied from goes on while rounds are made, and stands still for the last.
func (w *lifeWorld) copy(s *plan.Step) error {
	for _, d := range s.Copying.Disks {
		if s.Op == op.Renew {
			from, to := w.snaps[d.From], w.volumes[d.To]
			if from == nil || to == nil {
				return fmt.Errorf("%s cannot be made like %s", d.To, d.From)
			}
			to.wrote, to.soft = from.wrote, maps.Clone(from.soft)
			continue
		}
		if from, to := w.volumes[d.From], w.volumes[d.To]; from != nil && to != nil {
			if m := w.machines[from.at]; s.Op == op.Finish && m != nil && m.on {
				return fmt.Errorf("%s is copied for the last time while it is written to", d.From)
			}
			to.wrote = from.wrote
			continue
		}
		from, to := w.machines[d.From], w.machines[d.To]
		switch {
		case from == nil || to == nil:
			return fmt.Errorf("%s cannot be copied to %s", d.From, d.To)
		case to.on:
			return fmt.Errorf("%s is written to while it is on", d.To)
		case s.Op == op.Finish && from.on:
			return fmt.Errorf("%s is copied for the last time while it is on", d.From)
		}
		to.wrote, to.soft = from.wrote, maps.Clone(from.soft)
		if s.Op != op.Finish || !from.suspended {
			to.still()
		}
	}
	return nil
}
