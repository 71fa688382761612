package libvirt

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"

	"github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
	"libvirt.org/go/libvirtxml"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// createNetwork makes a network at every host of the site, under one id. Machines reach the outside through their host, and are reached
// from it at their own addresses.
func (d *Driver) createNetwork(ctx context.Context, r site.Request) (site.Resource, error) {
	if r.VLAN != "" && r.VLAN != "0" {
		return site.Resource{}, d.fail(site.Refused, "create network "+r.Name, "VLANs are not made at hosts with libvirt: leave the number out")
	}
	id := d.idOf(r)
	var err error
	for _, cidr := range ranges(id, r.CIDR) {
		if err = d.makeNetwork(ctx, id, cidr, r); site.ClassOf(err) != site.Conflict || err == nil {
			break // it is there, or another range does not help
		}
	}
	if err != nil {
		return site.Resource{}, err
	}
	return d.hosts[0].network(ctx, id)
}

// ranges are those that a network may have: the one that is asked for, or some that nobody else is likely to have.
func ranges(id, want string) []string {
	if want != "" {
		return []string{want}
	}
	sum := sha256.Sum256([]byte(id))
	var out []string
	for i := 0; i+1 < len(sum); i += 2 {
		out = append(out, fmt.Sprintf("10.%d.%d.0/24", 16+sum[i]%224, sum[i+1]))
	}
	return out
}

// makeNetwork makes a network at every host. Where one of them cannot, it is at none.
func (d *Driver) makeNetwork(ctx context.Context, id, cidr string, r site.Request) error {
	def, err := networkAs(id, cidr, r)
	if err != nil {
		return d.fail(site.Refused, "create network "+r.Name, "%v", err)
	}
	for i, h := range d.hosts {
		if err := h.makeNetwork(ctx, id, r.Name, def); err != nil {
			if i > 0 {
				_ = d.deleteNetwork(ctx, id)
			}
			return err
		}
	}
	return nil
}

func (h *host) makeNetwork(ctx context.Context, id, name, def string) error {
	return h.call(ctx, "create network "+name, func(ctx context.Context, l *libvirt.Libvirt) error {
		u, err := uuidOf(id)
		if err != nil {
			return err
		}
		n, err := l.NetworkLookupByUUID(u)
		if absent(err) {
			n, err = l.NetworkDefineXML(def)
		}
		if err != nil {
			return err
		}
		on, err := l.NetworkIsActive(n)
		if err != nil || on == 1 {
			return err
		}
		if err := l.NetworkCreate(n); err != nil {
			_ = l.NetworkUndefine(n) // what cannot be switched on is not left there
			return err
		}
		return l.NetworkSetAutostart(n, 1)
	})
}

// networkAs is the definition of a network: its first address is the host's, the others are handed out.
func networkAs(id, text string, r site.Request) (string, error) {
	cidr, err := netip.ParsePrefix(text)
	if err != nil || !cidr.Addr().Is4() || cidr.Bits() > 29 {
		return "", fmt.Errorf("%q is no range of IPv4 addresses of at least eight", text)
	}
	first, last := ends(cidr)
	def := libvirtxml.Network{Name: libvirtName(r.Name, id), UUID: id, Metadata: &libvirtxml.NetworkMetadata{XML: mark{Name: r.Name, Mark: r.Mark}.text(Namespace)},
		Forward: &libvirtxml.NetworkForward{Mode: "nat"}, Bridge: &libvirtxml.NetworkBridge{STP: "off", Delay: "0"},
		IPs: []libvirtxml.NetworkIP{{Address: first.String(), Prefix: uint(cidr.Bits()), DHCP: &libvirtxml.NetworkDHCP{
			Ranges: []libvirtxml.NetworkDHCPRange{{Start: first.Next().String(), End: last.String()}}}}}}
	return def.Marshal()
}

// ends are the first and last addresses of a range that hosts can have.
func ends(cidr netip.Prefix) (first, last netip.Addr) {
	base := cidr.Masked().Addr()
	b := base.As4()
	n := binary.BigEndian.Uint32(b[:]) + 1<<(32-cidr.Bits()) - 2
	var top [4]byte
	binary.BigEndian.PutUint32(top[:], n)
	return base.Next(), netip.AddrFrom4(top)
}

// subnet is a network as its host describes it.
type subnet struct {
	libvirt.Network
	def libvirtxml.Network
	own mark
	on  bool
	// leases are the addresses that machines were given, by hardware address, where somebody asked for them.
	leases map[string]string
}

// netOf is one network.
func netOf(l *libvirt.Libvirt, id string) (*subnet, error) {
	u, err := uuidOf(id)
	if err != nil {
		return nil, libvirt.Error{Code: uint32(libvirt.ErrNoNetwork), Message: "this is no id of a network"}
	}
	of, err := l.NetworkLookupByUUID(u)
	if err != nil {
		return nil, err
	}
	n := &subnet{Network: of}
	return n, n.describe(l)
}

func (n *subnet) describe(l *libvirt.Libvirt) error {
	text, err := l.NetworkGetXMLDesc(n.Network, 0)
	if err != nil {
		return err
	}
	if err := n.def.Unmarshal(text); err != nil {
		return fmt.Errorf("%w: %w", errUnread, err)
	}
	if n.def.Metadata != nil {
		n.own = marksIn(n.def.Metadata.XML)[""]
	}
	on, err := l.NetworkIsActive(n.Network)
	n.on = on == 1
	return err
}

// lease asks which addresses were given to whom.
func (n *subnet) lease(l *libvirt.Libvirt) error {
	if !n.on {
		return nil
	}
	all, _, err := l.NetworkGetDhcpLeases(n.Network, nil, 1, 0)
	n.leases = map[string]string{}
	for _, lease := range all {
		for _, mac := range lease.Mac {
			n.leases[strings.ToLower(mac)] = lease.Ipaddr
		}
	}
	return gone(err)
}

func (n *subnet) id() string { return uuid.UUID(n.UUID).String() }

// cidr is the range of the network's addresses.
func (n *subnet) cidr() (netip.Prefix, bool) {
	for _, ip := range n.def.IPs {
		if a, err := netip.ParseAddr(ip.Address); err == nil && a.Is4() && ip.Prefix > 0 {
			return netip.PrefixFrom(a, int(ip.Prefix)).Masked(), true
		}
	}
	return netip.Prefix{}, false
}

// reserved are the addresses of the network that are kept for somebody, by hardware address in small letters.
func (n *subnet) reserved() map[string]string {
	out := map[string]string{}
	for _, ip := range n.def.IPs {
		if ip.DHCP == nil {
			continue
		}
		for _, r := range ip.DHCP.Hosts {
			out[strings.ToLower(r.MAC)] = r.IP
		}
	}
	return out
}

func (h *host) network(ctx context.Context, id string) (site.Resource, error) {
	return told(ctx, h, "read network", func(_ context.Context, l *libvirt.Libvirt) (site.Resource, error) {
		n, err := netOf(l, id)
		if err != nil {
			return site.Resource{}, err
		}
		return h.networkAs(n), nil
	})
}

func (h *host) networks(ctx context.Context) ([]site.Resource, error) {
	return told(ctx, h, "list network", func(_ context.Context, l *libvirt.Libvirt) ([]site.Resource, error) {
		all, _, err := l.ConnectListAllNetworks(1, 0)
		if err != nil {
			return nil, err
		}
		var out []site.Resource
		for _, of := range all {
			n := &subnet{Network: of}
			if err := n.describe(l); absent(err) {
				continue
			} else if err != nil {
				return nil, err
			}
			out = append(out, h.networkAs(n))
		}
		return out, nil
	})
}

func (h *host) networkAs(n *subnet) site.Resource {
	r := site.Resource{Kind: kinds.Network, ID: n.id(), Name: classOr(n.own.Name, n.Name), Mark: n.own.Mark, State: site.Active, Word: "active", Attributes: map[string]string{},
		Details: &site.Details{Type: "network", Region: h.name, Raw: map[string]string{"name": n.Name}}}
	if !n.on {
		r.State, r.Word = site.Stopped, "inactive"
	}
	if cidr, has := n.cidr(); has {
		r.Details.Raw["cidr"] = cidr.String()
	}
	if n.def.Bridge != nil {
		r.Details.Raw["bridge"] = n.def.Bridge.Name
	}
	if n.def.Forward != nil {
		r.Details.Raw["forward"] = n.def.Forward.Mode
	}
	for _, t := range n.own.Tags {
		r.Details.Raw["tag."+t.Name] = t.Value
	}
	return r
}

// changeNetwork renames or tags a network: it is defined anew, and goes on meanwhile.
func (h *host) changeNetwork(ctx context.Context, id string, r site.Request) (site.Resource, error) {
	err := h.call(ctx, "change network", func(ctx context.Context, l *libvirt.Libvirt) error {
		n, err := netOf(l, id)
		if err != nil {
			return err
		}
		n.own.Name = classOr(r.Rename, classOr(n.own.Name, n.Name))
		n.own.retag(r.Tags)
		n.def.Metadata = &libvirtxml.NetworkMetadata{XML: n.own.text(Namespace)}
		text, err := n.def.Marshal()
		if err != nil {
			return err
		}
		_, err = l.NetworkDefineXML(text)
		return err
	})
	if err != nil {
		return site.Resource{}, err
	}
	return h.network(ctx, id)
}

// deleteNetwork removes a network from every host, if no machine is on it at any.
func (d *Driver) deleteNetwork(ctx context.Context, id string) error {
	there := 0
	for _, h := range d.hosts {
		err := h.call(ctx, "delete network", func(ctx context.Context, l *libvirt.Libvirt) error { return h.unused(l, id) })
		if err == nil {
			there++
		} else if site.ClassOf(err) != site.NotFound {
			return err
		}
	}
	if there == 0 {
		return d.missing(kinds.Network, id)
	}
	for _, h := range d.hosts {
		err := h.call(ctx, "delete network", func(ctx context.Context, l *libvirt.Libvirt) error {
			n, err := netOf(l, id)
			if err != nil {
				return err
			}
			if n.on {
				if err := l.NetworkDestroy(n.Network); err != nil && !is(err, libvirt.ErrOperationInvalid) {
					return err
				}
			}
			return l.NetworkUndefine(n.Network)
		})
		if err != nil && site.ClassOf(err) != site.NotFound {
			return err
		}
	}
	return nil
}

// unused holds that no machine of the host is on a network.
func (h *host) unused(l *libvirt.Libvirt, id string) error {
	n, err := netOf(l, id)
	if err != nil {
		return err
	}
	all, err := h.domains(l)
	if err != nil {
		return err
	}
	for i := range all {
		for _, nic := range all[i].nics() {
			if nic.Source != nil && nic.Source.Network != nil && nic.Source.Network.Network == n.Name {
				return &site.Error{Site: h.site, Doing: "delete network", Class: site.Conflict, Detail: all[i].title() + " is on it"}
			}
		}
	}
	return nil
}
