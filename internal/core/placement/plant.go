package placement

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
)

// planter places units that have no place, those that talk together: the best sites for a tree of them are found at once
// and taken from the root outwards.
type planter struct {
	s     *state
	w     *work   // prices of what is scarce; nil for none
	shake float64 // how far costs are disturbed by chance
	rng   *rand.Rand

	local map[int32]int // a unit's place in what is planted
	h, up []float64
}

func (s *state) planter(w *work, shake float64, rng *rand.Rand) *planter {
	return &planter{s: s, w: w, shake: shake, rng: rng, local: map[int32]int{}}
}

// plant places units and returns those that found no room.
func (p *planter) plant(units []int32) []int32 {
	m, S := p.s.m, len(p.s.m.sites)
	units = slices.Clone(units)
	slices.SortFunc(units, func(a, b int32) int { return cmp.Compare(m.forest.at[a], m.forest.at[b]) })
	clear(p.local)
	for i, u := range units {
		p.local[u] = i
	}
	p.h, p.up = grow(p.h, len(units)*S), grow(p.up, len(units)*S)
	for i, u := range units {
		p.weigh(u, p.h[i*S:i*S+S])
	}
	for i := len(units) - 1; i >= 0; i-- { // parents come before what hangs on them
		if k, within := p.local[m.forest.parent[units[i]]]; within {
			up := p.up[i*S : i*S+S]
			m.lead(units[i], p.h[i*S:i*S+S], up)
			for s, x := range up {
				p.h[k*S+s] += x
			}
		}
	}
	var left []int32
	for i, u := range units {
		parent := int32(-1)
		if _, within := p.local[m.forest.parent[u]]; within {
			parent = p.s.site[m.forest.parent[u]] // -1 if it found no place
		}
		if !p.settle(u, p.h[i*S:i*S+S], parent) {
			left = append(left, u)
		}
	}
	return left
}

func grow(x []float64, n int) []float64 {
	if cap(x) < n {
		return make([]float64, n)
	}
	return x[:n]
}

// weigh works out what a unit would pay at each site now, infinite where it does not fit.
func (p *planter) weigh(u int32, row []float64) {
	s, m, S := p.s, p.s.m, len(p.s.m.sites)
	for site := range row {
		x := s.would(u, int32(site))
		if math.IsInf(x, 1) || !s.fitsAlone(u, int32(site)) {
			row[site] = inf
			continue
		}
		if p.w != nil {
			for _, wl := range m.units[u].members {
				c := m.classes[m.class[wl]]
				x += p.w.adj[int(m.class[wl])*S+site] - c.opts[c.lo[site]].c
			}
		}
		if p.shake > 0 {
			x *= 1 + p.shake*(p.rng.Float64()-0.5)*0.2
		}
		row[site] = x
	}
}

// settle puts a unit where it is cheapest with all that hangs on it, or where it is next cheapest.
func (p *planter) settle(u int32, row []float64, parent int32) bool {
	var few [8]wish
	tried := few[:0]
	for {
		at, least := int32(-1), inf
		for site, x := range row {
			if x >= least || slices.ContainsFunc(tried, func(w wish) bool { return w.site == int32(site) }) {
				continue
			}
			if parent >= 0 {
				x += p.s.m.apart(u, int32(site), parent)
			}
			if x < least {
				at, least = int32(site), x
			}
		}
		if at < 0 {
			return false
		}
		if !math.IsInf(p.s.would(u, at), 1) && p.s.enter(u, at) {
			return true
		}
		tried = append(tried, wish{site: at})
	}
}

// fitsAlone reports whether every workload of a unit would fit at a site by itself.
func (s *state) fitsAlone(u, site int32) bool {
	for _, w := range s.m.units[u].members {
		c := s.m.classes[s.m.class[w]]
		ok := false
		for i := c.lo[site]; i < c.lo[site+1] && !ok; i++ {
			if !s.quotaHolds(&c.opts[i]) {
				continue
			}
			for _, r := range s.m.roomsOf[site] {
				if c.admits(&s.m.rooms[r]) && s.admits(w, &c.opts[i], r) {
					ok = true
					break
				}
			}
		}
		if !ok {
			return false
		}
	}
	return true
}
