package app

import (
	"context"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

const vlanPrefix = "vlan "

// reservationsOf is what a plan takes of the pools of its sites.
func reservationsOf(p *plan.Plan) []store.Reservation {
	var out []store.Reservation
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Spec.Existing != "" {
			continue
		}
		if r.Kind == kinds.Interface && r.Spec.Address != "" {
			out = append(out, store.Reservation{Site: r.Site, Value: r.Spec.Address})
		}
		if r.Kind == kinds.Network && r.Spec.VLAN != "" {
			out = append(out, store.Reservation{Site: r.Site, Value: vlanPrefix + r.Spec.VLAN})
		}
	}
	return out
}

// reserved marks what runs have of an estate's pools as taken, so that no other plan is given it.
func (a *App) reserved(ctx context.Context, e *estate.Estate) error {
	if a.store == nil {
		return nil
	}
	held, err := a.store.Reservations(ctx)
	if err != nil {
		return err
	}
	for _, r := range held {
		if s := e.Site(r.Site); s != nil {
			markTaken(s, r.Value)
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

// unmarkTaken makes an address or VLAN free again.
func unmarkTaken(s *estate.Site, value string) {
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

// Release gives back the addresses and VLANs that a run has, and says how many. A run under way keeps them.
func (a *App) Release(ctx context.Context, id int64) (out int64, err error) {
	err = a.do(ctx, guard.GiveBack, theRun(id), func() (err error) {
		out, err = a.release(ctx, id)
		return err
	}, aboutRun(id))
	return out, err
}

func (a *App) release(ctx context.Context, id int64) (int64, error) {
	r, err := a.store.Run(ctx, id)
	if err != nil {
		return 0, err
	}
	if r.State == run.UnderWay || r.State == run.Standing {
		return 0, fault.Conflictf("run %d is %s: what it has is in use", id, r.State)
	}
	return a.store.Release(ctx, id)
}
