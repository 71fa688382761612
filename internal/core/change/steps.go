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

// shareOfBuilding is how long taking something back is expected to take, against building it.
const shareOfBuilding = 0.3

// takeBack adds the steps that take back standing ones.
func (c *compiler) takeBack() {
	for i := range c.old.Steps {
		s := &c.old.Steps[i]
		if !c.undo[s.ID] {
			continue
		}
		back, ok := c.inverse(s)
		if !ok {
			continue
		}
		back.Resource, back.Site, back.Seconds = s.Resource, s.Site, s.Seconds*shareOfBuilding
		back.Drops = []string{s.ID}
		c.takes[s.ID] = back.ID
		c.plan.Steps = append(c.plan.Steps, back)
	}
	c.dropRest()
}

// inverse is the step that takes back a standing one; false if it needs none of its own.
func (c *compiler) inverse(s *plan.Step) (plan.Step, bool) {
	row, r := s.Op.Row(), c.old.Resource(s.Resource)
	if row.Inverse != "" && (s.Op != op.Create || s.Check.Kind == plan.CheckSite) { // software is created by a script
		return inverseAtSite(s, r, row.Inverse), true
	}
	if s.Undo == nil || c.from.Unsure[s.ID] && !c.from.Unsure[stopOf(s.ID)] || c.isOff(r) || !c.reached(r) {
		return plan.Step{}, false
	}
	title := row.Undo.Verb()
	if row.Undo == op.Disconnect {
		title += " " + s.Title
	}
	c.carry(c.old, s.Undo)
	return plan.Step{ID: withOp(s.ID, row.Undo), Op: row.Undo, Title: title, Script: s.Undo, Check: plan.Condition{Kind: plan.CheckExit}}, true
}

// inverseAtSite is the step that takes back what a site did, or who keeps the names.
func inverseAtSite(s *plan.Step, r *plan.Resource, inverse op.Op) plan.Step {
	back := plan.Step{ID: withOp(s.ID, inverse), Op: inverse, Title: inverse.Verb() + strings.TrimPrefix(s.Title, s.Op.Verb()),
		Volume: s.Volume, Naming: s.Naming, Member: s.Member, Check: plan.Condition{Kind: plan.CheckSite}}
	if s.Op == op.Create { // titles say how it is made, such as of what
		back.Title = inverse.Verb() + " " + string(r.Kind)
	}
	if s.Naming != nil {
		back.Check.Kind = plan.CheckNone
	}
	return back
}

// withOp is the id of the step that does another operation to the same.
func withOp(id string, other op.Op) string {
	parts := op.ParseID(id)
	parts.Op = other
	return parts.String()
}

// reached reports that scripts can be run on a standing resource's instance: it is plugged in somewhere, for sure.
func (c *compiler) reached(r *plan.Resource) bool {
	on := instanceOf(c.old, r)
	return on == "" || c.moving[on] || slices.ContainsFunc(c.old.Steps, func(s plan.Step) bool {
		return s.Op == op.Plug && c.old.Resource(s.Resource).AsInterface().Instance == on && !c.from.Unsure[s.ID]
	})
}

// isOff reports that a standing resource's instance is switched off: one that is suspended goes on where it was.
func (c *compiler) isOff(r *plan.Resource) bool {
	on := c.old.Resource(r.On)
	return on != nil && on.Off && !on.Suspended
}

// dropRest finds for every step that is undone without a step of its own the one with which its work goes: another of
// its resource, the removal of its instance, or one that only says so.
func (c *compiler) dropRest() {
	at := map[string]int{}
	for i := range c.plan.Steps {
		at[c.plan.Steps[i].ID] = i
	}
	for i := range c.old.Steps {
		s := &c.old.Steps[i]
		if !c.undo[s.ID] || c.takes[s.ID] != "" || runs(s.Op) && c.hasHalt(instanceOf(c.old, c.old.Resource(s.Resource))) {
			continue // the last: it ends when its instance is switched off
		}
		by := c.carrier(s)
		if by == "" {
			if c.redo[s.ID] {
				continue // the new one takes its place
			}
			by = op.Clear.On(s.Resource)
			if _, there := at[by]; !there {
				at[by] = len(c.plan.Steps)
				c.plan.Steps = append(c.plan.Steps, plan.Step{ID: by, Resource: s.Resource, Op: op.Clear, Site: s.Site,
					Title: "let go", Check: plan.Condition{Kind: plan.CheckNone}})
			}
		}
		c.carried[s.ID] = true
		c.takes[s.ID] = by
		c.plan.Steps[at[by]].Drops = append(c.plan.Steps[at[by]].Drops, s.ID)
	}
}

// hasHalt reports that an instance is switched off, with which everything ends that runs on it.
func (c *compiler) hasHalt(instance string) bool {
	return slices.ContainsFunc(c.plan.Steps, func(s plan.Step) bool { return s.Op == op.Halt && s.Resource == instance })
}

// carrier is the step with which the work of an undone step goes.
func (c *compiler) carrier(s *plan.Step) string {
	for _, other := range c.oldSteps[s.Resource] {
		if by := c.takes[other.ID]; by != "" && by != op.Clear.On(s.Resource) {
			return by
		}
	}
	on := instanceOf(c.old, c.old.Resource(s.Resource))
	for _, base := range c.oldSteps[on] {
		if by := c.takes[base.ID]; base.Op == op.Create && by != "" {
			return by
		}
	}
	return ""
}

// power adds the steps that switch instances off and on, and change in place what stands.
func (c *compiler) power() {
	for i := range c.to.Resources {
		r := &c.to.Resources[i]
		switch {
		case r.Kind == kinds.Instance:
			c.powerOf(r)
		case c.alter[r.ID] && c.verdicts[r.ID] == plan.Amend:
			c.add(r, op.Alter, "", "change in place", shareOfBuilding)
		}
	}
}

// powerOf adds such steps for one instance: off before it is changed, on where something must run on it, and off again
// in the end where it is to be off.
func (c *compiler) powerOf(r *plan.Resource) {
	stands := c.verdicts[r.ID] == plan.Amend || c.verdicts[r.ID] == plan.Keep
	if !stands && c.asleep(r) {
		c.wake(r)
		return
	}
	on := !stands || !c.old.Resource(r.ID).Off
	alter := stands && c.alter[r.ID]
	shell := c.needsShell(r.ID)
	delete(c.boot, r.ID)
	var last []string
	if (on || c.from.Unsure[haltOf(r.ID)]) && stands && (alter || r.Off && !shell) {
		last = []string{c.add(r, op.Halt, "", "switch off", 0.1)}
		c.plan.Steps[len(c.plan.Steps)-1].Drops = c.running(r.ID)
		on = false
	}
	if alter {
		last = []string{c.add(r, op.Alter, "", "change in place", shareOfBuilding, last...)}
	}
	if !on && (!r.Off || shell) {
		if f := c.filled(r.ID); f != nil && c.redo[f.ID] { // how far its disks were written is not known: they are written before it starts from them
			last = append(last, f.ID)
		}
		c.add(r, op.Boot, "", "switch on", 0.5, last...)
		c.boot[r.ID] = true
		on = true
	}
	if on && r.Off {
		c.add(r, op.Halt, atLast, "switch off again", 0.1)
		if stands {
			c.plan.Steps[len(c.plan.Steps)-1].Drops = c.running(r.ID)
		}
	}
}

// asleep reports that an instance is built switched off because its disks are filled before it is switched on. Those of
// a workload that is moved are, and are switched on by the move.
func (c *compiler) asleep(r *plan.Resource) bool {
	return r.AsInstance().Asleep && !c.moving[r.ID] && c.filled(r.ID) != nil
}

// wakes reports that an instance is built asleep by this change.
func (c *compiler) wakes(instance string) bool {
	r := c.to.Resource(instance)
	return r != nil && c.fresh(instance) && c.asleep(r)
}

// filled is the wanted step that fills the disks of an instance; nil where it starts from its image.
func (c *compiler) filled(instance string) *plan.Step {
	for _, s := range c.stepsOf[instance] {
		if s.Op == op.Fill {
			return s
		}
	}
	return nil
}

// wake has an instance switched on once it was built, filled and plugged in.
func (c *compiler) wake(r *plan.Resource) {
	if r.Off && !c.needsShell(r.ID) {
		return
	}
	after := []string{c.filled(r.ID).ID}
	for i := range c.to.Steps {
		if s := &c.to.Steps[i]; s.Op == op.Plug && c.to.Resource(s.Resource).AsInterface().Instance == r.ID && c.redo[s.ID] {
			after = append(after, s.ID)
		}
	}
	c.add(r, op.Boot, "", "switch on", 0.5, after...)
	c.boot[r.ID] = true
	if r.Off {
		c.add(r, op.Halt, atLast, "switch off again", 0.1)
	}
}

// atLast is the part in the id of a step that switches an instance off after all else was done on it.
const atLast = "at-last"

// add adds a step of a site's on a resource that stands.
func (c *compiler) add(r *plan.Resource, does op.Op, part, title string, share float64, after ...string) string {
	seconds := 1.0
	if create := c.to.Step(op.Create.On(r.ID)); create != nil {
		seconds = create.Seconds
	}
	id := does.For(r.ID, part)
	c.plan.Steps = append(c.plan.Steps, plan.Step{ID: id, Resource: r.ID, Op: does, Title: title, Site: r.Site, Seconds: seconds * share,
		After: after, Check: plan.Condition{Kind: plan.CheckSite}})
	return id
}

// needsShell reports that something is to be run on an instance.
func (c *compiler) needsShell(instance string) bool {
	for i := range c.to.Steps {
		s := &c.to.Steps[i]
		if c.redo[s.ID] && s.Script != nil && shellOf(c.to, s) == instance {
			return true
		}
	}
	return false
}

// shellOf is the instance on which a step needs something to be running: that of its script, or the one it links.
func shellOf(p *plan.Plan, s *plan.Step) string {
	r := p.Resource(s.Resource)
	switch {
	case s.Op == op.Attach || r.Kind == kinds.Instance && s.Script != nil:
		return r.ID
	case s.Op == op.Plug:
		return r.AsInterface().Instance
	}
	return instanceOf(p, r)
}

// runs reports that what an operation does lasts only while its instance is on.
func runs(does op.Op) bool { return does == op.Start || does == op.Check || does == op.Answer }

// running are the standing steps whose work ends when an instance is switched off.
func (c *compiler) running(instance string) []string {
	return runningIn(c.old, func(r *plan.Resource) bool { return instanceOf(c.old, r) == instance })
}

// runningIn are the steps of a plan whose work goes on while something runs, of the resources that a function says so of.
func runningIn(p *plan.Plan, of func(*plan.Resource) bool) []string {
	var out []string
	for i := range p.Steps {
		if s := &p.Steps[i]; runs(s.Op) && of(p.Resource(s.Resource)) {
			out = append(out, s.ID)
		}
	}
	return out
}

// build adds the wanted steps that are to be run, and notes the new place in the order of those that are not.
func (c *compiler) build() {
	for i := range c.to.Steps {
		s := c.to.Steps[i]
		if !c.redo[s.ID] {
			c.reorder(&s)
			continue
		}
		s.Whole = c.place(&s)
		if s.Naming != nil && s.Naming.Ask != "" && c.to.Step(op.Answer.On(s.Resource)) == nil {
			quiet := *s.Naming
			quiet.Ask, quiet.Path = "", "" // it stands for where it will be, and nothing is there to be asked, see Rest
			s.Naming = &quiet
		}
		c.letBe(&s)
		c.carry(c.to, s.Script)
		c.carry(c.to, s.Undo)
		c.carry(c.to, s.Quiesce)
		c.carry(c.to, s.Resume)
		c.plan.Steps = append(c.plan.Steps, s)
	}
}

// letBe has disks that stand, and were filled before, not be filled again with those that are built anew: what was written on them since is in no package.
func (c *compiler) letBe(s *plan.Step) {
	if s.Filling == nil || len(s.Filling.Disks) == 0 {
		return
	}
	before := c.old.Step(s.ID)
	own := *s.Filling
	own.Keep = nil
	for _, id := range own.Disks {
		stood := before != nil && !c.from.Unsure[s.ID] && slices.Contains(before.Filling.Disks, id)
		if !c.fresh(id) && (stood || c.old.Known[id][plan.AttrFilled] == own.SHA256) {
			own.Keep = append(own.Keep, id)
		}
	}
	s.Filling = &own
}

// reorder notes after which others a step comes that stands and is not run again, if that is otherwise now.
func (c *compiler) reorder(s *plan.Step) {
	now := c.place(s)
	if slices.Equal(now, c.from.Order[s.ID]) {
		return
	}
	if c.plan.Order == nil {
		c.plan.Order = map[string][]string{}
	}
	c.plan.Order[s.ID] = slices.Clone(now)
	if now == nil {
		c.plan.Order[s.ID] = []string{}
	}
}

// place is after which others a step comes from now on: those in what is wanted, and those that it stands on until they
// are taken back.
func (c *compiler) place(s *plan.Step) []string {
	out := whole(s)
	before := c.old.Step(s.ID)
	if before == nil {
		return out
	}
	for _, a := range before.After {
		if c.to.Step(a) == nil && !slices.Contains(out, a) {
			out = append(slices.Clone(out), a)
		}
	}
	return out
}

// order says after which others each step comes. What takes back comes in the inverse of the order in which it was
// done, what builds in the order of the wanted plan, and on one resource, and in the room of one site, taking back comes
// before building; so nothing can wait in a circle.
func (c *compiler) order() {
	back, gone := map[string][]string{}, map[string][]string{}
	// scripts and parts are what is run on each instance to take back, and what is taken away of it.
	scripts, parts := map[string][]string{}, map[string][]string{}
	for i := range c.plan.Steps {
		s := &c.plan.Steps[i]
		if !s.Op.Takes() || op.ParseID(s.ID).Part == atLast {
			continue
		}
		back[s.Resource] = append(back[s.Resource], s.ID)
		if r := c.old.Resource(s.Resource); r != nil {
			if s.Op == op.Remove {
				key := s.Site + " " + string(r.Kind)
				gone[key] = append(gone[key], s.ID)
			}
			if s.Script != nil {
				scripts[r.On] = append(scripts[r.On], s.ID)
			}
			switch s.Op {
			case op.Detach:
				parts[r.ID] = append(parts[r.ID], s.ID)
			case op.Unplug:
				parts[r.AsInterface().Instance] = append(parts[r.AsInterface().Instance], s.ID)
			}
		}
	}
	c.barriers(gone)
	shrunk := c.shrunk()
	before, after := c.reach()
	for i := range c.plan.Steps {
		s := &c.plan.Steps[i]
		switch {
		case op.ParseID(s.ID).Part == atLast:
			s.After = append(back[s.Resource], c.doneOn(s.Resource)...)
		case s.Op == op.Halt:
			s.After = append(s.After, scripts[s.Resource]...)
		case s.Op.Takes():
			for _, x := range s.Drops {
				if !c.carried[x] || s.Op == op.Clear {
					s.After = append(s.After, after(x)...)
				}
			}
			s.After = append(s.After, c.runOn(s, scripts, after)...)
		case s.Op == op.Alter || s.Op == op.Boot:
			if r := c.old.Resource(s.Resource); r == nil || !r.Suspended { // one that is suspended has its room
				s.After = append(s.After, gone[s.Site+" "+string(kinds.Instance)]...)
			}
			if s.Op == op.Alter && !slices.Contains(shrunk[s.Site], s.ID) {
				s.After = append(s.After, shrunk[s.Site]...)
			}
		default:
			s.After = before(s.ID)
			s.After = append(s.After, back[s.Resource]...)
			on := shellOf(c.to, s)
			if c.boot[on] && (s.Script != nil || !c.wakes(on)) { // what begins asleep has its disks and interfaces before it is on
				s.After = append(s.After, op.Boot.On(on))
			}
			if kind := c.to.Resource(s.Resource).Kind; kind == kinds.Software || kind == kinds.Endpoint {
				s.After = append(s.After, parts[on]...)
			}
			if s.Op == op.Create && s.Check.Kind == plan.CheckSite {
				kind := c.to.Resource(s.Resource).Kind
				s.After = append(s.After, gone[s.Site+" "+string(kind)]...)
				if kind == kinds.Instance {
					s.After = append(s.After, shrunk[s.Site]...)
				}
			}
			s.AfterFailure = slices.DeleteFunc(slices.Clone(s.AfterFailure), func(f string) bool { return !c.redo[f] })
		}
		slices.Sort(s.After)
		s.After = slices.DeleteFunc(slices.Compact(s.After), func(a string) bool { return a == s.ID })
	}
}

// shrunk are the steps of each site that make an instance smaller: they leave room for what is built there, or made larger.
func (c *compiler) shrunk() map[string][]string {
	out := map[string][]string{}
	for i := range c.plan.Steps {
		s := &c.plan.Steps[i]
		if s.Op != op.Alter {
			continue
		}
		was, is := c.old.Resource(s.Resource), c.to.Resource(s.Resource)
		if was == nil || is == nil || was.Kind != kinds.Instance {
			continue
		}
		if a, b := was.AsInstance(), is.AsInstance(); b.Cores < a.Cores || b.MemoryGiB < a.MemoryGiB {
			out[s.Site] = append(out[s.Site], s.ID)
		}
	}
	return out
}

// runOn are the scripts that take back what is on an instance, before a disk or an interface of it goes: they need it, though it came there after what they take back
// was put there.
func (c *compiler) runOn(s *plan.Step, scripts map[string][]string, after func(string) []string) []string {
	on := s.Resource
	switch s.Op {
	case op.Detach:
	case op.Unplug:
		on = c.old.Resource(s.Resource).AsInterface().Instance
	default:
		return nil
	}
	return slices.DeleteFunc(slices.Clone(scripts[on]), func(id string) bool {
		return slices.Contains(s.After, id) || slices.ContainsFunc(c.plan.Steps, func(x plan.Step) bool {
			return x.ID == id && slices.ContainsFunc(x.Drops, func(d string) bool { return slices.Contains(after(d), s.ID) })
		})
	})
}

// doneOn are the wanted steps that need an instance to be on.
func (c *compiler) doneOn(instance string) []string {
	var out []string
	for i := range c.to.Steps {
		if s := &c.to.Steps[i]; c.redo[s.ID] && (shellOf(c.to, s) == instance || s.Resource == instance) {
			out = append(out, s.ID)
		}
	}
	return out
}

// fewEdges is up to how many removals the steps that need their room wait for each; above, one step waits for them all.
const fewEdges = 8

// barriers puts one step in the place of many that others would all wait for.
func (c *compiler) barriers(gone map[string][]string) {
	for key, ids := range gone {
		if len(ids) <= fewEdges {
			continue
		}
		site, kind, _ := strings.Cut(key, " ")
		first := op.ResourceOf(slices.Min(ids))
		id := op.Clear.For(first, "room")
		c.plan.Steps = append(c.plan.Steps, plan.Step{ID: id, Resource: first, Op: op.Clear, Site: site, After: ids,
			Title: fmt.Sprintf("every %s to be removed is gone", kind), Check: plan.Condition{Kind: plan.CheckNone}})
		gone[key] = []string{id}
	}
}

// whole are the steps that a step comes after in the whole of what is wanted.
func whole(s *plan.Step) []string {
	if s.Whole != nil {
		return s.Whole
	}
	return s.After
}

// reach returns functions that find, through steps that are not part of the change, the nearest that are: those that a
// wanted step comes after, and those that take back what came after a standing step.
func (c *compiler) reach() (before, after func(id string) []string) {
	knownBefore, knownAfter := map[string][]string{}, map[string][]string{}
	before = func(id string) []string {
		if out, ok := knownBefore[id]; ok {
			return slices.Clone(out)
		}
		var out []string
		for _, a := range c.to.Step(id).After {
			if c.redo[a] {
				out = append(out, a)
			} else {
				out = append(out, before(a)...)
			}
		}
		slices.Sort(out)
		knownBefore[id] = slices.Compact(out)
		return slices.Clone(knownBefore[id])
	}
	after = func(id string) []string {
		if out, ok := knownAfter[id]; ok {
			return out
		}
		knownAfter[id] = nil // designs of different times may order things otherwise: nothing waits for itself
		var out []string
		for _, l := range c.later[id] {
			// What is carried ends with another step of its resource, which may be one that comes later than this one does.
			if by := c.takes[l]; by != "" && !c.carried[l] {
				out = append(out, by)
			} else {
				out = append(out, after(l)...)
			}
		}
		slices.Sort(out)
		knownAfter[id] = slices.Compact(out)
		return knownAfter[id]
	}
	return before, after
}

// sweep adds, where nothing is wanted any more, a last step at each site that looks for what may be left.
func (c *compiler) sweep() {
	if len(c.to.Resources) > 0 {
		return
	}
	last := map[string][]string{}
	first := map[string]string{}
	for i := range c.plan.Steps {
		s := &c.plan.Steps[i]
		last[s.Site] = append(last[s.Site], s.ID)
		first[s.Site] = max(first[s.Site], s.Resource) // whichever, but always the same
	}
	for i := range c.plan.Resources {
		if r := &c.plan.Resources[i]; r.Kind == kinds.Network {
			first[r.Site] = r.ID
		}
	}
	for _, site := range slices.Sorted(maps.Keys(last)) {
		c.plan.Steps = append(c.plan.Steps, plan.Step{ID: op.Sweep.On(first[site]), Resource: first[site], Op: op.Sweep, Site: site,
			Title: "look that nothing is left at " + site, Seconds: sweepSeconds, After: c.lastOf(last[site]), Check: plan.Condition{Kind: plan.CheckSite}})
	}
}

// sweepSeconds is how long looking through a site is expected to take.
const sweepSeconds = 0.2

// lastOf are those of some steps that no other of them comes after.
func (c *compiler) lastOf(ids []string) []string {
	before := map[string]bool{}
	for i := range c.plan.Steps {
		for _, a := range c.plan.Steps[i].After {
			before[a] = true
		}
	}
	out := slices.DeleteFunc(slices.Clone(ids), func(id string) bool { return before[id] })
	slices.Sort(out)
	return out
}
