package reconcile

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// needed is room that a plan takes in a zone of a site.
type needed struct {
	name, site, zone string
	takes            estate.Capacity
}

// needs are what settling builds anew of instances and volumes, and makes larger, the largest first.
func (s *Settling) needs() []needed {
	var out []needed
	for _, p := range s.Plans() {
		for i := range p.Steps {
			r := p.Resource(p.Steps[i].Resource)
			if r == nil || r.Kind != kinds.Instance && r.Kind != kinds.Volume {
				continue
			}
			takes := estate.Capacity{Cores: r.AsInstance().Cores, MemoryGiB: r.AsInstance().MemoryGiB, DiskGiB: r.DiskGiB()}
			switch p.Steps[i].Op {
			case op.Create:
			case op.Alter:
				takes = s.grows(r, takes)
			default:
				continue
			}
			if !takes.IsZero() {
				out = append(out, needed{cmp.Or(r.ID, r.Title), r.Site, r.Zone, takes})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b needed) int {
		return cmp.Or(cmp.Compare(b.takes.Cores, a.takes.Cores), cmp.Compare(b.takes.MemoryGiB, a.takes.MemoryGiB), cmp.Compare(b.takes.DiskGiB, a.takes.DiskGiB))
	})
	return out
}

// grows is by how much something becomes larger than it was seen.
func (s *Settling) grows(r *plan.Resource, to estate.Capacity) estate.Capacity {
	for _, x := range s.Items {
		seen := x.Finding.Observed
		if seen == nil || x.Finding.Declared == nil || x.Finding.Declared.Name != r.ID || seen.Site != r.Site {
			continue
		}
		return estate.Capacity{Cores: max(to.Cores-int(seen.Number(inventory.AttrCores)), 0), MemoryGiB: max(to.MemoryGiB-seen.Number(inventory.AttrMemory), 0),
			DiskGiB: max(to.DiskGiB-seen.Number(inventory.AttrDisk), 0)}
	}
	return estate.Capacity{}
}

// hasRoom says before anything is begun whether the sites have room for what settling builds: what has taken it would else
// be found by a run, when half is done. What the same plans take away is not counted on, for it may be gone later.
func (svc *Service) hasRoom(ctx context.Context, s *Settling) error {
	needs := s.needs()
	if len(needs) == 0 {
		return nil
	}
	e, err := svc.sites.Estate(ctx)
	if e == nil {
		return err
	}
	rooms := map[string][]estate.Room{}
	var lacks []string
	for _, n := range needs {
		at := e.Site(n.site)
		if at == nil {
			continue // it does not answer now: its run waits for it, or says so
		}
		if _, known := rooms[n.site]; !known {
			rooms[n.site] = at.Rooms()
		}
		if !take(rooms[n.site], n) {
			lacks = append(lacks, fmt.Sprintf("%s (%s) at %s, %s", n.name, n.takes, n.site, freeIn(at, n.zone)))
		}
	}
	if len(lacks) > 0 {
		return fault.Conflictf("there is no room for %s: something else has taken it meanwhile; retire that first, or settle this another way", strings.Join(lacks, "; nor for "))
	}
	return nil
}

// take takes the room of something from the first room in its zone that has it.
func take(rooms []estate.Room, n needed) bool {
	for i := range rooms {
		if (n.zone == "" || rooms[i].Zone == n.zone) && rooms[i].Free.Fits(n.takes) {
			rooms[i].Free = rooms[i].Free.Minus(n.takes)
			return true
		}
	}
	return false
}

// freeIn says how much the roomiest place of a zone has left.
func freeIn(s *estate.Site, zone string) string {
	most := estate.Room{Zone: zone}
	for _, r := range s.Rooms() {
		if (zone == "" || r.Zone == zone) && r.Free.Cores >= most.Free.Cores {
			most = r
		}
	}
	return fmt.Sprintf("where %s has at most %s left", most.Name(), most.Free)
}
