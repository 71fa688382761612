package plan

import (
	"fmt"
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/topology"
)

// Balancing is what a load balancer of a site's own does with what comes to it.
type Balancing struct {
	// Port is where it is asked, by Protocol: http or tcp.
	Port     int    `json:"port"`
	Protocol string `json:"protocol"`
	// Algorithm is how a member is chosen: roundrobin, leastconn or source.
	Algorithm string `json:"algorithm"`
	// Look is the page that members are asked for, to know whether they are well; "" asks for a connection.
	Look string `json:"look,omitempty"`
}

// Member is one that a load balancer hands out to.
type Member struct {
	Name    string `json:"name"`
	Address Expr   `json:"address"`
	Port    Expr   `json:"port"`
}

// appliancesOf are the services of a site's own that may take the place of instances, by the instance's node: where software that there is such a one for is all that
// runs on it.
func appliancesOf(d *topology.Design) map[string]string {
	out := map[string]string{}
	runsOn := func(n *topology.Node) bool {
		return n.Base != nil && n.Builds != kinds.Instance && n.Builds != kinds.Interface
	}
	for _, n := range d.Nodes {
		if runsOn(n) && n.Appliance != "" {
			out[n.Base.Name] = n.Appliance
		}
	}
	if len(out) == 0 { // as in most designs, of which no more is looked at
		return out
	}
	on := map[string]int{}
	for _, n := range d.Nodes {
		if runsOn(n) {
			on[n.Base.Name]++
		}
	}
	for base := range out {
		if on[base] > 1 || d.Node(base).Operations.HasOwn() {
			delete(out, base)
		}
	}
	return out
}

// applianceAt is the service that takes the place of an instance where it is placed; "" for an instance.
func (c *compiler) applianceAt(n *topology.Node, at *placement.Choice) string {
	service := c.appliances[n.Name]
	if service == "" || at.Size != service {
		return ""
	}
	if _, has := c.estate.Site(at.Site).Appliances[service]; !has {
		return ""
	}
	return service
}

// appliance adds a service of the site's own in the place of an instance.
func (c *compiler) appliance(n *topology.Node, i int, at *placement.Choice, service string) error {
	name, err := c.hostname(n, i, at)
	if err != nil {
		return err
	}
	id := c.resourceID(n, i)
	c.add(Resource{ID: id, Node: n.Name, Title: title(n, i), Kind: kinds.Instance, Service: n.Service, Description: n.Description,
		Site: at.Site, Zone: at.Zone, Host: at.Host, Detail: service + " of the site's own", CostPerHour: at.CostPerHour, CostOff: at.CostPerHour,
		Why: at.Reasons, Elsewhere: at.Elsewhere, Need: &Need{}, Spec: InstanceSpec{Hostname: name, Size: service, Appliance: service}})
	created := c.step(Step{Resource: id, Op: op.Create, Title: "create " + service, Check: Condition{Kind: CheckSite}}, "", c.estate.Site(at.Site).Timings.Instance)
	c.waitFor(n, created)
	c.ready[id] = []string{created}
	return nil
}

// balance adds what a load balancer of a site's own is told: what it does with what comes to it, and who its members are. No script is run on it.
func (w *weave) balance(connected []string) {
	w.after = append(w.after, connected...)
	b := w.balancing()
	w.add(Step{Op: op.Balance, Title: fmt.Sprintf("balance %s %d", b.Protocol, b.Port), Balancing: &b, Check: Condition{Kind: CheckSite}}, "", checkSeconds)
	w.check()
	for i, r := range w.node.Relations {
		again := slices.ContainsFunc(w.node.Relations[:i], func(o topology.Relation) bool {
			return o.Order == topology.Routes && o.Target == r.Target && o.Capability == r.Capability
		})
		if r.Order != topology.Routes || again {
			continue
		}
		for _, j := range w.c.ends(w.node, r, w.i) {
			w.enroll(r, j)
		}
	}
}

// balancing is what the node says of what a balancer does, by its public endpoint.
func (w *weave) balancing() Balancing {
	b := Balancing{Protocol: "tcp", Algorithm: "roundrobin"}
	if algorithm, ok := w.node.Properties["algorithm"].(string); ok {
		b.Algorithm = algorithm
	}
	for _, cp := range w.node.Capabilities {
		port, ok := cp.Properties["port"].(int64)
		if !cp.Public || !ok {
			continue
		}
		b.Port, b.Protocol = int(port), protocol(cp)
		if b.Protocol == "http" {
			b.Look, _ = cp.Properties["url_path"].(string)
		}
		break
	}
	return b
}

// enroll adds an instance of a target as a member.
func (w *weave) enroll(r topology.Relation, j int) {
	in := instances{i: w.i, pair: map[string]int{w.node.Name: w.i, r.Target.Name: j}}
	which := w.c.resourceID(r.Target, j)
	m := Member{Name: which, Address: w.c.attribute(r.Target.Name, r.Capability+".ip_address", in), Port: w.c.attribute(r.Target.Name, r.Capability+".port", in)}
	part := which
	if leads(w.node, r) > 1 {
		part += "." + r.Capability
		m.Name = part
	}
	w.add(Step{Op: op.Enroll, Title: "enroll " + which, Member: &m, Check: Condition{Kind: CheckSite}}, part, checkSeconds)
	var asked []asking
	for _, e := range []Expr{m.Address, m.Port} {
		e.walk(func(e Expr) {
			if e.Func == "get_attribute" {
				asked = append(asked, asking{show(e.Args[0].Literal), show(e.Args[1].Literal)})
			}
		})
	}
	w.c.asked[w.after[0]] = asked
}

// checkBalancing says what a step lacks that tells a balancer what it does.
func (p *Plan) checkBalancing(s *Step) error {
	if b := s.Balancing; b == nil || b.Port < 1 || b.Port > 65535 {
		return fmt.Errorf("step %s balances nothing", s.ID)
	}
	return nil
}

// checkMember says what a step lacks that tells a balancer of a member.
func (p *Plan) checkMember(s *Step) error {
	if s.Member == nil || s.Member.Name == "" {
		return fmt.Errorf("step %s is of no member", s.ID)
	}
	return nil
}
