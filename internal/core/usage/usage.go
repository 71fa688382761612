// Package usage says how full the rooms of an estate are: what is used, what a placement would add, what is left.
//
// In go an estate and a placement over it, which may be nil; out comes a [Site] for each site, which screens and drawings
// share.
package usage

import (
	"andamio/internal/core/estate"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
)

// Load is how full something is in one dimension. Where the whole was not said, what is free counts as the whole. Paused is what is switched off has, Held what runs
// are about to build ([Claimed]), Plan what a placement would add.
type Load struct{ Total, Used, Plan, Paused, Held float64 }

// Free is what is left when the plan stands.
func (l Load) Free() float64 { return l.Total - l.Used - l.Paused - l.Held - l.Plan }

func (l Load) plus(o Load) Load {
	return Load{l.Total + o.Total, l.Used + o.Used, l.Plan + o.Plan, l.Paused + o.Paused, l.Held + o.Held}
}

// Room is a room's load.
type Room struct {
	Name, Zone, Host    string
	Cores, Memory, Disk Load
	// Instances is how many the plan puts there.
	Instances int
}

// Site is a site's load, and its rooms'.
type Site struct {
	Site                *estate.Site
	Rooms               []Room
	Cores, Memory, Disk Load
	Instances           int
	// Claims are what deployments have there that is not used.
	Claims []Claim
	// CostPerHour is what the plan costs there.
	CostPerHour money.Amount
}

// Of works the loads out. What stands counts as used, though the estate may count its room as free, and what of the
// placement stands where it is to be counts as nothing new.
func Of(e *estate.Estate, placed, stands *placement.Placement) []Site {
	out := make([]Site, 0, len(e.Sites))
	for _, s := range e.Sites {
		site := Site{Site: s}
		for _, r := range s.Rooms() {
			room := Room{Name: r.Name(), Zone: r.Zone, Host: r.Host}
			total := r.Total
			if total.IsZero() {
				total = r.Free
			}
			used := r.Used()
			room.Cores = Load{Total: float64(total.Cores), Used: float64(used.Cores)}
			room.Memory = Load{Total: total.MemoryGiB, Used: used.MemoryGiB}
			room.Disk = Load{Total: total.DiskGiB, Used: used.DiskGiB}
			site.Rooms = append(site.Rooms, room)
		}
		out = append(out, site)
	}
	add(out, placed, stands)
	for i := range out {
		for _, r := range out[i].Rooms {
			out[i].Cores = out[i].Cores.plus(r.Cores)
			out[i].Memory = out[i].Memory.plus(r.Memory)
			out[i].Disk = out[i].Disk.plus(r.Disk)
		}
	}
	return out
}

// add adds what stands in each room, and what a placement puts there beside.
func add(sites []Site, placed, stands *placement.Placement) {
	at := map[placement.Spot]*Room{}
	by := map[string]*Site{}
	for i := range sites {
		by[sites[i].Site.Name] = &sites[i]
		for k := range sites[i].Rooms {
			r := &sites[i].Rooms[k]
			at[placement.Spot{Site: sites[i].Site.Name, Zone: r.Zone, Host: r.Host}] = r
		}
	}
	spot := func(c *placement.Choice) placement.Spot {
		return placement.Spot{Site: c.Site, Zone: c.Zone, Host: c.Host}
	}
	there := map[string]placement.Spot{}
	for i := range choicesOf(stands) {
		c := &stands.Choices[i]
		there[c.Workload] = spot(c)
		if r := at[spot(c)]; r != nil {
			r.Cores.Used += float64(c.Takes.Cores)
			r.Memory.Used += c.Takes.MemoryGiB
			r.Disk.Used += c.Takes.DiskGiB
		}
	}
	for i := range choicesOf(placed) {
		c := &placed.Choices[i]
		r, s := at[spot(c)], by[c.Site]
		if was, stands := there[c.Workload]; r == nil || stands && was == spot(c) {
			continue
		}
		r.Cores.Plan += float64(c.Takes.Cores)
		r.Memory.Plan += c.Takes.MemoryGiB
		r.Disk.Plan += c.Takes.DiskGiB
		r.Instances++
		s.Instances++
		s.CostPerHour += c.CostPerHour
	}
}

func choicesOf(p *placement.Placement) []placement.Choice {
	if p == nil {
		return nil
	}
	return p.Choices
}

// Sum is the load of all sites together.
func Sum(sites []Site) Site {
	var out Site
	for _, s := range sites {
		out.Cores, out.Memory, out.Disk = out.Cores.plus(s.Cores), out.Memory.plus(s.Memory), out.Disk.plus(s.Disk)
		out.Instances += s.Instances
		out.CostPerHour += s.CostPerHour
	}
	return out
}
