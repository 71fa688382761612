package storetest

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/store"
)

// anAddressIsLeasedOnce holds that an address is a run's or a lease's and never both, that what is due goes with its lease, and that another of a name that begins alike stays.
func anAddressIsLeasedOnce(t *testing.T, open Opener) {
	name := fresh(t)
	s := open(t, name)
	ana := guard.Actor{Name: "ana", Way: guard.Command}
	one := promise.AddressLease{Site: "hall", Value: "10.0.0.4", For: "a printer", Until: noon.AddDate(0, 0, 30), Notice: []time.Duration{24 * time.Hour, 7 * 24 * time.Hour}, By: ana, Since: noon}
	like := one
	like.Value, like.Notice = "10.0.0.40", nil
	vlan := promise.AddressLease{Site: "dam", Value: "vlan 7", For: "a recorder", Until: noon.Add(time.Hour), By: ana, Since: noon}
	for _, l := range []promise.AddressLease{one, like, vlan} {
		require.NoError(t, s.LeaseAddress(ctx, l, false))
	}
	err := s.LeaseAddress(ctx, one, false)
	require.ErrorIs(t, err, store.ErrTaken)
	assert.ErrorContains(t, err, "10.0.0.4 at hall, for a printer, until")
	run := newRun(t, s)
	err = s.Reserve(ctx, run, []store.Reservation{{Site: "hall", Value: "10.0.0.5"}, {Site: "dam", Value: "vlan 7"}})
	require.ErrorContains(t, err, "vlan 7 at dam, for a recorder")
	held, err := s.Reservations(ctx)
	require.NoError(t, err)
	assert.Empty(t, held, "all or nothing")
	require.NoError(t, s.Reserve(ctx, run, []store.Reservation{{Site: "hall", Value: "10.0.0.5"}, {Site: "dam", Value: "10.0.0.4"}}))
	taken := one
	taken.Value = "10.0.0.5"
	require.ErrorIs(t, s.LeaseAddress(ctx, taken, false), store.ErrTaken)
	assert.ErrorContains(t, s.LeaseAddress(ctx, taken, false), "held by run")
	due := func() map[string]time.Time {
		all, err := s.Dues(ctx)
		require.NoError(t, err)
		out := map[string]time.Time{}
		for _, d := range all {
			assert.Equal(t, "ana", d.By.Name)
			out[d.Kind+" "+d.Subject] = d.Start.UTC()
		}
		return out
	}
	assert.Equal(t, map[string]time.Time{"end of address hall 10.0.0.4": one.Until, "notice of address hall 10.0.0.4, 1d before": one.Until.Add(-24 * time.Hour),
		"notice of address hall 10.0.0.4, 7d before": one.Until.Add(-7 * 24 * time.Hour), "end of address hall 10.0.0.40": like.Until, "end of address dam vlan 7": vlan.Until}, due())
	later := one
	later.Until, later.Notice = noon.AddDate(0, 0, 60), []time.Duration{24 * time.Hour}
	require.NoError(t, s.LeaseAddress(ctx, later, true))
	assert.Equal(t, later.Until, due()["end of address hall 10.0.0.4"])
	assert.Len(t, due(), 4)
	gone := one
	gone.Site = "nowhere"
	require.ErrorIs(t, s.LeaseAddress(ctx, gone, true), store.ErrNotFound)
	s = open(t, name)
	all, err := s.AddressLeases(ctx)
	require.NoError(t, err)
	assert.Equal(t, []promise.AddressLease{vlan, later, like}, all)
	require.NoError(t, s.ReturnAddress(ctx, "hall", "10.0.0.4"))
	require.ErrorIs(t, s.ReturnAddress(ctx, "hall", "10.0.0.4"), store.ErrNotFound)
	assert.Equal(t, map[string]time.Time{"end of address hall 10.0.0.40": like.Until, "end of address dam vlan 7": vlan.Until}, due())
	require.NoError(t, s.Reserve(ctx, run, []store.Reservation{{Site: "hall", Value: "10.0.0.4"}}), "it is free again")
}
