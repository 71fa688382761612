package change

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"maps"
	"slices"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// MemoryID is the id of what a set keeps of the memory of an instance.
func MemoryID(instance, set string) string { return SnapshotID(instance+".memory", set) }

// machinesOf are the machines of disks, and those disks that are of none.
func machinesOf(disks []disk) []string {
	var out []string
	for _, d := range disks {
		out = append(out, cmp.Or(d.on, d.id))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// remembered are the machines of disks whose memory is kept: those that are on.
func (s *Snapping) remembered(from Standing, disks []disk) []*plan.Resource {
	var out []*plan.Resource
	if !s.Memory {
		return nil
	}
	for _, id := range machinesOf(disks) {
		if m := from.Plan.Resource(id); m.Kind == kinds.Instance && !m.Off {
			out = append(out, m)
		}
	}
	return out
}

// parts is how many snapshots there are in the set of some disks.
func (s *Snapping) parts(from Standing, disks []disk) int {
	return len(disks) + len(s.remembered(from, disks))
}

// taken are the steps after which the set of some disks is whole.
func (s *Snapping) taken(from Standing, disks []disk) []string {
	var out []string
	for _, d := range disks {
		out = append(out, op.Create.On(SnapshotID(d.id, s.Set)))
	}
	for _, m := range s.remembered(from, disks) {
		out = append(out, op.Create.On(MemoryID(m.ID, s.Set)))
	}
	return out
}

// takeMemory adds what is kept of the memory of the machines of disks, which stand still after some steps.
func (s *Snapping) takeMemory(from Standing, p *plan.Plan, disks []disk, after []string) {
	for _, m := range s.remembered(from, disks) {
		gib := m.AsInstance().MemoryGiB
		r := plan.Resource{ID: MemoryID(m.ID, s.Set), Node: m.Node + ".snapshot", Title: m.Title + ", memory of " + s.Set, Kind: kinds.Snapshot, Service: m.Service, Site: m.Site,
			Zone: m.Zone, Detail: estate.GiB(gib), Change: plan.Build, Reasons: []string{"it is taken"},
			Spec: plan.SnapshotSpec{Set: s.Set, Of: m.ID, DiskGiB: gib, Memory: true, Parts: s.parts(from, disks), Barrier: s.Barrier, Holds: shape(from, m.ID)}}
		if s.Cost != nil {
			r.CostPerHour = s.Cost(m.Site, gib)
			p.CostPerHour += r.CostPerHour
		}
		p.Resources = append(p.Resources, r)
		kept := stepOf(op.Create, &r, "keep the memory of "+m.ID, 10)
		kept.After = after
		p.Steps = append(p.Steps, kept)
	}
}

// shape says as what a machine stands whose memory is kept: which it is at its site, of what size, the software on it, and what it has attached. Its memory means
// something to that machine alone.
func shape(s Standing, instance string) map[string]string {
	out := held(s, instance, true)
	has := func(id string, more ...any) {
		out[id] = fmt.Sprintf("%x", sha256.Sum256([]byte(fmt.Sprint(append([]any{s.Plan.Known[id]["site.id"]}, more...)...))))
	}
	if m := s.Plan.Resource(instance); m != nil { // a machine of another size cannot go on from what was in the memory of this
		has(instance, m.AsInstance().Size, m.AsInstance().Cores, m.AsInstance().MemoryGiB)
	}
	for i := range s.Plan.Steps {
		st := &s.Plan.Steps[i]
		switch r := s.Plan.Resource(st.Resource); {
		case st.Op == op.Attach && st.Resource == instance:
			has(st.Volume)
		case st.Op == op.Plug && r.AsInterface().Instance == instance:
			has(r.ID)
		}
	}
	return out
}

// KeepsMemory reports that a set keeps what was in memory.
func KeepsMemory(s Standing, set string) bool {
	return slices.ContainsFunc(s.Plan.Resources, func(r plan.Resource) bool { return r.AsSnapshot().Set == set && r.AsSnapshot().Memory })
}

// Recalled is the plan that has machines go on from where they were when a set was taken that keeps their memory: they stand still, are switched off as they
// are, have their disks hold what they held, and go on with what was in memory. No script is run. What there is now is kept so too before, if r says so.
func Recalled(from Standing, r Restoring, purpose string) (*plan.Plan, error) {
	list, err := r.disks(from)
	if err != nil {
		return nil, err
	}
	machines, err := r.machines(from, list)
	if err != nil {
		return nil, err
	}
	p := kept(from, purpose)
	var stand, off []string
	for _, m := range machines {
		s := stepOf(op.Suspend, m, "let it stand still", 1)
		p.Steps, stand = append(p.Steps, s), append(stand, s.ID)
	}
	after := stand
	if r.Before != nil {
		if after, err = r.before(from, p, list, stand); err != nil {
			return nil, err
		}
	}
	for _, m := range machines {
		s := stepOf(op.Halt, m, "switch off", 1)
		s.After = after
		s.Drops = runningIn(from.Plan, func(x *plan.Resource) bool { return instanceOf(from.Plan, x) == m.ID })
		p.Steps, off = append(p.Steps, s), append(off, s.ID)
	}
	restored := r.restores(from, p, list, slices.Concat(after, off))
	var on []string
	for _, m := range machines {
		s := stepOf(op.Recall, m, "go on from "+r.Set, 5)
		s.After, s.Restoring = slices.Concat(off, restored), &plan.Restoring{Snapshot: MemoryID(m.ID, r.Set), Set: r.Set}
		p.Steps, on = append(p.Steps, s), append(on, s.ID)
	}
	looks(from, p, machines, on)
	p.Secrets = p.SecretsAsked()
	return p, plan.Reindexed(p).Arrange()
}

// machines are those whose memory is recalled. All of them have to be as they were, and all of their disks to be restored with it.
func (r *Restoring) machines(from Standing, list []disk) ([]*plan.Resource, error) {
	var out []*plan.Resource
	for _, id := range machinesOf(list) {
		m := from.Plan.Resource(id)
		if m.Kind != kinds.Instance {
			continue // a volume that is attached to nothing
		}
		keeps := from.Plan.Resource(MemoryID(id, r.Set))
		whole, err := disksOf(from, []string{id})
		if err != nil {
			return nil, err
		}
		switch {
		case keeps == nil && !m.Off:
			return nil, fmt.Errorf("%s was off when %s was taken, and is on: switch it off first, or restore disks only", id, r.Set)
		case keeps == nil:
			continue
		case m.Off:
			return nil, fmt.Errorf("%s is off: switch it on first, or restore disks only", id)
		case from.Unsure[haltOf(id)] || slices.ContainsFunc(slices.Collect(maps.Keys(holds(from, id))), func(on string) bool { return from.Unsure[op.Start.On(on)] }):
			return nil, fmt.Errorf("how %s stands is not known: mend its deployment first, or restore disks only", id)
		case slices.ContainsFunc(whole, func(d disk) bool { return !slices.Contains(list, d) }):
			return nil, fmt.Errorf("the memory of %s means nothing without all of its disks: restore all of them, or disks only", id)
		case !maps.Equal(keeps.AsSnapshot().Holds, shape(from, id)):
			return nil, fmt.Errorf("%s is another by now than when its memory was kept: restore disks only", id)
		}
		out = append(out, m)
	}
	if out == nil {
		return nil, fmt.Errorf("%s keeps no memory of these: restore disks only", r.Set)
	}
	return out, nil
}

// before adds what keeps all that there is now, after machines stand still, and returns the steps after which it is kept.
func (r *Restoring) before(from Standing, p *plan.Plan, list []disk, stand []string) ([]string, error) {
	r.Before.Barrier, r.Before.Memory = true, true
	for _, d := range list {
		if id := SnapshotID(d.id, r.Before.Set); from.Plan.Resource(id) != nil {
			return nil, fmt.Errorf("there is a snapshot %s already", id)
		}
	}
	r.Before.take(from, p, list, stand)
	return slices.Concat(stand, r.Before.taken(from, list)), nil
}

// restores adds the steps that restore disks after others, and returns them.
func (r *Restoring) restores(from Standing, p *plan.Plan, list []disk, after []string) []string {
	var out []string
	for _, d := range list {
		s := r.restoring(from, d, after)
		p.Steps, out = append(p.Steps, s), append(out, s.ID)
		if x := p.Resource(d.id); x != nil {
			x.Change, x.Reasons = plan.Amend, []string{"it is restored"}
		}
	}
	return out
}

// restoring is the step that restores a disk after others.
func (r *Restoring) restoring(from Standing, d disk, after []string) plan.Step {
	s := stepOf(op.Restore, from.Plan.Resource(d.id), "restore "+r.Set, 5)
	s.After, s.Restoring = after, &plan.Restoring{Snapshot: SnapshotID(d.id, r.Set), Set: r.Set}
	return s
}

// looks adds the looks at what machines serve, after they go on.
func looks(from Standing, p *plan.Plan, machines []*plan.Resource, on []string) {
	for i := range from.Plan.Steps {
		s := from.Plan.Steps[i]
		at := instanceOf(from.Plan, from.Plan.Resource(s.Resource))
		if s.Op != op.Check && s.Op != op.Answer || !slices.ContainsFunc(machines, func(m *plan.Resource) bool { return m.ID == at }) {
			continue
		}
		s.After = on
		p.Steps = append(p.Steps, s)
	}
}

// recalled has what was started on an instance before the run run again: its memory has it.
func (f *fold) recalled(instance string) {
	for _, s := range f.was.Steps {
		if s.Op == op.Start && instanceOf(f.was, f.was.Resource(s.Resource)) == instance {
			f.steps[s.ID] = s
		}
	}
}
