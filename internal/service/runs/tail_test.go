package runs

import (
	"context"
	"maps"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// growing is a store of one run whose journal grows, and which counts how often it is read; it tells of what changes if it is to.
type growing struct {
	Store
	tells bool

	mu      sync.Mutex
	run     store.Run
	events  []run.Event
	changed chan struct{}
	reads   atomic.Int64
}

func (g *growing) Run(context.Context, int64) (store.Run, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.run, nil
}

func (g *growing) Events(_ context.Context, _, after int64, limit int) ([]run.Event, error) {
	g.reads.Add(1)
	g.mu.Lock()
	defer g.mu.Unlock()
	from := min(int(after), len(g.events))
	out := append([]run.Event(nil), g.events[from:min(from+limit, len(g.events))]...)
	for i := range out {
		out[i].Attributes = maps.Clone(out[i].Attributes) // each reading is the reader's own
	}
	return out, nil
}

func (g *growing) Busy(context.Context) bool { return false }

func (g *growing) Changed(store.Topic) <-chan struct{} {
	if !g.tells {
		return nil
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.changed == nil {
		g.changed = make(chan struct{})
	}
	return g.changed
}

// grow adds so many events; the last of all end the run.
func (g *growing) grow(n int, end bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for range n {
		g.events = append(g.events, run.Event{Seq: int64(len(g.events) + 1), Attributes: map[string]string{"level": "2.10"}})
	}
	g.run.State, g.run.Beat = run.UnderWay, time.Now()
	if end {
		g.run.State, g.run.Ended = run.Standing, time.Now()
	}
	if g.changed != nil {
		close(g.changed)
		g.changed = nil
	}
}

// TestManyWatchersHearEachEventOnce has many watch one run from different events on, while it grows in pieces of any size: each hears all that is after its own, once and in order, and that it is over; and what they are given is their own.
func TestManyWatchersHearEachEventOnce(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(rt *rapid.T) {
		sizes := rapid.SliceOfN(rapid.SampledFrom([]int{0, 1, 3, deployments.MaxBatch - 1, deployments.MaxBatch, 2*deployments.MaxBatch + 5}), 1, 4).Draw(rt, "sizes")
		afters := rapid.SliceOfN(rapid.IntRange(0, 3), 1, 6).Draw(rt, "after")
		g := &growing{tells: rapid.Bool().Draw(rt, "tells")}
		g.grow(3, false)
		svc := &Service{store: g, tails: &Tails{}}
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		var group sync.WaitGroup
		heard := make([][]run.Event, len(afters))
		over := make([]bool, len(afters))
		for i, after := range afters {
			out := make(chan Batch)
			group.Go(func() { svc.watch(ctx, 7, int64(after), out); close(out) })
			group.Go(func() {
				for b := range out {
					for _, e := range b.Events {
						e.Attributes["mine"] = "yes"
					}
					heard[i], over[i] = append(heard[i], b.Events...), b.Last
				}
			})
		}
		for i, n := range sizes {
			g.grow(n, i == len(sizes)-1)
		}
		group.Wait()
		for i, after := range afters {
			if !over[i] || len(heard[i]) != len(g.events)-after {
				rt.Fatalf("who watched after %d heard %d events of %d, over: %t", after, len(heard[i]), len(g.events)-after, over[i])
			}
			for k, e := range heard[i] {
				if e.Seq != int64(after+k+1) {
					rt.Fatalf("who watched after %d heard event %d as number %d", after, e.Seq, k)
				}
			}
		}
		if len(svc.tails.all) > 0 {
			rt.Fatalf("what nobody watches is kept")
		}
	})
}

// TestManyWatchersReadOnce has forty watch a run that grows for a while: it is read hardly more often than for one.
func TestManyWatchersReadOnce(t *testing.T) {
	t.Parallel()
	g := &growing{tells: true}
	g.grow(1, false)
	svc := &Service{store: g, tails: &Tails{}}
	var group sync.WaitGroup
	for range 40 {
		out := make(chan Batch)
		group.Go(func() { svc.watch(t.Context(), 7, 0, out); close(out) })
		group.Go(func() {
			n := 0
			for b := range out {
				n += len(b.Events)
			}
			assert.Equal(t, 31, n)
		})
	}
	begun := time.Now()
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for i := range 30 {
		<-tick.C
		g.grow(1, i == 29)
	}
	group.Wait()
	most := int64(2*time.Since(begun)/gathers) + 45 // each may be far behind once
	require.LessOrEqual(t, g.reads.Load(), most)
}
