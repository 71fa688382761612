package placement

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/estate"
	"andamio/internal/core/money"
)

// TestCostsAreAnIndependentSum works out what a placement costs, and how long what talks waits, from the estate and the choices alone: with fixed ends at sites, traffic both
// ways, disks, addresses and sizes.
func TestCostsAreAnIndependentSum(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := tiny(t)
		p.Weights.Latency = 0.01
		for i, s := range p.Estate.Sites {
			s.Prices.Memory, s.Prices.Disk, s.Prices.Address = 0.01, float64(1+i)/1000, 0.003
			s.Storage = []estate.StorageClass{{Name: "fast", PriceGiB: 0.002}}
		}
		for i := range p.Traffic {
			p.Traffic[i].BackGiB = float64(rapid.IntRange(0, 3).Draw(t, "back"))
		}
		for i := range p.Workloads {
			w := &p.Workloads[i]
			w.Addresses, w.VolumesGiB, w.Need.DiskGiB = rapid.IntRange(0, 2).Draw(t, "addresses"), 2, 5
			w.Storage = rapid.SampledFrom([]string{"", "fast"}).Draw(t, "storage")
			for range rapid.IntRange(0, 2).Draw(t, "ends") {
				w.Ends = append(w.Ends, End{Site: rapid.SampledFrom([]string{"s0", "s1", "s2", "nowhere"}).Draw(t, "end"), ToGiB: float64(rapid.IntRange(0, 4).Draw(t, "to")),
					FrGiB: float64(rapid.IntRange(0, 4).Draw(t, "from")), Weight: float64(rapid.IntRange(0, 2).Draw(t, "weight"))})
			}
		}
		got, err := Solve(*p, Options{})
		if err != nil {
			return
		}
		cost, wait := sum(p, got)
		total := money.Amount(0)
		for i := range got.Choices {
			c := &got.Choices[i]
			require.Equal(t, c.Cost.Total(), c.CostPerHour)
			total += c.CostPerHour
		}
		require.Equal(t, total, got.CostPerHour)
		assert.InDelta(t, cost, total.Units(), 0.002*float64(len(got.Choices)), "each part is rounded by itself")
		assert.InDelta(t, wait*p.Weights.Latency, got.Parts.Latency, 1e-9)
		assert.InDelta(t, cost*p.Weights.Cost, got.Parts.Cost, 1e-9)
		assert.InDelta(t, got.Objective, got.Parts.Cost+got.Parts.Latency+got.Parts.Spread+got.Parts.Keep+got.Parts.Preferences, 1e-6)
	})
}

// sum is what choices cost an hour, and how many milliseconds what talks waits, by how much it matters.
func sum(p *Problem, got *Placement) (cost, wait float64) {
	site := func(name string) *estate.Site { return p.Estate.Site(name) }
	between := func(a, b *estate.Site) float64 {
		if ms, known := estate.Distance(a, b); known {
			return ms
		}
		return 0
	}
	at := map[string]*estate.Site{}
	for i := range p.Workloads {
		w := &p.Workloads[i]
		s := site(got.Choice(w.Name).Site)
		at[w.Name] = s
		volume := s.Prices.Disk
		if w.Storage == "fast" {
			volume = 0.002
		}
		cost += s.Prices.Core*float64(w.Need.Cores) + s.Prices.Memory*w.Need.MemoryGiB + volume*w.VolumesGiB + s.Prices.Disk*(w.Need.DiskGiB-w.VolumesGiB) +
			s.Prices.Address*math.Max(float64(w.Addresses), 1)
		for _, e := range w.Ends {
			if end := site(e.Site); end != nil {
				cost += e.ToGiB*s.EgressTo(end) + e.FrGiB*end.EgressTo(s)
				wait += e.Weight * between(s, end)
			}
		}
	}
	for _, x := range p.Traffic {
		a, b := at[x.From], at[x.To]
		cost += x.GiB*a.EgressTo(b) + x.BackGiB*b.EgressTo(a)
		wait += x.Weight * between(a, b)
	}
	return cost, wait
}

// TestWhatIsPaidToSendDecides has the one site be best from which little is sent, and the other to which little is, and never the other way round.
func TestWhatIsPaidToSendDecides(t *testing.T) {
	for name, want := range map[string]struct {
		to, from float64
		site     string
	}{"much is sent": {5, 0, "cheap"}, "much comes": {0, 5, "dear"}} {
		e := &estate.Estate{Currency: "cr"}
		for i, s := range []string{"dear", "cheap", "end"} {
			e.Sites = append(e.Sites, &estate.Site{Name: s, Kind: estate.Public, Provider: s, FreeForm: true, Pace: 1, Images: []estate.Image{{Name: "i", OS: "linux"}},
				Prices: estate.Prices{Core: []float64{0.01, 0.02, 9}[i], Egress: map[string]float64{"*": []float64{0.1, 0.01, 0.05}[i]}},
				Zones:  []estate.Zone{{Name: "1", Free: estate.Capacity{Cores: 9, MemoryGiB: 9, DiskGiB: 9}}}})
		}
		p := Problem{Estate: e, Weights: Weights{Cost: 1}, Workloads: []Workload{{Name: "w", Node: "w", OS: "linux", Need: estate.Capacity{Cores: 1, MemoryGiB: 1, DiskGiB: 1},
			Ends: []End{{Site: "end", ToGiB: want.to, FrGiB: want.from}}}}}
		got, err := Solve(p, Options{})
		require.NoError(t, err, name)
		assert.Equal(t, want.site, got.Choices[0].Site, fmt.Sprint(name, got.Choices[0].Cost))
	}
}
