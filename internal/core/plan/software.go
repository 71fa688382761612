package plan

import (
	"fmt"
	"slices"

	"andamio/internal/core/placement"
	"andamio/internal/core/topology"
)

// software adds what runs on instances, hosts before what they host and targets of connections before their sources.
func (c *compiler) software() error {
	for _, n := range inOrder(c.design.Nodes) {
		if n.Builds != topology.Software {
			continue
		}
		for i := range n.Count {
			at := c.siteOf(n, i)
			c.component(n, i, at)
		}
	}
	return nil
}

// inOrder sorts nodes so that the targets of a node's relations come before it; the template has no circles.
func inOrder(nodes []*topology.Node) []*topology.Node {
	var out []*topology.Node
	seen := map[*topology.Node]bool{}
	var visit func(n *topology.Node)
	visit = func(n *topology.Node) {
		if n == nil || seen[n] {
			return
		}
		seen[n] = true
		for _, r := range n.Relations {
			visit(r.Target)
		}
		out = append(out, n)
	}
	for _, n := range nodes {
		visit(n)
	}
	return out
}

// component adds one instance of software with the steps of its lifecycle (TOSCA 1.3, section 7.4): create → configure
// → start, each after what it needs; the operations of its relationships between them; and a check that its endpoint
// answers before anything connects to it.
func (c *compiler) component(n *topology.Node, i int, at *placement.Choice) {
	on := c.resourceID(n.Base, i)
	id := c.resourceID(n, i)
	host := on
	if n.Host.Builds == topology.Software {
		host = c.resourceID(n.Host, i)
	}
	targets := c.targets(n, i)
	c.add(Resource{ID: id, Node: n.Name, Title: title(n, i), Kind: Software, Service: n.Service, Description: n.Description,
		Site: at.Site, Zone: at.Zone, On: on, StandsOn: unique(append([]string{host}, targets...)), Detail: endpointDetail(n),
		Why: []string{fmt.Sprintf("it runs on %s, which is placed there", c.resource(on).Title)}})

	before := slices.Clone(c.ready[on])
	if host != on {
		before = []string{c.last[host]}
	}
	var connected []string
	for _, t := range targets {
		connected = append(connected, c.last[t])
	}
	w := weave{c: c, node: n, i: i, id: id, after: before}
	w.own(Create)
	w.after = append(w.after, connected...)
	w.relations("pre_configure_source", "pre_configure_target")
	w.own(Configure)
	w.relations("post_configure_source", "post_configure_target")
	w.own(Start)
	w.check()
	w.relations("add_target", "add_source")
	if _, any := c.last[id]; !any {
		w.add(Step{Op: Settle, Title: "nothing to run", Check: Condition{Kind: CheckNone}}, "", 0)
	}
	c.waitFor(n, w.first)
}

// targets are the resources that an instance of software connects to or depends on: of many instances each source
// takes one, in turn.
func (c *compiler) targets(n *topology.Node, i int) []string {
	var out []string
	for _, r := range n.Relations {
		if r.Order != topology.Connects && (r.Order != topology.Depends || r.Target.Builds != topology.Software) {
			continue
		}
		for j := i % r.Target.Count; j < r.Target.Count; j += max(n.Count, 1) {
			out = append(out, c.resourceID(r.Target, j))
		}
	}
	return out
}

// weave adds the steps of one piece of software, each after the ones before it.
type weave struct {
	c     *compiler
	node  *topology.Node
	i     int
	id    string
	after []string
	first string
}

func (w *weave) add(s Step, suffix string, seconds float64) {
	s.Resource = w.id
	done := w.c.step(s, suffix, seconds, w.after...)
	w.after = []string{done}
	if w.first == "" {
		w.first = done
	}
}

// own adds an operation of the node's lifecycle, if it has a script.
func (w *weave) own(op Op) {
	if o, ok := w.node.Operations[string(op)]; ok {
		w.add(Step{Op: op, Title: string(op), Script: w.script(o), Check: Condition{Kind: CheckExit}}, "",
			w.c.scriptSeconds(w.node.Name, op))
	}
}

// relations adds the scripts of the node's relationships for the named operations. Those that the standard runs on the
// target's side run here too, on the source: the target must not know of its sources.
func (w *weave) relations(names ...string) {
	for _, r := range w.node.Relations {
		for _, name := range names {
			if o, ok := r.Operations[name]; ok {
				w.add(Step{Op: Connect, Title: fmt.Sprintf("%s %s", name, r.Target.Name), Script: w.script(o),
					Check: Condition{Kind: CheckExit}}, ":"+r.Name+"."+name, scriptSeconds)
			}
		}
	}
}

func (w *weave) script(o topology.Operation) *Script {
	s := &Script{Path: o.Script, Timeout: o.Timeout}
	for _, in := range o.Inputs {
		s.Inputs = append(s.Inputs, Input{in.Name, w.c.expr(in.Value, w.i)})
	}
	w.c.plan.Scripts[o.Script] = string(w.c.design.Scripts[o.Script])
	return s
}

// check adds a step for each endpoint with a port of its own: software is not started before its port is open.
func (w *weave) check() {
	for _, cp := range w.node.Capabilities {
		port, ok := cp.Properties["port"].(int64)
		if !cp.Answers || !ok {
			continue
		}
		w.add(Step{Op: Check, Title: fmt.Sprintf("check tcp %d", port), Check: w.c.reach(w.node, w.i, port, CheckTCP, "")},
			":"+cp.Name, checkSeconds)
	}
}

// reach is the condition that an endpoint answers at the address and port that the network gives it.
func (c *compiler) reach(n *topology.Node, i int, port int64, kind, path string) Condition {
	iface := c.interfaceOf(n.Base, i)
	address := Expr{Func: "get_attribute", Args: []Expr{{Literal: iface}, {Literal: "address"}}}
	mapped := Expr{Func: "get_attribute", Args: []Expr{{Literal: iface}, {Literal: fmt.Sprintf("port.%d", port)}}}
	return Condition{Kind: kind, Address: &address, Port: &mapped, Path: path}
}

func endpointDetail(n *topology.Node) string {
	for _, cp := range n.Capabilities {
		if port, ok := cp.Properties["port"].(int64); ok && cp.Answers {
			return fmt.Sprintf("%v %d", protocol(cp), port)
		}
	}
	return ""
}

func protocol(cp topology.Capability) string {
	if p, ok := cp.Properties["protocol"].(string); ok && p != "" {
		return p
	}
	return "tcp"
}

// endpoints adds, for every endpoint that users reach, a resource that stands when a real request is answered.
func (c *compiler) endpoints() {
	for _, n := range c.design.Nodes {
		for _, cp := range n.Capabilities {
			port, ok := cp.Properties["port"].(int64)
			if n.Builds != topology.Software || !cp.Public || !ok {
				continue
			}
			for i := range n.Count {
				c.endpoint(n, cp, port, i)
			}
		}
	}
}

func (c *compiler) endpoint(n *topology.Node, cp topology.Capability, port int64, i int) {
	of := c.resource(c.resourceID(n, i))
	path, _ := cp.Properties["url_path"].(string)
	kind := CheckTCP
	if protocol(cp) == "http" {
		kind = CheckHTTP
		if path == "" {
			path = "/"
		}
	}
	r := c.add(Resource{ID: of.ID + "." + cp.Name, Node: n.Name, Title: title(n, i) + " " + protocol(cp), Kind: Endpoint,
		Service: n.Service, Description: "where users reach " + of.Title, Site: of.Site, Zone: of.Zone,
		StandsOn: []string{of.ID}, Detail: path, Why: []string{"it is reached where " + of.Title + " runs"},
		Spec: Spec{Protocol: protocol(cp), Port: int(port), Path: path, Interface: c.interfaceOf(n.Base, i), EndpointOf: of.ID}})
	c.step(Step{Resource: r.ID, Op: Answer, Title: "ask " + protocol(cp) + " " + path, Check: c.reach(n, i, port, kind, path)},
		"", checkSeconds, c.last[of.ID])
}
