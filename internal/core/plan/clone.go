package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/address"
	"andamio/internal/core/estate"
	"andamio/internal/core/naming"
)

// Clone is the plan of another deployment like one, at the same places, under its own name: addresses and VLANs are
// handed out anew, host names follow the sites' rules. The error says where there is no room for it.
func Clone(p *Plan, name string, e *estate.Estate) (*Plan, error) {
	out := *p
	out.Name, out.Purpose, out.Known = name, "", nil
	out.Resources, out.Steps = slices.Clone(p.Resources), slices.Clone(p.Steps)
	books := map[string]*address.Book{}
	for i := range out.Resources {
		r := &out.Resources[i]
		r.Change, r.Reasons, r.Off = "", nil, false
		s := e.Site(r.Site)
		if s == nil {
			return nil, fmt.Errorf("%s is at the site %s, which is not connected", r.ID, r.Site)
		}
		if books[s.Name] == nil {
			books[s.Name] = address.NewBook(s)
		}
		if err := cloneResource(&out, r, s, books[s.Name]); err != nil {
			return nil, fmt.Errorf("a clone of %s has no place at %s: %w", r.ID, r.Site, err)
		}
	}
	for i := range out.Steps {
		if n := out.Steps[i].Naming; n != nil { // one name stands for one thing
			own := *n
			own.Name += "." + label(name)
			out.Steps[i].Naming, out.Steps[i].Title = &own, "name "+own.Name
		}
	}
	return Reindexed(&out), out.Check()
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

func cloneResource(p *Plan, r *Resource, s *estate.Site, b *address.Book) error {
	switch r.Kind {
	case Instance:
		need := estate.Capacity{Cores: r.Spec.Cores, MemoryGiB: r.Spec.MemoryGiB, DiskGiB: r.Spec.DiskGiB}
		if !s.Take(r.Zone, r.Host, need) {
			return fmt.Errorf("there is no room for %s in zone %s", need, r.Zone)
		}
		name, err := naming.Name(s.Naming, naming.Values{Deployment: p.Name, Service: r.Service, Node: r.Node, Index: strconv.Itoa(indexOf(r)), Site: r.Site, Zone: r.Zone})
		if err != nil {
			return err
		}
		r.Spec.Hostname = name
	case Interface:
		if r.Spec.Address != "" && b.HasPools() {
			got, err := b.Address(r.ID, cidrOf(p, r.Spec.Network), "")
			if err != nil {
				return err
			}
			r.Spec.Address, r.Detail = got, got
		}
	case Network:
		if r.Spec.VLAN != "" && b.HasVLANs() && r.Spec.Existing == "" {
			got, err := b.VLAN(r.Node, 0)
			if err != nil {
				return err
			}
			r.Spec.VLAN = strconv.Itoa(got)
		}
	}
	return nil
}

func cidrOf(p *Plan, network string) string {
	for i := range p.Resources {
		if p.Resources[i].ID == network {
			return p.Resources[i].Spec.CIDR
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
