package change

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Verb is what is done about one resource that is not at its site as it is declared.
type Verb string

// The verbs. Accept declares what the site has; Correct makes the site what is declared; Rebuild builds again what is
// gone; GiveUp declares no more what is gone; Restart switches off and on again an instance that runs and does not answer.
const (
	Accept  Verb = "accept"
	Correct Verb = "correct"
	Rebuild Verb = "rebuild"
	GiveUp  Verb = "give up"
	Restart Verb = "restart"
)

// Deviation is a resource that is not as declared, what the site has of it, and what is to be done about that. Seen and
// Mend are attributes by the names of package inventory; Mend are those that are set at the site, "" takes a tag away.
type Deviation struct {
	Resource   string
	Verb       Verb
	Seen, Mend map[string]string
}

// Settle compiles the plan that settles deviations of what stands: it takes note of what was seen, and leads from that to
// what was declared, or to what is declared from now on. Nothing else of the deployment is changed.
func Settle(from Standing, all []Deviation, purpose string) (*plan.Plan, error) {
	s := &settler{from: from, notes: map[string]*plan.Step{}}
	s.seen, s.want = clone(from), clone(from)
	for i := range all {
		if from.Plan.Resource(all[i].Resource) == nil {
			return nil, fmt.Errorf("nothing of the deployment is called %q", all[i].Resource)
		}
		s.take(&all[i])
	}
	s.lose()
	s.rest()
	p, err := Compile(s.seen, s.want.Plan, purpose)
	if err != nil {
		return nil, err
	}
	s.complete(p)
	if err := plan.Reindexed(p).Arrange(); err != nil {
		return nil, fmt.Errorf("the change cannot be put in order: %w", err)
	}
	return p, nil
}

// settler works out what was seen and what is wanted.
type settler struct {
	from, seen, want Standing
	// notes are the steps that take note, by resource; mends those that set attributes at the site.
	notes map[string]*plan.Step
	mends []plan.Step
	// gone is what was lost, given those that are not built again.
	gone, given []string
	// restarted are instances that are switched off before they are switched on again.
	restarted []string
	// offSeen and offWanted are instances that were seen switched off, and those that may stay so.
	offSeen, offWanted map[string]bool
}

// clone copies as much of what stands as is changed here.
func clone(s Standing) Standing {
	p := *s.Plan
	p.Resources, p.Known = slices.Clone(p.Resources), map[string]map[string]string{}
	for id, a := range s.Plan.Known {
		p.Known[id] = maps.Clone(a)
	}
	return Standing{Plan: plan.Reindexed(&p), Unsure: maps.Clone(s.Unsure), Since: s.Since, Order: s.Order}
}

func (s *settler) take(d *Deviation) {
	r := s.from.Plan.Resource(d.Resource)
	if len(d.Mend) > 0 {
		s.mends = append(s.mends, plan.Step{ID: op.Mend.On(r.ID), Resource: r.ID, Site: r.Site, Op: op.Mend, Seconds: 1,
			Title: "set " + strings.Join(slices.Sorted(maps.Keys(d.Mend)), ", "), Mends: d.Mend, Check: plan.Condition{Kind: plan.CheckSite}})
	}
	switch d.Verb {
	case Accept:
		s.note(r, op.Accept, "declare what the site has")
		s.patch(&s.seen, d)
		s.patch(&s.want, d)
	case Correct:
		s.patch(&s.seen, d)
	case Restart: // as though it had been off, once it is
		s.off(false, r.ID, true)
		s.restarted = append(s.restarted, r.ID)
	case Rebuild, GiveUp:
		s.note(r, op.Lose, "note that it is gone")
		s.gone = append(s.gone, r.ID)
		if d.Verb == GiveUp {
			s.given = append(s.given, r.ID)
		}
	}
}

func (s *settler) note(r *plan.Resource, does op.Op, title string) {
	s.notes[r.ID] = &plan.Step{ID: does.On(r.ID), Resource: r.ID, Site: r.Site, Op: does, Title: title, Seconds: 0.1,
		Check: plan.Condition{Kind: plan.CheckSite}}
}

// patchSpec makes a specification what was seen of it; what is no number is let be.
func patchSpec(r *plan.Resource, name, v string) {
	n, err := strconv.ParseFloat(v, 64)
	number := err == nil
	switch {
	case name == "cores" && number:
		plan.Respec(r, func(s *plan.InstanceSpec) { s.Cores = int(n) })
	case name == "memory_gib" && number:
		plan.Respec(r, func(s *plan.InstanceSpec) { s.MemoryGiB = n })
	case name == "disk_gib" && number:
		plan.Respec(r, func(s *plan.InstanceSpec) { s.DiskGiB = n })
		plan.Respec(r, func(s *plan.VolumeSpec) { s.DiskGiB = n })
	case name == "size":
		plan.Respec(r, func(s *plan.InstanceSpec) { s.Size = v })
	case name == "inside_address":
		plan.Respec(r, func(s *plan.InterfaceSpec) { s.Address = v })
	}
}

// patch makes a resource what was seen of it.
func (s *settler) patch(of *Standing, d *Deviation) {
	r := of.Plan.Resource(d.Resource)
	declare(r, d.Seen)
	for name, v := range d.Seen {
		switch name {
		case "state":
			s.off(of == &s.want, r.ID, v != "active")
		case "address", "mac":
			s.know(of, r.ID, name, v)
		case "provider_id":
			s.know(of, r.ID, "site.id", v)
		}
	}
}

func (s *settler) know(of *Standing, resource, name, v string) {
	if of.Plan.Known[resource] == nil {
		of.Plan.Known[resource] = map[string]string{}
	}
	of.Plan.Known[resource][name] = v
}

func (s *settler) off(wanted bool, resource string, off bool) {
	into := &s.offSeen
	if wanted {
		into = &s.offWanted
	}
	if *into == nil {
		*into = map[string]bool{}
	}
	(*into)[resource] = off
}

// rest has nothing run on what was seen switched off, and takes note of what runs no more where that is accepted.
func (s *settler) rest() {
	apply := func(of *Standing, off map[string]bool) {
		if len(off) == 0 {
			return
		}
		of.Plan = Rest(of.Plan, func(r *plan.Resource) bool {
			if v, said := off[r.ID]; said {
				return v
			}
			return r.Off
		})
	}
	apply(&s.seen, s.offSeen)
	apply(&s.want, s.offWanted)
	for id, n := range s.notes {
		if !s.offWanted[id] {
			continue
		}
		for _, step := range s.from.Plan.Steps {
			// What is not asked since all that it leads to rests goes with any of those.
			on := instanceOf(s.from.Plan, s.from.Plan.Resource(step.Resource))
			if (on == id || step.Op == op.Answer && !s.offWanted[on]) && s.want.Plan.Step(step.ID) == nil {
				n.Drops = append(n.Drops, step.ID)
			}
		}
	}
}

// lose takes what is gone out of what was seen, and what is given up out of what is wanted, with all that stood on it.
func (s *settler) lose() {
	if len(s.gone) == 0 {
		return
	}
	s.seen = without(s.seen, s.gone, true)
	for _, x := range s.from.Plan.Steps { // where a machine is gone, and what is beside it stands, that it was filled is known of that alone
		if x.Filling != nil && !s.from.Unsure[x.ID] {
			for _, disk := range x.Filling.Disks {
				if s.seen.Plan.Resource(disk) != nil {
					s.know(&s.seen, disk, plan.AttrFilled, x.Filling.SHA256)
				}
			}
		}
	}
	for _, id := range s.gone {
		left := without(s.from, []string{id}, true)
		for _, step := range s.from.Plan.Steps {
			if left.Plan.Step(step.ID) == nil {
				s.notes[id].Drops = append(s.notes[id].Drops, step.ID)
			}
		}
	}
	if len(s.given) > 0 {
		s.want = without(s.want, s.given, false)
	}
}

// without is what stands when some resources are gone, and all that was on them. Where disks are gone that other things go on without, those stand, or, if they
// are to be done again, do not.
func without(from Standing, ids []string, again bool) Standing {
	f := newFold(from, from.Plan)
	for _, id := range ids {
		for step, st := range f.steps {
			if st.Resource == id || st.Volume == id {
				delete(f.steps, step)
				delete(f.unsure, step)
			}
		}
		if r := f.resources[id]; r.Kind == kinds.Instance {
			f.ruin(id)
		}
		if again {
			f.forget(had(from.Plan, id))
		}
		delete(f.known, id)
	}
	out := f.standing()
	plan.Reindexed(out.Plan)
	return out
}

// complete adds the steps that take note, before everything else, and those that set attributes at the site.
func (s *settler) complete(p *plan.Plan) {
	plan.Reindexed(p)
	var first []string
	for _, id := range slices.Sorted(maps.Keys(s.notes)) {
		first = append(first, s.notes[id].ID)
	}
	for i := range p.Steps {
		if len(p.Steps[i].After) == 0 {
			p.Steps[i].After = slices.Clone(first)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(s.notes)) {
		p.Steps = append(p.Steps, *s.notes[id])
	}
	for _, m := range s.mends {
		for i := range p.Steps {
			if p.Steps[i].Resource == m.Resource && p.Steps[i].Op == op.Create {
				m.After = []string{p.Steps[i].ID} // it is set of what is built anew
			}
		}
		p.Steps = append(p.Steps, m)
	}
	for _, id := range s.restarted {
		off := stepOf(op.Halt, s.from.Plan.Resource(id), "switch off", 1)
		off.After = slices.Clone(first)
		off.Drops = runningIn(s.from.Plan, func(r *plan.Resource) bool { return instanceOf(s.from.Plan, r) == id }) // it ends with it
		if on := p.Step(op.Boot.On(id)); on != nil {
			on.After = append(on.After, off.ID)
		}
		p.Steps = append(p.Steps, off)
	}
	has := map[string]bool{}
	for i := range p.Resources {
		r := &p.Resources[i]
		has[r.ID] = true
		if n := s.notes[r.ID]; n != nil && n.Op == op.Accept && r.Change == plan.Keep {
			r.Change, r.Reasons = plan.Amend, []string{"what the site has is declared from now on"}
		}
	}
	for i := range s.mends {
		if r := p.Resource(s.mends[i].Resource); r != nil && r.Change == plan.Keep {
			r.Change, r.Reasons = plan.Amend, []string{"the site has it otherwise than recorded"}
		}
	}
	for i := range s.from.Plan.Resources {
		r := s.from.Plan.Resources[i]
		if !has[r.ID] && s.notes[r.ID] != nil {
			r.Change, r.Reasons = plan.Retire, []string{"it is gone, and nobody wants it back"}
			r.StandsOn = slices.DeleteFunc(slices.Clone(r.StandsOn), func(on string) bool { return !has[on] })
			r.Dangle(func(id string) bool { return !has[id] })
			p.Resources = append(p.Resources, r)
		}
	}
	for _, site := range s.from.Plan.Sites {
		if !slices.ContainsFunc(p.Sites, func(x plan.Site) bool { return x.Name == site.Name }) {
			p.Sites = append(p.Sites, site)
		}
	}
}

// Notes reports that a plan takes note of things alone: it changes nothing at any site, and may be taken back by
// forgetting it.
func Notes(p *plan.Plan) bool {
	return !slices.ContainsFunc(p.Steps, func(s plan.Step) bool { return s.Op != op.Accept && s.Op != op.Lose })
}

// Thing is something at a site that belongs to no deployment.
type Thing struct {
	Kind     kinds.Kind
	Name     string
	Site     string
	Provider string
	// DiskGiB is the size of its disk, 0 if it is not known.
	DiskGiB float64
	// Remove takes it away, else Mend are attributes that are set.
	Remove bool
	Mend   map[string]string
}

// Handle compiles the plan that removes things that belong to no deployment, or sets attributes of them.
func Handle(things []Thing, purpose, currency string) (*plan.Plan, error) {
	p := &plan.Plan{Version: plan.Version, Name: "by-hand", Currency: currency, Inputs: map[string]any{}, Purpose: purpose,
		Services: []plan.Service{}, Known: map[string]map[string]string{}}
	for _, t := range things {
		id := t.Site + "/" + t.Provider
		r := plan.Resource{ID: id, Node: t.Name, Title: t.Name, Kind: t.Kind, Site: t.Site, Change: plan.Amend, Spec: plan.Sized(t.Kind, t.DiskGiB)}
		step := plan.Step{ID: op.Mend.On(id), Resource: id, Site: t.Site, Op: op.Mend, Seconds: 1, Mends: t.Mend,
			Title: "set " + strings.Join(slices.Sorted(maps.Keys(t.Mend)), ", "), Check: plan.Condition{Kind: plan.CheckSite}}
		if t.Remove {
			r.Change, r.Reasons = plan.Retire, []string{"nobody declared or recorded it, and it is to go"}
			step.ID, step.Op, step.Mends, step.Title = op.Remove.On(id), op.Remove, nil, "remove "+string(t.Kind)
		}
		p.Known[id] = map[string]string{"site.id": t.Provider}
		p.Resources, p.Steps = append(p.Resources, r), append(p.Steps, step)
		if !slices.ContainsFunc(p.Sites, func(x plan.Site) bool { return x.Name == t.Site }) {
			p.Sites = append(p.Sites, plan.Site{Name: t.Site})
		}
	}
	if err := p.Arrange(); err != nil {
		return nil, err
	}
	return p, nil
}

// recorded is what a thing was like, by its record.
func recorded(r *inventory.Record) plan.Spec {
	switch r.Class {
	case kinds.Network:
		return plan.NetworkSpec{Label: r.Name, CIDR: r.Attributes["cidr"], VLAN: r.Attributes["vlan"]}
	case kinds.Instance:
		return plan.InstanceSpec{Hostname: r.Attributes[inventory.AttrHostname], Cores: int(r.Number(inventory.AttrCores)), MemoryGiB: r.Number(inventory.AttrMemory),
			DiskGiB: r.Number(inventory.AttrDisk), Size: r.Attributes[inventory.AttrSize], Image: r.Attributes[inventory.AttrImage]}
	}
	return plan.Sized(r.Class, r.Number(inventory.AttrDisk))
}

// Restore compiles the plan that builds again what was removed, as it was recorded. What was on its disks is lost.
func Restore(removed []inventory.Record, currency string) (*plan.Plan, error) {
	p := &plan.Plan{Version: plan.Version, Name: "by-hand", Currency: currency, Inputs: map[string]any{}, Purpose: "build again what was removed",
		Services: []plan.Service{}}
	for i := range removed {
		r := &removed[i]
		if !r.Class.BuiltAlone() {
			return nil, fmt.Errorf("a %s cannot be built by itself", r.Class)
		}
		p.Resources = append(p.Resources, plan.Resource{ID: r.Name, Node: r.Name, Title: r.Name, Kind: r.Class, Site: r.Site, Zone: r.Attributes[inventory.AttrZone],
			Change: plan.Build, Reasons: []string{"it was removed, and that is undone"}, Spec: recorded(r), CostPerHour: r.Cost()})
		p.Steps = append(p.Steps, plan.Step{ID: op.Create.On(r.Name), Resource: r.Name, Op: op.Create, Site: r.Site, Title: "create " + string(r.Class), Seconds: 20,
			Check: plan.Condition{Kind: plan.CheckSite}})
		if !slices.ContainsFunc(p.Sites, func(x plan.Site) bool { return x.Name == r.Site }) {
			p.Sites = append(p.Sites, plan.Site{Name: r.Site})
		}
	}
	if err := p.Arrange(); err != nil {
		return nil, err
	}
	return p, nil
}

// NeededBy are the resources that are given what is known of a resource, or of what is on it: they could not be built
// again without it.
func NeededBy(from Standing, resource string) []string {
	left := without(clone(from), []string{resource}, false)
	gone := map[string]bool{}
	for i := range from.Plan.Resources {
		if id := from.Plan.Resources[i].ID; left.Plan.Resource(id) == nil {
			gone[id] = true
		}
	}
	var out []string
	for i := range left.Plan.Steps {
		s := &left.Plan.Steps[i]
		for id := range attributesOf(s) {
			if gone[id] && !slices.Contains(out, s.Resource) {
				out = append(out, s.Resource)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Beside is one plan that does what two do that have nothing in common. Its purpose is that of the second, and of the
// first where that does anything.
func Beside(a, b *plan.Plan) (*plan.Plan, error) {
	p := *a
	p.Resources, p.Steps = slices.Concat(a.Resources, b.Resources), slices.Concat(a.Steps, b.Steps)
	p.Sites = slices.Clone(a.Sites)
	for _, s := range b.Sites {
		if !slices.ContainsFunc(p.Sites, func(x plan.Site) bool { return x.Name == s.Name }) {
			p.Sites = append(p.Sites, s)
		}
	}
	p.Purpose = b.Purpose
	if len(a.Steps) > 0 {
		p.Purpose = a.Purpose + ", and " + b.Purpose
	}
	if err := plan.Reindexed(&p).Arrange(); err != nil {
		return nil, err
	}
	return &p, nil
}
