// Package servicemap works out what serves what: from a service over its parts, instances and hosts to the sites, and
// back.
//
// In go records, what deployments declare of software and connections, and the connections that deep surveys saw; out
// comes a [Map], a graph in layers that can be walked both ways, and what the loss of anything in it would take down.
package servicemap

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
)

// Layer is how high something stands, from the service down to the site.
type Layer int

// The layers.
const (
	Services Layer = iota
	Parts
	Instances
	Hosts
	Sites
	layers
)

// Layers is how many there are.
const Layers = int(layers)

// Word names a layer.
func (l Layer) Word() string {
	return [...]string{"services", "parts", "instances", "hosts", "sites"}[l]
}

// Node is one thing in the map.
type Node struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Layer Layer  `json:"layer"`
	Site  string `json:"site,omitempty"`
	// Group is the tier: parts of one group stand in for each other.
	Group string `json:"group,omitempty"`
	// Missing things are declared or recorded and were not seen.
	Missing bool `json:"missing,omitempty"`
}

// Basis is from where a link is known.
type Basis string

// The bases.
const (
	Declared Basis = "declared"
	Recorded Basis = "recorded"
	Tagged   Basis = "tagged"
	Observed Basis = "observed"
)

// Link says that From needs To. Peers are parts that talk to each other.
type Link struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Basis Basis  `json:"basis"`
	Peer  bool   `json:"peer,omitempty"`
}

// Map is the graph.
type Map struct {
	Nodes []Node `json:"nodes"`
	Links []Link `json:"links"`

	at         map[string]int
	down, back map[string][]string
	// places leads from SITE/PROVIDER to the node of an instance.
	places map[string]string
}

// Deployment is what a deployment has standing.
type Deployment struct {
	ID   int64
	Name string
	Plan *plan.Plan
}

// Input is what a map is made of. Talks are connections that were observed, between the addresses' instances, by the ids
// of their records' providers as SITE/ID.
type Input struct {
	Records     inventory.Records
	Deployments []Deployment
	Talks       [][2]string
	// Gone are records, by id, that are not where they should be.
	Gone map[string]bool
}

// New makes a map.
func New(in Input) *Map {
	b := &builder{in: in, m: &Map{at: map[string]int{}}, links: map[Link]bool{}, instance: map[string]string{}}
	b.instances()
	for i := range in.Deployments {
		b.deployment(&in.Deployments[i])
	}
	b.tagged()
	for _, t := range in.Talks {
		b.talk(t)
	}
	return b.finish()
}

type builder struct {
	in    Input
	m     *Map
	links map[Link]bool
	// instance leads from SITE/PROVIDER to the node of an instance.
	instance map[string]string
}

func (b *builder) node(n Node) string {
	if _, known := b.m.at[n.ID]; !known {
		b.m.at[n.ID] = len(b.m.Nodes)
		b.m.Nodes = append(b.m.Nodes, n)
	}
	return n.ID
}

func (b *builder) link(from, to string, basis Basis, peer bool) {
	if from == "" || to == "" || from == to {
		return
	}
	for _, known := range []Basis{Declared, Recorded, Tagged, Observed} { // one reason is enough
		if b.links[Link{from, to, known, peer}] {
			return
		}
	}
	b.links[Link{from, to, basis, peer}] = true
}

func (b *builder) site(name string) string {
	return b.node(Node{ID: "site " + name, Name: name, Layer: Sites, Site: name})
}

// instances makes nodes of all recorded instances, on their hosts or zones, at their sites.
func (b *builder) instances() {
	for i := range b.in.Records {
		r := &b.in.Records[i]
		if r.Class != kinds.Instance {
			continue
		}
		id := b.node(Node{ID: "instance " + r.ID, Name: r.Name, Layer: Instances, Site: r.Site, Missing: b.in.Gone[r.ID]})
		b.instance[r.Site+"/"+r.Provider] = id
		b.link(id, b.host(r.Site, r.Attributes[inventory.AttrZone], r.Attributes[inventory.AttrHost]), Recorded, false)
	}
}

// host is the host an instance is on, or its zone where the site does not tell hosts.
func (b *builder) host(site, zone, host string) string {
	name := "zone " + zone
	if host != "" {
		name = host
	}
	if zone == "" && host == "" {
		return b.site(site)
	}
	id := b.node(Node{ID: fmt.Sprintf("host %s/%s/%s", site, zone, host), Name: name, Layer: Hosts, Site: site})
	b.link(id, b.site(site), Recorded, false)
	return id
}

// deployment adds its services and their parts, on the instances that they run on.
func (b *builder) deployment(d *Deployment) {
	id := func(resource string) string { return fmt.Sprintf("part d%d/%s", d.ID, resource) }
	titles := map[string]string{}
	for _, s := range d.Plan.Services {
		titles[s.Name] = cmp.Or(s.Title, s.Name)
	}
	for i := range d.Plan.Resources {
		r := &d.Plan.Resources[i]
		if r.Kind != kinds.Software {
			continue
		}
		part := b.node(Node{ID: id(r.ID), Name: r.ID, Layer: Parts, Site: r.Site, Group: fmt.Sprintf("d%d/%s", d.ID, r.Node)})
		if r.Service != "" {
			service := b.node(Node{ID: "service " + r.Service, Name: titles[r.Service], Layer: Services})
			b.link(service, part, Declared, false)
		}
		if on := d.Plan.Resource(r.On); on != nil {
			b.link(part, b.instance[on.Site+"/"+d.Plan.Known[on.ID]["site.id"]], Declared, false)
		}
	}
	for i := range d.Plan.Resources {
		r := &d.Plan.Resources[i]
		for _, on := range r.StandsOn {
			if o := d.Plan.Resource(on); r.Kind == kinds.Software && o != nil {
				b.peer(id(r.ID), id(b.behind(d.Plan, o)), Declared)
			}
		}
	}
}

// behind is the software that an endpoint leads to, or the resource itself.
func (b *builder) behind(p *plan.Plan, r *plan.Resource) string {
	if r.Kind == kinds.Endpoint && p.Resource(r.AsEndpoint().EndpointOf) != nil {
		return r.AsEndpoint().EndpointOf
	}
	return r.ID
}

func (b *builder) peer(from, to string, basis Basis) {
	_, okF := b.m.at[from]
	if _, okT := b.m.at[to]; okF && okT {
		b.link(from, to, basis, true)
	}
}

// tagged adds services that instances are tagged with, where no deployment says so.
func (b *builder) tagged() {
	for i := range b.in.Records {
		r := &b.in.Records[i]
		service := r.Attributes[inventory.TagPrefix+"service"]
		if r.Class != kinds.Instance || service == "" {
			continue
		}
		s := b.node(Node{ID: "service " + service, Name: service, Layer: Services})
		b.link(s, "instance "+r.ID, Tagged, false)
	}
}

// talk adds a connection that was seen between two instances: between their parts where there is one part on each.
func (b *builder) talk(t [2]string) {
	from, to := b.instance[t[0]], b.instance[t[1]]
	if from == "" || to == "" {
		return
	}
	if x, y := b.partOn(from), b.partOn(to); x != from && y != to {
		from, to = x, y
	}
	b.link(from, to, Observed, true)
}

// partOn is the only part on an instance, or the instance.
func (b *builder) partOn(instance string) string {
	part := ""
	for l := range b.links {
		if l.To == instance && !l.Peer && b.m.Nodes[b.m.at[l.From]].Layer == Parts {
			if part != "" {
				return instance
			}
			part = l.From
		}
	}
	return cmp.Or(part, instance)
}

func (b *builder) finish() *Map {
	m := b.m
	m.places = b.instance
	m.Links = slices.SortedFunc(maps.Keys(b.links), func(x, y Link) int {
		return cmp.Or(cmp.Compare(x.From, y.From), cmp.Compare(x.To, y.To), cmp.Compare(x.Basis, y.Basis))
	})
	slices.SortFunc(m.Nodes, func(x, y Node) int {
		return cmp.Or(cmp.Compare(x.Layer, y.Layer), cmp.Compare(x.Site, y.Site), cmp.Compare(x.Name, y.Name), cmp.Compare(x.ID, y.ID))
	})
	m.index()
	return m
}

func (m *Map) index() {
	m.at, m.down, m.back = map[string]int{}, map[string][]string{}, map[string][]string{}
	for i := range m.Nodes {
		m.at[m.Nodes[i].ID] = i
	}
	for _, l := range m.Links {
		if !l.Peer {
			m.down[l.From] = append(m.down[l.From], l.To)
			m.back[l.To] = append(m.back[l.To], l.From)
		}
	}
}

// Node is the node of an id, or nil.
func (m *Map) Node(id string) *Node {
	if i, ok := m.at[id]; ok {
		return &m.Nodes[i]
	}
	return nil
}

// On is a layer's nodes, in order.
func (m *Map) On(l Layer) []*Node {
	var out []*Node
	for i := range m.Nodes {
		if m.Nodes[i].Layer == l {
			out = append(out, &m.Nodes[i])
		}
	}
	return out
}

// Under is everything that a node needs, itself included; Over is everything that needs it.
func (m *Map) Under(id string) map[string]bool { return walk(id, m.down) }

// Over is everything that needs a node, itself included.
func (m *Map) Over(id string) map[string]bool { return walk(id, m.back) }

func walk(id string, along map[string][]string) map[string]bool {
	seen := map[string]bool{id: true}
	for next := []string{id}; len(next) > 0; next = next[1:] {
		for _, to := range along[next[0]] {
			if !seen[to] {
				seen[to] = true
				next = append(next, to)
			}
		}
	}
	return seen
}

// Peers are the parts that a node talks to, and those that talk to it.
func (m *Map) Peers(id string) (to, from []Link) {
	for _, l := range m.Links {
		switch {
		case l.Peer && l.From == id:
			to = append(to, l)
		case l.Peer && l.To == id:
			from = append(from, l)
		}
	}
	return to, from
}

// Loss is what the loss of a node takes down.
type Loss struct {
	// Lost are nodes that are gone with it: whatever stands on it.
	Lost map[string]bool
	// Cut are parts and instances that go on and have lost what they connect to, by their ids: every one of a tier that
	// they talk to is lost or cut itself.
	Cut map[string]bool
	// Down are services of which a tier is lost whole, by name with the tier; Weakened those that lose something and go on.
	Down, Weakened []string
}

// Losing says what the loss of a node takes down.
func (m *Map) Losing(id string) Loss {
	out := Loss{Lost: map[string]bool{id: true}, Cut: map[string]bool{}}
	// A node is lost when it is the lost one or stands on one that is; services are judged by their tiers.
	for n := range m.Over(id) {
		if node := m.Node(n); node != nil && node.Layer != Services {
			out.Lost[n] = true
		}
	}
	m.cut(&out)
	for _, s := range m.On(Services) {
		all, lost := map[string]int{}, map[string]int{}
		for _, part := range m.down[s.ID] {
			n := m.Node(part)
			tier := cmp.Or(n.Group, "instances")
			all[tier]++
			if out.Lost[part] {
				lost[tier]++
			}
		}
		whole := ""
		for _, tier := range slices.Sorted(maps.Keys(lost)) {
			if lost[tier] == all[tier] {
				whole = tier
			}
		}
		switch {
		case whole != "" || s.ID == id:
			out.Down = append(out.Down, s.Name)
			out.Lost[s.ID] = true
		case len(lost) > 0, slices.ContainsFunc(m.down[s.ID], func(part string) bool { return out.Cut[part] }):
			out.Weakened = append(out.Weakened, s.Name)
		}
	}
	return out
}

// cut marks what connects to a tier of which nothing is left, and so on from there.
func (m *Map) cut(out *Loss) {
	group := func(id string) string {
		if n := m.Node(id); n != nil {
			return cmp.Or(n.Group, id)
		}
		return id
	}
	left := map[string]int{} // how many of each tier still do what they are for
	for i := range m.Nodes {
		if n := &m.Nodes[i]; !out.Lost[n.ID] {
			left[group(n.ID)]++
		}
	}
	for more := true; more; {
		more = false
		for _, l := range m.Links {
			if l.Peer && left[group(l.To)] == 0 && !out.Lost[l.From] && !out.Cut[l.From] {
				out.Cut[l.From], more = true, true
				left[group(l.From)]--
			}
		}
	}
}
