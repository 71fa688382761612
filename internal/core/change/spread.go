package change

import (
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// spread carries each verdict to what hangs on it, until nothing changes any more: what stands on a rebuilt instance is
// rebuilt; what is given an attribute that will be another is run again; what is run again is followed by the later
// steps of its resource.
func (c *compiler) spread() {
	for id, v := range c.verdicts {
		if v == plan.Retire {
			c.all(id)
		}
	}
	for again := true; again; {
		again = false
		for i := range c.to.Resources {
			r := &c.to.Resources[i]
			if c.resourceSpreads(r) {
				again = true
			}
		}
		again = c.disturbed() || again
		for i := range c.to.Steps {
			if c.stepSpreads(&c.to.Steps[i]) {
				again = true
			}
		}
	}
}

// disturbed has software be stopped and started again under which a volume or an interface is taken away, if it has an
// operation that stops it.
func (c *compiler) disturbed() bool {
	changed := false
	for i := range c.old.Steps {
		s := &c.old.Steps[i]
		if !c.undo[s.ID] || s.Op != op.Attach && s.Op != op.Plug {
			continue
		}
		of, what := s.Resource, s.Volume
		if s.Op == op.Plug {
			of, what = c.old.Resource(s.Resource).AsInterface().Instance, s.Resource
		}
		for _, start := range c.starts[of] {
			if before := c.old.Step(start.ID); before != nil && before.Undo != nil && !c.fresh(of) {
				changed = c.again(start, "%s is taken away from under it", what) || changed
			}
		}
	}
	return changed
}

func (c *compiler) fresh(id string) bool {
	return c.verdicts[id] == plan.Rebuild || c.verdicts[id] == plan.Build
}

// askedAnew reports that a site is asked again for a resource of which it is not known whether it is there: what it is then
// known by may be otherwise.
func (c *compiler) askedAnew(id string) bool {
	for _, s := range c.stepsOf[id] {
		if c.redo[s.ID] && s.Script == nil && (s.Op == op.Plug || s.Op == op.Create) {
			return true
		}
	}
	return false
}

// resourceSpreads applies what a resource's foundations become to the resource.
func (c *compiler) resourceSpreads(r *plan.Resource) bool {
	if c.fresh(r.ID) {
		return c.all(r.ID)
	}
	for _, base := range []string{r.On, r.PartOf, r.AsInterface().Network, r.AsEndpoint().EndpointOf, r.AsInterface().Instance} {
		if base == "" || !c.fresh(base) || c.moving[base] && r.Kind == kinds.Software {
			continue
		}
		if r.Kind == kinds.Endpoint {
			continue // it is only asked again
		}
		c.because(r.ID, "%s is rebuilt", base)
		return c.set(r.ID, plan.Rebuild) || c.all(r.ID)
	}
	return false
}

// all marks every step of a resource that is built anew.
func (c *compiler) all(id string) bool {
	changed := false
	for _, s := range c.stepsOf[id] {
		if !c.redo[s.ID] {
			c.redo[s.ID] = true
			changed = true
		}
	}
	for _, s := range c.oldSteps[id] {
		if !c.undo[s.ID] {
			c.undo[s.ID] = true
			changed = true
		}
	}
	return changed
}

// stepSpreads finds why a wanted step must be run again for the sake of others.
func (c *compiler) stepSpreads(s *plan.Step) bool {
	if s.Op == op.Attach && c.fresh(s.Volume) && !c.undo[s.ID] && c.old.Step(s.ID) != nil {
		c.undo[s.ID] = true
		c.again(s, "%s is rebuilt", s.Volume)
		return true
	}
	if c.redo[s.ID] {
		return c.followers(s)
	}
	r := c.to.Resource(s.Resource)
	if c.old.Step(s.ID) != nil {
		if volume := c.bereft(putsOn(c.to, s)); volume != "" {
			return c.again(s, "what it put on %s is gone", volume)
		}
	}
	for id := range attributesOf(s) {
		if c.retold[id] {
			return c.again(s, "%s is given what is known of %s, which is where it was", s.Title, id)
		}
		if c.fresh(id) || c.askedAnew(id) {
			return c.again(s, "%s is given what is known of %s, which is %s", s.Title, id, map[bool]string{true: "rebuilt", false: "built"}[c.verdicts[id] != plan.Build])
		}
	}
	if on := instanceOf(c.to, r); runs(s.Op) && c.boot[on] {
		return c.again(s, "%s is switched on", on)
	}
	return false
}

// instanceOf is the instance that a resource runs on, through an endpoint to the software behind it.
func instanceOf(p *plan.Plan, r *plan.Resource) string {
	if r.Kind == kinds.Endpoint {
		if of := p.Resource(r.AsEndpoint().EndpointOf); of != nil {
			return of.On
		}
	}
	return r.On
}

// followers are the later steps of a resource whose step is run again, and what is given what that step puts out. Steps
// at a site do not follow each other: an instance that gains a volume is not built again.
func (c *compiler) followers(s *plan.Step) bool {
	changed := false
	r := c.to.Resource(s.Resource)
	if r.Kind == kinds.Software && s.Script != nil {
		mine, why := false, "something of %s is done anew"
		for _, next := range c.stepsOf[s.Resource] {
			mine = mine || next.ID == s.ID
			if mine && next.ID != s.ID && next.Op != op.Connect {
				changed = c.again(next, "it follows %s", s.Title) || changed
			}
			if next.Op == op.Start && mine { // what comes after it, such as telling it of another target, is done while it runs
				why = "%s is started anew"
				if c.old.Step(next.ID) != nil && !c.undo[next.ID] {
					c.undo[next.ID] = true // it is stopped before it is configured anew
					changed = true
				}
			}
		}
		for i := range c.to.Resources {
			if e := &c.to.Resources[i]; e.Kind == kinds.Endpoint && e.AsEndpoint().EndpointOf == r.ID {
				for _, ask := range c.stepsOf[e.ID] {
					changed = c.again(ask, why, r.Title) || changed
				}
			}
		}
	}
	if s.Script == nil {
		return changed
	}
	for _, out := range s.Script.Outputs {
		for _, id := range c.uses[out.Resource] {
			if user := c.to.Step(id); id != s.ID && usesAttribute(user, out) {
				changed = c.again(user, "%s puts %s out anew", s.ID, out.Attribute) || changed
			}
		}
	}
	return changed
}

func usesAttribute(s *plan.Step, out plan.ScriptOutput) bool {
	if s.Script == nil {
		return false
	}
	for _, in := range s.Script.Inputs {
		if in.Value.Asks(out.Resource, out.Attribute) {
			return true
		}
	}
	return false
}
