package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/run"
	"andamio/internal/reach"
	"andamio/internal/site"
)

// closed is a way to a site through workers, of whom none is there until a test says so.
type closed struct {
	mu       sync.Mutex
	there    bool
	looks    int
	patience time.Duration
	// back is after how many looks one is there; 0 is never.
	back int
}

func (c *closed) Absent(_ context.Context, site string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.looks++; c.back > 0 && c.looks > c.back {
		c.there = true
	}
	return site == "vega" && !c.there
}

func (c *closed) Whom(string) (string, time.Duration) { return "dam floor=2", c.patience }

// dial is what a driver is told that asks the site.
func (c *closed) dial() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.there {
		return nil
	}
	return fmt.Errorf("connect: %w", &reach.NoWay{Site: "vega", Through: reach.Through{Pool: "dam"}})
}

func texts(m *memory, kind run.EventKind) (out []string) {
	for _, e := range m.events {
		if e.Kind == kind {
			out = append(out, e.Text)
		}
	}
	return out
}

// TestAStepWaitsForAWorker has a site's only worker be gone for longer than a step may take: the step waits for one as long as the site's rule says, and is taken up again. What a site refuses is not waited for, nor what has
// another reason while a worker is there.
func TestAStepWaitsForAWorker(t *testing.T) {
	quick := Patience{Least: 60 * time.Millisecond, Times: 0.1, Wait: time.Millisecond, Most: 2 * time.Millisecond, Tries: 4}
	refused := &site.Error{Site: "vega", Doing: "create", Class: site.Refused, Detail: "no such thing"}
	for name, c := range map[string]struct {
		way    *closed
		answer func(*closed) error
		says   string // of the step's failure; "" is none
		retry  string
		asked  int
	}{
		"back in time":      {way: &closed{patience: time.Minute, back: 60}, retry: "no worker of the pool dam floor=2 is there, through whom vega is reached; the step waits 1m0s for one", asked: 2},
		"too late":          {way: &closed{patience: 50 * time.Millisecond}, says: "no worker of the pool dam floor=2 was there for 50ms", retry: "the step waits 50ms for one", asked: 1},
		"not to wait":       {way: &closed{}, says: "none is there", asked: 1},
		"refused":           {way: &closed{patience: time.Minute, back: 1000}, answer: func(*closed) error { return refused }, says: "no such thing", asked: 1},
		"a worker is there": {way: &closed{patience: time.Minute, there: true}, answer: func(*closed) error { return errors.New("broke off") }, says: "broke off", asked: 4},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			asked, mu := 0, sync.Mutex{}
			e, m := engineFor(t, networks(1), &scripted{create: func(r site.Request) (site.Resource, error) {
				mu.Lock()
				asked++
				mu.Unlock()
				answer := (*closed).dial
				if c.answer != nil {
					answer = c.answer
				}
				if err := answer(c.way); err != nil {
					return site.Resource{}, err
				}
				return active(r)
			}})
			e.Patience, e.Ways = quick, c.way
			begun := time.Now()
			err := e.Execute(ctx)
			s := state(e.Plan, m)
			if c.says == "" {
				require.NoError(t, err)
				assert.Equal(t, run.Standing, s.Status)
				assert.Greater(t, time.Since(begun), quick.Least, "that it waited was not the step's own time")
				assert.Contains(t, strings.Join(texts(m, run.StepAwaits), "\n"), "is there; the step is taken up again")
			} else {
				require.ErrorIs(t, err, ErrUnfinished)
				assert.Contains(t, s.Step("a/create").Error, c.says)
				assert.NotContains(t, texts(m, run.StepAwaits), "taken up again")
			}
			assert.Contains(t, strings.Join(texts(m, run.StepAwaits), "\n"), c.retry)
			assert.Empty(t, s.Step("a/create").Awaits, "it is over")
			assert.Equal(t, c.asked, asked)
		})
	}
}

// TestARunThatIsCancelledWaitsForNobody ends at once while a step waits for a worker.
func TestARunThatIsCancelledWaitsForNobody(t *testing.T) {
	way := &closed{patience: time.Hour}
	e, m := engineFor(t, networks(1), &scripted{create: func(site.Request) (site.Resource, error) { return site.Resource{}, way.dial() }})
	e.Patience, e.Ways = Patience{Least: time.Minute, Times: 1, Wait: time.Millisecond, Most: time.Millisecond, Tries: 2}, way
	within, cancel := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- e.Execute(within) }()
	require.Eventually(t, func() bool {
		m.mu.Lock()
		defer m.mu.Unlock()
		return len(texts(m, run.StepAwaits)) == 1
	}, 10*time.Second, time.Millisecond)
	cancel()
	require.ErrorIs(t, <-ended, ErrUnfinished)
	assert.Equal(t, run.Stopped, state(e.Plan, m).Step("a/create").Status)
}
