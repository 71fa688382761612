package change_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// TestWhatWasBegunBeforeAResumptionIsUnsure has a worker end while a site builds, and another one take the run over and be cancelled
// before it comes to that step again: the site may hold it.
func TestWhatWasBegunBeforeAResumptionIsUnsure(t *testing.T) {
	p := design(parts{hosts: 1, site: []string{"vega"}, cores: []int{1}, disk: []float64{1}, image: []string{"debian"}, off: []bool{false}, volume: []float64{0},
		cidr: "10.0.0.0/24", text: []string{"a"}, stop: []bool{false}, leaves: []bool{false}, connects: []int{-1}, public: []bool{false}})
	require.NoError(t, p.Check())
	raise, err := change.Compile(change.Nothing(p), p, "raise")
	require.NoError(t, err)
	var create *plan.Step
	for i := range raise.Steps {
		if raise.Steps[i].Op == op.Create && len(raise.Steps[i].After) == 0 {
			create = &raise.Steps[i]
		}
	}
	require.NotNil(t, create)
	s := run.New(raise)
	for i, e := range []run.Event{
		{Kind: run.RunStarted},
		{Kind: run.StepStarted, Step: create.ID},
		{Kind: run.StepAsked, Step: create.ID, Attributes: map[string]string{"site.id": "vega-1"}},
		{Kind: run.RunResumed},
		{Kind: run.RunEnded},
	} {
		e.Seq, e.At = int64(i+1), at.Add(time.Duration(i)*time.Second)
		s.Apply(e)
	}
	stand := after(t, change.Nothing(p), s)
	require.False(t, stand.Empty(), "what the site took may be there")
	assert.True(t, stand.Unsure[create.ID])
	back, err := change.Compile(stand, change.Nothing(p).Plan, "retire")
	require.NoError(t, err)
	assert.NotEmpty(t, back.Steps, "retiring looks for it and removes it")
}
