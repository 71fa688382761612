package plan

import (
	"fmt"
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/topology"
)

// waitFor makes a step, the first of a node's instance, wait for what the node's plain dependencies name. They may come
// later in the lifecycle than the node itself, so their last steps are looked up in the end.
func (c *compiler) waitFor(n *topology.Node, step string) {
	r := c.resource(c.plan.Steps[c.stepAt[step]].Resource)
	for _, t := range dependencies(n, 0) {
		for j := range t.Count {
			on := c.resourceID(t, j)
			c.waits[step] = append(c.waits[step], on)
			r.StandsOn = append(r.StandsOn, on)
		}
	}
}

// dependencies are what a node plainly depends on; through a node that builds nothing, what that one leads to.
func dependencies(n *topology.Node, depth int) []*topology.Node {
	var out []*topology.Node
	for _, rel := range n.Relations {
		if n.Builds != kinds.None && rel.Order != topology.Depends {
			continue
		}
		if rel.Target.Builds == kinds.None && depth < 100 {
			out = append(out, dependencies(rel.Target, depth+1)...)
			continue
		}
		out = append(out, rel.Target)
	}
	return out
}

// settleWaits adds the last steps of what steps wait for. A network stands at several sites, so all of them count.
func (c *compiler) settleWaits() {
	networks := map[string][]string{}
	for i := range c.plan.Resources {
		if r := &c.plan.Resources[i]; r.Kind == kinds.Network {
			networks[r.Node+"-1"] = append(networks[r.Node+"-1"], r.ID)
		}
	}
	known := func(id string) []string {
		if _, ok := c.at[id]; ok {
			return []string{id}
		}
		return networks[id]
	}
	for step, on := range c.waits {
		s := &c.plan.Steps[c.stepAt[step]]
		for _, w := range on {
			for _, id := range known(w) {
				s.After = append(s.After, c.stood[id])
			}
		}
		s.After = unique(s.After)
	}
	for i := range c.plan.Resources {
		r := &c.plan.Resources[i]
		on := make([]string, 0, len(r.StandsOn))
		for _, id := range r.StandsOn {
			on = append(on, known(id)...)
		}
		r.StandsOn = unique(on)
	}
}

// settleAsked makes every step wait for the steps that provide what its script is given.
func (c *compiler) settleAsked() error {
	for _, step := range sortedKeys(c.asked) {
		s := &c.plan.Steps[c.stepAt[step]]
		for _, a := range c.asked[step] {
			by, known := c.provides[a.resource+"."+a.attribute]
			at, built := c.at[a.resource]
			switch {
			case !built:
				return fmt.Errorf("%s is given %s of %s, which the plan does not build", step, a.attribute, a.resource)
			case known && by != step:
				c.comesAfter(s, by)
			case !known && c.plan.Resources[at].Kind == kinds.Interface:
				c.comesAfter(s, c.last[a.resource])
			case !known && a.attribute != "state":
				return fmt.Errorf("%s is given %s of %s, and nothing puts that out: no operation has it among its outputs", step, a.attribute, a.resource)
			}
		}
		s.After = unique(s.After)
	}
	return nil
}

// comesAfter makes a step wait for another, unless it does so already through others.
func (c *compiler) comesAfter(s *Step, by string) {
	seen := map[string]bool{}
	queue := slices.Clone(s.After)
	for len(queue) > 0 && len(seen) < 500 {
		id := queue[0]
		queue = queue[1:]
		if id == by {
			return
		}
		if !seen[id] {
			seen[id] = true
			queue = append(queue, c.plan.Steps[c.stepAt[id]].After...)
		}
	}
	s.After = append(s.After, by)
}
