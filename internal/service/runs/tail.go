package runs

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// Tails are the ends of the journals of runs that somebody watches: many who look at one run read it once.
type Tails struct {
	mu  sync.Mutex
	all map[int64]*tail
}

// tail is the end of a run's journal.
type tail struct {
	watchers int

	mu sync.Mutex
	// r is the run as it was before its events were read last, at a time; silent says that it had lost its worker then.
	r      store.Run
	at     time.Time
	lost   silentWorker
	silent bool
	// events are the last ones; after is the one before them.
	events []run.Event
	after  int64
	// begun says that it was read, whole that nothing was beyond then; changed is closed once something may be.
	begun, whole bool
	changed      <-chan struct{}
}

// mostKept bounds how many events of a run are kept; whoever is further behind reads for themselves.
const mostKept = 4 * deployments.MaxBatch

// join is the tail of a run, which is kept as long as somebody is there.
func (t *Tails) join(id int64) *tail {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil {
		t.all = map[int64]*tail{}
	}
	if t.all[id] == nil {
		t.all[id] = &tail{}
	}
	t.all[id].watchers++
	return t.all[id]
}

func (t *Tails) leave(id int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if x := t.all[id]; x != nil {
		if x.watchers--; x.watchers == 0 {
			delete(t.all, id)
		}
	}
}

// batch is what follows an event of a run, with what is closed when there may be more of it, nil where nobody tells; again says that there is more already. What was read by another watcher no longer ago than what happens
// is left to grow for is not read again.
func (t *tail) batch(ctx context.Context, svc *Service, id, after int64) (b Batch, changed <-chan struct{}, again bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if now := time.Now(); now.Sub(t.at) >= gathers {
		if err := t.read(ctx, svc, id, after, now); err != nil {
			return Batch{Err: err}, nil, false
		}
	}
	if after < t.after { // far behind
		events, err := svc.store.Events(ctx, id, after, deployments.MaxBatch)
		return Batch{Events: events, Err: err, Silent: t.silent}, nil, true
	}
	events, more := t.following(after)
	return Batch{Events: events, Silent: t.silent, Last: t.whole && !more && !t.r.Ended.IsZero()}, t.changed, more || !t.whole
}

// read reads what there is beyond what is kept. A tail that was never read begins after an event.
func (t *tail) read(ctx context.Context, svc *Service, id, after int64, now time.Time) error {
	changed := svc.store.Changed(store.TopicRun(id)) // before it is looked, so that nothing is missed
	r, err := svc.store.Run(ctx, id)                 // before the events: what ended before is then sure to be among them
	if err != nil {
		return err
	}
	if !t.begun {
		t.begun, t.after = true, after
	}
	events, err := svc.store.Events(ctx, id, t.last(), deployments.MaxBatch)
	if err != nil {
		return err
	}
	t.r, t.changed, t.whole, t.silent = r, changed, len(events) < deployments.MaxBatch, t.lost.lost(ctx, svc.store, r, now)
	t.events = append(t.events, events...)
	if over := len(t.events) - mostKept; over > 0 {
		t.after = t.events[over-1].Seq
		t.events = slices.Clone(t.events[over:])
	}
	if t.whole { // what is beyond is read at once
		t.at = now
	}
	return nil
}

// last is the event up to which was read.
func (t *tail) last() int64 {
	if len(t.events) == 0 {
		return t.after
	}
	return t.events[len(t.events)-1].Seq
}

// following are the kept events after one, so many at once, and whether there are more. They are the caller's own.
func (t *tail) following(after int64) (out []run.Event, more bool) {
	from, _ := slices.BinarySearchFunc(t.events, after+1, func(e run.Event, seq int64) int { return cmp.Compare(e.Seq, seq) })
	all := t.events[from:]
	if len(all) == 0 {
		return nil, false
	}
	if more = len(all) > deployments.MaxBatch; more {
		all = all[:deployments.MaxBatch]
	}
	out = slices.Clone(all)
	for i := range out {
		out[i].Attributes = maps.Clone(out[i].Attributes)
	}
	return out, more
}
