package usage

import (
	"cmp"
	"slices"

	"andamio/internal/core/estate"
)

// Claim is what a deployment has of a room that nobody sees used there: what is switched off sleeps, what a run is about to build is held for it.
type Claim struct {
	Site string `json:"site"`
	Zone string `json:"zone,omitempty"`
	Host string `json:"host,omitempty"`
	// Deployment is its number and Of its name; "" is one that whoever asks may not see. Thing is the instance.
	Deployment int64           `json:"deployment,omitempty"`
	Of         string          `json:"of,omitempty"`
	Thing      string          `json:"thing,omitempty"`
	Takes      estate.Capacity `json:"takes"`
	Held       bool            `json:"held,omitempty"`
}

// Claimed puts claims in their rooms: what sleeps is paused and not used, what is held is not free.
func Claimed(sites []Site, claims []Claim) {
	for i := range claims {
		c := &claims[i]
		at := slices.IndexFunc(sites, func(s Site) bool { return s.Site.Name == c.Site })
		if at < 0 {
			continue
		}
		s := &sites[at]
		k := slices.IndexFunc(s.Rooms, func(r Room) bool { return r.Zone == c.Zone && r.Host == c.Host })
		if k < 0 {
			continue
		}
		r := &s.Rooms[k]
		for _, x := range []struct {
			room, site *Load
			amount     float64
		}{{&r.Cores, &s.Cores, float64(c.Takes.Cores)}, {&r.Memory, &s.Memory, c.Takes.MemoryGiB}, {&r.Disk, &s.Disk, c.Takes.DiskGiB}} {
			x.site.claim(x.room.claim(x.amount, c.Held), c.Held)
		}
		s.Claims = append(s.Claims, *c)
	}
}

// claim notes an amount as held, or as paused as far as it was counted as used, and returns it.
func (l *Load) claim(amount float64, held bool) float64 {
	if held {
		l.Held += amount
		return amount
	}
	amount = min(amount, l.Used)
	l.Used, l.Paused = l.Used-amount, l.Paused+amount
	return amount
}

// Sleeper is what sleeps of a deployment at a site.
type Sleeper struct {
	Deployment int64
	Of         string
	Instances  int
	Takes      estate.Capacity
}

// Sleepers are whose capacity is paused at a site, the most first.
func (s *Site) Sleepers() []Sleeper {
	var out []Sleeper
	for _, c := range s.Claims {
		if c.Held {
			continue
		}
		at := slices.IndexFunc(out, func(x Sleeper) bool { return x.Of == c.Of && x.Deployment == c.Deployment })
		if at < 0 {
			out, at = append(out, Sleeper{Deployment: c.Deployment, Of: c.Of}), len(out)
		}
		out[at].Instances++
		out[at].Takes = out[at].Takes.Plus(c.Takes)
	}
	slices.SortStableFunc(out, func(a, b Sleeper) int {
		return cmp.Or(cmp.Compare(b.Takes.Cores, a.Takes.Cores), cmp.Compare(a.Of, b.Of))
	})
	return out
}
