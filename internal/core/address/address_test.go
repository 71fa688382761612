package address

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/estate"
)

func hall() *estate.Site {
	return &estate.Site{Name: "hall", Networks: []estate.Network{{Name: "lan", Pools: []estate.Pool{{From: "10.0.0.2", To: "10.0.0.4", Taken: []string{"10.0.0.2"}},
		{From: "10.0.7.255", To: "10.0.8.2"}}, VLANs: &estate.VLANRange{From: 7, To: 9, Taken: []int{8}}}}}
}

func TestAddressesAreHandedOutOnce(t *testing.T) {
	b := NewBook(hall())
	for _, want := range []string{"10.0.0.3", "10.0.0.4", "10.0.7.255", "10.0.8.0", "10.0.8.1", "10.0.8.2"} {
		got, err := b.Address("a", "", "")
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := b.Address("late", "", "")
	assert.ErrorContains(t, err, "hall has no address left for late")
}

func TestAddressesWithinANetworkAndPickedOnes(t *testing.T) {
	b := NewBook(hall())
	got, err := b.Address("a", "10.0.8.0/24", "")
	require.NoError(t, err)
	assert.Equal(t, "10.0.8.1", got, "the network's own address is left")
	got, err = b.Address("b", "192.168.0.0/24", "")
	require.NoError(t, err)
	assert.Equal(t, "10.0.0.3", got, "no pool lies in that network")
	got, err = b.Address("c", "", "10.0.0.4")
	require.NoError(t, err)
	assert.Equal(t, "10.0.0.4", got)
	for pick, says := range map[string]string{"10.0.0.4": "which c has", "10.0.0.2": "which something at the site has", "10.9.9.9": "in no pool of hall", "ten": "no address"} {
		_, err = b.Address("d", "", pick)
		assert.ErrorContains(t, err, says)
	}
}

func TestVLANs(t *testing.T) {
	b := NewBook(hall())
	got, err := b.VLAN("a", 9)
	require.NoError(t, err)
	assert.Equal(t, 9, got)
	got, err = b.VLAN("b", 0)
	require.NoError(t, err)
	assert.Equal(t, 7, got)
	for pick, says := range map[int]string{0: "no VLAN left", 8: "which something at the site has", 9: "which a has", 70: "in no range"} {
		_, err = b.VLAN("c", pick)
		assert.ErrorContains(t, err, says)
	}
}

func TestNothingIsEverHandedOutTwice(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b, seen := NewBook(hall()), map[string]bool{"10.0.0.2": true}
		for i := range rapid.IntRange(0, 12).Draw(t, "asks") {
			pick := rapid.SampledFrom([]string{"", "", "10.0.0.3", "10.0.8.1", "10.0.0.2"}).Draw(t, "pick")
			got, err := b.Address(fmt.Sprint(i), rapid.SampledFrom([]string{"", "10.0.8.0/24"}).Draw(t, "net"), pick)
			if err == nil && seen[got] {
				t.Fatalf("%s twice", got)
			}
			if err == nil {
				seen[got] = true
			}
		}
	})
}
