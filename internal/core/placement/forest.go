package placement

import (
	"cmp"
	"math"
	"slices"
)

// forest is what talks to what, without circles: on a tree the best sites for all of its units together are found at once,
// from the leaves to the root. Traffic that would close a circle is left to messages.
type forest struct {
	// order has every unit after its parent; parent is -1 at a root. link are the edges to the parent.
	order, parent []int32
	link          [][]int32
	children      [][]int32
	root          []int32
	// cross are the edges that close circles.
	cross []int32
	trees [][]int32
	// at is a unit's place in order.
	at []int32
}

// readForest spans the trees, along what weighs most first.
func (m *model) readForest() {
	n := len(m.units)
	f := &m.forest
	f.parent, f.link, f.children, f.root = make([]int32, n), make([][]int32, n), make([][]int32, n), make([]int32, n)
	sets := newSets(n)
	order := make([]int32, 0, len(m.edges))
	for i := range m.edges {
		if e := &m.edges[i]; e.talks() && m.unitOf[e.a] != m.unitOf[e.b] {
			order = append(order, int32(i))
		}
	}
	slices.SortStableFunc(order, func(a, b int32) int { return cmp.Compare(m.edges[b].weight(), m.edges[a].weight()) })
	near := make([][]int32, n) // tree edges by unit
	joined := map[[2]int32]bool{}
	for _, i := range order {
		a, b := m.unitOf[m.edges[i].a], m.unitOf[m.edges[i].b]
		key := [2]int32{min(a, b), max(a, b)}
		if la, lb := sets.find(a), sets.find(b); la != lb {
			sets[la] = lb
			joined[key] = true
		} else if !joined[key] {
			f.cross = append(f.cross, i)
			continue
		}
		near[a], near[b] = append(near[a], i), append(near[b], i)
	}
	m.crossOf = make([][]int32, len(m.p.Workloads))
	for k, i := range f.cross {
		for _, w := range [2]int32{m.edges[i].a, m.edges[i].b} {
			m.crossOf[w] = append(m.crossOf[w], int32(k))
		}
	}
	seen := make([]bool, n)
	for u := range n {
		if seen[u] {
			continue
		}
		seen[u] = true
		f.parent[u], f.root[u] = -1, int32(u)
		from := len(f.order)
		f.order = append(f.order, int32(u))
		for k := from; k < len(f.order); k++ {
			v := f.order[k]
			for _, i := range near[v] {
				c := m.unitOf[m.edges[i].a]
				if c == v {
					c = m.unitOf[m.edges[i].b]
				}
				if c == f.parent[v] && f.parent[v] >= 0 {
					continue
				}
				if !seen[c] {
					seen[c] = true
					f.parent[c], f.root[c] = v, int32(u)
					f.order = append(f.order, c)
					f.children[v] = append(f.children[v], c)
				}
				f.link[c] = append(f.link[c], i)
			}
		}
		f.trees = append(f.trees, f.order[from:len(f.order):len(f.order)])
	}
	f.at = make([]int32, n)
	for i, u := range f.order {
		f.at[u] = int32(i)
	}
}

// sets are disjoint sets of numbers: each points towards the one that stands for its set.
type sets []int32

func newSets(n int) sets {
	s := make(sets, n)
	for i := range s {
		s[i] = int32(i)
	}
	return s
}

// find is the number that stands for the set of i.
func (s sets) find(i int32) int32 {
	for s[i] != i {
		s[i] = s[s[i]]
		i = s[i]
	}
	return i
}

// weight is how much an edge can matter, about.
func (e *edge) weight() float64 {
	if e.most > 0 {
		return inf
	}
	return e.ab + e.ba + e.wait*1000
}

// apart is what the links of a unit add with it at one site and its parent at another.
func (m *model) apart(u, at, parent int32) float64 {
	sum := 0.0
	for _, i := range m.forest.link[u] {
		e := &m.edges[i]
		if m.unitOf[e.a] == u {
			sum += m.between(e, at, parent)
		} else {
			sum += m.between(e, parent, at)
		}
	}
	return sum
}

// upward leads the costs of a tree from its leaves to its root: h becomes, for every unit and site, what the unit and all
// below it cost with it there; up what the parent's site makes of that.
func (m *model) upward(tree []int32, h, up []float64) {
	S := len(m.sites)
	for k := len(tree) - 1; k >= 0; k-- {
		u := tree[k]
		row := h[int(u)*S : int(u)*S+S]
		for _, c := range m.forest.children[u] {
			for s, x := range up[int(c)*S : int(c)*S+S] {
				row[s] += x
			}
		}
		if m.forest.parent[u] >= 0 {
			m.lead(u, row, up[int(u)*S:int(u)*S+S])
		}
	}
}

// lead works out, for each site of the parent, the least that a unit costs with what passes between them.
func (m *model) lead(u int32, h, up []float64) {
	copy(up, h)
	links := m.forest.link[u]
	if len(links) == 1 && m.edges[links[0]].most == 0 {
		e := &m.edges[links[0]]
		out, back := e.ab, e.ba
		if m.unitOf[e.a] != u {
			out, back = back, out
		}
		// The cheapest site first: no other matters that is dearer than the worst it leaves.
		first := 0
		for s, x := range h {
			if x < h[first] {
				first = s
			}
		}
		m.reach(first, h[first], out, back, e.wait, up)
		worst := slices.Max(up)
		for s, x := range h {
			if x < worst && s != first {
				m.reach(s, x, out, back, e.wait, up)
			}
		}
		return
	}
	for s, x := range h {
		for t := range up {
			if x < up[t] {
				up[t] = min(up[t], x+m.apart(u, int32(s), int32(t)))
			}
		}
	}
}

// reach lowers what the parent's sites pay to what a unit costs at a site with what passes between.
func (m *model) reach(s int, x, out, back, wait float64, up []float64) {
	S := len(m.sites)
	to, from, ms := m.egress[s*S:s*S+S], m.ingress[s*S:s*S+S], m.wait[s*S:s*S+S]
	up = up[:len(to)]
	from, ms = from[:len(to)], ms[:len(to)]
	for t, p := range to {
		up[t] = min(up[t], x+out*p+back*from[t]+wait*ms[t])
	}
}

// best is the site at which a unit costs least, given where its parent is (-1 for a root), and what it costs there.
func (m *model) best(u int32, h []float64, parent int32) (int32, float64) {
	S := len(m.sites)
	at, least := int32(-1), inf
	for s, x := range h[int(u)*S : int(u)*S+S] {
		if x >= least {
			continue
		}
		if parent >= 0 {
			x += m.apart(u, int32(s), parent)
		}
		if x < least {
			at, least = int32(s), x
		}
	}
	return at, least
}

// downward makes of what upward left, for every unit and site, the least that the whole tree costs with it there.
func (m *model) downward(tree []int32, h, up, whole []float64) {
	S := len(m.sites)
	rest := make([]float64, S)
	for _, u := range tree {
		row := whole[int(u)*S : int(u)*S+S]
		copy(row, h[int(u)*S:int(u)*S+S])
		p := m.forest.parent[u]
		if p < 0 {
			continue
		}
		for t := range rest { // the parent and all but this branch
			rest[t] = whole[int(p)*S+t] - up[int(u)*S+t]
			if math.IsNaN(rest[t]) {
				rest[t] = inf
			}
		}
		for s := range row {
			if math.IsInf(row[s], 1) {
				continue
			}
			least := inf
			for t, x := range rest {
				if x < least {
					least = min(least, x+m.apart(u, int32(s), int32(t)))
				}
			}
			row[s] += least
		}
	}
}
