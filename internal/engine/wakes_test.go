package engine

import (
	"context"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/run"
	"andamio/internal/site"
)

func TestAWakeIsHeardEarlyOftenAndByTheRightOneOnly(t *testing.T) {
	w := NewWakes()
	w.Pushes("vega")
	assert.True(t, w.pushed("vega"))
	assert.False(t, w.pushed("presa"))
	w.Wake("vega", "7") // before anybody waits
	early, stop := w.wait("vega", "7")
	defer stop()
	require.Len(t, early, 1)
	<-early
	other, stopOther := w.wait("presa", "7")
	defer stopOther()
	for range 5 { // repeats do no harm
		w.Wake("vega", "7")
	}
	assert.Len(t, early, 1)
	assert.Empty(t, other, "another site's thing of the same id")
	for range 3 * maxEarly {
		w.Wake("vega", "unknown")
	}
	assert.LessOrEqual(t, len(w.early), maxEarly)
}

// TestASiteThatPushesIsAskedOnce builds at a site that takes ten seconds and says so: it is read once, when it is woken,
// and not before. Time is simulated.
func TestASiteThatPushesIsAskedOnce(t *testing.T) {
	key := signer(t)
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		done := false
		s := &scripted{create: func(r site.Request) (site.Resource, error) {
			return site.Resource{Kind: r.Kind, ID: "n1", State: site.Accepted, Word: "accepted"}, nil
		}, read: func(id string, _ int) (site.Resource, error) {
			mu.Lock()
			defer mu.Unlock()
			if done {
				return site.Resource{ID: id, State: site.Active, Word: "active"}, nil
			}
			return site.Resource{ID: id, State: site.Building, Word: "building"}, nil
		}}
		p := networks(1)
		p.Steps[0].Seconds = 10
		m := &memory{}
		e := &Engine{Run: "r", Mark: "d", Plan: p, Sites: map[string]site.Site{"vega": s}, Journal: m, Key: key, Wakes: NewWakes()}
		e.Wakes.Pushes("vega")
		go func() {
			time.Sleep(11 * time.Second)
			mu.Lock()
			done = true
			mu.Unlock()
			e.Wakes.Wake("vega", "n1")
			e.Wakes.Wake("vega", "n1")
		}()
		begun := time.Now()
		require.NoError(t, e.Execute(context.Background()))
		assert.Equal(t, 11*time.Second, time.Since(begun), "as soon as the site says so")
		assert.Equal(t, 1, s.reads["n1"])
		assert.Equal(t, run.Standing, e.Outcome())
	})
}

// TestARateThatASiteShowsIsLearned has a site that takes ten calls a second, and says so to those that come sooner.
func TestARateThatASiteShowsIsLearned(t *testing.T) {
	key := signer(t)
	synctest.Test(t, func(t *testing.T) {
		var next time.Time
		refused := 0
		s := &scripted{create: func(r site.Request) (site.Resource, error) {
			if now := time.Now(); now.Before(next) {
				refused++
				return site.Resource{}, &site.Error{Site: "vega", Doing: "create", Class: site.RateLimited, After: time.Second}
			}
			next = time.Now().Add(100 * time.Millisecond)
			return active(r)
		}}
		p := networks(60)
		e := &Engine{Run: "r", Mark: "d", Plan: p, Sites: map[string]site.Site{"vega": s}, Journal: &memory{}, Key: key}
		require.NoError(t, e.Execute(context.Background()))
		assert.Equal(t, run.Standing, e.Outcome(), "no step failed for it")
		assert.Less(t, refused, 120, "after a while calls come as the site takes them: %d were refused", refused)
	})
}

// TestASiteThatAsksForHoursIsWaitedForMinutes has a site ask to be left alone for a day: it is asked again after five
// minutes, or as soon as somebody says so, and both are said.
func TestASiteThatAsksForHoursIsWaitedForMinutes(t *testing.T) {
	key := signer(t)
	for _, hurried := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			calls := 0
			s := &scripted{create: func(r site.Request) (site.Resource, error) {
				if calls++; calls == 1 {
					return site.Resource{}, &site.Error{Site: "vega", Doing: "create", Class: site.RateLimited, After: 24 * time.Hour}
				}
				return active(r)
			}}
			p := networks(1)
			m := &memory{}
			decisions := make(chan Decision)
			e := &Engine{Run: "r", Mark: "d", Plan: p, Sites: map[string]site.Site{"vega": s}, Journal: m, Key: key, Decisions: decisions,
				Patience: Patience{Least: time.Hour, Times: 15, Wait: time.Second, Most: time.Second, Tries: 3}}
			if hurried {
				go func() {
					time.Sleep(10 * time.Second)
					decisions <- Decision{Step: p.Steps[0].ID, Verb: run.Retry}
				}()
			}
			begun := time.Now()
			require.NoError(t, e.Execute(context.Background()))
			took := time.Since(begun)
			if hurried {
				assert.Equal(t, 10, int(took.Seconds()))
			} else {
				assert.Equal(t, 300, int(took.Seconds()))
			}
			said := ""
			for _, ev := range m.events {
				said += ev.Text + "\n"
			}
			assert.Contains(t, said, "asks to be left alone for 24h0m0s, which is more than the 5m0s it gets; retrying the step asks again now")
			assert.Equal(t, hurried, strings.Contains(said, "somebody said so"))
			assert.Equal(t, run.Standing, e.Outcome())
		})
	}
}
