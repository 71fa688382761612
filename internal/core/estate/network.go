package estate

import (
	"fmt"
	"net/netip"
)

// Network is a network of the site that instances' addresses come from. VLANs is the range of virtual networks that may
// be made on it.
type Network struct {
	Name  string     `json:"name"`
	Pools []Pool     `json:"pools,omitempty"`
	VLANs *VLANRange `json:"vlans,omitempty"`
}

// Pool is a range of addresses, both ends included. Taken are those in use, or kept from use.
type Pool struct {
	From  string   `json:"from"`
	To    string   `json:"to"`
	Taken []string `json:"taken,omitempty"`
}

// VLANRange is a range of VLAN numbers (IEEE 802.1Q: 1 to 4094), both ends included, with those in use.
type VLANRange struct {
	From  int   `json:"from"`
	To    int   `json:"to"`
	Taken []int `json:"taken,omitempty"`
}

// Size is how many addresses the pool has.
func (p Pool) Size() int {
	from, errFrom := netip.ParseAddr(p.From)
	to, errTo := netip.ParseAddr(p.To)
	if errFrom != nil || errTo != nil || !from.Is4() || !to.Is4() || to.Less(from) {
		return 0
	}
	return int(number(to)-number(from)) + 1
}

func number(a netip.Addr) uint32 {
	b := a.As4()
	return uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
}

// Contains reports whether an address lies in the pool.
func (p Pool) Contains(a netip.Addr) bool {
	return p.Size() > 0 && !a.Less(netip.MustParseAddr(p.From)) && !netip.MustParseAddr(p.To).Less(a)
}

// Free is how many of the pool's addresses are left.
func (p Pool) Free() int { return p.Size() - len(p.Taken) }

// Addresses counts the free and all addresses of the site's pools; all is 0 where it has none, which limits nothing.
func (s *Site) Addresses() (free, all int) {
	for _, n := range s.Networks {
		for _, p := range n.Pools {
			free += p.Free()
			all += p.Size()
		}
	}
	return free, all
}

// VLANs counts the free and all VLAN numbers of the site.
func (s *Site) VLANs() (free, all int) {
	for _, n := range s.Networks {
		if n.VLANs != nil {
			all += n.VLANs.To - n.VLANs.From + 1
			free += n.VLANs.To - n.VLANs.From + 1 - len(n.VLANs.Taken)
		}
	}
	return free, all
}

func (n Network) check(at string) []error {
	var errs []error
	for i, p := range n.Pools {
		where := fmt.Sprintf("%s.pools[%d]", at, i)
		if p.Size() == 0 {
			errs = append(errs, fmt.Errorf("%s: %q to %q is no range of IPv4 addresses", where, p.From, p.To))
			continue
		}
		from, to := netip.MustParseAddr(p.From), netip.MustParseAddr(p.To)
		seen := map[string]bool{}
		for _, x := range p.Taken {
			a, err := netip.ParseAddr(x)
			if err != nil || a.Less(from) || to.Less(a) || seen[x] {
				errs = append(errs, fmt.Errorf("%s.taken: %q is not in the pool, or stands there twice", where, x))
			}
			seen[x] = true
		}
	}
	if v := n.VLANs; v != nil && (v.From < 1 || v.To > 4094 || v.To < v.From) {
		errs = append(errs, fmt.Errorf("%s.vlans: %d to %d is no range within 1 to 4094", at, v.From, v.To))
	}
	return errs
}
