// Package sample makes placement problems by chance, for tests and measurements: equal seeds give equal problems.
package sample

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
)

// Shape is how large and how tight a problem is.
type Shape struct {
	Workloads, Sites, Sizes int
	// Hosts is how many hosts all private sites have together.
	Hosts int
	// Fill is the part of the capacity of private sites that all workloads together would take, 0 for an ordinary one.
	Fill float64
}

// Problem is a problem of a shape: a third of the sites are private with hosts and any shape of instance, the others public
// with zones and sizes; services of several tiers, whose workloads talk, are kept apart and have preferences.
func Problem(seed uint64, s Shape) placement.Problem {
	r := rand.New(rand.NewPCG(seed, 77))
	p := placement.Problem{Weights: placement.Usual}
	p.Workloads, p.Traffic, p.Rules = workloads(r, s.Workloads)
	p.Estate = sites(r, s, need(p.Workloads))
	limit(r, &p)
	return p
}

func need(all []placement.Workload) estate.Capacity {
	var sum estate.Capacity
	for _, w := range all {
		sum = sum.Plus(w.Need)
	}
	return sum
}

var shapes = []estate.Capacity{{Cores: 1, MemoryGiB: 2}, {Cores: 2, MemoryGiB: 4}, {Cores: 2, MemoryGiB: 8}, {Cores: 4, MemoryGiB: 8},
	{Cores: 4, MemoryGiB: 16}, {Cores: 8, MemoryGiB: 16}, {Cores: 8, MemoryGiB: 32}, {Cores: 3, MemoryGiB: 12}}

// workloads makes services of two to four tiers, each with one to six instances.
func workloads(r *rand.Rand, n int) ([]placement.Workload, []placement.Traffic, []placement.Rule) {
	var all []placement.Workload
	var traffic []placement.Traffic
	var rules []placement.Rule
	for service := 1; len(all) < n; service++ {
		var before []string
		for tier := range 2 + r.IntN(3) {
			node := fmt.Sprintf("s%d-t%d", service, tier+1)
			shape := shapes[r.IntN(len(shapes))]
			shape.DiskGiB = float64(10 * (1 + r.IntN(10)))
			var now []string
			for i := range 1 + r.IntN(6) {
				if len(all) == n {
					break
				}
				w := placement.Workload{Name: fmt.Sprintf("%s-%d", node, i+1), Node: node, Tier: fmt.Sprintf("s%d", service), Need: shape,
					VolumesGiB: shape.DiskGiB / 2, OS: "linux", Addresses: 1}
				all, now = append(all, w), append(now, w.Name)
				if len(before) > 0 {
					traffic = append(traffic, placement.Traffic{From: before[i%len(before)], To: w.Name, GiB: math.Round(r.Float64()*200) / 100,
						BackGiB: math.Round(r.Float64()*50) / 100, Weight: 1})
				}
			}
			if len(now) > 1 && r.IntN(3) == 0 {
				rules = append(rules, placement.Rule{Name: node + "-apart", Nodes: []string{node}, Apart: []string{"site", "zone", "host"}[r.IntN(3)]})
			}
			before = now
		}
	}
	return all, traffic, rules
}

// sites makes the estate, its private part so large that the whole would fill Fill of it.
func sites(r *rand.Rand, s Shape, all estate.Capacity) *estate.Estate {
	e := &estate.Estate{Version: estate.Version, Currency: "cr"}
	fill := s.Fill
	if fill == 0 {
		fill = 2.5
	}
	private := max(s.Sites/3, 1)
	hosts := max(s.Hosts, 2*private)
	for i := range s.Sites {
		site := &estate.Site{Name: fmt.Sprintf("site-%d", i+1), Kind: estate.Public, Provider: fmt.Sprintf("provider-%d", i%max(s.Sites/2, 1)),
			Network: estate.Address, Pace: 1, Images: []estate.Image{{Name: "base", OS: "linux"}}, Distances: map[string]float64{}}
		for k := range i {
			site.Distances[fmt.Sprintf("site-%d", k+1)] = float64(2 + r.IntN(60))
		}
		site.Prices = estate.Prices{Disk: 0.0002 + 0.0002*r.Float64(), Address: 0.005 * r.Float64(),
			Egress: map[string]float64{estate.SiteWide: 0.02 * r.Float64()}}
		if i < private {
			ownSite(r, site, hosts/private, all, 1/(fill*float64(private)))
		} else {
			publicSite(r, site, s, all)
		}
		e.Sites = append(e.Sites, site)
	}
	return e
}

// ownSite has hosts that together hold a part of everything, any shape, and low prices.
func ownSite(r *rand.Rand, s *estate.Site, hosts int, all estate.Capacity, part float64) {
	s.Kind, s.FreeForm = estate.Private, true
	s.Prices.Core, s.Prices.Memory = 0.02+0.015*r.Float64(), 0.004+0.004*r.Float64()
	s.Prices.Egress = nil
	for z := range 2 {
		zone := estate.Zone{Name: string(rune('a' + z))}
		for h := range max(hosts/2, 1) {
			k := (0.7 + 0.6*r.Float64()) * part / float64(max(hosts, 2))
			zone.Hosts = append(zone.Hosts, estate.Host{Name: fmt.Sprintf("%s-%d", zone.Name, h+1), Free: estate.Capacity{
				Cores: max(8, int(k*float64(all.Cores))), MemoryGiB: max(32, math.Round(k*all.MemoryGiB)), DiskGiB: max(500, math.Round(2*k*all.DiskGiB))}})
		}
		s.Zones = append(s.Zones, zone)
	}
}

// publicSite has zones, sizes and prices; some have quotas.
func publicSite(r *rand.Rand, s *estate.Site, shape Shape, all estate.Capacity) {
	k := (1 + r.Float64()) / float64(max(shape.Sites, 3)) * 1.5
	for z := range 1 + r.IntN(3) {
		s.Zones = append(s.Zones, estate.Zone{Name: fmt.Sprint(z + 1), Free: estate.Capacity{Cores: max(16, int(k*float64(all.Cores))),
			MemoryGiB: max(64, math.Round(k*all.MemoryGiB)), DiskGiB: max(1000, math.Round(3*k*all.DiskGiB))}})
	}
	core, memory := 0.025+0.02*r.Float64(), 0.005+0.004*r.Float64()
	for i := range shape.Sizes {
		cores := 1 << (i%5 + 1)
		ratio := float64(2 + 2*(i/5+i%2))
		s.Sizes = append(s.Sizes, estate.Size{Name: fmt.Sprintf("c%d-%g", cores, ratio*float64(cores)), Cores: cores, MemoryGiB: ratio * float64(cores),
			PricePerHour: math.Round(1e4*(core*float64(cores)+memory*ratio*float64(cores))) / 1e4})
	}
	if r.IntN(3) == 0 {
		s.Quotas = map[string]estate.Quota{estate.QuotaInstances: {Limit: float64(2 + shape.Workloads/max(shape.Sites, 1))}}
	}
}

// limit adds rules over some nodes: kinds of site, single sites they may not use, preferences.
func limit(r *rand.Rand, p *placement.Problem) {
	seen := map[string]bool{}
	for _, w := range p.Workloads {
		if seen[w.Node] {
			continue
		}
		seen[w.Node] = true
		switch r.IntN(12) {
		case 0:
			p.Rules = append(p.Rules, placement.Rule{Name: w.Node + "-public", Nodes: []string{w.Node}, Kinds: []string{"public"}})
		case 1:
			p.Rules = append(p.Rules, placement.Rule{Name: w.Node + "-own", Nodes: []string{w.Node}, Kinds: []string{"private"}, Weight: 0.05})
		case 2:
			if slices.ContainsFunc(p.Rules, func(r placement.Rule) bool { return r.Name == w.Node+"-apart" }) {
				continue // both could not hold
			}
			p.Rules = append(p.Rules, placement.Rule{Name: w.Node + "-together", Nodes: []string{w.Node}, Together: "site"})
		}
	}
}
