package runs

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/run"
	"andamio/internal/store"
)

// busyStore is a store that somebody else may hold.
type busyStore struct {
	Store
	busy bool
}

func (b *busyStore) Busy(context.Context) bool { return b.busy }

// TestAWorkerIsLostWhenItIsSilentThoughItCouldSpeak looks at runs whose workers are silent, at moments one after another.
func TestAWorkerIsLostWhenItIsSilentThoughItCouldSpeak(t *testing.T) {
	t.Parallel()
	idle := &busyStore{}
	now := time.Now()
	going := store.Run{State: run.UnderWay, Beat: now.Add(-time.Minute)}
	var s silentWorker
	assert.False(t, s.lost(t.Context(), idle, going, now), "not at the first look")
	assert.False(t, s.lost(t.Context(), idle, going, now.Add(showsWithin)))
	assert.True(t, s.lost(t.Context(), idle, going, now.Add(showsWithin+1)))
	going.Beat = now.Add(showsWithin)
	assert.False(t, s.lost(t.Context(), idle, going, now.Add(showsWithin+1)), "it showed that it lives")
	going.Beat = now.Add(-time.Minute)
	assert.False(t, s.lost(t.Context(), idle, going, now.Add(showsWithin+1)), "and is looked at anew")
	idle.busy = true
	assert.False(t, s.lost(t.Context(), idle, going, now.Add(time.Hour)), "nobody can speak while another holds the store")
	idle.busy = false
	going.Worker = store.WorkerOn(ThisHost(), 1<<30)
	assert.True(t, s.lost(t.Context(), idle, going, now), "a process that is gone is waited for no longer")
	going.State = run.Standing
	assert.False(t, s.lost(t.Context(), idle, going, now))
}
