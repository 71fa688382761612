package app

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reconcile"
)

// words are the last entries of a workspace's trail, the oldest first, with who and by which way.
func trailWords(t *testing.T, a *App, n int) []string {
	t.Helper()
	last, err := a.LastOfTrail(ctx, n)
	require.NoError(t, err)
	out := make([]string, len(last))
	for i, e := range last {
		out[len(last)-1-i] = e.Actor.String() + " " + e.Words()
	}
	return out
}

// TestWhoDidWhatIsInTheTrail raises, surveys, keeps and is refused, by several people and ways.
func TestWhoDidWhatIsInTheTrail(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	ana, eva := a.As(Actor{Name: "ana", Way: ByScreen}), a.As(Actor{Name: "eva", Way: ByCommand})
	d := draft(t, ana, nil)
	id, err := ana.NewRun(ctx, deployments.Order{Plan: d.Plan})
	require.NoError(t, err)
	require.NoError(t, ana.Work(ctx, id))
	_, err = eva.Survey(ctx, reconcile.SurveyRequest{Site: "vega"})
	require.NoError(t, err)
	require.NoError(t, eva.SetSecrets(ctx, map[string]string{"b": "hunter22", "a": "hunter22"}))
	require.Error(t, eva.Resume(ctx, id))
	require.Error(t, eva.Disconnect(ctx, "vega"))
	got := trailWords(t, a, 7)
	require.Len(t, got, 7)
	assert.Equal(t, "ana by screen began run 1: raise flood-watch", got[0])
	assert.Equal(t, "eva by command surveyed vega", got[1])
	assert.Equal(t, "eva by command kept a value for a, b", got[2])
	assert.Equal(t, "eva by command went on with run 1", got[3])
	assert.Contains(t, got[4], "eva by command went on with run 1, which failed: run 1 has ended")
	assert.Equal(t, "eva by command removed vega", got[5])
	assert.Contains(t, got[6], "which failed: ")
	of, err := a.store.TrailOfRun(ctx, id)
	require.NoError(t, err)
	require.Len(t, of, 3)
	digest, err := a.store.PlanDigest(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, digest, of[0].Plan, "with which plan")
	v, err := a.VerifyTrail(ctx, of[0].Digest)
	require.NoError(t, err)
	assert.Empty(t, v.Wrong)
	assert.EqualValues(t, 7, v.Entries)
	_, err = eva.Survey(ctx, reconcile.SurveyRequest{Site: "vega", Deep: true})
	require.NoError(t, err)
	assert.Equal(t, []string{got[6], "eva by command surveyed vega: with what is within its instances"}, trailWords(t, a, 2), "it is one act, though it enters instances")
}

// TestNobodyDoesNothing holds that what is not allowed, or cannot be noted, is not done.
func TestNobodyDoesNothing(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	nobody := a.As(Actor{Way: ByScreen})
	d := draft(t, a, nil)
	_, err := nobody.NewRun(ctx, deployments.Order{Plan: d.Plan})
	var refused *guard.Refused
	require.ErrorAs(t, err, &refused)
	require.ErrorAs(t, nobody.SetSecrets(ctx, map[string]string{"a": "b"}), &refused)
	runs, err := a.store.Runs(ctx)
	require.NoError(t, err)
	assert.Empty(t, runs)
	assert.Empty(t, trailWords(t, a, 10), "nor is there anything to note")
	gone, cancel := context.WithCancel(ctx)
	cancel()
	done := false
	err = a.desk.Do(gone, guard.CancelRun, acting.Run(1), func() error { done = true; return nil })
	require.ErrorContains(t, err, "nothing was done, since it could not be noted")
	assert.False(t, done)
	err = a.desk.Do(ctx, guard.CancelRun, acting.Run(1), func() error { return errors.New("it is over") })
	require.EqualError(t, err, "it is over")
	assert.Len(t, trailWords(t, a, 10), 2)
}

// TestRulesAndSchedulesActInSomebodysName settles by a rule on a schedule.
func TestRulesAndSchedulesActInSomebodysName(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	by := a.As(Actor{Name: "ana", Way: ByScreen}).By(BySchedule)
	assert.Equal(t, Actor{Name: "ana", Way: BySchedule}, by.Actor())
	assert.Equal(t, Actor{Name: "ana", Way: guard.Rule}, by.By(guard.Rule).Actor())
	assert.Equal(t, ByCommand, a.Actor().Way, "and the one that it comes of is as it was")
}
