package sites

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/address"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// LeaseAddress keeps an address of a site's pools, or a VLAN of its range ("vlan N", or "vlan" for the lowest free one), for something that is not deployed here. No
// plan is given it until it is returned, by somebody or at the end. Without a value it is the lowest free address.
func (svc *Service) LeaseAddress(ctx context.Context, l promise.AddressLease, now time.Time) (out promise.AddressLease, err error) {
	if err := svc.desk.Allow(ctx, guard.LeaseAddress, guard.At(l.Site)); err != nil {
		return l, err
	}
	if l.Value, err = svc.free(ctx, l.Site, l.Value); err != nil {
		return l, err
	}
	return svc.lease(ctx, l, false, now)
}

// ExtendAddress has the lease of an address end at another time.
func (svc *Service) ExtendAddress(ctx context.Context, site, value string, until, now time.Time) (promise.AddressLease, error) {
	if err := svc.desk.Allow(ctx, guard.LeaseAddress, guard.At(site)); err != nil {
		return promise.AddressLease{}, err
	}
	all, err := svc.store.AddressLeases(ctx)
	if err != nil {
		return promise.AddressLease{}, err
	}
	for _, l := range all {
		if l.Site == site && l.Value == value {
			l.Until = until
			return svc.lease(ctx, l, true, now)
		}
	}
	return promise.AddressLease{}, fault.NotFoundf("%s at %s is leased to nobody; andamio lease address list shows what is", value, site)
}

// lease keeps a lease, in the actor's name.
func (svc *Service) lease(ctx context.Context, l promise.AddressLease, again bool, now time.Time) (promise.AddressLease, error) {
	l.By, l.Since, l.Until = svc.desk.Actor, now.UTC(), l.Until.UTC()
	if err := l.Check(now); err != nil {
		return l, fault.Default(fault.Invalid, err)
	}
	err := svc.desk.Do(ctx, guard.LeaseAddress, guard.At(l.Site), func() error { return svc.store.LeaseAddress(ctx, l, again) }, acting.Saying("%s", l.Words()))
	if errors.Is(err, store.ErrTaken) {
		err = fault.Default(fault.Conflict, err)
	}
	return l, err
}

// free is what a site can lease by a value: that, or the lowest that is free.
func (svc *Service) free(ctx context.Context, site, value string) (string, error) {
	c, err := svc.workspace.Connection(site)
	if err != nil {
		return "", err
	}
	s, err := c.Describe(ctx)
	if err != nil {
		return "", fault.Default(fault.Unavailable, err)
	}
	b := address.NewBook(s)
	if err := svc.held(ctx, site, b); err != nil {
		return "", err
	}
	const who = "a lease"
	text, vlan := strings.CutPrefix(value, strings.TrimSpace(vlanPrefix))
	if !vlan {
		if !b.HasPools() {
			return "", fault.Refusedf("%s has no pools of addresses to lease from", site)
		}
		got, err := b.Address(who, "", value)
		return got, fault.Default(fault.Conflict, err)
	}
	if !b.HasVLANs() {
		return "", fault.Refusedf("%s has no range of VLANs to lease from", site)
	}
	n, err := strconv.Atoi(cmp.Or(strings.TrimSpace(text), "0"))
	if err != nil || n < 0 {
		return "", fault.Invalidf("%q is no VLAN, which is written as in %q", value, vlanPrefix+"12")
	}
	n, err = b.VLAN(who, n)
	return fmt.Sprint(vlanPrefix, n), fault.Default(fault.Conflict, err)
}

// held notes in a book who has what of a site's pools.
func (svc *Service) held(ctx context.Context, site string, b *address.Book) error {
	runs, err := svc.store.Reservations(ctx)
	if err != nil {
		return err
	}
	leases, err := svc.store.AddressLeases(ctx)
	if err != nil {
		return err
	}
	hold := func(at, value, who string) {
		switch text, vlan := strings.CutPrefix(value, vlanPrefix); {
		case at != site:
		case vlan:
			b.HoldVLAN(who, text)
		default:
			b.Hold(who, value)
		}
	}
	for _, r := range runs {
		hold(r.Site, r.Value, fmt.Sprintf("run %d", r.Run))
	}
	for _, l := range leases {
		hold(l.Site, l.Value, fmt.Sprintf("the lease for %s until %s", l.For, l.Until.Format(time.RFC3339)))
	}
	return nil
}

// ReturnAddress has a leased address be nobody's again.
func (svc *Service) ReturnAddress(ctx context.Context, site, value string) error {
	err := svc.desk.Do(ctx, guard.ReturnAddress, guard.At(site), func() error { return svc.store.ReturnAddress(ctx, site, value) }, acting.Saying("%s", value))
	return notLeased(err)
}

func notLeased(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return fault.Default(fault.NotFound, err)
	}
	return err
}

// AddressLeases are the leases of addresses and VLANs, by site and address.
func (svc *Service) AddressLeases(ctx context.Context) ([]promise.AddressLease, error) {
	all, err := svc.store.AddressLeases(ctx)
	if err != nil {
		return nil, err
	}
	out := []promise.AddressLease{}
	for _, l := range all {
		if svc.desk.See(ctx, guard.At(l.Site)) == nil {
			out = append(out, l)
		}
	}
	return out, nil
}

// AddressDue does what is due for the address of a subject, and says in a few words what came of it.
func (svc *Service) AddressDue(ctx context.Context, kind, subject string, now time.Time) (string, error) {
	all, err := svc.store.AddressLeases(ctx)
	if err != nil {
		return "", err
	}
	for _, l := range all {
		switch {
		case subject != l.Subject() && !strings.HasPrefix(subject, l.Subject()+","):
		case kind == promise.DueAddressEnd && l.Over(now):
			return "it is free again", notLeased(svc.store.ReturnAddress(ctx, l.Site, l.Value))
		default:
			return "it ends " + l.Until.Format(time.RFC3339), nil
		}
	}
	return "it was returned before", nil
}
