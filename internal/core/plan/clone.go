package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/address"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/naming"
	"andamio/internal/core/plan/op"
)

// Clone is the plan of another deployment like one, at the same sites, under its own name: addresses and VLANs are
// handed out anew, host names follow the sites' rules, and what has no room beside the first is in another room of its
// site. The error says where there is none.
func Clone(p *Plan, name string, e *estate.Estate) (*Plan, error) {
	out := *p
	out.Name, out.Purpose, out.Known = name, "", nil
	out.Resources, out.Steps = slices.Clone(p.Resources), slices.Clone(p.Steps)
	Reindexed(&out)
	c := cloner{p: &out, e: e, books: map[string]*address.Book{}, taken: map[string][]string{}}
	for _, instances := range []bool{true, false} { // what belongs to an instance is where that is
		for i := range out.Resources {
			r := &out.Resources[i]
			if (r.Kind == kinds.Instance) != instances {
				continue
			}
			r.Change, r.Reasons, r.Off = "", nil, false
			if err := c.place(r); err != nil {
				return nil, fmt.Errorf("a clone of %s has no place at %s: %w", r.ID, r.Site, err)
			}
		}
	}
	for i := range out.Steps {
		if n := out.Steps[i].Naming; n != nil { // one name stands for one thing
			own := *n
			own.Name = strings.TrimSuffix(own.Name, "."+label(p.Name)) + "." + label(name)
			out.Steps[i].Naming, out.Steps[i].Title = &own, "name "+own.Name
		}
	}
	return Reindexed(&out), out.Check()
}

// cloner finds places for what is cloned.
type cloner struct {
	p     *Plan
	e     *estate.Estate
	books map[string]*address.Book
	// taken are the rooms of the instances of each node.
	taken map[string][]string
}

// room finds an instance a room: its own, else one of its site where nothing else of its node is, its zone first.
func (c *cloner) room(r *Resource, s *estate.Site) error {
	need := estate.Capacity{Cores: r.AsInstance().Cores, MemoryGiB: r.AsInstance().MemoryGiB, DiskGiB: r.DiskGiB()}
	had := r.Zone + "/" + r.Host
	rooms := s.Rooms()
	weigh := func(x estate.Room) int {
		key, weight := x.Zone+"/"+x.Host, 0
		if key != had {
			weight++
		}
		if x.Zone != r.Zone {
			weight += 2
		}
		if slices.Contains(c.taken[r.Node], key) && key != had {
			weight += 4
		}
		return weight
	}
	slices.SortStableFunc(rooms, func(a, b estate.Room) int { return weigh(a) - weigh(b) })
	for _, x := range rooms {
		if s.Take(x.Zone, x.Host, need) {
			r.Zone, r.Host = x.Zone, x.Host
			c.taken[r.Node] = append(c.taken[r.Node], x.Zone+"/"+x.Host)
			return nil
		}
	}
	return fmt.Errorf("there is no room for %s", need)
}

// label makes any name one of the domain name system (RFC 1035, section 2.3.1).
func label(name string) string {
	clean := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, name)
	return strings.Trim(clean[:min(len(clean), 63)], "-")
}

// place gives a resource a place, an address, a name of its own.
func (c *cloner) place(r *Resource) error {
	s := c.e.Site(r.Site)
	if s == nil {
		return fmt.Errorf("the site is not connected")
	}
	if c.books[s.Name] == nil {
		c.books[s.Name] = address.NewBook(s)
	}
	b := c.books[s.Name]
	switch r.Kind {
	case kinds.Instance:
		if err := c.room(r, s); err != nil {
			return err
		}
		name, err := naming.Name(s.Naming, naming.Values{Deployment: c.p.Name, Service: r.Service, Node: r.Node, Index: strconv.Itoa(indexOf(r)), Site: r.Site, Zone: r.Zone})
		if err != nil {
			return err
		}
		Respec(r, func(s *InstanceSpec) { s.Hostname = name })
	case kinds.Interface:
		r.Zone = c.p.Resource(r.AsInterface().Instance).Zone
		if r.AsInterface().Address != "" && b.HasPools() {
			got, err := b.Address(r.ID, cidrOf(c.p, r.AsInterface().Network), "")
			if err != nil {
				return err
			}
			Respec(r, func(s *InterfaceSpec) { s.Address = got })
			r.Detail = got
		}
	case kinds.Volume:
		if on := c.holder(r.ID); on != nil {
			r.Zone = on.Zone
		}
	case kinds.Network:
		if r.AsNetwork().VLAN != "" && b.HasVLANs() && r.AsNetwork().Existing == "" {
			got, err := b.VLAN(r.Node, 0)
			if err != nil {
				return err
			}
			Respec(r, func(s *NetworkSpec) { s.VLAN = strconv.Itoa(got) })
		}
	}
	return nil
}

// holder is the instance that a volume is attached to.
func (c *cloner) holder(volume string) *Resource {
	for i := range c.p.Steps {
		if s := &c.p.Steps[i]; s.Op == op.Attach && s.Volume == volume {
			return c.p.Resource(s.Resource)
		}
	}
	return nil
}

func cidrOf(p *Plan, network string) string {
	for i := range p.Resources {
		if p.Resources[i].ID == network {
			return p.Resources[i].AsNetwork().CIDR
		}
	}
	return ""
}

// indexOf is the number at the end of an instance's id.
func indexOf(r *Resource) int {
	if n, err := strconv.Atoi(strings.TrimPrefix(r.ID, r.Node+"-")); err == nil {
		return n
	}
	return 1
}
