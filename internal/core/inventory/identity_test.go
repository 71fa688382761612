package inventory_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/inventory/damage"
)

// score is how well identities were told.
type score struct{ right, wrong, missed, review, all int }

func (s score) precision() float64 { return float64(s.right) / float64(max(s.right+s.wrong, 1)) }
func (s score) recall() float64    { return float64(s.right) / float64(max(s.right+s.missed, 1)) }

// told measures what a reconciliation says of a damaged inventory. What a person is asked counts as right if the
// suggestion is, and is counted beside; only things without sure keys count, the others are no art.
func told(t damage.Truth) score {
	report := inventory.Reconcile(inventory.Input{Recorded: t.Recorded, Observed: t.Observed, Limits: inventory.Limits{Pairs: true}})
	s := score{all: len(t.Observed), review: report.Review}
	found := map[string]bool{}
	for _, p := range report.Pairs {
		o, r := t.Observed[p.Observed], t.Recorded[p.Recorded]
		if o.Mark != "" {
			continue
		}
		found[o.ID] = true
		if t.Is[o.ID] == r.ID {
			s.right++
		} else {
			s.wrong++
		}
	}
	for _, o := range t.Observed {
		if t.Is[o.ID] != "" && o.Mark == "" && !found[o.ID] {
			s.missed++
		}
	}
	return s
}

// heldOut are seeds that the weights and thresholds were not looked at with.
var heldOut = []uint64{90001, 90002, 90003, 90004, 90005, 90006, 90007, 90008}

func TestIdentityOfDamagedInventories(t *testing.T) {
	var sum score
	for _, seed := range heldOut {
		s := told(damage.New(damage.Default(seed)))
		sum = score{sum.right + s.right, sum.wrong + s.wrong, sum.missed + s.missed, sum.review + s.review, sum.all + s.all}
	}
	t.Logf("precision %.4f, recall %.4f, review %.2f %% of %d", sum.precision(), sum.recall(), 100*float64(sum.review)/float64(sum.all), sum.all)
	require.Greater(t, sum.right, 4000)
	assert.GreaterOrEqual(t, sum.precision(), 0.995)
	assert.GreaterOrEqual(t, sum.recall(), 0.98)
	assert.Less(t, float64(sum.review)/float64(sum.all), 0.02)
}
