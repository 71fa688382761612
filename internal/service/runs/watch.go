package runs

import (
	"context"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// pollEvery is how often a watcher looks for new events: often enough for the eye, and each time a screen is drawn that a key may have to wait for.
const pollEvery = 100 * time.Millisecond

// Batch is what a watcher hears: events, or why there will be no more.
type Batch struct {
	Events []run.Event `json:"events,omitempty"`
	Err    error       `json:"-"`
	// Silent says that the run's worker shows no sign of life. It may again, or another goes on: what follows is heard all the same.
	Silent bool `json:"silent,omitempty"`
	// Last says that the run is over, and nothing follows.
	Last bool `json:"last"`
}

// Watch sends a run's events after a number, those of the past first, then as they happen, in this process or
// another; and when its worker falls silent, or is heard of again. The channel is closed after the last batch or when the context ends.
func (svc *Service) Watch(ctx context.Context, runID, after int64) <-chan Batch {
	out := make(chan Batch)
	go func() {
		defer close(out)
		if err := svc.desk.See(ctx, acting.Run(runID)); err != nil {
			say(ctx, out, Batch{Err: err, Last: true})
			return
		}
		svc.watch(ctx, runID, after, out)
	}()
	return out
}

// watch says what happens to a run until it is over.
func (svc *Service) watch(ctx context.Context, runID, after int64, out chan<- Batch) {
	t := svc.tails.join(runID)
	defer svc.tails.leave(runID)
	silent := false
	for {
		b, changed, again := t.batch(ctx, svc, runID, after)
		if len(b.Events) > 0 {
			after = b.Events[len(b.Events)-1].Seq
		}
		if len(b.Events) > 0 || b.Last || b.Err != nil || b.Silent != silent {
			silent = b.Silent
			if !say(ctx, out, b) || b.Last || b.Err != nil {
				return
			}
		}
		if again && len(b.Events) > 0 {
			continue
		}
		if !waits(ctx, changed, pollEvery) {
			return
		}
	}
}

// toldEvery is how often a watcher looks that is told of what changes: a worker that falls silent changes nothing.
const toldEvery = time.Second

// gathers is for how long what is told is left to grow before it is looked at: much happens in many small changes.
const gathers = 20 * time.Millisecond

// waits waits until something is to be looked at again; false is that nobody wants it any more. Where nobody tells of changes it is looked at every so often.
func waits(ctx context.Context, changed <-chan struct{}, every time.Duration) bool {
	if changed != nil {
		every = toldEvery
	}
	select {
	case <-changed:
		return waits(ctx, nil, gathers)
	case <-time.After(every):
	case <-ctx.Done():
		return false
	}
	return true
}

// say tells a watcher something; false is that it listens no longer.
func say(ctx context.Context, out chan<- Batch, b Batch) bool {
	select {
	case out <- b:
		return true
	case <-ctx.Done():
		return false
	}
}

// silentWorker is for how long a run's worker has shown no sign of life though it could have.
type silentWorker struct{ since time.Time }

// showsWithin is how soon a worker shows that it lives once it can again.
const showsWithin = 2 * time.Second

// lost reports that a run has lost its worker. As long as somebody holds the database, nobody can show that they live, so that
// one is lost for sure only if it stays silent when nobody does, or if its process is gone.
func (s *silentWorker) lost(ctx context.Context, at Store, r store.Run, now time.Time) bool {
	switch {
	case !Abandoned(r, now):
		s.since = time.Time{}
		return false
	case WorkerGone(r.Worker):
		return true
	case at.Busy(ctx):
		s.since = time.Time{}
		return false
	case s.since.IsZero():
		s.since = now
	}
	return now.Sub(s.since) > showsWithin
}
