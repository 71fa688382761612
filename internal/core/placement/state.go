package placement

import "math"

// state is a placement under way: where everything is, and what is left.
type state struct {
	m *model
	// opt and room are by workload, -1 where it has no place; site is by unit.
	opt, room []int32
	site      []int32
	// free is by room and dimension, left by site and dimension (quotas), count by group and place.
	free, left []float64
	count      [][]int32
	// objective is that of everything placed.
	objective float64
	placed    int
	// here lists the units at each site; seat is a unit's index in it.
	here [][]int32
	seat []int32
	// log has what was done since the first mark, so that it can be rolled back.
	log   []change
	marks int
}

// change is a unit that entered a site or, with where its workloads were, left one.
type change struct {
	unit int32
	was  []pick
}

// pick is where one workload is: an option of its class and a room.
type pick struct{ workload, opt, room int32 }

func newState(m *model) *state {
	n := len(m.p.Workloads)
	s := &state{m: m, opt: make([]int32, n), room: make([]int32, n), site: make([]int32, len(m.units)),
		seat: make([]int32, len(m.units)), here: make([][]int32, len(m.sites)),
		free: make([]float64, len(m.rooms)*m.roomDims), left: append([]float64(nil), m.quota...)}
	for i := range s.opt {
		s.opt[i], s.room[i] = -1, -1
	}
	for i := range s.site {
		s.site[i] = -1
	}
	for i, r := range m.rooms {
		copy(s.free[i*m.roomDims:], r.free)
	}
	s.count = make([][]int32, len(m.groups))
	for g := range m.groups {
		s.count[g] = make([]int32, m.places(m.groups[g].scope))
	}
	return s
}

func (s *state) clone() *state {
	c := *s
	c.opt, c.room, c.site = clone(s.opt), clone(s.room), clone(s.site)
	c.free, c.left, c.seat = clone(s.free), clone(s.left), clone(s.seat)
	c.count, c.here = make([][]int32, len(s.count)), make([][]int32, len(s.here))
	for i := range s.count {
		c.count[i] = clone(s.count[i])
	}
	for i := range s.here {
		c.here[i] = clone(s.here[i])
	}
	return &c
}

func clone[T any](x []T) []T { return append([]T(nil), x...) }

// whole reports whether everything has a place.
func (s *state) whole() bool { return s.placed == len(s.m.p.Workloads) }

// option is the option a workload is placed in.
func (s *state) option(w int32) *option { return &s.m.classes[s.m.class[w]].opts[s.opt[w]] }

// roomFor finds the room of a site that an option of a workload fits into most snugly; -1 if there is none. A workload that
// runs already stays in its room if it can. zone and host, if not negative, are where it must be.
func (s *state) roomFor(w int32, o *option, zone, host int32) int32 {
	m := s.m
	c := m.classes[m.class[w]]
	if !s.quotaHolds(o) {
		return -1
	}
	best, least := int32(-1), math.Inf(1)
	for _, r := range m.roomsOf[o.site] {
		rm := &m.rooms[r]
		if zone >= 0 && rm.zone != zone || host >= 0 && r != host || !c.admits(rm) {
			continue
		}
		if !s.admits(w, o, r) {
			continue
		}
		if c.now != nil && c.now.Host == rm.info.Host && c.now.Zone == rm.info.Zone {
			return r
		}
		if rest := s.rest(r, o); rest < least {
			best, least = r, rest
		}
	}
	return best
}

// rest is how much of a room would be left, as parts of what it has when empty.
func (s *state) rest(r int32, o *option) float64 {
	free := s.free[int(r)*s.m.roomDims:]
	sum := 0.0
	for d, whole := range s.m.rooms[r].free[:dimDisk+1] {
		if whole > 0 {
			sum += (free[d] - o.take[d]) / whole
		}
	}
	return sum
}

// admits reports whether a room has the capacity for an option of a workload, and no group or distance forbids it.
func (s *state) admits(w int32, o *option, r int32) bool {
	n := s.m.roomDims
	if !fits(s.free[int(r)*n:int(r)*n+n], o.take) {
		return false
	}
	return s.crowded(w, r) < 0 && (!s.m.far[o.site] || s.near(w, r))
}

// quotaHolds reports whether the account's quotas at the option's site leave room for it.
func (s *state) quotaHolds(o *option) bool {
	D := len(s.m.dims)
	return fits(s.left[int(o.site)*D:int(o.site)*D+D], o.take)
}

// crowded is a group that keeps the workload out of the room, -1 if none does.
func (s *state) crowded(w, r int32) int32 {
	for _, g := range s.m.groupsOf[w] {
		if gr := &s.m.groups[g]; gr.weight == 0 && int(s.count[g][s.m.place(gr.scope, r)]) >= gr.most {
			return g
		}
	}
	return -1
}

// near reports whether every workload at the same site that this one must be near to is.
func (s *state) near(w, r int32) bool {
	m := s.m
	for _, i := range m.edgesOf[w] {
		e := &m.edges[i]
		if e.most == 0 {
			continue
		}
		other := s.room[e.other(w)]
		if other < 0 || m.rooms[other].site != m.rooms[r].site || m.rooms[other].zone == m.rooms[r].zone {
			continue
		}
		if m.sites[m.rooms[r].site].ZoneMs(m.rooms[other].info.Zone, m.rooms[r].info.Zone) > e.most+slack {
			return false
		}
	}
	return true
}

// nearEnough reports whether a site is near enough to everything placed that a unit must be near to.
func (s *state) nearEnough(u, at int32) bool {
	for _, w := range s.m.units[u].members {
		if len(s.m.edgesOf[w]) > 0 && math.IsInf(s.talk(w, at), 1) {
			return false
		}
	}
	return true
}

// put places one workload, lift takes it away; both keep the objective. The sites of its unit are the caller's.
func (s *state) put(w, opt, r int32) {
	m := s.m
	s.opt[w], s.room[w] = opt, r
	o := s.option(w)
	free := s.free[int(r)*m.roomDims:]
	for d := range m.roomDims {
		free[d] -= o.take[d]
	}
	left := s.left[int(o.site)*len(m.dims):]
	for d, x := range o.take {
		left[d] -= x
	}
	s.objective += o.c + s.talk(w, o.site)
	for _, g := range m.groupsOf[w] {
		gr := &m.groups[g]
		at := &s.count[g][m.place(gr.scope, r)]
		if gr.weight > 0 && int(*at) >= gr.most {
			s.objective += gr.weight
		}
		*at++
	}
	s.placed++
}

func (s *state) lift(w int32) {
	m := s.m
	o, r := s.option(w), s.room[w]
	free := s.free[int(r)*m.roomDims:]
	for d := range m.roomDims {
		free[d] += o.take[d]
	}
	left := s.left[int(o.site)*len(m.dims):]
	for d, x := range o.take {
		left[d] += x
	}
	s.opt[w], s.room[w] = -1, -1
	s.objective -= o.c + s.talk(w, o.site)
	for _, g := range m.groupsOf[w] {
		gr := &m.groups[g]
		at := &s.count[g][m.place(gr.scope, r)]
		*at--
		if gr.weight > 0 && int(*at) >= gr.most {
			s.objective -= gr.weight
		}
	}
	s.placed--
}

// talk is what passes between a workload at a site and those placed.
func (s *state) talk(w, at int32) float64 {
	m := s.m
	sum := 0.0
	for _, i := range m.edgesOf[w] {
		e := &m.edges[i]
		if other := s.room[e.other(w)]; other >= 0 {
			sum += m.fromSide(e, w, at, m.rooms[other].site)
		}
	}
	return sum
}

// would is what a unit at a site would add to the objective in the cheapest size, given what is placed; infinite if it may
// not be there. Whether it fits is not asked.
func (s *state) would(u, at int32) float64 {
	m := s.m
	sum := 0.0
	for _, w := range m.units[u].members {
		c := m.classes[m.class[w]]
		if c.lo[at] == c.lo[at+1] {
			return inf
		}
		sum += c.opts[c.lo[at]].c
		if len(m.edgesOf[w]) > 0 {
			sum += s.talk(w, at)
		}
		for _, g := range m.groupsOf[w] {
			gr := &m.groups[g]
			if gr.scope > perSite {
				continue
			}
			place := at
			if gr.scope == perProvider {
				place = m.providerOf[at]
			}
			if int(s.count[g][place]) >= gr.most {
				if gr.weight == 0 {
					return inf
				}
				sum += gr.weight
			}
		}
	}
	return sum
}

// enter places a unit at a site, each workload in the cheapest size and the snuggest room; false, and nothing is changed,
// if it does not fit.
func (s *state) enter(u, at int32) bool {
	m := s.m
	if m.strict && !s.nearEnough(u, at) {
		return false
	}
	un := &m.units[u]
	zone, host := int32(-1), int32(-1)
	for k, w := range un.members {
		if !s.fill(w, at, zone, host) {
			s.undo(un.members[:k])
			return un.scope > perSite && len(un.members) > 1 && s.enterClose(u, at)
		}
		switch un.scope {
		case perHost:
			host = s.room[w]
		case perZone:
			zone = m.rooms[s.room[w]].zone
		}
	}
	s.settle(u, at)
	return true
}

// fill places a workload at a site, in a zone or host if they are not negative, in the cheapest size that fits.
func (s *state) fill(w, at, zone, host int32) bool {
	c := s.m.classes[s.m.class[w]]
	for i := c.lo[at]; i < c.lo[at+1]; i++ {
		if r := s.roomFor(w, &c.opts[i], zone, host); r >= 0 {
			s.put(w, i, r)
			return true
		}
	}
	return false
}

// enterClose places a unit that must share a zone or host, trying one after the other.
func (s *state) enterClose(u, at int32) bool {
	m := s.m
	members := m.units[u].members
	for _, r := range m.roomsOf[at] {
		zone, host := int32(-1), r
		if m.units[u].scope == perZone {
			zone, host = m.rooms[r].zone, -1
		}
		k := 0
		for k < len(members) && s.fill(members[k], at, zone, host) {
			k++
		}
		if k == len(members) {
			s.settle(u, at)
			return true
		}
		s.undo(members[:k])
	}
	return false
}

func (s *state) undo(workloads []int32) {
	for _, w := range workloads {
		s.lift(w)
	}
}

// settle notes that a unit is at a site, leave takes it away with its workloads.
func (s *state) settle(u, at int32) {
	s.site[u] = at
	s.seat[u] = int32(len(s.here[at]))
	s.here[at] = append(s.here[at], u)
	if s.marks > 0 {
		s.log = append(s.log, change{unit: u})
	}
}

func (s *state) leave(u int32) {
	if s.marks > 0 {
		s.log = append(s.log, change{u, s.keep(nil, u)})
	}
	for _, w := range s.m.units[u].members {
		s.lift(w)
	}
	s.unsettle(u)
}

func (s *state) unsettle(u int32) {
	at := s.site[u]
	list := s.here[at]
	last := list[len(list)-1]
	list[s.seat[u]] = last
	s.seat[last] = s.seat[u]
	s.here[at] = list[:len(list)-1]
	s.site[u] = -1
}

// keep notes where a unit is, so that back can put it there again.
func (s *state) keep(out []pick, u int32) []pick {
	for _, w := range s.m.units[u].members {
		out = append(out, pick{w, s.opt[w], s.room[w]})
	}
	return out
}

// back puts units, which have no place now, where they were.
func (s *state) back(units []int32, picks []pick) {
	for _, p := range picks {
		s.put(p.workload, p.opt, p.room)
	}
	for _, u := range units {
		s.settle(u, s.option(s.m.units[u].members[0]).site)
	}
}

// mark begins to note changes, rollback undoes those since a mark, and forget ends the noting: every mark is forgotten once.
func (s *state) mark() int {
	s.marks++
	return len(s.log)
}

func (s *state) rollback(mark int) {
	marks := s.marks
	s.marks = 0
	for i := len(s.log) - 1; i >= mark; i-- {
		c := s.log[i]
		if c.was == nil {
			s.leave(c.unit)
		} else {
			s.back([]int32{c.unit}, c.was)
		}
	}
	s.log, s.marks = s.log[:mark], marks
}

func (s *state) forget() {
	if s.marks--; s.marks == 0 {
		s.log = s.log[:0]
	}
}
