package runs

import (
	"context"
	"sync"
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

// oneRun is a store of one run. It is looked at as a whole: its events are those of when the run was read.
type oneRun struct {
	Store
	mu           sync.Mutex
	run          store.Run
	events, then []run.Event
}

func (o *oneRun) Run(context.Context, int64) (store.Run, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.then = o.events
	return o.run, nil
}

func (o *oneRun) Events(_ context.Context, _, after int64, _ int) ([]run.Event, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return append([]run.Event(nil), o.then[after:]...), nil
}

func (o *oneRun) Changed(store.Topic) <-chan struct{} { return nil }

func (o *oneRun) become(r store.Run, events ...run.Event) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.run, o.events = r, append(o.events, events...)
}

// TestARunWhoseWorkerIsSilentIsWatchedOn hears of silence, of whoever goes on after it, and of the end.
func TestARunWhoseWorkerIsSilentIsWatchedOn(t *testing.T) {
	t.Parallel()
	at := &oneRun{}
	gone := store.Run{State: run.UnderWay, Beat: time.Now(), Worker: store.WorkerOn(ThisHost(), 1<<30)}
	at.become(gone, run.Event{Seq: 1})
	out := make(chan Batch)
	go (&Service{store: at, tails: &Tails{}}).watch(t.Context(), 7, 0, out)
	assert.Equal(t, Batch{Events: []run.Event{{Seq: 1}}, Silent: true}, <-out)
	at.become(store.Run{State: run.UnderWay, Beat: time.Now().Add(time.Hour), Worker: ThisWorker()})
	assert.Equal(t, Batch{}, <-out, "somebody goes on")
	at.become(gone)
	assert.Equal(t, Batch{Silent: true}, <-out, "and falls silent as well")
	at.become(store.Run{State: run.Standing, Ended: time.Now()}, run.Event{Seq: 2})
	assert.Equal(t, Batch{Events: []run.Event{{Seq: 2}}, Last: true}, <-out)
}
