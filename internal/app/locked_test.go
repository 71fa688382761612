package app

import (
	"context"
	"database/sql"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/run"
	"andamio/internal/store"
)

// TestARunAndWhoWatchesItSitOutALock has another program hold the database in mid-run, for longer than a worker may be silent: the run
// goes on after that, and whoever watches it sees its end.
func TestARunAndWhoWatchesItSitOutALock(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.05)
	id, err := a.NewRun(ctx, Order{Plan: draft(t, a, nil).Plan})
	require.NoError(t, err)
	watching, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	var group sync.WaitGroup
	group.Go(func() { assert.NoError(t, a.Work(ctx, id)) })
	held := false
	for b := range another(t, a).Watch(watching, id, 0) {
		require.NoError(t, b.Err)
		for _, e := range b.Events {
			if !held && e.Kind == run.StepDone {
				held = true
				group.Go(func() { hold(t, a, silentAfter+2*time.Second) })
			}
		}
	}
	r, err := a.store.Run(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Standing, r.State, "it was watched to its end")
	assert.True(t, held)
	group.Wait()
}

// hold has another program hold a workspace's database for a time.
func hold(t *testing.T, a *App, long time.Duration) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(a.workspace.Dir, "andamio.db")+"?_txlock=immediate&_pragma=busy_timeout(10000)")
	assert.NoError(t, err)
	defer db.Close()
	tx, err := db.BeginTx(ctx, nil)
	assert.NoError(t, err)
	assert.True(t, a.store.Busy(ctx))
	<-time.After(long)
	assert.NoError(t, tx.Rollback())
	assert.False(t, a.store.Busy(ctx))
}

// TestAWorkerIsLostWhenItIsSilentThoughItCouldSpeak looks at runs whose workers are silent, at moments one after another.
func TestAWorkerIsLostWhenItIsSilentThoughItCouldSpeak(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	now := time.Now()
	going := store.Run{State: run.UnderWay, Beat: now.Add(-time.Minute)}
	var s silentWorker
	assert.False(t, s.lost(ctx, a.store, going, now), "not at the first look")
	assert.False(t, s.lost(ctx, a.store, going, now.Add(showsWithin)))
	assert.True(t, s.lost(ctx, a.store, going, now.Add(showsWithin+1)))
	going.Beat = now.Add(showsWithin)
	assert.False(t, s.lost(ctx, a.store, going, now.Add(showsWithin+1)), "it showed that it lives")
	going.Beat = now.Add(-time.Minute)
	assert.False(t, s.lost(ctx, a.store, going, now.Add(showsWithin+1)), "and is looked at anew")
	going.Worker = store.WorkerOn(thisHost(), 1<<30)
	assert.True(t, s.lost(ctx, a.store, going, now), "a process that is gone is waited for no longer")
	going.State = run.Standing
	assert.False(t, s.lost(ctx, a.store, going, now))
}
