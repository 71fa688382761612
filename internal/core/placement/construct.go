package placement

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
)

// construct places every tree of units at what is cheapest for it along the prices of a bound, those first that have the
// fewest sites and take the most. Squeezing, units that found no room are given some by moving others; the state is not whole if
// that failed.
func construct(m *model, w *work, rng *rand.Rand, shake float64, squeeze bool) *state {
	s := newState(m)
	p := s.planter(w, shake, rng)
	type tree struct {
		units []int32
		may   int
		bulk  float64
	}
	var trees []tree
	for _, units := range m.forest.trees {
		t := tree{units: units, may: len(m.sites)}
		for _, u := range units {
			t.may = min(t.may, m.sitesOf(u))
			t.bulk = max(t.bulk, m.bulk(u)*(1+shake*rng.Float64()))
		}
		t.may = min(t.may, 3)
		trees = append(trees, t)
	}
	slices.SortStableFunc(trees, func(a, b tree) int {
		return cmp.Or(cmp.Compare(a.may, b.may), cmp.Compare(b.bulk, a.bulk))
	})
	var left []int32
	for _, t := range trees {
		left = append(left, p.plant(t.units)...)
	}
	for _, u := range left {
		if !squeeze || !s.squeeze(u, rng) {
			return s
		}
	}
	return s
}

// sitesOf is how many sites a unit may use.
func (m *model) sitesOf(u int32) int {
	n := 0
	for s := range m.sites {
		all := true
		for _, w := range m.units[u].members {
			c := m.classes[m.class[w]]
			all = all && c.lo[s] < c.lo[s+1]
		}
		if all {
			n++
		}
	}
	return n
}

// bulk is how much of a site's capacity a unit takes, on its largest side.
func (m *model) bulk(u int32) float64 {
	D, most := len(m.dims), 0.0
	for _, w := range m.units[u].members {
		c := m.classes[m.class[w]]
		if len(c.opts) == 0 {
			continue
		}
		o := &c.opts[0]
		for d, take := range o.take[:m.roomDims] {
			if limit := m.caps[int(o.site)*D+d]; limit > 0 && !math.IsInf(limit, 1) {
				most = max(most, take/limit)
			}
		}
	}
	return most
}

// insert places a unit at the site that is cheapest for it with the prices of a bound, or without them if w is nil.
func (s *state) insert(u int32, w *work, shake float64, rng *rand.Rand) bool {
	m, S := s.m, len(s.m.sites)
	type at struct {
		site int32
		cost float64
	}
	var all []at
	for site := range S {
		x := s.would(u, int32(site))
		if math.IsInf(x, 1) {
			continue
		}
		if w != nil { // what is scarce there has its price too
			for _, wl := range m.units[u].members {
				c := m.classes[m.class[wl]]
				x += w.adj[int(m.class[wl])*S+site] - c.opts[c.lo[site]].c
			}
		}
		if shake > 0 {
			x *= 1 + shake*(rng.Float64()-0.5)*0.2
		}
		all = append(all, at{int32(site), x})
	}
	slices.SortStableFunc(all, func(a, b at) int { return cmp.Compare(a.cost, b.cost) })
	for _, a := range all {
		if s.enter(u, a.site) {
			return true
		}
	}
	return false
}

// squeezes bounds how many others are tried to make room for one unit at one site.
const squeezes = 60

// squeeze makes room for a unit by moving others.
func (s *state) squeeze(u int32, rng *rand.Rand) bool {
	for depth := 1; depth <= 2; depth++ {
		for site := range s.m.sites {
			if s.evict(u, int32(site), depth, squeezes, rng) {
				return true
			}
		}
	}
	return false
}

// evict puts a unit where others are, which go elsewhere, evicting others in turn as many levels deep as depth says. If that
// cannot be done nothing is changed.
func (s *state) evict(u, site int32, depth, tries int, rng *rand.Rand) bool {
	if !s.mayBe(u, site) {
		return false
	}
	if s.enter(u, site) {
		return true
	}
	if depth == 0 {
		return false
	}
	list := clone(s.here[site])
	rng.Shuffle(len(list), func(i, k int) { list[i], list[k] = list[k], list[i] })
	begin := s.mark()
	var gone []int32
	for _, v := range list[:min(len(list), tries)] {
		s.leave(v)
		gone = append(gone, v)
		if !s.enter(u, site) {
			if len(gone) == 4 { // one that leaves may not be enough, but many would not find room elsewhere
				s.rollback(begin)
				gone = gone[:0]
			}
			continue
		}
		if s.rehouse(gone, depth-1, tries/8, rng) {
			s.forget()
			return true
		}
		s.rollback(begin)
		gone = gone[:0]
	}
	s.rollback(begin)
	s.forget()
	return false
}

// rehouse finds other places for units; what it did until one found none is left for the caller to roll back.
func (s *state) rehouse(units []int32, depth, tries int, rng *rand.Rand) bool {
	for _, v := range units {
		done := s.insert(v, nil, 0, rng)
		for site := int32(0); int(site) < len(s.m.sites) && !done && depth > 0; site++ {
			done = s.evict(v, site, depth, max(tries, 4), rng)
		}
		if !done {
			return false
		}
	}
	return true
}

// mayBe reports whether a unit may be at a site at all.
func (s *state) mayBe(u, site int32) bool {
	for _, w := range s.m.units[u].members {
		c := s.m.classes[s.m.class[w]]
		if c.lo[site] == c.lo[site+1] {
			return false
		}
	}
	return true
}
