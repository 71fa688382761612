package promise_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
)

// TestWhatOfAnAddressCannotBeLeased has each part of a lease be wrong, and named.
func TestWhatOfAnAddressCannotBeLeased(t *testing.T) {
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	right := promise.AddressLease{Site: "vega", Value: "10.0.0.4", For: "a printer", Until: now.Add(48 * time.Hour), Notice: []time.Duration{24 * time.Hour}, By: guard.Actor{Name: "ana"}, Since: now}
	assert.NoError(t, right.Check(now))
	assert.Equal(t, "10.0.0.4 at vega, for a printer, until 2026-12-02T12:00:00Z", right.Words())
	assert.False(t, right.Over(now))
	assert.True(t, right.Over(right.Until), "the end is the first moment after it")
	for _, value := range []string{"fd00::4", "vlan 1", "vlan 4094"} {
		l := right
		l.Value = value
		assert.NoError(t, l.Check(now), value)
	}
	for says, alter := range map[string]func(*promise.AddressLease){
		"site:":                func(l *promise.AddressLease) { l.Site = "" },
		"no address":           func(l *promise.AddressLease) { l.Value = "ten" },
		"no address and no VL": func(l *promise.AddressLease) { l.Value = "vlan 0" },
		`"vlan 4095"`:          func(l *promise.AddressLease) { l.Value = "vlan 4095" },
		`"vlan 07"`:            func(l *promise.AddressLease) { l.Value = "vlan 07" },
		`"FD00::4"`:            func(l *promise.AddressLease) { l.Value = "FD00::4" },
		"for:":                 func(l *promise.AddressLease) { l.For = " " },
		"at most 200":          func(l *promise.AddressLease) { l.For = strings.Repeat("x", 201) },
		"until:":               func(l *promise.AddressLease) { l.Until = now },
		"at most 10 times":     func(l *promise.AddressLease) { l.Notice = make([]time.Duration, 11) },
		"before the end":       func(l *promise.AddressLease) { l.Notice = []time.Duration{0} },
	} {
		l := right
		alter(&l)
		assert.ErrorContains(t, l.Check(now), says)
	}
}
