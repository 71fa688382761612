package promise_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/clock"
	"andamio/internal/core/promise"
)

func TestHowItWasKeptWithinAPeriod(t *testing.T) {
	p := promise.Promise{Deployment: 7, Kind: promise.Saved, Level: "levee", Saved: &promise.SavedTerms{When: every, Keep: 7}}
	at := func(n int) time.Time { return two.Add(time.Duration(n) * day) }
	all := []promise.Firing{
		{At: at(0), Began: at(0), Ended: at(0), Done: true},                             // on the first day
		{At: at(1), Began: at(1).Add(clock.Grace + 1), Ended: at(2), Done: true},        // late
		{At: at(2), Began: at(2), Failed: true, Note: "=no room"},                       // broken
		{At: at(3), Began: at(3), Ended: at(3), Done: true},                             // when the period is over
		{At: at(-1), Began: at(-1), Ended: at(-1), Failed: true, Note: "before it all"}, // before
	}
	r := promise.Report{From: at(0), To: at(3), Lines: []promise.Line{promise.Within(&p, "flood-watch", all, at(0), at(3))}}
	l := r.Lines[0]
	assert.Equal(t, []int{1, 1, 1, 3}, []int{l.Kept, l.Late, l.Broken, len(l.Marks)})
	assert.False(t, l.Unproven)
	due, kept, late, broken := r.Sum()
	assert.Equal(t, []int{3, 1, 1, 1}, []int{due, kept, late, broken})
	var text strings.Builder
	require.NoError(t, r.WriteCSV(&text))
	assert.Equal(t, strings.Join([]string{"deployment,name,level,promised,due,state,note",
		`7,flood-watch,levee,"saved every day 02:00, 7 kept",2026-03-27T01:00:00Z,kept,`,
		`7,flood-watch,levee,"saved every day 02:00, 7 kept",2026-03-28T01:00:00Z,late,`,
		`7,flood-watch,levee,"saved every day 02:00, 7 kept",2026-03-29T01:00:00Z,broken,'=no room`, ""}, "\n"), text.String())
	assert.True(t, promise.Within(&p, "flood-watch", nil, at(0), at(3)).Unproven)
}
