package placement

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
)

// gain is the least that counts as better.
const gain = 1e-9

// paid is what a placed unit adds to the objective where it is.
func (s *state) paid(u int32) float64 {
	sum, site := 0.0, s.site[u]
	for _, w := range s.m.units[u].members {
		sum += s.option(w).c
		if len(s.m.edgesOf[w]) > 0 {
			sum += s.talk(w, site)
		}
		for _, g := range s.m.groupsOf[w] {
			gr := &s.m.groups[g]
			if gr.weight > 0 && int(s.count[g][s.m.place(gr.scope, s.room[w])]) > gr.most {
				sum += gr.weight
			}
		}
	}
	return sum
}

// settleDown moves units, one at a time, until none gains by it or the passes are spent; with trades, also against one
// another. It asks stop now and then.
func (s *state) settleDown(passes int, trades bool, rng *rand.Rand, stop func() bool) {
	order := make([]int32, len(s.m.units))
	for u := range order {
		order[u] = int32(u)
	}
	for again := true; again && passes > 0; passes-- {
		again = false
		rng.Shuffle(len(order), func(i, k int) { order[i], order[k] = order[k], order[i] })
		for i, u := range order {
			if i%256 == 0 && stop() {
				return
			}
			if s.relocate(u, trades, rng) {
				again = true
			}
		}
	}
}

// wish is a site that would be better for a unit.
type wish struct {
	site int32
	save float64
}

// wishes are the sites where a unit would cost less, the best first.
func (s *state) wishes(u int32, out []wish) []wish {
	now := s.paid(u)
	out = out[:0]
	for site := range s.m.sites {
		if int32(site) == s.site[u] {
			continue
		}
		if x := now - s.would(u, int32(site)); x > gain {
			out = append(out, wish{int32(site), x})
		}
	}
	slices.SortFunc(out, func(a, b wish) int {
		return cmp.Or(cmp.Compare(b.save, a.save), cmp.Compare(a.site, b.site))
	})
	return out
}

// relocate moves a unit to where the whole is better; with trades, in exchange with another one if need be.
func (s *state) relocate(u int32, trades bool, rng *rand.Rand) bool {
	var room [16]wish
	for _, w := range s.wishes(u, room[:0]) {
		before := s.objective
		was := s.keep(nil, u)
		s.leave(u)
		if s.enter(u, w.site) {
			if s.objective < before-gain {
				return true
			}
			s.leave(u)
		}
		s.back([]int32{u}, was)
		if trades && s.exchange(u, w, rng) {
			return true
		}
	}
	return false
}

// exchanges bounds how many units of a full site are asked to go elsewhere for one that would gain by being there.
const exchanges = 24

// exchange moves a unit to a site and another one away from it, if that is better as a whole.
func (s *state) exchange(u int32, w wish, rng *rand.Rand) bool {
	list := s.here[w.site]
	if len(list) == 0 {
		return false
	}
	from := rng.IntN(len(list))
	for k := range min(len(list), exchanges) {
		v := s.here[w.site][(from+k)%len(list)]
		if s.trade(u, v, w.site) {
			return true
		}
	}
	return false
}

// trade puts u at a site and v, which is there, wherever is best for it then.
func (s *state) trade(u, v, site int32) bool {
	before := s.objective
	both := []int32{u, v}
	was := s.keep(s.keep(nil, u), v)
	s.leave(u)
	s.leave(v)
	if s.enter(u, site) {
		best, least := int32(-1), before-gain-s.objective
		for t := range s.m.sites {
			if x := s.would(v, int32(t)); x < least && int32(t) != site && s.enter(v, int32(t)) {
				best, least = int32(t), x
				s.leave(v)
			}
		}
		if best >= 0 && s.enter(v, best) {
			if s.objective < before-gain {
				return true
			}
			s.leave(v)
		}
		s.leave(u)
	}
	s.back(both, was)
	return false
}

// replant takes a tree of units out and plants it anew, if that is better.
func (s *state) replant(p *planter, units []int32) {
	before := s.objective
	begin := s.mark()
	for _, u := range units {
		s.leave(u)
	}
	if left := p.plant(units); len(left) > 0 || s.objective > before-gain {
		s.rollback(begin)
	}
	s.forget()
}

// ruin picks units to take out together: one, and such as talk to it, are kept apart from it, or are where it would like to
// be; or what talks to one another, as far as it leads.
func (s *state) ruin(size int, rng *rand.Rand) []int32 {
	m := s.m
	size = min(size, len(m.units))
	first := int32(rng.IntN(len(m.units)))
	out := []int32{first}
	add := func(u int32) {
		if len(out) < size && !slices.Contains(out, u) {
			out = append(out, u)
		}
	}
	if rng.IntN(4) == 0 { // all of a site, to pack it anew
		for _, u := range s.here[s.site[first]] {
			add(u)
		}
	}
	along := rng.IntN(3) > 0 // what talks comes along as a whole
	for i := 0; i < len(out) && (i == 0 || along); i++ {
		for _, w := range m.units[out[i]].members {
			for _, e := range m.edgesOf[w] {
				add(m.unitOf[m.edges[e].other(w)])
			}
			for _, g := range m.groupsOf[w] {
				members := m.groups[g].members
				add(m.unitOf[members[rng.IntN(len(members))]])
			}
		}
	}
	var room [16]wish
	for _, w := range s.wishes(first, room[:0]) {
		for range 2 {
			if list := s.here[w.site]; len(list) > 0 {
				add(list[rng.IntN(len(list))])
			}
		}
	}
	for tries := 0; len(out) < size && tries < 2*size; tries++ {
		from := s.here[s.site[out[rng.IntN(len(out))]]]
		if rng.IntN(3) == 0 {
			add(int32(rng.IntN(len(m.units))))
		} else {
			add(from[rng.IntN(len(from))])
		}
	}
	return out
}

// recreate places units that were taken out, together or one after the other at what is cheapest then. False says that one
// found no room.
func (s *state) recreate(units []int32, w *work, rng *rand.Rand) bool {
	shake := 0.0
	if rng.IntN(2) == 0 {
		shake = []float64{0.3, 1, 2}[rng.IntN(3)]
	}
	if rng.IntN(2) == 0 {
		w = nil
	}
	if rng.IntN(3) > 0 {
		return len(s.planter(w, shake, rng).plant(units)) == 0
	}
	if rng.IntN(2) == 0 {
		rng.Shuffle(len(units), func(i, k int) { units[i], units[k] = units[k], units[i] })
	} else {
		slices.SortStableFunc(units, func(a, b int32) int { return cmp.Compare(s.m.bulk(b), s.m.bulk(a)) })
	}
	for _, u := range units {
		if !s.insert(u, w, shake, rng) {
			return false
		}
	}
	return true
}

// walk improves a placement by taking parts out and building them anew, for a number of times. What is a little worse is
// accepted too, ever less of it, so that the way leads out of what only looks best from close by; what was best is returned.
func (s *state) walk(w *work, times int, rng *rand.Rand, stop func() bool, better func(*state)) {
	best := s.objective
	warm := 0.004 * best
	for i := range times {
		if i%32 == 0 && stop() {
			return
		}
		heat := warm * math.Pow(1-float64(i)/float64(times), 2) / float64(len(s.m.units)) * 3
		before := s.objective
		begin := s.mark()
		units := s.ruin(2+rng.IntN(2+rng.IntN(18)), rng)
		for _, u := range units {
			s.leave(u)
		}
		ok := s.recreate(units, w, rng)
		if ok && s.objective < best+heat {
			for _, u := range units {
				s.relocate(u, rng.IntN(8) == 0, rng)
			}
		}
		if !ok || s.objective > before-heat*math.Log(1-rng.Float64()) {
			s.rollback(begin)
		}
		s.forget()
		if s.objective < best-gain {
			best = s.objective
			better(s)
		}
	}
}
