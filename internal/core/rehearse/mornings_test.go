package rehearse_test

import (
	"math"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/history"
	"andamio/internal/core/plan"
	"andamio/internal/core/rehearse"
)

// TestItServesWhenItIsToOfAMorning has a plan begin each of fifty mornings as long before as is known by then to be enough. What steps really take nobody knows
// beforehand: it is otherwise than the plan expects, and sites have good and bad days. At most one morning is late, the first of all aside, when nothing is known.
func TestItServesWhenItIsToOfAMorning(t *testing.T) {
	for _, file := range []string{"gauge-chain", "relay-tiers"} {
		text, err := os.ReadFile("../plan/testdata/" + file + ".plan.json")
		require.NoError(t, err)
		p, err := plan.Read(text)
		require.NoError(t, err)
		for seed := range uint64(4) {
			late, early := mornings(p, rand.New(rand.NewPCG(seed, 50)))
			assert.LessOrEqual(t, late, 1, "%s, seed %d", file, seed)
			assert.Less(t, early, 1.0, "%s, seed %d: machines that are on for nothing cost", file, seed)
		}
	}
}

// mornings are how many of fifty were late, and how much longer than needed it was on before, as a share of how long it took.
func mornings(p *plan.Plan, r *rand.Rand) (late int, early float64) {
	truth := map[string]float64{}
	for i := range p.Steps {
		if key := history.Key(p, &p.Steps[i]); truth[key] == 0 {
			truth[key] = math.Exp(0.5 * r.NormFloat64())
		}
	}
	var samples []history.Sample
	for morning := range 51 {
		ahead := rehearse.Ahead(p, history.New(samples))
		sites := map[string]float64{}
		seconds := make([]float64, len(p.Steps))
		for i := range p.Steps {
			s := &p.Steps[i]
			if sites[s.Site] == 0 {
				sites[s.Site] = math.Exp(0.1 * r.NormFloat64())
			}
			seconds[i] = s.Seconds * truth[history.Key(p, s)] * sites[s.Site] * math.Exp(0.25*r.NormFloat64())
			if seconds[i] > 0 {
				samples = append(samples, history.Sample{Key: history.Key(p, s), Run: int64(morning), Seconds: seconds[i]})
			}
		}
		if took := rehearse.Played(p, dispatch.Default, seconds); morning > 0 {
			early += float64(ahead-took) / float64(took) / 50
			if took > ahead {
				late++
			}
		}
	}
	return late, early
}
