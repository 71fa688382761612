package plan

import (
	"fmt"
	"slices"
	"strconv"

	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/topology"
)

// impliedNetwork is the network of instances for which the template names no interface.
const impliedNetwork = "site-lan"

// interfaces plugs instances into networks: those the template asks for, and one into the site's own network where it
// asks for none, since an instance without a network can neither be configured nor answer.
func (c *compiler) interfaces() error {
	err := c.each(kinds.Interface, func(n *topology.Node, i int, at *placement.Choice) error {
		return c.plug(wiring{id: c.resourceID(n, i), node: n, title: title(n, i), instance: c.resourceID(n.Base, i), base: n.Base,
			network: networkID(target(n, topology.Links).Name, at.Site), address: pickedAddress(n, i)})
	})
	if err != nil {
		return err
	}
	return c.each(kinds.Instance, func(n *topology.Node, i int, at *placement.Choice) error {
		instance := c.resourceID(n, i)
		if c.plugged[instance] != "" {
			return nil
		}
		lan := networkID(impliedNetwork, at.Site)
		if _, done := c.at[lan]; !done {
			c.addNetwork(Resource{ID: lan, Node: impliedNetwork, Title: impliedNetwork, Site: at.Site,
				Description: "network for instances whose template names none", Spec: NetworkSpec{Label: impliedNetwork}})
		}
		return c.plug(wiring{id: instance + ".if", node: n, title: title(n, i) + " interface", instance: instance, base: n, network: lan})
	})
}

// wiring is an interface to be: of which instance, into which network, at which address if one was picked.
type wiring struct {
	id, title, instance, network, address string
	node, base                            *topology.Node
}

func (c *compiler) plug(w wiring) error {
	id, instance, network := w.id, w.instance, w.network
	on := c.resource(instance)
	address, err := c.address(id, on.Site, c.resource(network).AsNetwork().CIDR, w.address)
	if err != nil {
		return fmt.Errorf("%s: %w", w.node.Pos, err)
	}
	c.add(Resource{ID: id, Node: w.node.Name, Title: w.title, Kind: kinds.Interface, Service: w.node.Service, Site: on.Site, Zone: on.Zone,
		PartOf: instance, StandsOn: []string{instance, network}, Why: []string{"with the instance it belongs to"}, Detail: address,
		Spec: InterfaceSpec{Network: network, Instance: instance, Ports: c.ports(w.base), Address: address}})
	on = c.resource(instance)
	on.StandsOn = append(on.StandsOn, network)
	if c.plugged[instance] == "" {
		c.plugged[instance] = id
	}
	done := c.step(Step{Resource: id, Op: op.Plug, Title: "plug into " + c.resource(network).Title, Check: Condition{Kind: CheckSite}},
		"", c.estate.Site(on.Site).Timings.Interface, c.ready[instance][0], c.last[network])
	c.ready[instance] = append(c.ready[instance], done)
	if c.plugged[instance] == id {
		ports := map[string]int{}
		for _, p := range c.ports(w.base) {
			ports[PortLabel(p)] = p
		}
		c.name(id, done, Naming{Name: on.AsInstance().Hostname, Interface: id, Ports: ports})
	}
	return nil
}

// PortLabel is the service label (RFC 6335, section 5.1) of a port that nothing else is known of.
func PortLabel(port int) string { return "p" + strconv.Itoa(port) }

// name adds the step that publishes a name once what it stands for is there.
func (c *compiler) name(resource, after string, n Naming) {
	if c.plan.Zone == "" {
		return
	}
	n.Name += c.suffix
	last := c.last[resource] // nobody waits for a name who is given the address
	defer func() { c.last[resource] = last }()
	address := Expr{Func: "get_attribute", Args: []Expr{{Literal: n.Interface}, {Literal: "address"}}}
	c.step(Step{Resource: resource, Op: op.Name, Title: "name " + n.Name, Naming: &n, Check: Condition{Kind: CheckName, Address: &address}},
		"", nameSeconds, after)
}

// nameSeconds is how long it is expected to take until everybody knows a name.
const nameSeconds = 1

// interfaceOf is the id of the first interface of a node's i-th instance.
func (c *compiler) interfaceOf(base *topology.Node, i int) string {
	return c.plugged[c.resourceID(base, i)]
}

// ports are those that software on an instance answers on, sorted: a port-mapped network must be asked for them.
func (c *compiler) ports(base *topology.Node) []int {
	var out []int
	for _, n := range c.onBase[base] {
		if n.Builds != kinds.Software {
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
