// Package address hands out addresses and VLAN numbers of the sites' pools: automatically the lowest that is free, or one
// that was picked; never one twice.
//
// In goes a site with its pools and what is taken of them; out come addresses and numbers, or an error that says who has the
// one that was asked for. Addresses are IPv4 (RFC 791), VLAN numbers those of IEEE 802.1Q.
package address

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"

	"andamio/internal/core/estate"
)

// Book is what has been handed out at one site.
type Book struct {
	site  *estate.Site
	holds map[string]string // by address or "vlan N": who holds it
}

// taken is the holder of what the site says is in use.
const taken = "something at the site"

// NewBook begins with what the site says is taken.
func NewBook(s *estate.Site) *Book {
	b := &Book{s, map[string]string{}}
	for _, n := range s.Networks {
		for _, p := range n.Pools {
			for _, a := range p.Taken {
				b.holds[a] = taken
			}
		}
		if n.VLANs != nil {
			for _, v := range n.VLANs.Taken {
				b.holds[vlanKey(v)] = taken
			}
		}
	}
	return b
}

func vlanKey(n int) string { return fmt.Sprintf("vlan %d", n) }

// HasPools reports whether the site has addresses to hand out, HasVLANs whether it has VLAN numbers.
func (b *Book) HasPools() bool { _, all := b.site.Addresses(); return all > 0 }
func (b *Book) HasVLANs() bool { _, all := b.site.VLANs(); return all > 0 }

// Hold keeps an address for who has it already, if nobody else has.
func (b *Book) Hold(who, address string) {
	if a, err := netip.ParseAddr(address); err == nil && b.holds[a.String()] == "" {
		b.holds[a.String()] = who
	}
}

// HoldVLAN keeps a VLAN number for who has it already, if nobody else has.
func (b *Book) HoldVLAN(who, vlan string) {
	if n, err := strconv.Atoi(vlan); err == nil && b.holds[vlanKey(n)] == "" {
		b.holds[vlanKey(n)] = who
	}
}

// Address hands an address out to who. pick, if not empty, is the one that is wanted; otherwise it is the lowest free one,
// of those within a network (CIDR notation, RFC 4632) if any pool lies within it.
func (b *Book) Address(who, within, pick string) (string, error) {
	if pick != "" {
		return b.picked(who, pick)
	}
	net, err := netip.ParsePrefix(within)
	if within == "" || err != nil || !b.meets(net) {
		net = netip.Prefix{}
	}
	for _, n := range b.site.Networks {
		for _, p := range n.Pools {
			if a := b.lowest(p, net); a != "" {
				b.holds[a] = who
				return a, nil
			}
		}
	}
	return "", fmt.Errorf("%s has no address left for %s; give one back, or add a pool", b.site.Name, who)
}

// meets reports whether any pool has an address within a network.
func (b *Book) meets(net netip.Prefix) bool {
	for _, n := range b.site.Networks {
		for _, p := range n.Pools {
			if p.Size() > 0 && (net.Contains(netip.MustParseAddr(p.From)) || net.Contains(netip.MustParseAddr(p.To)) || p.Contains(net.Masked().Addr())) {
				return true
			}
		}
	}
	return false
}

func (b *Book) lowest(p estate.Pool, net netip.Prefix) string {
	if p.Size() == 0 {
		return ""
	}
	a := netip.MustParseAddr(p.From)
	for range p.Size() {
		if b.holds[a.String()] == "" && (!net.IsValid() || net.Contains(a) && a != net.Masked().Addr()) {
			return a.String()
		}
		a = a.Next()
	}
	return ""
}

func (b *Book) picked(who, pick string) (string, error) {
	a, err := netip.ParseAddr(pick)
	if err != nil {
		return "", fmt.Errorf("%s asks for %q, which is no address", who, pick)
	}
	if holder := b.holds[a.String()]; holder != "" && holder != who {
		return "", fmt.Errorf("%s asks for %s at %s, which %s has; pick another, or none for the lowest free one", who, a, b.site.Name, holder)
	}
	in := slices.ContainsFunc(b.site.Networks, func(n estate.Network) bool {
		return slices.ContainsFunc(n.Pools, func(p estate.Pool) bool { return p.Contains(a) })
	})
	if b.HasPools() && !in {
		return "", fmt.Errorf("%s asks for %s, which is in no pool of %s", who, a, b.site.Name)
	}
	b.holds[a.String()] = who
	return a.String(), nil
}

// VLAN hands a VLAN number out to who: pick, or the lowest free one if pick is 0.
func (b *Book) VLAN(who string, pick int) (int, error) {
	for _, n := range b.site.Networks {
		if n.VLANs == nil {
			continue
		}
		for v := max(n.VLANs.From, pick); v <= n.VLANs.To; v++ {
			if holder := b.holds[vlanKey(v)]; holder == "" || holder == who && v == pick {
				b.holds[vlanKey(v)] = who
				return v, nil
			}
			if v == pick {
				return 0, fmt.Errorf("%s asks for VLAN %d at %s, which %s has; pick another, or none for the lowest free one", who, pick, b.site.Name, b.holds[vlanKey(v)])
			}
		}
	}
	if pick > 0 {
		return 0, fmt.Errorf("%s asks for VLAN %d, which is in no range of %s", who, pick, b.site.Name)
	}
	return 0, fmt.Errorf("%s has no VLAN left for %s", b.site.Name, who)
}
