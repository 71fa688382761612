package placement

// alike begins with an earlier placement: what may stay there stays, the rest is planted and settled. The result is taken if
// nothing better was found.
func (f *finder) alike(like *Placement) {
	s := newState(f.m)
	var rest []int32
	for u := range f.m.units {
		if was := f.m.wasAt(int32(u), like); was == nil || !s.putBack(int32(u), was) {
			rest = append(rest, int32(u))
		}
	}
	if left := s.planter(nil, 0, f.rng).plant(rest); len(left) > 0 {
		return
	}
	s.settleDown(20, true, f.rng, f.o.Stop)
	if s.objective <= f.best.objective+margin(f.best.objective) {
		f.best = s
	}
}

// resemblances is how often everything is asked again whether it can be where it was: what moves makes room for others.
const resemblances = 3

// resemble moves units back to where an earlier placement has them, as long as that is no worse: people follow a plan more
// easily if what need not move does not.
func (s *state) resemble(like *Placement) {
	m := s.m
	for range resemblances {
		moved := false
		for u := range m.units {
			if was := m.wasAt(int32(u), like); was != nil && !s.isAt(was) && s.moveBack(int32(u), was) {
				moved = true
			}
		}
		if !moved {
			return
		}
	}
}

// wasAt is where an earlier placement has a unit, nil if it has not, or that is not offered any more.
func (m *model) wasAt(u int32, like *Placement) []pick {
	var out []pick
	for _, w := range m.units[u].members {
		c := like.Choice(m.p.Workloads[w].Name)
		if c == nil {
			return nil
		}
		k, ok := m.find(w, c)
		if !ok {
			return nil
		}
		out = append(out, k)
	}
	return out
}

func (s *state) isAt(picks []pick) bool {
	for _, k := range picks {
		if s.opt[k.workload] != k.opt || s.room[k.workload] != k.room {
			return false
		}
	}
	return true
}

// putBack puts a unit, which has no place, where it was; false, and nothing is changed, if it does not fit there.
func (s *state) putBack(u int32, was []pick) bool {
	for i, k := range was {
		c := s.m.classes[s.m.class[k.workload]]
		o := &c.opts[k.opt]
		if s.m.strict && !s.nearEnough(u, o.site) || !s.quotaHolds(o) || !c.admits(&s.m.rooms[k.room]) || !s.admits(k.workload, o, k.room) {
			for _, done := range was[:i] {
				s.lift(done.workload)
			}
			return false
		}
		s.put(k.workload, k.opt, k.room)
	}
	s.settle(u, s.option(was[0].workload).site)
	return true
}

// moveBack moves a unit to where it was, if it fits there and the whole is no worse.
func (s *state) moveBack(u int32, was []pick) bool {
	before := s.objective
	now := s.keep(nil, u)
	s.leave(u)
	if s.putBack(u, was) {
		if s.objective <= before+gain {
			return true
		}
		s.leave(u)
	}
	s.back([]int32{u}, now)
	return false
}
