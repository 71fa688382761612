package promise_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/promise"
)

// TestSnapshotsEnd sets ends, in any order, again and again, and holds what is due and what is over against a table of them.
func TestSnapshotsEnd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := map[string]time.Time{}
		var terms promise.EndsTerms
		for range rapid.IntRange(1, 12).Draw(t, "times") {
			set := rapid.SampledFrom([]string{"a", "b", "c", "d"}).Draw(t, "set")
			var until time.Time
			if hours := rapid.IntRange(0, 20).Draw(t, "hours"); hours > 0 {
				until = noon.Add(time.Duration(hours) * time.Hour)
			}
			before := slices.Clone(terms.Sets)
			next := terms.With(set, until)
			require.Equal(t, before, terms.Sets, "what it was of is as it was")
			terms, want[set] = next, until
		}
		p := promise.Promise{Deployment: 7, Kind: promise.Ends, By: ana, Ends: &terms}
		now := noon.Add(time.Duration(rapid.IntRange(0, 20).Draw(t, "now")) * time.Hour)
		over := terms.Over(now)
		dues := map[string]time.Time{}
		for _, d := range p.Dues(noon) {
			dues[d.Subject] = d.Start
		}
		n := 0
		for set, until := range want {
			require.Equal(t, until, terms.Until(set))
			require.Equal(t, !until.IsZero() && !until.After(now), slices.Contains(over, set), "%s until %s at %s", set, until, now)
			if !until.IsZero() {
				n++
				require.Equal(t, until, dues["7 "+set])
			}
		}
		require.Len(t, dues, n)
		if n > 0 {
			require.NoError(t, p.Check(noon))
		} else {
			require.ErrorContains(t, p.Check(noon), "between 1 and 500")
		}
	})
	end := promise.SetEnd{Set: "a", Until: noon}
	for says, sets := range map[string][]promise.SetEnd{"a ends once": {end, end}, "says which it is": {{Until: noon}}, "until when": {{Set: "a"}}} {
		assert.ErrorContains(t, (&promise.Promise{Kind: promise.Ends, Ends: &promise.EndsTerms{Sets: sets}}).Check(noon), says)
	}
	p := promise.Promise{Kind: promise.Ends, Ends: &promise.EndsTerms{Sets: []promise.SetEnd{end}}}
	assert.Equal(t, "kept: a until 27 Mar 2026 12:00", p.Words())
}
