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
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
)

// TestARunAndWhoWatchesItSitOutALock has another program hold the database in mid-run, for longer than a worker may be silent: the run
// goes on after that, and whoever watches it sees its end.
func TestARunAndWhoWatchesItSitOutALock(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.05)
	ofAFolder(t, a)
	id, err := a.NewRun(ctx, deployments.Order{Plan: draft(t, a, nil).Plan})
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
				group.Go(func() { hold(t, a, runs.SilentAfter+2*time.Second) })
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
