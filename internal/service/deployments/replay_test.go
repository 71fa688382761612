package deployments

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// told is a store of one plan and one journal, which tells from where on it was read.
type told struct {
	Store
	plan   *plan.Plan
	events []run.Event

	mu    sync.Mutex
	plans int
	after []int64
	fails error
}

func (s *told) Plan(context.Context, int64) (*plan.Plan, error) {
	s.plans++
	return s.plan, s.fails
}

func (s *told) Events(_ context.Context, _, after int64, limit int) ([]run.Event, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.after = append(s.after, after)
	if s.fails != nil {
		return nil, s.fails
	}
	from := min(int(after), len(s.events))
	return s.events[from:min(len(s.events), from+limit)], nil
}

func (s *told) tell(n int) {
	for range n {
		s.events = append(s.events, run.Event{Seq: int64(len(s.events) + 1), At: time.Unix(int64(len(s.events)), 0), Kind: run.Logged, Step: s.plan.Steps[0].ID, Text: "word"})
	}
}

// TestARunIsReadOnceForAllWhoLook replays a run that goes on: what was read is not read again, and what one does with it is nothing to others.
func TestARunIsReadOnceForAllWhoLook(t *testing.T) {
	t.Parallel()
	s := &told{plan: plantest.Plan(t, "drill")}
	s.tell(5)
	var all replays
	of := store.Run{ID: 7, Plan: 3}
	one, err := all.of(of).caughtUp(t.Context(), s)
	require.NoError(t, err)
	assert.Len(t, one.Steps[0].Log, 5)
	one.Apply(run.Event{Seq: 6, At: time.Unix(9, 0), Kind: run.StepStarted, Step: one.Steps[0].ID, Resource: one.Steps[0].Resource})
	one.Plan.Steps[0].Title = "otherwise"
	s.tell(2)
	two, err := all.of(of).caughtUp(t.Context(), s)
	require.NoError(t, err)
	assert.Len(t, two.Steps[0].Log, 7)
	assert.Equal(t, run.Planned, two.Steps[0].Status)
	assert.NotEqual(t, "otherwise", two.Plan.Steps[0].Title)
	assert.Equal(t, []int64{0, 5}, s.after)
	assert.Equal(t, 1, s.plans)

	s.tell(2 * MaxBatch)
	three, err := all.of(of).caughtUp(t.Context(), s)
	require.NoError(t, err)
	assert.EqualValues(t, 7+2*MaxBatch, three.LastSeq)
	assert.Equal(t, []int64{0, 5, 7, 7 + MaxBatch, 7 + 2*MaxBatch}, s.after)

	s.fails = errors.New("the database is away")
	_, err = all.of(of).caughtUp(t.Context(), s)
	require.ErrorIs(t, err, s.fails)
	_, err = all.of(store.Run{ID: 7, Plan: 4}).caughtUp(t.Context(), s)
	require.ErrorIs(t, err, s.fails, "of another plan it is another")
	s.fails = nil
	four, err := all.of(of).caughtUp(t.Context(), s)
	require.NoError(t, err)
	assert.Equal(t, three.LastSeq, four.LastSeq)

	for i := range int64(2 * mostReplays) { // more than are kept
		_, err := all.of(store.Run{ID: 100 + i, Plan: 3}).caughtUp(t.Context(), s)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(all.kept), mostReplays)
	}
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			x, err := all.of(of).caughtUp(t.Context(), s)
			if assert.NoError(t, err) {
				x.Apply(run.Event{Seq: x.LastSeq + 1, At: time.Unix(1e6, 0), Kind: run.StepStarted, Step: x.Steps[0].ID, Resource: x.Steps[0].Resource})
				assert.Equal(t, run.UnderWay, x.Steps[0].Status)
			}
		})
	}
	group.Wait()
}
