package placement

import (
	"cmp"
	"math"
	"slices"
)

// proof searches, depth first, everything that the bound does not exclude. At every step the trees choose anew at the
// prices of the bound, with what is assigned fixed and what no longer fits left out: what they come to bounds everything
// that can follow.
type proof struct {
	m     *model
	b     *bound
	w     *work
	s     *state
	theta []float64 // what a unit pays by itself, by unit and site; with what it has from circles whose other end is known
	base  float64   // what circles and the payment for what is scarce add to the bound
	h, up []float64
	best  *state
	upper float64
	nodes int
	stop  func() bool
	// twins are by unit those that are alike in all that counts, in their order, it among them; nil where there are no others.
	twins [][]int32
	cut   bool // the search was ended before it had seen everything
}

// prove searches for a placement better than best (which may be nil) within a number of nodes. It returns the best and
// whether everything was seen.
func prove(b *bound, w *work, best *state, nodes int, stop func() bool) (*state, bool) {
	p := &proof{m: b.m, b: b, w: w, s: newState(b.m), theta: clone(w.theta), h: make([]float64, len(w.h)), up: make([]float64, len(w.up)),
		best: best, upper: inf, nodes: nodes, stop: stop, twins: b.m.twins()}
	if best != nil {
		p.upper = best.objective
	}
	p.base = b.value
	for _, tree := range b.m.forest.trees {
		_, least := b.m.best(tree[0], w.h, -1)
		p.base -= least
	}
	p.search(len(b.m.units), 0)
	return p.best, !p.cut
}

// margin is what an objective must be better by to count.
func margin(x float64) float64 { return 1e-9 + 1e-7*math.Abs(x) }

// low is the bound with what is assigned: extra is what the sizes assigned pay beyond the cheapest at the prices.
func (p *proof) low(extra float64) float64 {
	m, S := p.m, len(p.m.sites)
	sum := p.base + extra
	for _, tree := range m.forest.trees {
		for _, u := range tree {
			row := p.h[int(u)*S : int(u)*S+S]
			copy(row, p.theta[int(u)*S:int(u)*S+S])
			at := p.s.site[u]
			for s := range row {
				if at >= 0 && int32(s) != at || at < 0 && !math.IsInf(row[s], 1) && !p.s.fitsAlone(u, int32(s)) {
					row[s] = inf
				}
			}
		}
		m.upward(tree, p.h, p.up)
		_, least := m.best(tree[0], p.h, -1)
		if sum += least; sum >= p.upper-margin(p.upper) {
			return inf
		}
	}
	return sum
}

// search assigns the rest.
func (p *proof) search(rest int, extra float64) {
	if p.cut {
		return
	}
	if p.nodes--; p.nodes < 0 || p.nodes%64 == 0 && p.stop() {
		p.cut = true
		return
	}
	low := p.low(extra)
	if math.IsInf(low, 1) {
		return
	}
	if rest == 0 {
		if p.best == nil || p.s.objective < p.upper-margin(p.upper) {
			p.best, p.upper = p.s.clone(), p.s.objective
		}
		return
	}
	u, sites := p.next()
	least := sites[0].save
	for _, w := range sites {
		if low-least+w.save >= p.upper-margin(p.upper) {
			break
		}
		if p.outOfOrder(u, w.site) {
			continue
		}
		p.assign(u, w.site, 0, rest, extra)
	}
}

// next is the unit to assign next, one whose parent is assigned, with what it and all below it would pay at each site: the
// one with most to lose.
func (p *proof) next() (int32, []wish) {
	m, S := p.m, len(p.m.sites)
	best, most := int32(-1), math.Inf(-1)
	for _, u := range m.forest.order {
		parent := m.forest.parent[u]
		if p.s.site[u] >= 0 || parent >= 0 && p.s.site[parent] < 0 {
			continue
		}
		least, second := inf, inf
		for s, x := range p.h[int(u)*S : int(u)*S+S] {
			if x >= second {
				continue
			}
			if parent >= 0 {
				x += m.apart(u, int32(s), p.s.site[parent])
			}
			if x < least {
				least, second = x, least
			} else {
				second = min(second, x)
			}
		}
		if regret := second - least + m.bulk(u)*1e-6; regret > most {
			best, most = u, regret
		}
	}
	var sites []wish
	for s, x := range p.h[int(best)*S : int(best)*S+S] {
		if parent := m.forest.parent[best]; parent >= 0 && !math.IsInf(x, 1) {
			x += m.apart(best, int32(s), p.s.site[parent])
		}
		if !math.IsInf(x, 1) {
			sites = append(sites, wish{int32(s), x})
		}
	}
	slices.SortFunc(sites, func(a, b wish) int {
		return cmp.Or(cmp.Compare(a.save, b.save), cmp.Compare(a.site, b.site))
	})
	return best, sites
}

// assign puts the k-th and later workloads of a unit at a site, in every size and every room that makes a difference, and
// searches on.
func (p *proof) assign(u, site int32, k, rest int, extra float64) {
	members := p.m.units[u].members
	if k == len(members) {
		p.onward(u, site, rest, extra)
		return
	}
	w := members[k]
	c := p.m.classes[p.m.class[w]]
	for i := c.lo[site]; i < c.lo[site+1]; i++ {
		o := &c.opts[i]
		if !p.s.quotaHolds(o) {
			continue
		}
		for n, r := range p.m.roomsOf[site] {
			if p.cut {
				return
			}
			if !c.admits(&p.m.rooms[r]) || !p.s.admits(w, o, r) || !p.close(u, k, r) || p.sameAsEarlier(u, k, site, n) {
				continue
			}
			p.s.put(w, i, r)
			more := p.price(o) - p.w.adj[int(p.m.class[w])*len(p.m.sites)+int(site)]
			p.assign(u, site, k+1, rest, extra+more)
			p.s.lift(w)
		}
	}
}

// price is an option's objective at the prices of the bound.
func (p *proof) price(o *option) float64 {
	x, D := o.c, len(p.m.dims)
	for d, take := range o.take {
		if l := p.b.lambda[int(o.site)*D+d]; l > 0 {
			x += l * take / p.b.caps[int(o.site)*D+d]
		}
	}
	return x
}

// close reports whether a room is as close to the unit's first workload as it must be.
func (p *proof) close(u int32, k int, r int32) bool {
	if k == 0 {
		return true
	}
	first := p.s.room[p.m.units[u].members[0]]
	switch p.m.units[u].scope {
	case perHost:
		return r == first
	case perZone:
		return p.m.rooms[r].zone == p.m.rooms[first].zone
	}
	return true
}

// sameAsEarlier reports whether a room of a site is like an earlier one in which the k-th workload of a unit may be, too, so that nothing is gained by trying it again. A room in which it may not be,
// since the first of its unit is elsewhere, is like none.
func (p *proof) sameAsEarlier(u int32, k int, site int32, n int) bool {
	if p.m.far[site] || p.m.pinned[site] {
		return false
	}
	rooms := p.m.roomsOf[site]
	c := p.m.classes[p.m.class[p.m.units[u].members[k]]]
	for _, r := range rooms[:n] {
		if c.admits(&p.m.rooms[r]) && p.close(u, k, r) && p.s.alike(r, rooms[n]) {
			return true
		}
	}
	return false
}

// onward notes what a unit at a site means for the other ends of circles, and searches the rest.
func (p *proof) onward(u, site int32, rest int, extra float64) {
	S := len(p.m.sites)
	p.s.settle(u, site)
	var kept []float64
	var touched []int32
	base := p.base
	for _, w := range p.m.units[u].members {
		for _, k := range p.m.crossOf[w] {
			e := &p.m.edges[p.m.forest.cross[k]]
			v := p.m.unitOf[e.other(w)]
			if p.s.site[v] >= 0 {
				continue // its part was added when the other one was assigned
			}
			row := p.theta[int(v)*S : int(v)*S+S]
			touched = append(touched, v)
			kept = append(kept, row...)
			own, theirs := p.b.msg[p.b.side(k, w)+int(site)], p.b.msg[p.b.side(k, e.other(w)):]
			for t := range row {
				row[t] += p.m.fromSide(e, w, site, int32(t)) - own - theirs[t]
			}
			meet := p.w.meet[k]
			p.base -= p.m.between(e, meet[0], meet[1]) - p.b.msg[int(k)*2*S+int(meet[0])] - p.b.msg[int(k)*2*S+S+int(meet[1])]
		}
	}
	p.search(rest-1, extra)
	p.base = base
	for k := len(touched) - 1; k >= 0; k-- {
		copy(p.theta[int(touched[k])*S:], kept[k*S:k*S+S])
	}
	p.s.unsettle(u)
}
