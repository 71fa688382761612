package libvirt

import (
	"context"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

var _ site.Releaser = (*Driver)(nil)

// Release gives up the address of an interface whose machine is off: nobody else is given it, since its host entry stays. What comes there is
// answered by nobody, and led nowhere: no machine is suspended here.
func (d *Driver) Release(ctx context.Context, iface string, lead map[string]string) error {
	const doing = "release interface"
	if len(lead) > 0 {
		return d.fail(site.Refused, doing, "what comes to %s cannot be led elsewhere", iface)
	}
	_, err := d.rested(ctx, doing, iface)
	return err
}

// reclaim has back what was given up of an interface: it never was anybody else's.
func (d *Driver) reclaim(ctx context.Context, iface string) (site.Resource, error) {
	return d.rested(ctx, site.ActReclaim, iface)
}

// rested is an interface whose machine is off.
func (d *Driver) rested(ctx context.Context, doing, iface string) (site.Resource, error) {
	return first(d, kinds.Interface, iface, func(h *host) (site.Resource, error) {
		link, err := h.link(ctx, kinds.Interface, iface)
		if err != nil {
			return link, err
		}
		machine, err := h.instance(ctx, d, link.Details.Source)
		if err == nil && machine.State != site.Stopped {
			err = d.fail(site.Conflict, doing, "%s is %s: its interface is in use", machine.Name, machine.Word)
		}
		return link, err
	})
}
