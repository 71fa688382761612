package placement

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

// moveBack puts a unit where it was, if it fits there and the whole is no worse.
func (s *state) moveBack(u int32, was []pick) bool {
	before := s.objective
	now := s.keep(nil, u)
	s.leave(u)
	for i, k := range was {
		o := &s.m.classes[s.m.class[k.workload]].opts[k.opt]
		if s.m.strict && !s.nearEnough(u, o.site) || !s.quotaHolds(o) || !s.m.classes[s.m.class[k.workload]].admits(&s.m.rooms[k.room]) || !s.admits(k.workload, o, k.room) {
			for _, done := range was[:i] {
				s.lift(done.workload)
			}
			s.back([]int32{u}, now)
			return false
		}
		s.put(k.workload, k.opt, k.room)
	}
	s.settle(u, s.option(was[0].workload).site)
	if s.objective <= before+gain {
		return true
	}
	s.leave(u)
	s.back([]int32{u}, now)
	return false
}
