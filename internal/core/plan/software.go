package plan

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/topology"
)

// software adds what runs on instances, hosts before what they host and targets of connections before their sources.
func (c *compiler) software() error {
	c.sequence = inOrder(c.design.Nodes)
	for _, n := range c.sequence {
		for i := range n.Count {
			var err error
			switch n.Builds {
			case kinds.Instance:
				err = c.prepare(n, i)
			case kinds.Software:
				err = c.component(n, i, c.siteOf(n, i))
			case kinds.Network, kinds.Volume, kinds.Interface:
				err = noShell(n)
			}
			if err != nil {
				return err
			}
		}
	}
	c.stood = maps.Clone(c.last) // what tells a target of its sources comes after them, and nothing waits for it
	return c.notify()
}

// inOrder sorts nodes so that the targets of a node's relations come before it; the template has no circles.
func inOrder(nodes []*topology.Node) []*topology.Node {
	out := make([]*topology.Node, 0, len(nodes))
	seen := make(map[*topology.Node]bool, len(nodes))
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

// noShell refuses operations on what has no shell to run them in.
func noShell(n *topology.Node) error {
	if n.Operations.HasOwn() {
		return fmt.Errorf("%s: %s has operations, and a %s has no shell to run them in", n.Pos, n.Name, n.Builds)
	}
	return nil
}

// prepare adds the operations of an instance itself, which run in it before anything is put on it.
func (c *compiler) prepare(n *topology.Node, i int) error {
	if !n.Operations.HasOwn() && len(c.incoming[n]) == 0 && !slices.ContainsFunc(n.Relations, hasOperations) {
		return nil
	}
	id := c.resourceID(n, i)
	w := weave{c: c, node: n, i: i, id: id, after: slices.Clone(c.ready[id])}
	w.lifecycle(nil)
	c.ready[id] = append(c.ready[id], w.after...)
	return w.err
}

func hasOperations(r topology.Relation) bool { return len(r.Operations) > 0 }

// component adds one instance of software with the steps of its lifecycle, and a check that its endpoint answers before
// anything connects to it.
func (c *compiler) component(n *topology.Node, i int, at *placement.Choice) error {
	on := c.resourceID(n.Base, i)
	id := c.resourceID(n, i)
	host := on
	if n.Host.Builds == kinds.Software {
		host = c.resourceID(n.Host, i)
	}
	targets := c.targets(n, i)
	software := Resource{ID: id, Node: n.Name, Title: title(n, i), Kind: kinds.Software, Service: n.Service, Description: n.Description,
		Site: at.Site, Zone: at.Zone, On: on, StandsOn: unique(append([]string{host}, targets...)), Detail: endpointDetail(n),
		Why: []string{"it runs on " + c.resource(on).Title + ", which is placed there"}}
	if to := c.members(n, i); len(to) > 0 {
		software.Spec = SoftwareSpec{LeadsTo: to}
	}
	c.add(software)

	before := slices.Clone(c.ready[on])
	if host != on {
		before = []string{c.last[host]}
	}
	var connected []string
	for _, t := range targets {
		connected = append(connected, c.last[t])
	}
	w := weave{c: c, node: n, i: i, id: id, after: before}
	if c.resource(on).AsInstance().Appliance != "" {
		w.balance(connected)
	} else {
		w.lifecycle(connected)
	}
	if _, any := c.last[id]; !any {
		w.add(Step{Op: op.Barrier, Title: "nothing to run", Check: Condition{Kind: CheckNone}}, "", 0)
	}
	c.waitFor(n, w.first)
	return w.err
}

// targets are the resources that an instance of software connects to or depends on: of many instances each source
// takes one, in turn, and every target has a source.
func (c *compiler) targets(n *topology.Node, i int) []string {
	var out []string
	for _, r := range n.Relations {
		if r.Target.Builds != kinds.Software || !tied(r.Order) {
			continue
		}
		for _, j := range paired(n, r, i) {
			out = append(out, c.resourceID(r.Target, j))
		}
	}
	return out
}

// members are the instances of software that a load balancer hands requests to; none of what is no load balancer.
func (c *compiler) members(n *topology.Node, i int) []string {
	var out []string
	for _, r := range n.Relations {
		if r.Order != topology.Routes || r.Target.Builds != kinds.Software {
			continue
		}
		for _, j := range paired(n, r, i) {
			out = append(out, c.resourceID(r.Target, j))
		}
	}
	return out
}

// tied reports that each instance of a source is tied to instances of its targets.
func tied(o topology.Ordering) bool {
	return o == topology.Connects || o == topology.Depends || o == topology.Routes
}

// paired are the instances of a relation's target that the i-th instance of its source is tied to.
func paired(n *topology.Node, r topology.Relation, i int) []int {
	var out []int
	if r.Order == topology.Routes {
		for j := range r.Target.Count {
			out = append(out, j)
		}
		return out
	}
	for j := i % max(r.Target.Count, 1); j < r.Target.Count; j += max(n.Count, 1) {
		out = append(out, j)
	}
	return out
}

// weave adds the steps of one node's instance, each after the ones before it.
type weave struct {
	c     *compiler
	node  *topology.Node
	i     int
	id    string
	after []string
	first string
	err   error
}

// lifecycle weaves the operations of a node with those of its relationships (TOSCA 1.3, sections 5.8.5 and 7.2): create;
// what its relationships do before it is configured, on the side where it is their target and then where it is their
// source; configure; what they do after; start; and a check that it answers. The targets it connects to stand before it
// is configured.
func (w *weave) lifecycle(connected []string) {
	w.own(op.Create)
	w.asTarget("pre_configure_target")
	w.after = append(w.after, connected...)
	w.asSource("pre_configure_source")
	w.own(op.Configure)
	w.asTarget("post_configure_target")
	w.asSource("post_configure_source")
	w.own(op.Start)
	w.check()
	w.asSource("add_target")
}

// notify tells targets of the sources that were added to them, once those stand (add_source, section 5.8.5.3).
func (c *compiler) notify() error {
	for _, n := range c.sequence {
		for i := range n.Count {
			if len(c.incoming[n]) == 0 {
				break
			}
			w := weave{c: c, node: n, i: i, id: c.resourceID(n, i)}
			w.asTarget("add_source")
			if w.err != nil {
				return w.err
			}
		}
	}
	return nil
}

func (w *weave) add(s Step, part string, seconds float64) {
	s.Resource = w.id
	done := w.c.step(s, part, seconds, w.after...)
	w.after = []string{done}
	if w.first == "" {
		w.first = done
	}
}

// own adds an operation of the node's lifecycle, if it has a script.
func (w *weave) own(does op.Op) {
	o := w.node.Operations.Own(string(does))
	if o == nil {
		return
	}
	part := ""
	if w.node.Builds == kinds.Instance {
		part = "script" // create is what the site does
	}
	undo := map[op.Op]string{op.Create: "delete", op.Start: "stop"}[does]
	s := Step{Op: does, Title: string(does), Undo: w.undo(w.node.Operations.Own(undo), at(w.i), "Standard."+undo)}
	if does == w.lastOwn() {
		s.Quiesce, s.Resume = w.around("quiesce"), w.around("resume")
		if (s.Quiesce == nil) != (s.Resume == nil) && w.err == nil {
			w.err = fmt.Errorf("%s: %s needs a script for quiesce and one for resume: what is quiesced and never resumed serves nobody", w.node.Name, snapshotInterface)
		}
	}
	w.run(s, part, o,
		"Standard."+string(does), at(w.i), w.c.scriptSeconds(w.node.Name, does))
}

// snapshotInterface is what software has whose state is made whole while a snapshot is taken.
const snapshotInterface = "andamio.interfaces.Snapshot"

// around is the script of an operation that is run before or after a snapshot; nil if there is none.
func (w *weave) around(operation string) *Script {
	name := snapshotInterface + "." + operation
	return w.undo(w.node.Operations.Called(name), at(w.i), name)
}

// lastOwn is the operation of the node's lifecycle after which it runs.
func (w *weave) lastOwn() op.Op {
	for _, does := range []op.Op{op.Start, op.Configure} {
		if w.node.Operations.Own(string(does)) != nil {
			return does
		}
	}
	return op.Create
}

// undo is the script of the operation that takes another back; nil if there is none.
func (w *weave) undo(o *topology.Operation, in instances, operation string) *Script {
	if o == nil || o.Script == "" || w.node.Base == nil {
		return nil
	}
	s, _ := w.c.script(o, in, w.id, operation)
	return s
}

// TakenBackBy are the operations of relationships that take others back (TOSCA 1.3, section 5.8.5).
var TakenBackBy = map[string]string{"add_target": "remove_target", "add_source": "remove_source"}

// asSource adds a relationship operation that runs on the side of its source, for each of the node's relations and each
// instance of the target it is tied to.
func (w *weave) asSource(name string) {
	for _, r := range w.node.Relations {
		o := r.Operations.Own(name)
		if o == nil || o.Host == "TARGET" {
			continue
		}
		for _, j := range w.c.ends(w.node, r, w.i) {
			w.relation(name, o, w.node, r, w.i, j)
		}
	}
}

// asTarget adds a relationship operation that runs on the side of its target, for each relation that leads here and each
// instance of the source that is tied to this one.
func (w *weave) asTarget(name string) {
	for _, in := range w.c.incoming[w.node] {
		o := in.rel.Operations.Own(name)
		if o == nil || o.Host == "SOURCE" {
			continue
		}
		for k := range in.source.Count {
			if !slices.Contains(w.c.ends(in.source, in.rel, k), w.i) {
				continue
			}
			if name == "add_source" { // told once the source stands
				w.after = []string{w.c.last[w.id], w.c.last[w.c.resourceID(in.source, k)]}
			}
			w.relation(name, o, in.source, in.rel, k, w.i)
		}
	}
}

// ends are the instances of a relation's target that belong to an instance of its source. What hosts or is attached goes
// one by one.
func (c *compiler) ends(source *topology.Node, r topology.Relation, i int) []int {
	if r.Order == topology.Hosted || r.Order == topology.Attaches || r.Order == topology.Binds {
		return []int{i % max(r.Target.Count, 1)}
	}
	return paired(source, r, i)
}

func (w *weave) relation(name string, o *topology.Operation, source *topology.Node, r topology.Relation, i, j int) {
	pair := instances{i: w.i, pair: map[string]int{source.Name: i, r.Target.Name: j}}
	other := r.Target
	which := w.c.resourceID(r.Target, j)
	if w.node != source || source == r.Target {
		other, which = source, w.c.resourceID(source, i)
	}
	part := r.Name + "." + name
	if other.Count > 1 || w.node != source || r.Order == topology.Routes || named(source, r.Name) > 1 { // targets of a route come and go
		part += "." + which
	}
	if leads(source, r) > 1 {
		part += "." + r.Capability
	}
	undo := w.undo(r.Operations.Own(TakenBackBy[name]), pair, "Configure."+TakenBackBy[name])
	w.run(Step{Op: op.Connect, Title: name + " " + other.Name, Undo: undo}, part, o, "Configure."+name, pair, scriptSeconds)
}

// named is how many relations of a node have a name.
func named(n *topology.Node, name string) (many int) {
	for _, r := range n.Relations {
		if r.Name == name {
			many++
		}
	}
	return many
}

// leads is how many relations of a node have the name and the target of another, to capabilities of it.
func leads(n *topology.Node, as topology.Relation) (many int) {
	for _, r := range n.Relations {
		if r.Name == as.Name && r.Target == as.Target {
			many++
		}
	}
	return many
}

// run adds a step that runs a script.
func (w *weave) run(s Step, part string, o *topology.Operation, operation string, in instances, seconds float64) {
	if w.node.Base == nil {
		if w.err == nil {
			w.err = fmt.Errorf("%s: %s runs on %s, which has no shell", w.node.Pos, operation, w.node.Name)
		}
		return
	}
	var asked []asking
	s.Script, asked = w.c.script(o, in, w.id, operation)
	s.Check = Condition{Kind: CheckExit}
	w.add(s, part, seconds)
	id := w.after[0]
	if len(asked) > 0 {
		w.c.asked[id] = asked
	}
	for _, out := range s.Script.Outputs {
		w.c.provides[out.Resource+"."+out.Attribute] = id
	}
}

// check adds a step for each endpoint with a port of its own: software is not started before its port is open.
func (w *weave) check() {
	if w.node.Builds != kinds.Software {
		return
	}
	for _, cp := range w.node.Capabilities {
		port, ok := cp.Properties["port"].(int64)
		if !cp.Answers || !ok {
			continue
		}
		if cp.Metrics {
			w.metrics(cp, port)
			continue
		}
		w.add(Step{Op: op.Check, Title: "check tcp " + strconv.FormatInt(port, 10), Check: w.c.reach(w.node, w.i, port, CheckTCP, "")},
			cp.Name, checkSeconds)
	}
}

// metrics adds a step that looks that software tells figures of itself where it says.
func (w *weave) metrics(cp topology.Capability, port int64) {
	path, _ := cp.Properties["url_path"].(string)
	check := w.c.reach(w.node, w.i, port, CheckHTTP, "/"+strings.TrimPrefix(path, "/"))
	check.Metrics = true
	w.add(Step{Op: op.Check, Title: "ask metrics " + strconv.FormatInt(port, 10), Check: check}, cp.Name, checkSeconds)
}

// reach is the condition that an endpoint answers at the address and port that the network gives it.
func (c *compiler) reach(n *topology.Node, i int, port int64, kind, path string) Condition {
	iface := c.interfaceOf(n.Base, i)
	address := Expr{Func: "get_attribute", Args: []Expr{{Literal: iface}, {Literal: "address"}}}
	mapped := Expr{Func: "get_attribute", Args: []Expr{{Literal: iface}, {Literal: "port." + strconv.FormatInt(port, 10)}}}
	return Condition{Kind: kind, Address: &address, Port: &mapped, Path: path}
}

func endpointDetail(n *topology.Node) string {
	for _, cp := range n.Capabilities {
		if port, ok := cp.Properties["port"].(int64); ok && cp.Answers {
			return protocol(cp) + " " + strconv.FormatInt(port, 10)
		}
	}
	return ""
}

func protocol(cp topology.Capability) string {
	if p, ok := cp.Properties["protocol"].(string); ok && p != "" {
		return strings.ToLower(p)
	}
	return "tcp"
}

// endpoints adds, for every endpoint that users reach, a resource that stands when a real request is answered.
func (c *compiler) endpoints() {
	for _, n := range c.design.Nodes {
		for _, cp := range n.Capabilities {
			port, ok := cp.Properties["port"].(int64)
			if n.Builds != kinds.Software || !cp.Public || !ok {
				continue
			}
			for i := range n.Count {
				c.endpoint(n, cp, port, i)
			}
		}
	}
}

// demand makes the condition of a public endpoint what a policy says of it.
func (c *compiler) demand(n *topology.Node, check *Condition) {
	for _, r := range c.design.Rules {
		if r.Kind != "serves" || check.Kind != CheckHTTP || !r.Covers(n.Name) {
			continue
		}
		if status, ok := r.Properties["status"].(int64); ok && status != 200 {
			check.Status = int(status)
		}
		if text, ok := r.Properties["contains"].(string); ok {
			check.Contains = text
		}
		if path, ok := r.Properties["path"].(string); ok && path != "" {
			check.Path = path
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
	r := c.add(Resource{ID: of.ID + "." + cp.Name, Node: n.Name, Title: title(n, i) + " " + protocol(cp), Kind: kinds.Endpoint,
		Service: n.Service, Description: "where users reach " + of.Title, Site: of.Site, Zone: of.Zone,
		StandsOn: []string{of.ID}, Detail: path, Why: []string{"it is reached where " + of.Title + " runs"},
		Spec: EndpointSpec{Protocol: protocol(cp), Port: int(port), Path: path, Interface: c.interfaceOf(n.Base, i), EndpointOf: of.ID}})
	check := c.reach(n, i, port, kind, path)
	c.demand(n, &check)
	c.step(Step{Resource: r.ID, Op: op.Answer, Title: "ask " + protocol(cp) + " " + check.Path, Check: check},
		"", checkSeconds, c.last[of.ID])
	naming := Naming{Name: of.ID, Interface: r.AsEndpoint().Interface, Ports: map[string]int{protocol(cp): int(port)}}
	if kind == CheckHTTP {
		naming.Ask, naming.Path = protocol(cp), check.Path
	}
	c.name(r.ID, op.Answer.On(r.ID), naming)
}
