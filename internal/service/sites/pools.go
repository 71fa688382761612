package sites

import (
	"context"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/store"
)

const vlanPrefix = "vlan "

// ReservationsOf is what a plan takes of the pools of its sites.
func ReservationsOf(p *plan.Plan) []store.Reservation {
	var out []store.Reservation
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.AsNetwork().Existing != "" {
			continue
		}
		if r.Kind == kinds.Interface && r.AsInterface().Address != "" {
			out = append(out, store.Reservation{Site: r.Site, Value: r.AsInterface().Address})
		}
		if r.Kind == kinds.Network && r.AsNetwork().VLAN != "" {
			out = append(out, store.Reservation{Site: r.Site, Value: vlanPrefix + r.AsNetwork().VLAN})
		}
	}
	return out
}

// reserved marks what runs and leases have of an estate's pools as taken, so that no other plan is given it.
func (svc *Service) reserved(ctx context.Context, e *estate.Estate) error {
	held, err := svc.store.Reservations(ctx)
	if err != nil {
		return err
	}
	for _, r := range held {
		if s := e.Site(r.Site); s != nil {
			markTaken(s, r.Value)
		}
	}
	leased, err := svc.store.AddressLeases(ctx)
	if err != nil {
		return err
	}
	for _, l := range leased {
		if s := e.Site(l.Site); s != nil {
			markTaken(s, l.Value)
		}
	}
	return nil
}

func markTaken(s *estate.Site, value string) {
	if text, ok := strings.CutPrefix(value, vlanPrefix); ok {
		n, err := strconv.Atoi(text)
		for _, net := range s.Networks {
			if v := net.VLANs; err == nil && v != nil && n >= v.From && n <= v.To && !slices.Contains(v.Taken, n) {
				v.Taken = append(v.Taken, n)
			}
		}
		return
	}
	addr, err := netip.ParseAddr(value)
	for _, net := range s.Networks {
		for i := range net.Pools {
			if p := &net.Pools[i]; err == nil && p.Contains(addr) && !slices.Contains(p.Taken, value) {
				p.Taken = append(p.Taken, value)
			}
		}
	}
}

// UnmarkTaken makes an address or VLAN free again.
func UnmarkTaken(s *estate.Site, value string) {
	text, isVLAN := strings.CutPrefix(value, vlanPrefix)
	for _, net := range s.Networks {
		if n, err := strconv.Atoi(text); isVLAN && err == nil && net.VLANs != nil {
			net.VLANs.Taken = slices.DeleteFunc(net.VLANs.Taken, func(v int) bool { return v == n })
		}
		for i := range net.Pools {
			p := &net.Pools[i]
			p.Taken = slices.DeleteFunc(p.Taken, func(t string) bool { return t == value })
		}
	}
}
