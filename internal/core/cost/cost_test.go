package cost

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
)

func placed(t *testing.T) (*placement.Problem, *placement.Placement) {
	t.Helper()
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	p := &placement.Problem{Estate: e}
	for _, w := range []struct{ name, tier, site, owner string }{{"a", "front", "tramonta", "map"}, {"b", "front", "tramonta", ""}, {"c", "store", "vega", "river"}} {
		p.Workloads = append(p.Workloads, placement.Workload{Name: w.name, Node: w.name, Tier: w.tier, OS: "linux", Addresses: 1,
			Need: estate.Capacity{Cores: 2, MemoryGiB: 4, DiskGiB: 10}, Pin: &placement.Spot{Site: w.site}, Tags: map[string]string{"owner": w.owner}})
	}
	p.Traffic = []placement.Traffic{{From: "a", To: "c", GiB: 2}}
	got, err := placement.Solve(*p, placement.Options{})
	require.NoError(t, err)
	return p, got
}

func TestSumsAddUpWhateverTheyAreBy(t *testing.T) {
	p, got := placed(t)
	for by, want := range map[By]int{"workload": 3, "tier": 2, "site": 2, "tag:owner": 3, "node": 3} {
		lines := Sums(p, got, by)
		require.Len(t, lines, want, by)
		var sum money.Amount
		for i, l := range lines {
			sum += l.PerHour
			assert.Equal(t, l.PerHour, l.Parts.Total())
			assert.True(t, i == 0 || l.PerHour <= lines[i-1].PerHour, "the dearest first")
		}
		assert.Equal(t, got.CostPerHour, sum, by)
	}
	sites := Sums(p, got, "site")
	assert.Equal(t, "tramonta", sites[0].Of)
	assert.Equal(t, money.Of(0.012), sites[0].Parts.Egress, "half of 2 GiB at 0.012")
	assert.Equal(t, "(no owner)", Sums(p, got, "tag:owner")[2].Of)
}

func TestPaymentsPriceTheSamePlacement(t *testing.T) {
	p, got := placed(t)
	all := Payments(p, got)
	require.Len(t, all, 3)
	assert.Equal(t, got.CostPerHour, all[0].PerHour)
	assert.Equal(t, 3, all[0].Offered)
	assert.Equal(t, got.CostPerHour-money.Of(2*(0.1-0.068)), all[1].PerHour)
	assert.Equal(t, 2, all[2].Offered, "vega takes no reservations")
	p.Payment = estate.Reserved3
	again, err := placement.Solve(*p, placement.Options{})
	require.NoError(t, err)
	assert.Equal(t, all[2].PerHour, again.CostPerHour, "and so does the search itself")
}

func TestCurrencies(t *testing.T) {
	p, _ := placed(t)
	for currency, want := range map[string]float64{"": 2, "cr": 2, "EUR": 1.84} {
		got, _, err := In(p.Estate, money.Of(2), currency)
		require.NoError(t, err)
		assert.Equal(t, money.Of(want), got)
	}
	_, _, err := In(p.Estate, money.Of(2), "pearls")
	assert.ErrorContains(t, err, "nobody said how much pearls a cr is; known are [EUR USD]")
	assert.Equal(t, 8760.0, 12*Month)
}
