package plan

import (
	"slices"

	"andamio/internal/core/placement"
	"andamio/internal/core/topology"
)

// impliedNetwork is the network of instances for which the template names no interface.
const impliedNetwork = "site-lan"

// interfaces plugs instances into networks: those the template asks for, and one into the site's own network where it
// asks for none, since an instance without a network can neither be configured nor answer.
func (c *compiler) interfaces() error {
	err := c.each(topology.Interface, func(n *topology.Node, i int, at *placement.Choice) error {
		c.plug(c.resourceID(n, i), n.Name, title(n, i), n.Service, c.resourceID(n.Base, i), n.Base,
			networkID(target(n, topology.Links).Name, at.Site))
		return nil
	})
	if err != nil {
		return err
	}
	return c.each(topology.Instance, func(n *topology.Node, i int, at *placement.Choice) error {
		instance := c.resourceID(n, i)
		if c.plugged[instance] != "" {
			return nil
		}
		lan := networkID(impliedNetwork, at.Site)
		if _, done := c.at[lan]; !done {
			c.addNetwork(Resource{ID: lan, Node: impliedNetwork, Title: impliedNetwork, Site: at.Site,
				Description: "network for instances whose template names none", Spec: Spec{Label: impliedNetwork}})
		}
		c.plug(instance+".if", n.Name, title(n, i)+" interface", n.Service, instance, n, lan)
		return nil
	})
}

func (c *compiler) plug(id, node, title, service, instance string, base *topology.Node, network string) {
	on := c.resource(instance)
	c.add(Resource{ID: id, Node: node, Title: title, Kind: Interface, Service: service, Site: on.Site, Zone: on.Zone,
		PartOf: instance, StandsOn: []string{instance, network}, Why: []string{"with the instance it belongs to"},
		Spec: Spec{Network: network, Instance: instance, Ports: c.ports(base)}})
	on = c.resource(instance)
	on.StandsOn = append(on.StandsOn, network)
	if c.plugged[instance] == "" {
		c.plugged[instance] = id
	}
	done := c.step(Step{Resource: id, Op: Plug, Title: "plug into " + c.resource(network).Title, Check: Condition{Kind: CheckSite}},
		"", c.estate.Site(on.Site).Timings.Interface, c.ready[instance][0], c.last[network])
	c.ready[instance] = append(c.ready[instance], done)
}

// interfaceOf is the id of the first interface of a node's i-th instance.
func (c *compiler) interfaceOf(base *topology.Node, i int) string {
	return c.plugged[c.resourceID(base, i)]
}

// ports are those that software on an instance answers on, sorted: a port-mapped network must be asked for them.
func (c *compiler) ports(base *topology.Node) []int {
	var out []int
	for _, n := range c.onBase[base] {
		if n.Builds != topology.Software {
			continue
		}
		for _, cp := range n.Capabilities {
			if port, ok := cp.Properties["port"].(int64); ok && cp.Answers {
				out = append(out, int(port))
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
