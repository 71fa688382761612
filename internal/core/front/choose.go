package front

import (
	"cmp"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"time"
)

// Member is one place at which a front is served.
type Member struct {
	// Name is the endpoint's, within its deployment; Deployment is the number of that.
	Name       string     `json:"name"`
	Deployment int64      `json:"deployment"`
	Site       string     `json:"site"`
	Address    netip.Addr `json:"address"`
	Port       uint16     `json:"port"`
	// Machine is the one that it runs on, by its id in the deployment.
	Machine string `json:"machine,omitempty"`
	// Check is how it is asked.
	Check Check `json:"check,omitzero"`
	// Up says that it answers, since when.
	Up    bool      `json:"up"`
	Since time.Time `json:"since,omitzero"`
	// Load is the share of its machine's cores that is used; 0 where that is not known.
	Load float64 `json:"load,omitempty"`
	// Says is what it said last.
	Says string `json:"says,omitempty"`
}

// Check is how a member is asked whether it is well: by a connection, or for a page.
type Check struct {
	HTTP     bool   `json:"http,omitempty"`
	Path     string `json:"path,omitempty"`
	Status   int    `json:"status,omitempty"`
	Contains string `json:"contains,omitempty"`
}

// Key names a member: one that is at another address is another one.
func (m *Member) Key() string {
	return fmt.Sprintf("d%d %s %s:%d", m.Deployment, m.Name, m.Address, m.Port)
}

// Bounds of how much less what is full, or has just come up, is asked.
const (
	leastRamp = 0.1
	leastRoom = 0.02
)

// sameDistance is how many milliseconds apart two sites are that count as as near.
const sameDistance = 1.0

// weight is how much of what is asked goes to a member where all is well.
func (f *Front) weight(m *Member) float64 {
	if w, said := f.Weights[m.Site]; said {
		return w
	}
	return 1
}

// ramp is how much of that a member is asked that has just come up.
func (f *Front) ramp(m *Member, now time.Time) float64 {
	if f.slowStart <= 0 || m.Since.IsZero() {
		return 1
	}
	return min(max(float64(now.Sub(m.Since))/float64(f.slowStart), leastRamp), 1)
}

// room is how much of what it is asked otherwise a member takes still, the fuller it is the less.
func (f *Front) room(m *Member) float64 {
	if f.full <= 0 || m.Load <= f.full {
		return 1
	}
	return max((1-m.Load)/(1-f.full), leastRoom)
}

// Expected are the members at the port at which a front is expected.
func (f *Front) Expected(members []Member) []Member {
	port, most := f.Port, map[uint16]int{}
	for i := range members {
		most[members[i].Port]++
	}
	for p, n := range most {
		if f.Port == 0 && (port == 0 || n > most[uint16(port)] || n == most[uint16(port)] && int(p) < port) {
			port = int(p)
		}
	}
	return slices.DeleteFunc(slices.Clone(members), func(m Member) bool { return int(m.Port) != port })
}

// Choose says who is answered with, the first before all others: of what is up the nearest, and of those as near by their weight. Where these are full the next nearest are answered with for as much as is
// too much for them. Where nothing is up all are answered with, as if nothing were known. Away is how far each site is from who asks, and draw a number from 0 to 1 by chance.
func (f *Front) Choose(members []Member, away map[string]float64, now time.Time, draw func() float64) []*Member {
	up := f.able(members)
	if len(up) == 0 {
		for i := range members {
			up = append(up, &members[i])
		}
		return f.some(up, draw, func(m *Member) float64 { return max(f.weight(m), leastRoom) })
	}
	groups := grouped(up, away)
	at := 0
	for ; at+1 < len(groups); at++ {
		if draw() < f.stays(groups[at]) {
			break
		}
	}
	if at > 0 && f.stays(groups[at]) <= leastRoom { // all are full: the nearest is no worse
		at = 0
	}
	return f.some(groups[at], draw, func(m *Member) float64 { return f.weight(m) * f.ramp(m, now) * f.room(m) })
}

// able are members that are up and are to be asked; spares where no others are up.
func (f *Front) able(members []Member) (out []*Member) {
	var spares []*Member
	for i := range members {
		switch m := &members[i]; {
		case !m.Up:
		case f.weight(m) > 0:
			out = append(out, m)
		default:
			spares = append(spares, m)
		}
	}
	if len(out) == 0 {
		return spares
	}
	return out
}

// grouped are members by how far they are, the nearest first. Those of which that is not known come last.
func grouped(all []*Member, away map[string]float64) [][]*Member {
	far := func(m *Member) float64 {
		if ms, known := away[m.Site]; known {
			return ms
		}
		return math.MaxFloat64
	}
	slices.SortStableFunc(all, func(a, b *Member) int { return cmp.Compare(far(a), far(b)) })
	var out [][]*Member
	for i, m := range all {
		if i == 0 || far(m)-far(out[len(out)-1][0]) > sameDistance {
			out = append(out, nil)
		}
		out[len(out)-1] = append(out[len(out)-1], m)
	}
	return out
}

// stays is the share of what a group is asked that it can take.
func (f *Front) stays(group []*Member) float64 {
	all, takes := 0.0, 0.0
	for _, m := range group {
		w := max(f.weight(m), leastRoom)
		all, takes = all+w, takes+w*f.room(m)
	}
	return takes / all
}

// some are as many of a group as an answer has, by chance and weight.
func (f *Front) some(group []*Member, draw func() float64, weight func(*Member) float64) []*Member {
	left := slices.Clone(group)
	var out []*Member
	for len(left) > 0 && len(out) < f.Answers {
		sum := 0.0
		for _, m := range left {
			sum += weight(m)
		}
		at, x := len(left)-1, draw()*sum
		for i, m := range left {
			if x -= weight(m); x < 0 {
				at = i
				break
			}
		}
		out = append(out, left[at])
		left = slices.Delete(left, at, at+1)
	}
	return out
}
