package estate

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"andamio/internal/core/money"
)

func TestAnEstateHasOneCurrency(t *testing.T) {
	in := func(currency string) *Site {
		return &Site{Name: currency + " site", Prices: Prices{Currency: currency}}
	}
	for name, c := range map[string]struct {
		sites  []*Site
		want   string
		others int
	}{
		"nobody says one":          {[]*Site{in(""), in("")}, UsualCurrency, 0},
		"there is no site":         {nil, UsualCurrency, 0},
		"all say the same":         {[]*Site{in("EUR"), in("EUR")}, "EUR", 0},
		"some say none":            {[]*Site{in(""), in("EUR"), in("")}, "EUR", 0},
		"one says another":         {[]*Site{in("EUR"), in("USD"), in("EUR")}, "EUR", 1},
		"the first that says some": {[]*Site{in(""), in("USD"), in("EUR"), in("cr")}, "USD", 2},
	} {
		got, others := OneCurrency(c.sites)
		assert.Equal(t, c.want, got, name)
		assert.Len(t, others, c.others, name)
		for _, s := range others {
			assert.NotEqual(t, got, s.Prices.Currency, name)
		}
	}
}

// priced is a site that sells one size, and anything else by its measure.
func priced() *Site {
	return &Site{Name: "vega", Sizes: []Size{{Name: "c2", Cores: 2, MemoryGiB: 4, PricePerHour: 0.1}}, Prices: Prices{Core: 0.03, Memory: 0.01, Disk: 0.001, Address: 0.005},
		Storage: []StorageClass{{Name: "fast", PriceGiB: 0.004}}}
}

func TestWhatAnInstanceCostsOnAndOff(t *testing.T) {
	s := priced()
	need := Capacity{Cores: 2, MemoryGiB: 4, DiskGiB: 10}
	on, off := s.Costs("c2", "", need)
	assert.Equal(t, money.Of(0.1+0.01+0.005), on, "its size, its disk, its address")
	assert.Equal(t, money.Of(0.01+0.005), off, "without cores and memory")
	on, off = s.Costs("", "", need)
	assert.Equal(t, money.Of(2*0.03+4*0.01+0.015), on)
	assert.Equal(t, money.Of(0.015), off)
	on, _ = s.Costs("none of this name", "", need)
	assert.Equal(t, money.Of(2*0.03+4*0.01+0.015), on, "a size that is not sold any more costs what its measure does")
	_, off = s.Costs("c2", "fast", need)
	assert.Equal(t, money.Of(0.04+0.005), off, "its disk is of its class")
	assert.Equal(t, money.Of(0.08), s.VolumeCosts(20, "fast"))
	assert.Equal(t, money.Of(0.02), s.VolumeCosts(20, ""))
	assert.Equal(t, money.Of(0.02), s.VolumeCosts(20, "unheard of"))
	assert.Zero(t, (&Site{}).VolumeCosts(20, ""))
}

// More never costs less, and what is off never more than what is on.
func TestCostsGrowWithWhatIsTaken(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := priced()
		draw := func(name string) Capacity {
			return Capacity{Cores: rapid.IntRange(0, 64).Draw(t, name+" cores"), MemoryGiB: rapid.Float64Range(0, 512).Draw(t, name+" memory"), DiskGiB: rapid.Float64Range(0, 4096).Draw(t, name+" disk")}
		}
		a, more := draw("a"), draw("more")
		on, off := s.Costs("", "", a)
		on2, off2 := s.Costs("", "", a.Plus(more))
		assert.LessOrEqual(t, off, on)
		assert.LessOrEqual(t, on, on2+1)
		assert.LessOrEqual(t, off, off2+1)
	})
}
