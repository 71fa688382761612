package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/reach"
	"andamio/internal/site"
)

// gate lets calls through to one site, at the rate that the site has shown it takes: when it says that there were too
// many, all calls wait as long as it asks, and come less often from then on; while it says nothing they come more often
// again.
type gate struct {
	mu sync.Mutex
	// next is when the next call may be made, every the time between two.
	next  time.Time
	every time.Duration
	// hurried is closed when somebody says not to wait.
	hurried chan struct{}
}

// newGate is a gate of which nothing is known.
func newGate() *gate { return &gate{hurried: make(chan struct{})} }

// hurry lets everything through that waits, whatever the site said.
func (g *gate) hurry() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.next = time.Time{}
	close(g.hurried)
	g.hurried = make(chan struct{})
}

// pause waits for a time, unless somebody says not to.
func (g *gate) pause(ctx context.Context, d time.Duration) error {
	g.mu.Lock()
	hurried := g.hurried
	g.mu.Unlock()
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-hurried:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// How a rate is learned: the first time between calls after a site has complained, what it is multiplied by with every
// further complaint and every success, and below what it counts as none.
const (
	firstEvery = 20 * time.Millisecond
	mostEvery  = 2 * time.Second
	leastEvery = time.Millisecond
	slower     = 2
	faster     = 0.97
)

// wait waits for a call's turn.
func (g *gate) wait(ctx context.Context) error {
	g.mu.Lock()
	now := time.Now()
	turn := now
	if g.next.After(now) {
		turn = g.next
	}
	if g.every > 0 || turn != now {
		g.next = turn.Add(g.every)
	}
	g.mu.Unlock()
	if turn == now {
		return ctx.Err()
	}
	return g.pause(ctx, turn.Sub(now))
}

// limited hears that the site takes no calls for some time.
func (g *gate) limited(after time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.every = min(max(g.every*slower, firstEvery), mostEvery)
	if until := time.Now().Add(after); until.After(g.next) {
		g.next = until
	}
}

// good hears that the site took a call.
func (g *gate) good() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.every = time.Duration(float64(g.every) * faster); g.every < leastEvery {
		g.every = 0
	}
}

// call makes a call to a step's site until it succeeds, is refused for good, or has failed too often. Between two tries
// it waits longer each time, by chance a little more or less, so that many that failed together do not come back
// together; what the site says of when to come back is obeyed, and does not count as a failure.
func (e *Engine) call(ctx context.Context, s *plan.Step, make func() error) error {
	wait := e.Patience.Wait
	for try := 1; ; {
		if err := e.gates[s.Site].wait(ctx); err != nil {
			return err
		}
		err := make()
		if err == nil {
			e.gates[s.Site].good()
			return nil
		}
		if ctx.Err() != nil {
			return err
		}
		class := site.ClassOf(err)
		var none *reach.NoWay
		if errors.As(err, &none) && none.Err == nil {
			return err // which is waited for elsewhere, and longer
		}
		if class != site.Transient && class != site.RateLimited || try >= e.Patience.Tries {
			return err
		}
		var limited *site.Error
		asked := time.Duration(0)
		text := err.Error()
		if class == site.RateLimited && errors.As(err, &limited) {
			asked = min(limited.After, mostAsked)
			text += saysWait(limited.After, asked)
		}
		if err := e.record(run.Event{Kind: run.StepRetry, Step: s.ID, Resource: s.Resource, Text: text}); err != nil {
			return err
		}
		if class == site.RateLimited {
			e.gates[s.Site].limited(asked)
			continue
		}
		try++
		if err := e.gates[s.Site].pause(ctx, wait/2+rand.N(wait)); err != nil {
			return err
		}
		wait = min(wait*2, e.Patience.Most)
	}
}

// mostAsked is the longest that a site is left alone because it asks for that; worthSaying is from when on it is said.
const (
	mostAsked   = 5 * time.Minute
	worthSaying = 5 * time.Second
)

// saysWait says how long a site is waited for, and how not to.
func saysWait(wants, gets time.Duration) string {
	switch {
	case gets < worthSaying:
		return ""
	case wants > gets:
		return fmt.Sprintf(" · it asks to be left alone for %s, which is more than the %s it gets; retrying the step asks again now", wants.Round(time.Second), gets)
	}
	return fmt.Sprintf(" · it is asked again in %s; retrying the step asks now", gets.Round(time.Second))
}

func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
