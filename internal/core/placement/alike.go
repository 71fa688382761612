package placement

import (
	"cmp"
	"slices"
)

// What is alike need not be tried twice. Rooms are alike that could change places without anything being otherwise, and so are units: of five equal
// workloads at two sites it counts how many are at each, and not which.

// twins are by unit all that are alike to it: of one workload of the same class, in the same groups, that talk with the same others in the same way.
func (m *model) twins() [][]int32 {
	out := make([][]int32, len(m.units))
	if len(m.units) > smallUnits {
		return out
	}
	for u := range m.units {
		if out[u] != nil {
			continue
		}
		same := []int32{int32(u)}
		for v := u + 1; v < len(m.units); v++ {
			if m.sameUnit(int32(u), int32(v)) {
				same = append(same, int32(v))
			}
		}
		if len(same) == 1 {
			continue
		}
		for _, v := range same {
			out[v] = same
		}
	}
	return out
}

func (m *model) sameUnit(u, v int32) bool {
	a, b := m.units[u].members, m.units[v].members
	return len(a) == 1 && len(b) == 1 && m.class[a[0]] == m.class[b[0]] && slices.Equal(m.groupsOf[a[0]], m.groupsOf[b[0]]) && slices.Equal(m.talks(a[0]), m.talks(b[0]))
}

// talk is what a workload has with another, as it sees it.
type talk struct {
	other          int32
	to, from       float64
	wait, most     float64
	gibTo, gibFrom float64
}

// talks are all of a workload, in the order of the others.
func (m *model) talks(w int32) []talk {
	var out []talk
	for _, i := range m.edgesOf[w] {
		e := &m.edges[i]
		t := talk{e.b, e.ab, e.ba, e.wait, e.most, e.gib, e.back}
		if e.b == w {
			t = talk{e.a, e.ba, e.ab, e.wait, e.most, e.back, e.gib}
		}
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b talk) int {
		return cmp.Or(cmp.Compare(a.other, b.other), cmp.Compare(a.to, b.to), cmp.Compare(a.from, b.from), cmp.Compare(a.wait, b.wait), cmp.Compare(a.most, b.most),
			cmp.Compare(a.gibTo, b.gibTo), cmp.Compare(a.gibFrom, b.gibFrom))
	})
	return out
}

// outOfOrder reports whether a unit at a site would stand before or after a twin the wrong way round: of all the ways to deal equal units out to sites only
// that is tried in which they are in the order of the sites.
func (p *proof) outOfOrder(u, site int32) bool {
	for _, v := range p.twins[u] {
		if at := p.s.site[v]; at >= 0 && (v < u && at > site || v > u && at < site) {
			return true
		}
	}
	return false
}

// alike reports whether two rooms of a site could change places: they are equally empty, what is kept apart by host is the same in both, and they are in one
// zone, or in two that are alike as a whole.
func (s *state) alike(a, b int32) bool {
	if !s.sameRoom(a, b) {
		return false
	}
	za, zb := s.m.rooms[a].zone, s.m.rooms[b].zone
	return za == zb || s.sameZone(s.m.rooms[a].site, za, zb)
}

func (s *state) sameRoom(a, b int32) bool {
	n := s.m.roomDims
	if !slices.Equal(s.free[int(a)*n:int(a)*n+n], s.free[int(b)*n:int(b)*n+n]) {
		return false
	}
	for g := range s.m.groups {
		if scope := s.m.groups[g].scope; scope == perHost && s.count[g][s.m.place(scope, a)] != s.count[g][s.m.place(scope, b)] {
			return false
		}
	}
	return true
}

// sameZone reports whether what is kept apart by zone is the same in two zones of a site, and each room of the one has its like in the other.
func (s *state) sameZone(site, za, zb int32) bool {
	var as, bs []int32
	for _, r := range s.m.roomsOf[site] {
		switch s.m.rooms[r].zone {
		case za:
			as = append(as, r)
		case zb:
			bs = append(bs, r)
		}
	}
	if len(as) != len(bs) {
		return false
	}
	for g := range s.m.groups {
		if scope := s.m.groups[g].scope; scope == perZone && s.count[g][s.m.place(scope, as[0])] != s.count[g][s.m.place(scope, bs[0])] {
			return false
		}
	}
	for _, a := range as {
		i := slices.IndexFunc(bs, func(b int32) bool { return s.sameRoom(a, b) })
		if i < 0 {
			return false
		}
		bs = slices.Delete(bs, i, i+1)
	}
	return true
}
