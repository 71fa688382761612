package libvirt

import (
	"context"
	"fmt"
	"net/netip"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"andamio/internal/site"
)

// Networks have one range at all hosts of a site, and no two machines may have one address, whichever hosts they are at. So addresses are kept at the first host,
// where they are given out one after another, and at the machine's own, which tells its machine.

// reserve keeps an address of a network for a hardware address: the one that is asked for, or the lowest that nobody has at any host.
func (h *host) reserve(ctx context.Context, l *libvirt.Libvirt, n *subnet, network, mac, want string) (string, error) {
	if h.first != h {
		agreed, err := told(ctx, h.first, "keep an address", func(_ context.Context, l *libvirt.Libvirt) (string, error) {
			n, err := netOf(l, network)
			if absent(err) {
				return want, nil // a network of that one host, which is not ours
			} else if err != nil {
				return "", err
			}
			return h.first.keepAddress(l, n, mac, want)
		})
		if err != nil {
			return "", err
		}
		want = agreed
	}
	return h.keepAddress(l, n, mac, want)
}

// keepAddress keeps an address at a host.
func (h *host) keepAddress(l *libvirt.Libvirt, n *subnet, mac, want string) (string, error) {
	refused := func(format string, args ...any) error {
		return &site.Error{Site: h.site, Doing: "keep an address", Class: site.Refused, Detail: fmt.Sprintf(format, args...)}
	}
	for {
		kept := n.reserved()
		if has := kept[mac]; has != "" {
			return has, nil
		}
		cidr, has := n.cidr()
		if !has {
			return "", refused("%s hands out no addresses", n.Name)
		}
		address, err := choose(cidr, kept, want)
		if err != nil {
			return "", refused("%v in %s", err, n.Name)
		}
		entry := libvirtxml.NetworkDHCPHost{MAC: mac, IP: address}
		text, err := entry.Marshal()
		if err != nil {
			return "", err
		}
		err = update(l, n.Network, libvirt.NetworkUpdateCommandAddLast, text)
		if err == nil {
			return address, nil
		}
		if !is(err, libvirt.ErrOperationInvalid) {
			return "", err
		}
		before := len(kept) // somebody else was quicker: look again
		if err := n.describe(l); err != nil {
			return "", err
		}
		if len(n.reserved()) <= before {
			return "", refused("%s cannot be kept", address)
		}
	}
}

// choose is an address that nobody has; the first of a network is its host's.
func choose(cidr netip.Prefix, kept map[string]string, want string) (string, error) {
	taken := map[string]bool{}
	for _, a := range kept {
		taken[a] = true
	}
	low, high := ends(cidr)
	if want != "" {
		a, err := netip.ParseAddr(want)
		switch {
		case err != nil || !cidr.Contains(a) || a.Compare(low) <= 0 || a.Compare(high) > 0:
			return "", fmt.Errorf("%s is no address that a machine can have", want)
		case taken[a.String()]:
			return "", fmt.Errorf("%s is somebody else's", want)
		}
		return a.String(), nil
	}
	for a := low.Next(); a.Compare(high) <= 0; a = a.Next() {
		if !taken[a.String()] {
			return a.String(), nil
		}
	}
	return "", fmt.Errorf("no address is left")
}

// unreserve gives back the address that is kept for a hardware address. Where the first host does not answer it stays kept there until the network goes: that
// one is silent keeps nobody from taking something away at another.
func (h *host) unreserve(ctx context.Context, l *libvirt.Libvirt, network, mac string) error {
	if err := giveBack(l, network, mac); err != nil || h.first == h {
		return err
	}
	err := h.first.call(ctx, "give back an address", func(_ context.Context, l *libvirt.Libvirt) error { return giveBack(l, network, mac) })
	if site.ClassOf(err) == site.Transient {
		return nil
	}
	return err
}

// giveBack gives an address back at a host.
func giveBack(l *libvirt.Libvirt, network, mac string) error {
	n, err := netOf(l, network)
	if err != nil {
		return gone(err)
	}
	address := n.reserved()[mac]
	if address == "" {
		return nil
	}
	entry := libvirtxml.NetworkDHCPHost{MAC: mac, IP: address}
	text, err := entry.Marshal()
	if err != nil {
		return err
	}
	return update(l, n.Network, libvirt.NetworkUpdateCommandDelete, text)
}

// update changes what a network hands out, for every start from now on and, where it is on, for now: somebody may have switched it off.
func update(l *libvirt.Libvirt, n libvirt.Network, how libvirt.NetworkUpdateCommand, entry string) error {
	on, err := l.NetworkIsActive(n)
	if err != nil {
		return err
	}
	to := libvirt.NetworkUpdateAffectConfig
	if on == 1 {
		to |= libvirt.NetworkUpdateAffectLive
	}
	return l.NetworkUpdateCompat(n, how, libvirt.NetworkSectionIPDhcpHost, -1, entry, to)
}
