package capture

import (
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan/op"
)

// balancers has each load balancer that a site runs itself be one node, as the standard has it: what it stands for is decided anew where the template is raised.
func (c *capturer) balancers() {
	for _, name := range slices.Clone(c.order) {
		n := c.nodes[name]
		if n.kind != kinds.Software || c.nodes[n.host] == nil || c.nodes[n.host].first.AsInstance().Appliance == "" {
			continue
		}
		c.order = slices.DeleteFunc(c.order, func(x string) bool { return x == n.host })
		n.balances = true
		for i := range c.plan.Steps {
			if s := &c.plan.Steps[i]; s.Resource == n.first.ID && s.Op == op.Balance {
				n.balancing = s.Balancing
			}
		}
	}
}

// named is what a node is called in the template. A part of a node that a template stood for, and that stands alone now, has that node's name.
func (c *capturer) named(name string) string {
	n := c.nodes[name]
	if n == nil || !n.balances {
		return name
	}
	outer, _, part := cutLast(name)
	if !part || c.nodes[outer] != nil {
		return name
	}
	return outer
}

func cutLast(name string) (before, after string, found bool) {
	at := strings.LastIndexByte(name, '.')
	if at < 0 {
		return name, "", false
	}
	return name[:at], name[at+1:], true
}

// balancer is the node template of a load balancer.
func (c *capturer) balancer(n *node, out map[string]any) {
	out["type"] = "tosca.nodes.LoadBalancer"
	if b := n.balancing; b != nil {
		out["properties"] = map[string]any{"algorithm": b.Algorithm}
		client := map[string]any{"port": b.Port, "protocol": b.Protocol}
		if b.Look != "" {
			client["url_path"] = b.Look
		}
		out["capabilities"] = map[string]any{"client": map[string]any{"properties": client}}
	}
	var members []any
	for _, to := range slices.Sorted(slices.Values(n.connects)) {
		members = append(members, map[string]any{"application": map[string]any{"node": to, "capability": c.nodes[to].endpoint()}})
	}
	if members != nil {
		out["requirements"] = members
	}
}
