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

// TestWhatWasGoneOnWithoutCanBeRetired has somebody go on without an instance that the site refused, so that plugging it in fails too: what
// stands beside it can still be taken away, or what is missing be built.
func TestWhatWasGoneOnWithoutCanBeRetired(t *testing.T) {
	p := design(parts{hosts: 1, site: []string{"vega"}, cores: []int{1}, disk: []float64{1}, image: []string{"debian"}, off: []bool{false}, volume: []float64{0},
		cidr: "10.0.0.0/24", text: []string{"a"}, stop: []bool{false}, leaves: []bool{false}, connects: []int{-1}, public: []bool{true}})
	raise, err := change.Compile(change.Nothing(p), p, "raise")
	require.NoError(t, err)
	s := run.New(raise)
	n := int64(0)
	say := func(e run.Event) {
		n++
		e.Seq, e.At = n, at.Add(time.Duration(n)*time.Second)
		s.Apply(e)
	}
	say(run.Event{Kind: run.RunStarted})
	for i := range s.Steps {
		st := &s.Steps[i]
		if st.Resource == "lan@vega" {
			say(run.Event{Kind: run.StepDone, Step: st.ID})
			continue
		}
		say(run.Event{Kind: run.StepStarted, Step: st.ID})
		say(run.Event{Kind: run.StepFailed, Step: st.ID, Text: "the site refuses it"})
		if st.ID == "host-0/create" {
			say(run.Event{Kind: run.Decided, Step: st.ID, Text: run.Skip})
		}
	}
	say(run.Event{Kind: run.RunEnded})
	stand := after(t, change.Nothing(p), s)
	require.Len(t, stand.Plan.Resources, 1, "what would be on it cannot be there without it")
	for name, to := range map[string]*plan.Plan{"taken away": change.Nothing(p).Plan, "built again": p} {
		next, err := change.Compile(stand, to, name)
		require.NoError(t, err, name)
		require.NoError(t, next.Check(), name)
	}
}
