package placement

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"andamio/internal/core/estate"
)

// Dimensions that every problem has; extras come between disk and instances.
const (
	dimCores = iota
	dimMemory
	dimDisk
	dimExtras
)

var inf = math.Inf(1)

// model is a problem in numbers. Sites, rooms, workloads and so on are known by their place in a slice.
type model struct {
	p     *Problem
	sites []*estate.Site
	// dims names what is counted; the first roomDims of them are limited by rooms, all of them may be by a site.
	dims     []string
	roomDims int
	// quota is what the account has left at a site, caps the lesser of that and what its rooms hold; by site and dimension.
	quota, caps []float64
	rooms       []room
	roomsOf     [][]int32
	zones       int
	providers   []string
	providerOf  []int32
	// ms and egress are between two sites: milliseconds (-1 if unknown) and the price of a GiB. far says which sites have
	// zones apart from each other.
	ms, egress []float64
	// ingress is egress from the other end, wait is ms with 0 where it is unknown.
	ingress, wait []float64
	far           []bool

	workload map[string]int32
	classes  []*class
	class    []int32
	units    []unit
	unitOf   []int32
	groups   []group
	groupsOf [][]int32
	edges    []edge
	edgesOf  [][]int32 // by workload
	crossOf  [][]int32 // by workload: those that close circles, by their place in the forest's list
	ruleIDs  map[string][]int32
	forest   forest
	// strict says that some must be near to each other.
	strict bool
	// pinned says of which sites somebody wants a certain zone or host, so that rooms there are not alike.
	pinned []bool
}

// room is a part of a site with one capacity: a host, or a zone that does not expose hosts.
type room struct {
	site, zone int32
	info       estate.Room
	free       []float64
}

// class is what workloads that are alike share: the options of each site, cheapest first. lo has where a site's begin.
type class struct {
	opts []option
	lo   []int32
	pin  *Spot
	now  *Spot
}

// option is a workload at a site in a size. c is what it adds to the objective by itself, money the part of that which is
// money, by what it is for.
type option struct {
	site  int32
	shape shape
	c     float64
	cost  spend
	take  []float64
}

// unit is what is placed at one site: one workload, or all that a rule keeps together.
type unit struct {
	members []int32
	scope   scope
}

// scope is how close together, or how far apart.
type scope uint8

const (
	anywhere scope = iota
	perProvider
	perSite
	perZone
	perHost
)

var scopes = map[string]scope{"provider": perProvider, "site": perSite, "zone": perZone, "host": perHost}

// group is workloads of which one place may hold only so many, or with a weight should.
type group struct {
	rule    int // in the problem's rules; -1 is the weight on spreading
	node    string
	scope   scope
	most    int
	weight  float64
	members []int32
}

// edge is what passes between two workloads, worth by the pair of sites.
type edge struct {
	a, b      int32
	ab, ba    float64 // GiB per hour, weighted
	wait      float64 // a millisecond, weighted
	most      float64 // milliseconds, 0 for any
	gib, back float64
}

func newModel(p *Problem) (*model, error) {
	m := &model{p: p, sites: p.Estate.Sites, workload: make(map[string]int32, len(p.Workloads))}
	for i, w := range p.Workloads {
		if _, twice := m.workload[w.Name]; twice || w.Name == "" {
			return nil, fmt.Errorf("the workload %q is there twice, or has no name", w.Name)
		}
		m.workload[w.Name] = int32(i)
	}
	m.nameDims()
	m.readSites()
	m.readRules()
	m.readClasses()
	if err := m.readUnits(); err != nil {
		return nil, err
	}
	m.readGroups()
	m.readPins()
	if err := m.readTraffic(); err != nil {
		return nil, err
	}
	m.readForest()
	return m, nil
}

func (m *model) nameDims() {
	m.dims = []string{"cores", "GiB memory", "GiB disk"}
	extras := map[string]bool{}
	for i := range m.p.Workloads {
		for name := range m.p.Workloads[i].Need.Extra {
			extras[name] = true
		}
	}
	for _, s := range m.sites { // what a size takes beyond the need is counted too
		for _, z := range s.Sizes {
			for name := range z.Extra {
				extras[name] = true
			}
		}
	}
	m.dims = append(m.dims, slices.Sorted(maps.Keys(extras))...)
	m.roomDims = len(m.dims)
	m.dims = append(m.dims, estate.QuotaInstances, estate.QuotaAddresses)
}

// vector is a capacity by dimension.
func (m *model) vector(c estate.Capacity, rest ...float64) []float64 {
	out := make([]float64, m.roomDims, len(m.dims))
	out[dimCores], out[dimMemory], out[dimDisk] = float64(c.Cores), c.MemoryGiB, c.DiskGiB
	for d := dimExtras; d < m.roomDims; d++ {
		out[d] = c.Extra[m.dims[d]]
	}
	return append(out, rest...)
}

// quotaNames are the names of an account's quotas, by dimension.
func (m *model) quotaName(d int) string {
	switch d {
	case dimCores:
		return estate.QuotaCores
	case dimMemory:
		return estate.QuotaMemory
	case dimDisk:
		return estate.QuotaDisk
	}
	return m.dims[d]
}

func (m *model) readSites() {
	D, S := len(m.dims), len(m.sites)
	m.quota, m.caps = make([]float64, S*D), make([]float64, S*D)
	m.roomsOf, m.providerOf, m.far = make([][]int32, S), make([]int32, S), make([]bool, S)
	for i, s := range m.sites {
		for d := range D {
			m.quota[i*D+d] = inf
			if q, ok := s.Quotas[m.quotaName(d)]; ok {
				m.quota[i*D+d] = max(q.Limit-q.Used, 0)
			}
		}
		if free, all := s.Addresses(); all > 0 {
			m.quota[i*D+D-1] = min(m.quota[i*D+D-1], float64(free))
		}
		copy(m.caps[i*D:], m.quota[i*D:(i+1)*D])
		held := make([]float64, m.roomDims)
		zone := ""
		for k, r := range s.Rooms() {
			if k == 0 || r.Zone != zone {
				zone = r.Zone
				m.zones++
			}
			v := m.vector(r.Free)
			for d := range held {
				held[d] += v[d]
			}
			m.roomsOf[i] = append(m.roomsOf[i], int32(len(m.rooms)))
			m.rooms = append(m.rooms, room{int32(i), int32(m.zones - 1), r, v})
		}
		for d := range held {
			m.caps[i*D+d] = min(m.caps[i*D+d], held[d])
		}
		m.far[i] = len(s.Between) > 0
		provider := s.Provider
		if provider == "" {
			provider = s.Name
		}
		at := slices.Index(m.providers, provider)
		if at < 0 {
			at = len(m.providers)
			m.providers = append(m.providers, provider)
		}
		m.providerOf[i] = int32(at)
	}
	m.ms, m.egress = make([]float64, S*S), make([]float64, S*S)
	m.ingress, m.wait = make([]float64, S*S), make([]float64, S*S)
	for i, a := range m.sites {
		for k, b := range m.sites {
			m.egress[i*S+k] = a.EgressTo(b)
			ms, known := estate.Distance(a, b)
			if !known {
				ms = -1
			}
			m.ms[i*S+k], m.wait[i*S+k], m.ingress[k*S+i] = ms, max(ms, 0), m.egress[i*S+k]
		}
	}
}

// readRules finds the rules that cover each node.
func (m *model) readRules() {
	m.ruleIDs = map[string][]int32{}
	for i := range m.p.Workloads {
		m.ruleIDs[m.p.Workloads[i].Node] = nil
	}
	for i, r := range m.p.Rules {
		if len(r.Nodes) == 0 {
			for node := range m.ruleIDs {
				m.ruleIDs[node] = append(m.ruleIDs[node], int32(i))
			}
		}
		for _, node := range r.Nodes {
			if _, known := m.ruleIDs[node]; known && !slices.Contains(m.ruleIDs[node], int32(i)) {
				m.ruleIDs[node] = append(m.ruleIDs[node], int32(i))
			}
		}
	}
}

// likeness is equal for workloads that have the same options.
type likeness struct {
	appliance                   string
	cores, addresses            int
	memory, disk, volumes       float64
	storage, os, image, r, rest string
	release                     estate.Release
}

func (m *model) likeness(w *Workload, rules map[string]string) likeness {
	k := likeness{w.Appliance, w.Need.Cores, w.Addresses, w.Need.MemoryGiB, w.Need.DiskGiB, w.VolumesGiB, w.Storage, w.OS, w.Image, rules[w.Node], "", w.Release}
	if len(w.Need.Extra)+len(w.Capabilities)+len(w.Forbid)+len(w.Ends)+len(w.Exempt) > 0 || w.Now != nil || w.Pin != nil {
		k.rest = fmt.Sprint(w.Need.Extra, w.Capabilities, w.Forbid, w.Ends, w.Now != nil, w.Pin != nil, w.Stays, w.Exempt)
		for _, s := range []*Spot{w.Now, w.Pin} {
			if s != nil {
				k.rest += fmt.Sprintf("%q", *s)
			}
		}
	}
	return k
}

func (m *model) readClasses() {
	rules := make(map[string]string, len(m.ruleIDs))
	for node, ids := range m.ruleIDs {
		var text []byte
		for _, id := range ids {
			if m.p.Rules[id].ofSites() { // others do not change what a workload's options are
				text = fmt.Append(text, id, " ")
			}
		}
		rules[node] = string(text)
	}
	known := map[likeness]int32{}
	m.class = make([]int32, len(m.p.Workloads))
	for i := range m.p.Workloads {
		w := &m.p.Workloads[i]
		key := m.likeness(w, rules)
		at, ok := known[key]
		if !ok {
			at = int32(len(m.classes))
			known[key] = at
			m.classes = append(m.classes, m.newClass(w))
		}
		m.class[i] = at
	}
}

func (m *model) newClass(w *Workload) *class {
	c := &class{lo: make([]int32, 1, len(m.sites)+1), pin: w.Pin, now: w.Now}
	for s, site := range m.sites {
		if !m.excluded(w, s) {
			for _, z := range shapes(w, site, m.p.Payment) {
				if o := m.option(w, s, z); (w.Pin == nil || w.Pin.Size == "" || w.Pin.Size == z.name) && m.holds(c, o) {
					c.opts = append(c.opts, o)
				}
			}
			slices.SortStableFunc(c.opts[c.lo[s]:], func(a, b option) int {
				switch {
				case a.c < b.c:
					return -1
				case a.c > b.c:
					return 1
				}
				return 0
			})
		}
		c.lo = append(c.lo, int32(len(c.opts)))
	}
	return c
}

// holds reports whether any room of the option's site has the room for it when nothing else is placed.
func (m *model) holds(c *class, o option) bool {
	D := len(m.dims)
	for d := m.roomDims; d < D; d++ {
		if o.take[d] > m.quota[int(o.site)*D+d]+slack {
			return false
		}
	}
	for _, r := range m.roomsOf[o.site] {
		if c.admits(&m.rooms[r]) && fits(m.rooms[r].free, o.take) {
			return true
		}
	}
	return false
}

// admits reports whether what the class is pinned to leaves the room open.
func (c *class) admits(r *room) bool {
	return c.pin == nil || (c.pin.Zone == "" || c.pin.Zone == r.info.Zone) && (c.pin.Host == "" || c.pin.Host == r.info.Host)
}

// readPins notes the sites of which a certain zone or host is wanted.
func (m *model) readPins() {
	m.pinned = make([]bool, len(m.sites))
	for s, x := range m.sites {
		m.pinned[s] = slices.ContainsFunc(m.classes, func(c *class) bool {
			return c.pin != nil && (c.pin.Site == "" || c.pin.Site == x.Name) && (c.pin.Zone != "" || c.pin.Host != "")
		})
	}
}

const slack = 1e-7

func fits(free, take []float64) bool {
	for d, x := range free {
		if take[d] > x+slack {
			return false
		}
	}
	return true
}

func (m *model) option(w *Workload, s int, z shape) option {
	site := m.sites[s]
	volume, _ := site.DiskPrice(w.Storage)
	cost := spend{compute: z.price, storage: w.VolumesGiB*volume + (w.Need.DiskGiB-w.VolumesGiB)*site.Prices.Disk,
		address: site.Prices.Address * float64(max(w.Addresses, 1))}
	instances := 1.0
	if z.service {
		cost.storage, instances = 0, 0
	}
	wait := 0.0
	for _, e := range w.Ends {
		if end := m.siteNamed(e.Site); end >= 0 {
			cost.egress += e.ToGiB*m.egress[s*len(m.sites)+end] + e.FrGiB*m.egress[end*len(m.sites)+s]
			wait += max(m.ms[s*len(m.sites)+end], 0) * e.Weight
		}
	}
	c := m.p.Weights.Cost*cost.total() + m.p.Weights.Latency*wait
	if w.Now != nil && (w.Now.Site != site.Name || w.Now.Size != "" && w.Now.Size != z.name) {
		c += m.p.Weights.Keep
	}
	for _, id := range m.ruleIDs[w.Node] {
		if r := &m.p.Rules[id]; r.Weight > 0 && r.ofSites() && r.lack(site) != "" {
			c += r.Weight
		}
	}
	return option{int32(s), z, c, cost, m.vector(z.takes, instances, float64(w.Addresses))}
}

func (m *model) siteNamed(name string) int {
	return slices.IndexFunc(m.sites, func(s *estate.Site) bool { return s.Name == name })
}

// readUnits joins workloads that must be together.
func (m *model) readUnits() error {
	n := len(m.p.Workloads)
	lead, close := newSets(n), make([]scope, n)
	for _, r := range m.p.Rules {
		if r.Together == "" {
			continue
		}
		sc, known := scopes[r.Together]
		if !known || sc == perProvider || r.Weight > 0 {
			return fmt.Errorf("rule %s: workloads are kept together at a site, zone or host, and as a rule that must hold", r.Name)
		}
		first := int32(-1)
		for i := range m.p.Workloads {
			if !r.binds(&m.p.Workloads[i]) {
				continue
			}
			if first < 0 {
				first = lead.find(int32(i))
			}
			l := lead.find(int32(i))
			close[first] = max(close[first], close[l], sc)
			lead[l] = first
		}
	}
	m.unitOf = make([]int32, n)
	at := make(map[int32]int32, n)
	m.units = make([]unit, 0, n)
	all := make([]int32, n) // the members of single units, in one piece
	for i := range m.unitOf {
		l := lead.find(int32(i))
		u, known := at[l]
		if !known {
			u = int32(len(m.units))
			at[l] = u
			all[i] = int32(i)
			m.units = append(m.units, unit{all[i : i+1 : i+1], close[l]})
		} else {
			m.units[u].members = append(m.units[u].members, int32(i))
		}
		m.unitOf[i] = u
	}
	return nil
}

// readGroups finds what is kept apart.
func (m *model) readGroups() {
	m.groupsOf = make([][]int32, len(m.p.Workloads))
	byNode := map[string][]int32{}
	var nodes []string
	for i := range m.p.Workloads {
		node := m.p.Workloads[i].Node
		if byNode[node] == nil {
			nodes = append(nodes, node)
		}
		byNode[node] = append(byNode[node], int32(i))
	}
	for i, r := range m.p.Rules {
		if r.Apart == "" {
			continue
		}
		var joint []int32
		for _, node := range nodes {
			if !r.covers(node) {
				continue
			}
			bound := m.bound(r, byNode[node])
			joint = append(joint, bound...)
			if !r.Jointly {
				m.addGroup(group{rule: i, node: node, scope: scopes[r.Apart], most: r.Most, weight: r.Weight, members: bound})
			}
		}
		if r.Jointly {
			m.addGroup(group{rule: i, scope: scopes[r.Apart], most: r.Most, weight: r.Weight, members: joint})
		}
	}
	if m.p.Weights.Spread > 0 {
		for _, node := range nodes {
			m.addGroup(group{rule: -1, node: node, scope: perSite, weight: m.p.Weights.Spread, members: byNode[node]})
		}
	}
}

// bound are those of some workloads for which a rule holds.
func (m *model) bound(r Rule, all []int32) []int32 {
	if !slices.ContainsFunc(all, func(w int32) bool { return len(m.p.Workloads[w].Exempt) > 0 }) {
		return all
	}
	return slices.DeleteFunc(slices.Clone(all), func(w int32) bool { return !r.binds(&m.p.Workloads[w]) })
}

func (m *model) addGroup(g group) {
	if g.most == 0 {
		g.most = (len(g.members) + 1) / 2
	}
	if len(g.members) <= g.most || g.scope == anywhere {
		return
	}
	for _, w := range g.members {
		m.groupsOf[w] = append(m.groupsOf[w], int32(len(m.groups)))
	}
	m.groups = append(m.groups, g)
}

// place is the number of a room in a scope.
func (m *model) place(s scope, r int32) int32 {
	switch s {
	case perHost:
		return r
	case perZone:
		return m.rooms[r].zone
	case perSite:
		return m.rooms[r].site
	}
	return m.providerOf[m.rooms[r].site]
}

// places is how many of a scope there are.
func (m *model) places(s scope) int {
	switch s {
	case perHost:
		return len(m.rooms)
	case perZone:
		return m.zones
	case perSite:
		return len(m.sites)
	}
	return len(m.providers)
}

func (m *model) readTraffic() error {
	m.edgesOf = make([][]int32, len(m.p.Workloads))
	for _, t := range m.p.Traffic {
		a, okA := m.workload[t.From]
		b, okB := m.workload[t.To]
		if !okA || !okB || a == b {
			return fmt.Errorf("traffic from %q to %q: these are not two workloads of the problem", t.From, t.To)
		}
		w := m.p.Weights
		for _, end := range []int32{a, b} {
			m.edgesOf[end] = append(m.edgesOf[end], int32(len(m.edges)))
		}
		m.strict = m.strict || t.MaxMs > 0
		m.edges = append(m.edges, edge{a, b, w.Cost * t.GiB, w.Cost * t.BackGiB, w.Latency * t.Weight, t.MaxMs, t.GiB, t.BackGiB})
	}
	return nil
}

// between is what an edge adds to the objective with its ends at two sites; infinite if they are too far apart.
func (m *model) between(e *edge, a, b int32) float64 {
	if a == b {
		return 0
	}
	S := len(m.sites)
	i := int(a)*S + int(b)
	ms := m.ms[i]
	if e.most > 0 && (ms < 0 || ms > e.most+slack) {
		return inf
	}
	return e.ab*m.egress[i] + e.ba*m.egress[int(b)*S+int(a)] + e.wait*max(ms, 0)
}

// other is the far end of an edge.
func (e *edge) other(w int32) int32 {
	if e.a == w {
		return e.b
	}
	return e.a
}

// fromSide is what an edge adds, seen from one of its workloads.
func (m *model) fromSide(e *edge, w, at, other int32) float64 {
	if e.a == w {
		return m.between(e, at, other)
	}
	return m.between(e, other, at)
}

// passes is the money that what passes between two sites costs per hour.
func (m *model) passes(e *edge, a, b int32) float64 {
	S := len(m.sites)
	return e.gib*m.egress[int(a)*S+int(b)] + e.back*m.egress[int(b)*S+int(a)]
}
