package app

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/promise"
)

// TestALeasedAddressIsGivenToNobodyElse leases what plans would be given, and looks that they are given other addresses until it is returned, by hand or at the end.
func TestALeasedAddressIsGivenToNobodyElse(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	now := time.Now()
	lease := func(site, value string) (promise.AddressLease, error) {
		return a.LeaseAddress(ctx, promise.AddressLease{Site: site, Value: value, For: "the old recorder", Until: now.Add(time.Hour)}, now)
	}
	first, err := lease("vega", "")
	require.NoError(t, err)
	second, err := lease("vega", "")
	require.NoError(t, err)
	assert.NotEqual(t, first.Value, second.Value)
	vlan, err := lease("vega", "vlan")
	require.NoError(t, err)
	assert.Contains(t, vlan.Value, "vlan ")
	for _, c := range []struct {
		site, value string
		code        fault.Code
		says        string
	}{
		{"vega", first.Value, fault.Conflict, "the lease for the old recorder until"}, {"vega", vlan.Value, fault.Conflict, "the lease for the old recorder"},
		{"vega", "192.0.2.1", fault.Conflict, "is in no pool of vega"}, {"vega", "ten", fault.Conflict, "which is no address"}, {"vega", "vlan x", fault.Invalid, "is no VLAN"},
		{"nowhere", "", fault.NotFound, "nowhere"}, {"presa", "vlan", fault.Refused, "no range of VLANs"},
	} {
		_, err := lease(c.site, c.value)
		assert.ErrorContains(t, err, c.says)
		assert.Equal(t, c.code, fault.CodeOf(err), "%v", err)
	}
	_, err = a.LeaseAddress(ctx, promise.AddressLease{Site: "vega", For: "x", Until: now.Add(-time.Hour)}, now)
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))

	planned := draft(t, a, nil).Plan
	for i := range planned.Resources {
		r := &planned.Resources[i]
		if r.Site == "vega" {
			assert.NotContains(t, []string{first.Value, second.Value}, r.AsInterface().Address)
			assert.NotEqual(t, vlan.Value, "vlan "+r.AsNetwork().VLAN)
		}
	}
	later, err := a.ExtendAddress(ctx, "vega", second.Value, now.Add(48*time.Hour), now)
	require.NoError(t, err)
	assert.Equal(t, now.Add(48*time.Hour).UTC(), later.Until)
	_, err = a.ExtendAddress(ctx, "vega", "192.0.2.1", now.Add(time.Hour), now)
	assert.Equal(t, fault.NotFound, fault.CodeOf(err))
	for _, want := range []struct {
		l    promise.AddressLease
		says string
	}{{first, "it is free again"}, {first, "it was returned before"}, {second, "it ends "}} {
		note, err := a.AddressDue(ctx, promise.DueAddressEnd, want.l.Subject(), now.Add(time.Hour))
		require.NoError(t, err)
		assert.Contains(t, note, want.says)
	}
	note, err := a.AddressDue(ctx, promise.DueAddressNotice, second.Subject()+", 1d before", now.Add(time.Hour))
	require.NoError(t, err)
	assert.Contains(t, note, "it ends ")
	require.NoError(t, a.ReturnAddress(ctx, "vega", vlan.Value))
	assert.Equal(t, fault.NotFound, fault.CodeOf(a.ReturnAddress(ctx, "vega", vlan.Value)))
	left, err := a.AddressLeases(ctx)
	require.NoError(t, err)
	assert.Equal(t, []promise.AddressLease{later}, left)
	again, err := lease("vega", "")
	require.NoError(t, err)
	assert.Equal(t, first.Value, again.Value, "the lowest that is free")
	require.NoError(t, a.Disconnect(ctx, "vega"))
	left, err = a.AddressLeases(ctx)
	require.NoError(t, err)
	assert.Empty(t, left, "a site that is gone has no addresses")
}
