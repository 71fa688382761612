package change_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/run"
)

// TestWhatWasPassedOverIsNotDoneAgain raises designs with some steps passed over, since they were not needed: compiling the same again changes nothing. What a person skipped
// is done the next time.
func TestWhatWasPassedOverIsNotDoneAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		to := design(draw(t, "design"))
		raise, err := change.Compile(change.Nothing(to), to, "raise")
		require.NoError(t, err)
		s := run.New(raise)
		s.Apply(run.Event{Seq: 1, Kind: run.RunStarted, At: at})
		some, skipped := false, false
		for i := range s.Steps {
			st := &s.Steps[i]
			st.Started, st.Ended, st.Status = at, at.Add(time.Second), run.Standing
			if rapid.IntRange(0, 3).Draw(t, st.ID+" passed over") == 0 {
				st.Status = run.Passed
				if st.Skipped = rapid.IntRange(0, 4).Draw(t, st.ID+" by a person") == 0; st.Skipped {
					some, skipped = true, skipped || st.Op.Stays()
				}
			}
		}
		stand, err := change.After(change.Nothing(to), s)
		require.NoError(t, err)
		again, err := change.Compile(stand, to, "again")
		require.NoError(t, err)
		if skipped {
			require.NotEmpty(t, again.Steps)
		}
		if some {
			return
		}
		require.Empty(t, ids(again), "%v", reasons(again))
	})
}
