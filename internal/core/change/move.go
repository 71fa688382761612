package change

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Mode says what a workload does while it is moved.
type Mode string

// The modes. A cold workload stands still from the first byte on; a warm one runs while it is copied and stops for what
// changed last; a live one goes on answering, and is only held up for what changed last.
const (
	Cold Mode = "cold"
	Warm Mode = "warm"
	Live Mode = "live"
	// FromCopy workloads begin with what a copy holds that was kept where they go: nothing is copied any more, and what was written since is lost. See
	// [Replicate].
	FromCopy Mode = "copy"
)

// Moving says which workloads are moved, and how.
type Moving struct {
	// Instances are moved together: none is stopped before all that they hold has been copied.
	Instances []string
	Mode      Mode
	// Copying is how disks are copied; which is left out.
	Copying plan.Copying
	// Off are instances that are switched off and stay so.
	Off []string
	// Set is the one of snapshots of copies that is begun with, of mode [FromCopy]; Gone are sites that do not answer, at which nothing is done: what is left
	// behind there is to be switched off when they do ([Fence]).
	Set  string
	Gone []string
	// Secrets are names of those that are set anew where the workloads go; scripts that are given them are run again.
	Secrets []string
}

// KeptID is the id of what a workload leaves behind at a site until the move is committed.
func KeptID(id, site string) string { return id + "@" + site }

// Move compiles the plan that moves workloads from where they stand to where a design has them: built asleep, copied,
// stopped where they were, started where they go, with everybody told who was given their address. What is left behind is
// kept under ids of its own (see [KeptID]) until the move is committed, which is the difference to the design alone. The
// design that the plan leads to, with what is kept, is returned beside it.
func Move(from Standing, to *plan.Plan, m Moving, purpose string) (move, wanted *plan.Plan, err error) {
	names := map[string]string{}
	for _, id := range m.Instances {
		was, now := from.Plan.Resource(id), to.Resource(id)
		switch {
		case was == nil || was.Kind != kinds.Instance:
			return nil, nil, fmt.Errorf("%q is no instance that stands", id)
		case now == nil || now.Site == was.Site:
			return nil, nil, fmt.Errorf("%s is to stay at %s: there is nothing to move", id, was.Site)
		case was.Off:
			return nil, nil, fmt.Errorf("%s is off; start it, or retire it here and build it there", id)
		case from.Unsure[op.Create.On(id)]:
			return nil, nil, fmt.Errorf("whether %s is whole is not known: mend its deployment first", id)
		}
		for _, part := range partsOf(from.Plan, id) {
			names[part] = KeptID(part, was.Site)
		}
	}
	kept := carried(Renamed(from, names), to, m.Instances)
	ran := kept.Plan
	if m.Mode == FromCopy {
		if err := m.begins(from, to, &kept); err != nil {
			return nil, nil, err
		}
	}
	whole := withKept(to, kept.Plan, names)
	c := newCompiler(kept, m.rested(whole))
	for _, id := range m.Instances {
		c.moving[id] = true
		c.boot[id] = m.Mode != Live
	}
	c.judge()
	c.reenter(m.Secrets)
	c.spread()
	if m.Mode != Live { // a live workload runs on: what is told anew of where others are is stopped for that
		c.forgetUndoOnMoved(nil)
	}
	c.resources()
	for _, id := range m.Instances {
		delete(c.boot, id)
	}
	c.power()
	c.takeBack()
	c.build()
	c.order()
	v := &mover{c: c, m: m, names: names, ran: ran}
	v.steps()
	p := c.plan
	p.Purpose, p.Renames = purpose, names
	v.label(p)
	m.withoutGone(from, p)
	if err := p.Arrange(); err != nil {
		return nil, nil, fmt.Errorf("the move cannot be put in order: %w", err)
	}
	return p, whole, nil
}

// rested is a design in which nothing runs on what is switched off.
func (m Moving) rested(p *plan.Plan) *plan.Plan {
	if len(m.Off) == 0 {
		return p
	}
	return Rest(p, func(r *plan.Resource) bool { return r.Off || slices.Contains(m.Off, r.ID) })
}

// partsOf are an instance, its volumes and its interfaces.
func partsOf(p *plan.Plan, instance string) []string {
	out := []string{instance}
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Op == op.Attach && s.Resource == instance {
			out = append(out, s.Volume)
		}
	}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Interface && r.AsInterface().Instance == instance {
			out = append(out, r.ID)
		}
	}
	return out
}

// carried is what stands with everything on some instances being where a design has it.
func carried(s Standing, to *plan.Plan, instances []string) Standing {
	p := *s.Plan
	p.Resources, p.Steps = slices.Clone(p.Resources), slices.Clone(p.Steps)
	moved := map[string]*plan.Resource{}
	for i := range p.Resources {
		r := &p.Resources[i]
		if on := instanceOf(s.Plan, r); slices.Contains(instances, on) {
			if now := to.Resource(r.ID); now != nil {
				r.Site, r.Zone, r.Host = now.Site, now.Zone, now.Host
				moved[r.ID] = now
			}
		}
	}
	for i := range p.Steps {
		if now := moved[p.Steps[i].Resource]; now != nil {
			p.Steps[i].Site = now.Site
		}
	}
	s.Plan = plan.Reindexed(&p)
	return s
}

// withKept is a design with what is kept of moved workloads beside it, and the networks that this needs.
func withKept(to, standing *plan.Plan, names map[string]string) *plan.Plan {
	out := *to
	out.Resources, out.Steps = slices.Clone(to.Resources), slices.Clone(to.Steps)
	out.Known = nil
	need := map[string]bool{}
	for _, id := range names {
		if r := standing.Resource(id); r != nil {
			need[id], need[r.AsInterface().Network] = true, true
		}
	}
	for i := range standing.Resources {
		r := standing.Resources[i]
		if !need[r.ID] || to.Resource(r.ID) != nil {
			continue
		}
		r.Off = r.Off || r.Kind == kinds.Instance
		out.Resources = append(out.Resources, r)
	}
	there := plan.Reindexed(&out)
	for i := range standing.Steps {
		s := standing.Steps[i]
		if need[s.Resource] && to.Step(s.ID) == nil && s.Op != op.Name {
			s.After = slices.DeleteFunc(slices.Clone(s.After), func(a string) bool { return standing.Step(a) == nil || !need[standing.Step(a).Resource] })
			out.Steps = append(out.Steps, s)
		}
	}
	for _, site := range standing.Sites {
		if !slices.ContainsFunc(there.Sites, func(x plan.Site) bool { return x.Name == site.Name }) {
			out.Sites = append(slices.Clone(out.Sites), site)
		}
	}
	for i := range out.Resources {
		if r := &out.Resources[i]; names[r.ID] != "" && r.Kind == kinds.Instance {
			plan.Respec(r, func(s *plan.InstanceSpec) { s.Asleep = true })
		}
	}
	return plan.Reindexed(&out)
}

// reenter has every step on a moved instance that is given a secret run again: secrets do not travel.
func (c *compiler) reenter(secrets []string) {
	for i := range c.to.Steps {
		s := &c.to.Steps[i]
		if s.Script == nil || !c.moving[instanceOf(c.to, c.to.Resource(s.Resource))] {
			continue
		}
		for _, in := range s.Script.Inputs {
			for _, name := range in.Value.Secrets() {
				if slices.Contains(secrets, name) && s.Op != op.Create {
					c.again(s, "the secret %s is set anew there", name)
				}
			}
		}
	}
}

// forgetUndoOnMoved leaves out what would be stopped on a moved instance before it is started there: nothing runs on it
// yet. Those that run on, where that is said, are not switched on anew.
func (c *compiler) forgetUndoOnMoved(on func(instance string) bool) {
	for i := range c.old.Steps {
		s := &c.old.Steps[i]
		if id := instanceOf(c.old, c.old.Resource(s.Resource)); c.moving[id] && (on == nil || !on(id)) {
			delete(c.undo, s.ID)
		}
	}
}

// mover adds to a change the steps that move workloads.
type mover struct {
	c     *compiler
	m     Moving
	names map[string]string
	at    map[string]int
	// ran is what stands where it was; nil is what is compared with the design.
	ran *plan.Plan
	// halting are the steps by which instances are switched off, before they are had back, that are on where they were.
	halting map[string]plan.Step
}

func (v *mover) steps() {
	v.index()
	var follows []string
	for _, id := range v.m.Instances {
		if v.m.Mode != FromCopy {
			follows = append(follows, v.copy(id)...)
		}
	}
	for _, id := range v.m.Instances {
		v.cutover(id, follows)
	}
	v.neighbours(follows)
}

// neighbours has nothing be stopped, or switched on to be told something, on instances that stay before all that moves was
// copied: that may take hours, and they serve meanwhile.
func (v *mover) neighbours(follows []string) {
	ready := slices.Clone(follows)
	for _, id := range v.m.Instances {
		ready = append(ready, v.built(id)...)
	}
	for id := range v.at {
		s := v.step(id)
		r := v.c.plan.Resource(s.Resource)
		on := instanceOf(v.c.plan, r)
		if r.Kind == kinds.Instance {
			on = r.ID
		}
		stays := on != "" && !slices.Contains(v.m.Instances, on) && s.On == ""
		if stays && (s.Op == op.Stop || s.Op == op.Disconnect || s.Op == op.Boot) {
			v.wait(id, ready...)
		}
	}
}

func (v *mover) index() {
	v.at = map[string]int{}
	for i := range v.c.plan.Steps {
		v.at[v.c.plan.Steps[i].ID] = i
	}
}

func (v *mover) step(id string) *plan.Step {
	if i, ok := v.at[id]; ok {
		return &v.c.plan.Steps[i]
	}
	return nil
}

// wait has a step come after others; those that are no part of the plan are left out.
func (v *mover) wait(id string, after ...string) {
	s := v.step(id)
	if s == nil {
		return
	}
	for _, a := range after {
		if _, there := v.at[a]; there && a != id && !slices.Contains(s.After, a) {
			s.After = append(s.After, a)
		}
	}
	slices.Sort(s.After)
}

func (v *mover) add(s plan.Step) string {
	s.ID = s.Op.On(s.Resource)
	if s.On != "" {
		s.ID += ":quiesce"
	}
	if s.Check.Kind == "" {
		s.Check.Kind = plan.CheckSite
	}
	v.at[s.ID] = len(v.c.plan.Steps)
	v.c.plan.Steps = append(v.c.plan.Steps, s)
	return s.ID
}

// kept is a resource as it is left behind.
func (v *mover) kept(id string) string { return v.names[id] }

// copy adds the copying of a workload before it is stopped, and returns the step that is to have ended then.
func (v *mover) copy(id string) []string {
	to := v.c.to.Resource(id)
	terms := v.copying(id)
	if v.m.Mode == Cold {
		return v.hold(id, terms)
	}
	first := v.add(plan.Step{Resource: id, Op: op.Replicate, Site: to.Site, Title: "first copy", Copying: &terms, Seconds: 60})
	v.wait(first, v.built(id)...)
	rounds := terms
	follow := v.add(plan.Step{Resource: id, Op: op.Follow, Site: to.Site, Title: "rounds of what changed", Copying: &rounds, After: []string{first}, Seconds: 10})
	return []string{follow}
}

// hold has a workload that is to stand still while it is copied wait for its window first.
func (v *mover) hold(id string, terms plan.Copying) []string {
	if len(terms.Windows) == 0 {
		return nil
	}
	hold := v.add(plan.Step{Resource: id, Op: op.Hold, Site: v.c.to.Resource(id).Site, Title: "wait for the window", Copying: &terms})
	v.wait(hold, v.built(id)...)
	return []string{hold}
}

// built are the steps after which a workload's disks are there to be written.
func (v *mover) built(id string) []string {
	out := []string{op.Create.On(id)}
	for step := range v.at {
		if s := v.step(step); s.Op == op.Attach && s.Resource == id {
			out = append(out, step)
		}
	}
	slices.Sort(out)
	return out
}

// copying is how the disks of a workload are copied.
func (v *mover) copying(id string) plan.Copying {
	out := v.m.Copying
	was := v.c.old.Resource(v.kept(id))
	out.From, out.Disks = was.Site, nil
	for _, part := range slices.Sorted(maps.Keys(v.names)) {
		r := v.c.to.Resource(part)
		if r == nil || part != id && !v.attached(id, part) {
			continue
		}
		title := "system"
		if part != id {
			title = part
		}
		out.Disks = append(out.Disks, plan.DiskCopy{From: v.kept(part), To: part, Title: title, GiB: v.c.old.Resource(v.kept(part)).DiskGiB()})
	}
	return out
}

func (v *mover) attached(instance, volume string) bool {
	return v.c.to.Step(op.Attach.For(instance, volume)) != nil
}

// cutover adds what happens once it is to be cut over.
func (v *mover) cutover(id string, follows []string) {
	c := v.c
	to, was := c.to.Resource(id), v.kept(id)
	site := c.old.Resource(was).Site
	stop := op.Halt.On(was)
	if v.m.Mode == Live {
		i := v.at[stop]
		c.plan.Steps[i].ID, c.plan.Steps[i].Op, c.plan.Steps[i].Title = op.Suspend.On(was), op.Suspend, "suspend"
		stop = c.plan.Steps[i].ID
		v.index()
	}
	v.wait(stop, follows...)
	v.wait(stop, v.built(id)...)
	if s := v.step(stop); s != nil && v.m.Mode == FromCopy { // what is begun with is otherwise than what runs: this ends all the same
		s.Drops = runningIn(v.stood(), func(r *plan.Resource) bool { return instanceOf(v.c.old, v.c.old.Resource(r.ID)) == id })
	}
	if v.m.Mode != Live {
		v.wait(stop, v.quiesce(id, follows)...)
	}
	if v.m.Mode == FromCopy {
		last := v.restored(id, stop)
		boot := v.add(plan.Step{Resource: id, Op: op.Boot, Site: to.Site, Title: "switch on", After: last, Seconds: v.seconds(id) * 0.5})
		v.interfaces(id, site, stop, boot)
		v.after(id, boot)
		return
	}
	terms := v.copying(id)
	terms.Await, terms.Windows = false, nil
	title := "last round, verified"
	if v.m.Mode == Cold {
		title = "copy, verified"
	}
	last := v.add(plan.Step{Resource: id, Op: op.Finish, Site: to.Site, Title: title, Copying: &terms, After: []string{stop}, Seconds: 5})
	boot := v.add(plan.Step{Resource: id, Op: op.Boot, Site: to.Site, Title: v.word("switch on", "go on"), After: []string{last},
		Seconds: v.seconds(id) * map[bool]float64{true: 0.02, false: 0.5}[v.m.Mode == Live]})
	v.interfaces(id, site, last, boot)
	v.after(id, boot)
}

func (v *mover) word(usual, live string) string {
	if v.m.Mode == Live {
		return live
	}
	return usual
}

func (v *mover) seconds(id string) float64 {
	if s := v.step(op.Create.On(id)); s != nil {
		return s.Seconds
	}
	return 1
}

// quiesce stops what runs on a workload by the scripts that its software has for that.
func (v *mover) quiesce(id string, after []string) []string {
	var out []string
	for i := range v.stood().Steps {
		s := &v.stood().Steps[i]
		r := v.c.old.Resource(s.Resource)
		if s.Op != op.Start || s.Undo == nil || instanceOf(v.c.old, r) != id || v.asksMoved(s.Undo) {
			continue
		}
		v.c.carry(v.c.old, s.Undo)
		out = append(out, v.add(plan.Step{Resource: r.ID, Op: op.Stop, Site: v.c.old.Resource(v.kept(id)).Site, On: v.kept(id), Title: "stop " + r.Title,
			Script: s.Undo, Check: plan.Condition{Kind: plan.CheckExit}, Seconds: s.Seconds * shareOfBuilding, After: slices.Clone(after),
			Drops: v.runningOf(r.ID)}))
	}
	return out
}

// stood is what stands before it moves: what is begun with may be otherwise.
func (v *mover) stood() *plan.Plan {
	if v.ran != nil {
		return v.ran
	}
	return v.c.old
}

// runningOf are the standing steps of some software whose work ends when it is stopped.
func (v *mover) runningOf(software string) []string {
	return runningIn(v.stood(), func(r *plan.Resource) bool { return r.ID == software })
}

// asksMoved reports that a script is given what is known of something that moves: where it stood, that is another thing.
func (v *mover) asksMoved(s *plan.Script) bool {
	for _, in := range s.Inputs {
		for _, r := range in.Value.Resources() {
			if v.names[r] != "" {
				return true
			}
		}
	}
	return false
}

// interfaces has the addresses of a workload given up where it was and new ones had where it goes. A live workload has
// its new address beforehand, and what still comes to the old one is led there.
func (v *mover) interfaces(id, site, last, boot string) {
	for i := range v.c.to.Resources {
		r := &v.c.to.Resources[i]
		if r.Kind != kinds.Interface || r.AsInterface().Instance != id || v.kept(r.ID) == "" {
			continue
		}
		plug := op.Plug.On(r.ID)
		step := plan.Step{Resource: v.kept(r.ID), Op: op.Release, Site: site, Seconds: 0.2, Title: "give up " + v.c.from.Plan.Known[v.kept(r.ID)]["address"]}
		if v.m.Mode == Live {
			step.Lead, step.After = r.ID, []string{boot}
			step.Title = "lead what comes to the old address to the new one"
			v.add(step)
		} else {
			step.After = []string{last}
			v.wait(plug, v.add(step))
		}
		v.wait(boot, plug)
	}
}

// after has everything on a workload come after it is on, and its names after it is known to serve.
func (v *mover) after(id, boot string) {
	var on, names []string
	for i := range v.c.plan.Steps {
		s := &v.c.plan.Steps[i]
		r := v.c.to.Resource(s.Resource)
		if r == nil || s.On != "" {
			continue
		}
		mine := instanceOf(v.c.to, r) == id
		part := r.Kind == kinds.Interface && r.AsInterface().Instance == id
		switch {
		case s.Op == op.Name && (mine || part):
			names = append(names, s.ID)
		case mine && (s.Script != nil || s.Check.Kind == plan.CheckTCP || s.Check.Kind == plan.CheckHTTP):
			on = append(on, s.ID)
		}
	}
	for _, s := range on {
		v.wait(s, boot)
	}
	for _, s := range names {
		v.wait(s, boot)
		v.wait(s, on...)
	}
	carry := v.add(plan.Step{Resource: id, Op: op.Carry, Site: v.c.to.Resource(id).Site, Title: "everything on it is here now", Check: plan.Condition{Kind: plan.CheckNone}})
	v.wait(carry, boot)
	v.wait(carry, on...)
	v.wait(carry, names...)
}

// label says of what moves that it moves, and from where.
func (v *mover) label(p *plan.Plan) {
	for i := range p.Resources {
		r := &p.Resources[i]
		was := v.c.old.Resource(v.names[r.ID])
		on := v.c.moving[instanceOf(p, r)]
		switch {
		case was != nil:
			r.Change, r.Reasons = plan.Moved, []string{fmt.Sprintf("from %s to %s", was.Site, r.Site)}
		case on && r.Kind != kinds.Interface:
			r.Change = plan.Moved
			r.Reasons = append([]string{"with the instance it runs on"}, r.Reasons...)
		}
		if original, isKept := strings.CutSuffix(r.ID, "@"+r.Site); isKept && v.names[original] == r.ID {
			r.Reasons = append([]string{"kept until the move is committed"}, r.Reasons...)
		}
	}
}

// Back compiles the plan that goes back from a move that is not committed: what stands where the workloads were moved to
// is taken away, and what was kept serves again. What was written there meanwhile is copied back before, where anything
// was started there. before is the design that the move began with.
func Back(from Standing, before *plan.Plan, move *plan.Plan, m Moving, purpose string) (*plan.Plan, error) {
	names := map[string]string{}
	began := false
	for id, kept := range move.Renames {
		if from.Plan.Resource(kept) == nil {
			continue
		}
		began = true
		names[kept] = id
		if r := from.Plan.Resource(id); r != nil {
			names[id] = KeptID(id, r.Site)
		}
	}
	if !began {
		return nil, fmt.Errorf("nothing of this move stands that could be gone back from")
	}
	back := Renamed(from, names)
	started := map[string]bool{}
	for _, id := range m.Instances {
		there := from.Plan.Resource(id)
		started[id] = there != nil && !there.Off
		if m.Mode == FromCopy && from.Unsure[haltOf(id)] { // what it was is newer than a copy that may never have been begun with
			started[id] = false
		}
	}
	ran := carried(back, before, m.Instances).Plan
	back, halting, err := m.halted(back, started)
	if err != nil {
		return nil, err
	}
	back = carried(back, before, m.Instances)
	c := newCompiler(back, m.rested(before))
	for _, id := range m.Instances {
		c.moving[id] = true
	}
	for id := range names {
		if r := back.Plan.Resource(id); r != nil && r.Kind == kinds.Interface && before.Resource(id) != nil {
			c.retold[id] = from.Plan.Resource(id) != nil
		}
	}
	c.judge()
	for _, id := range m.Instances {
		if r := back.Plan.Resource(id); r != nil && r.Suspended && !started[id] {
			delete(c.boot, id) // it goes on where it was
		}
	}
	c.spread()
	c.redoActions()
	c.forgetUndoOnMoved(func(instance string) bool {
		r := back.Plan.Resource(instance)
		return r != nil && !started[instance] && (!r.Off || r.Suspended)
	})
	c.resources()
	c.power()
	c.takeBack()
	c.build()
	c.order()
	v := &mover{c: c, m: m, names: names, ran: ran, halting: halting}
	v.index()
	for _, id := range m.Instances {
		v.back(id, started[id])
	}
	p := c.plan
	p.Purpose, p.Renames = purpose, names
	if err := p.Arrange(); err != nil {
		return nil, fmt.Errorf("going back cannot be put in order: %w", err)
	}
	return p, nil
}

// back orders what is done to have a workload serve again where it was: first nothing serves any more where it went, and
// what was written there is had back.
func (v *mover) back(id string, started bool) {
	boot := op.Boot.On(id)
	r := v.c.old.Resource(id)
	if r == nil {
		return
	}
	var gone []string
	there := v.names[id]
	for step := range v.at {
		s := v.step(step)
		if s.Op.Takes() && v.belongs(s.Resource, there) {
			gone = append(gone, step)
		}
	}
	slices.Sort(gone)
	if started {
		gone = append(gone, v.haveBack(id, there, gone)...)
	}
	for i := range v.c.to.Resources {
		x := &v.c.to.Resources[i]
		if x.Kind == kinds.Interface && x.AsInterface().Instance == id && r.Off {
			reclaim := v.add(plan.Step{Resource: x.ID, Op: op.Reclaim, Site: x.Site, Title: "have its address back", Seconds: 0.2})
			v.wait(reclaim, gone...)
			gone = append(gone, reclaim)
		}
	}
	v.wait(boot, gone...)
	v.after(id, boot)
}

// belongs reports that a resource is an instance or a part of it.
func (v *mover) belongs(resource, instance string) bool {
	r := v.c.old.Resource(resource)
	return instance != "" && r != nil && (r.ID == instance || r.AsInterface().Instance == instance || v.c.old.Step(op.Attach.For(instance, r.ID)) != nil)
}

// haveBack copies what was written where a workload went, before anything of it is taken away there.
func (v *mover) haveBack(id, there string, gone []string) []string {
	target := v.c.old.Resource(there)
	if target == nil {
		return nil
	}
	terms := v.m.Copying
	terms.Disks, terms.Await, terms.Windows, terms.From, terms.Back = nil, false, nil, target.Site, true
	for _, part := range slices.Sorted(maps.Keys(v.names)) {
		kept := v.names[part] // part went there, and is known as kept now
		x := v.c.old.Resource(kept)
		if x == nil || x.Site != target.Site || v.c.old.Resource(part) == nil || part != id && v.c.old.Step(op.Attach.For(id, part)) == nil {
			continue
		}
		terms.Disks = append(terms.Disks, plan.DiskCopy{From: kept, To: part, Title: part, GiB: x.DiskGiB()})
	}
	site := v.c.old.Resource(id).Site
	off := v.add(plan.Step{Resource: there, Op: op.Halt, Site: target.Site, Title: "switch off", Seconds: 1})
	if !v.c.from.Unsure[haltOf(there)] { // else it may be off, and nothing run there
		v.wait(off, v.quiesce(id, nil)...)
	}
	out := []string{off}
	// The disk that is written to is that of a machine that is off, not one that would go on where it was.
	if s, on := v.halting[id]; on {
		out = append(out, v.add(s))
	} else if r := v.c.old.Resource(id); r.Suspended || !r.Off {
		out = append(out, v.add(plan.Step{Resource: id, Op: op.Halt, Site: site, Title: "switch off", Seconds: 1}))
	}
	take := v.add(plan.Step{Resource: id, Op: op.Finish, Site: site, Title: "have back what was written there", Copying: &terms, After: slices.Clone(out), Seconds: 5})
	for _, g := range gone {
		v.wait(g, take)
	}
	return []string{take}
}
