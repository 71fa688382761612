package plan

import (
	"fmt"
	"strconv"

	"andamio/internal/core/address"
	"andamio/internal/core/kinds"
	"andamio/internal/core/naming"
	"andamio/internal/core/placement"
	"andamio/internal/core/topology"
)

// book is what is handed out at a site.
func (c *compiler) book(site string) *address.Book {
	b := c.books[site]
	if b == nil {
		b = address.NewBook(c.estate.Site(site))
		c.books[site] = b
	}
	return b
}

// vlan is the number of a network at a site: the one that the template picks, or the lowest free one where the site has a
// range; what the template says where it has none.
func (c *compiler) vlan(n *topology.Node, site, pick string) (string, error) {
	b := c.book(site)
	if !b.HasVLANs() {
		return pick, nil
	}
	number := 0
	if pick != "" {
		var err error
		if number, err = strconv.Atoi(pick); err != nil || number < 1 {
			return "", fmt.Errorf("%s: segmentation_id %q is no VLAN number", n.Pos, pick)
		}
	}
	if r := c.stands(networkID(n.Name, site), site); r != nil && number == 0 {
		if had, err := strconv.Atoi(r.AsNetwork().VLAN); err == nil {
			if got, err := b.VLAN(n.Name, had); err == nil {
				return strconv.Itoa(got), nil
			}
		}
	}
	got, err := b.VLAN(n.Name, number)
	if err != nil {
		return "", fmt.Errorf("%s: %w", n.Pos, err)
	}
	return strconv.Itoa(got), nil
}

// address is the address of an interface at a site: the one its port picks, or the lowest free one of the site's pools; ""
// where the site has none.
func (c *compiler) address(id, site, cidr, pick string) (string, error) {
	b := c.book(site)
	if !b.HasPools() {
		return pick, nil
	}
	if r := c.stands(id, site); r != nil && pick == "" && r.AsInterface().Address != "" {
		if got, err := b.Address(id, cidr, r.AsInterface().Address); err == nil {
			return got, nil
		}
	}
	return b.Address(id, cidr, pick)
}

// stands is a resource that stands at a site already; nil if it does not.
func (c *compiler) stands(id, site string) *Resource {
	if c.like == nil {
		return nil
	}
	if r := c.like.Resource(id); r != nil && r.Site == site {
		return r
	}
	return nil
}

// pickedAddress is the address that an interface node asks for, for its i-th instance: only one instance can have it.
func pickedAddress(n *topology.Node, i int) string {
	if pick, ok := n.Properties["ip_address"].(string); ok && i == 0 {
		return pick
	}
	return ""
}

// hostname is what an instance is called, by the naming rule of its site. A name against a strict rule is an error.
func (c *compiler) hostname(n *topology.Node, i int, at *placement.Choice) (string, error) {
	rule := c.estate.Site(at.Site).Naming
	name, err := naming.Name(rule, naming.Values{Deployment: c.plan.Name, Service: n.Service, Node: n.Name, Index: strconv.Itoa(i + 1), Site: at.Site, Zone: at.Zone})
	if err != nil {
		return "", fmt.Errorf("%s: %w", at.Site, err)
	}
	if !naming.Fits(rule, name) && !rule.Advisory {
		return "", fmt.Errorf("%s: the name %s is not one that %s takes: names there match %s", n.Pos, name, at.Site, rule.Pattern)
	}
	return name, nil
}

// keepAddresses holds what stands already for those that have it, before anything is handed out: what is new takes
// nothing from what is kept.
func (c *compiler) keepAddresses() {
	if c.like == nil {
		return
	}
	for i := range c.like.Resources {
		r := &c.like.Resources[i]
		if c.estate.Site(r.Site) == nil || !c.wants(r) {
			continue
		}
		switch r.Kind {
		case kinds.Interface:
			c.book(r.Site).Hold(r.ID, r.AsInterface().Address)
		case kinds.Network:
			c.book(r.Site).HoldVLAN(r.Node, r.AsNetwork().VLAN)
		}
	}
}

// wants reports that the design has what stands, at the site where it stands.
func (c *compiler) wants(r *Resource) bool {
	if r.Kind == kinds.Network {
		return r.Node == impliedNetwork || c.design.Node(r.Node) != nil
	}
	choice := c.placed.Choice(r.AsInterface().Instance)
	return choice != nil && choice.Site == r.Site
}
