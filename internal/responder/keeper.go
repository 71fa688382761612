package responder

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"andamio/internal/core/front"
)

// How often each member is asked, and how long one answer may take. With the second look at what is doubted, what has fallen silent is known to be down within two seconds.
const (
	every  = 500 * time.Millisecond
	within = 700 * time.Millisecond
)

// Keeper asks all members of fronts again and again, and has a responder answer by what they say.
type Keeper struct {
	Responder *Responder
	// Ask asks one member once.
	Ask func(ctx context.Context, m front.Member) (said string, good bool)
	// Changed hears of each table that is other than the one before; it may be nil.
	Changed func(t *front.Table)

	mu     sync.Mutex
	wanted *front.Table
	asked  map[string]*asking
	group  sync.WaitGroup
}

// asking is a member that is asked.
type asking struct {
	member front.Member
	health front.Health
	says   string
	stop   context.CancelFunc
}

// Want has it ask the members of a table from now on, until the context ends, and forget all others. Members that it did not know are up as far as the table says so.
func (k *Keeper) Want(ctx context.Context, t *front.Table) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.wanted = t
	if k.asked == nil {
		k.asked = map[string]*asking{}
	}
	wanted := map[string]bool{}
	for _, all := range t.Members {
		for _, m := range all {
			wanted[m.Key()] = true
			if known := k.asked[m.Key()]; known != nil {
				known.member = m
				continue
			}
			ctx, stop := context.WithCancel(ctx)
			k.asked[m.Key()] = &asking{m, front.Health{Up: m.Up, Since: m.Since}, m.Says, stop}
			k.group.Go(func() { k.watch(ctx, m.Key()) })
		}
	}
	for key, x := range k.asked {
		if !wanted[key] {
			x.stop()
			delete(k.asked, key)
		}
	}
	k.publish()
}

// Wait waits until nothing is asked any more, once the contexts have ended.
func (k *Keeper) Wait() { k.group.Wait() }

// watch asks one member until it is not wanted any more.
func (k *Keeper) watch(ctx context.Context, key string) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		if k.look(ctx, key) { // it is doubted: once more, at once
			k.look(ctx, key)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// look asks a member once, and reports that what it said is doubted.
func (k *Keeper) look(ctx context.Context, key string) (doubted bool) {
	k.mu.Lock()
	x := k.asked[key]
	if x == nil {
		k.mu.Unlock()
		return false
	}
	m := x.member
	k.mu.Unlock()
	limited, cancel := context.WithTimeout(ctx, within)
	said, good := k.Ask(limited, m)
	cancel()
	if ctx.Err() != nil { // it is not known what it would have said
		return false
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.asked[key] != x {
		return false
	}
	x.says = said
	if x.health.Step(good, time.Now()) {
		k.publish()
	}
	return x.health.Doubted()
}

// publish has the responder answer by what is known now. The lock is held.
func (k *Keeper) publish() {
	t := *k.wanted
	t.Members, t.At = map[string][]front.Member{}, time.Now().UTC()
	for _, name := range slices.Sorted(maps.Keys(k.wanted.Members)) {
		for _, m := range k.wanted.Members[name] {
			x := k.asked[m.Key()]
			m.Up, m.Since, m.Says = x.health.Up, x.health.Since, x.says
			t.Members[name] = append(t.Members[name], m)
		}
	}
	k.Responder.Set(&t)
	if k.Changed != nil {
		k.Changed(&t)
	}
}
