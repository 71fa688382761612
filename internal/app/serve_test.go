package app

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/runs"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// serving serves a workspace until the test ends it, and returns what it tells.
func serving(t *testing.T, a *App) (told chan Firing, end func() error) {
	t.Helper()
	told = make(chan Firing, 64)
	s, err := a.Serve(ctx, Listening{Address: "127.0.0.1:0"}, func(f Firing) { told <- f })
	require.NoError(t, err)
	return told, running(t, s)
}

// running has what serves go on until it is ended.
func running(t *testing.T, s *Serving) (end func() error) {
	t.Helper()
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	t.Cleanup(cancel)
	return func() error {
		cancel()
		return <-ended
	}
}

// until waits for a firing.
func until(t *testing.T, told chan Firing, is func(Firing) bool) Firing {
	t.Helper()
	late := time.After(2 * time.Minute)
	for {
		select {
		case f := <-told:
			if is(f) {
				return f
			}
		case <-late:
			require.Fail(t, "it was not told")
		}
	}
}

func TestSitesAreSurveyedWhenTheyAreDue(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	told, end := serving(t, a)
	seen := map[string]bool{}
	for len(seen) < 5 {
		f := until(t, told, func(f Firing) bool { return f.Kind == dueSurvey })
		assert.Equal(t, FiringDone, f.State, f.Note)
		assert.Zero(t, f.Missed, "what was never surveyed missed nothing")
		assert.False(t, seen[f.Subject], "%s is surveyed once", f.Subject)
		seen[f.Subject] = true
	}
	c, err := a.Clock(ctx, time.Now(), 10)
	require.NoError(t, err)
	assert.Equal(t, string(runs.ThisWorker()), c.By.Name)
	require.Len(t, c.Next, 6, "and the prices of all sites, every night")
	for _, u := range c.Next {
		assert.False(t, u.Overdue)
		assert.True(t, u.At.After(time.Now()) && time.Until(u.At) <= 24*time.Hour, u.At)
	}
	require.NoError(t, end())
	by, err := a.ServedBy(ctx)
	require.NoError(t, err)
	assert.Empty(t, by.Name)
	last, err := a.LastOfTrail(ctx, 50)
	require.NoError(t, err)
	surveyed := slices.DeleteFunc(last, func(e Entry) bool { return e.Act != guard.SurveySite })
	require.Len(t, surveyed, 5)
	assert.Equal(t, guard.Schedule, surveyed[0].Actor.Way, "by schedule")
}

func TestOneProcessServesAWorkspace(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	ofAFolder(t, a)
	_, end := serving(t, a)
	_, err := a.Serve(ctx, Listening{Address: "127.0.0.1:0"}, nil)
	require.ErrorContains(t, err, "is served already")
	assert.Equal(t, fault.Conflict, fault.CodeOf(err))
	assert.ErrorContains(t, a.StopServing(ctx), "by this process")
	require.NoError(t, end())
	_, end = serving(t, a)
	require.NoError(t, end(), "the next one takes over")

	// One that fell silent is taken over from, and does nothing more.
	first, err := a.Serve(ctx, Listening{Address: "127.0.0.1:0"}, nil)
	require.NoError(t, err)
	now := time.Now().Add(time.Hour)
	_, err = a.store.TakeLease(ctx, leaseServe, "elsewhere/1", "", now, now.Add(-serveSilent), leaseLives)
	require.NoError(t, err)
	require.ErrorIs(t, first.Run(ctx), store.ErrTaken)
	by, err := a.ServedBy(ctx)
	require.NoError(t, err)
	assert.Equal(t, "elsewhere/1", by.Name)
	assert.ErrorContains(t, a.StopServing(ctx), "on another machine")
}

func TestWhatFailedIsTriedAgainEverMoreSeldom(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, 0.003)
	require.NoError(t, box.Close())
	told, end := serving(t, a)
	f := until(t, told, func(f Firing) bool { return f.Subject == "vega" })
	assert.Equal(t, FiringFailed, f.State)
	assert.NotEmpty(t, f.Note)
	assert.WithinDuration(t, f.Ended.Add(firstAgain), f.Again, time.Second)
	f.Again = time.Now().Add(-time.Second)
	require.NoError(t, a.store.EndFiring(ctx, f))
	f = until(t, told, func(f Firing) bool { return f.Subject == "vega" })
	assert.Equal(t, 2, f.Tries)
	assert.WithinDuration(t, f.Ended.Add(2*firstAgain), f.Again, time.Second)
	require.NoError(t, end())
}

// TestWhatWasBrokenOffByTheEndIsDoneByTheNext ends the process while a survey goes on.
func TestWhatWasBrokenOffByTheEndIsDoneByTheNext(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	over, cancel := context.WithCancel(ctx)
	cancel()
	s := &Serving{a: a, told: func(Firing) {}}
	id, err := a.store.Register(ctx, Due{Kind: dueSurvey, Subject: "vega", Rule: "FREQ=HOURLY"})
	require.NoError(t, err)
	epoch, err := a.store.TakeLease(ctx, leaseServe, runs.ThisWorker(), "", time.Now(), time.Now(), leaseLives)
	require.NoError(t, err)
	f := Firing{Due: id, At: time.Now(), Kind: dueSurvey, Subject: "vega", State: FiringGoing, Began: time.Now(), Tries: 3}
	_, err = a.store.Fire(ctx, leaseServe, epoch, f)
	require.NoError(t, err)
	s.end(over, f, func() (string, error) { return "", over.Err() })
	last, err := a.store.Firings(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, FiringFailed, last[0].State)
	assert.Equal(t, last[0].Ended, last[0].Again, "the next process does it at once")
}

func TestAProposalLapses(t *testing.T) {
	t.Parallel()
	a, _, _ := deployed(t)
	o, err := a.Retiring(ctx, 1)
	require.NoError(t, err)
	p, err := a.Propose(ctx, o, 10*time.Millisecond)
	require.NoError(t, err)
	told, end := serving(t, a)
	f := until(t, told, func(f Firing) bool { return f.Kind == runs.DueLapse })
	assert.Equal(t, FiringDone, f.State, f.Note)
	assert.Equal(t, "nobody confirmed it", f.Note)
	require.NoError(t, end())
	kept, err := a.store.Proposal(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, store.ProposalLapsed, kept.State)
	_, err = a.Confirm(ctx, p.ID)
	assert.ErrorContains(t, err, "held until")
}

func TestWhatBrokeOffIsTriedAgainByTheNext(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	a.register(ctx, time.Now())
	epoch, err := a.store.TakeLease(ctx, leaseServe, store.WorkerOn(runs.ThisHost(), 1<<30), "", time.Now(), time.Now(), leaseLives)
	require.NoError(t, err)
	dues, err := a.store.Dues(ctx)
	require.NoError(t, err)
	i := slices.IndexFunc(dues, func(d Due) bool { return d.Subject == "vega" })
	at := time.Now().Add(-time.Second)
	mine, err := a.store.Fire(ctx, leaseServe, epoch, Firing{Due: dues[i].ID, At: at, Kind: dueSurvey, Subject: "vega", State: FiringGoing, Began: at})
	require.NoError(t, err)
	require.True(t, mine)
	told, end := serving(t, a) // whose process is gone is not waited for
	f := until(t, told, func(f Firing) bool { return f.Subject == "vega" })
	assert.Equal(t, FiringDone, f.State, f.Note)
	assert.Equal(t, 2, f.Tries)
	require.NoError(t, end())
}

func TestServingEndsWithItsWorkspace(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	ofAFolder(t, a)
	s, err := a.Serve(ctx, Listening{Address: "127.0.0.1:0"}, nil)
	require.NoError(t, err)
	away := filepath.Join(t.TempDir(), "away.db")
	require.NoError(t, os.Rename(a.workspace.Path(workspace.FileDatabase), away))
	err = s.Run(ctx)
	require.ErrorContains(t, err, "is not there any more")
	require.NoError(t, os.Rename(away, a.workspace.Path(workspace.FileDatabase)))
}
