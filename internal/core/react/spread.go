package react

import (
	"fmt"
	"slices"
)

// spread is which machine is to be on another host: of the busiest host that is busy enough, the one that makes the busier of both the least busy. Only what has no disks and is not alone is taken,
// so that its service goes on.
func (r *Reaction) spread(s *Situation) *wish {
	var best *wish
	bestAfter := 0.0
	for i := range s.Hosts {
		from := &s.Hosts[i]
		if from.Cores <= 0 || from.use() < r.Spread.above {
			continue
		}
		for j := range s.Hosts {
			to := &s.Hosts[j]
			if to.Site != from.Site || to == from || to.Cores <= 0 || from.use()-to.use() < r.Spread.apart {
				continue
			}
			for k := range s.Machines {
				m := &s.Machines[k]
				if m.Site != from.Site || m.Host != from.Name || m.Zone != from.Zone || m.Disks || !m.Known || m.Load <= 0 || s.alone(m) {
					continue
				}
				after := max((from.Used-m.Load)/from.Cores, (to.Used+m.Load)/to.Cores)
				if after > from.use()-leastGain || best != nil && after >= bestAfter {
					continue
				}
				bestAfter = after
				best = &wish{Decision: Decision{Do: Spreading, Machines: []string{m.ID}, Site: to.Site, Zone: to.Zone, Host: to.Name,
					Why: fmt.Sprintf("host %s is used to %.0f%% and %s to %.0f%%: with %s there the busier one is at %.0f%%", from.Name, 100*from.use(), to.Name, 100*to.use(), m.ID, 100*after)},
					about: "spread " + from.Site + "/" + from.Name, after: r.Spread.after, cool: r.coolDown}
			}
		}
	}
	if best != nil {
		best.beside = s.Spreading[best.Site] // one at a time at a site: what another deployment did is not in the figures yet
	}
	return best
}

// leastGain is by how much of a host's cores evening out makes the busier one less busy: less is not worth building anew.
const leastGain = 0.05

// alone reports that a machine is the only one of its tier.
func (s *Situation) alone(m *Machine) bool {
	return !slices.ContainsFunc(s.Machines, func(x Machine) bool { return x.ID != m.ID && x.Node == m.Node })
}
