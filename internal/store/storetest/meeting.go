package storetest

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/quota"
	"andamio/internal/core/run"
	"andamio/internal/core/trail"
	"andamio/internal/store"
)

// oneOfTwoRunsIsClaimed has two workers want one run each of the same deployment, at the same moment, again and again.
func oneOfTwoRunsIsClaimed(t *testing.T, open Opener) {
	path := fresh(t)
	stores := []store.Store{open(t, path), open(t, path)}
	for range 12 {
		first := newRun(t, stores[0])
		r, err := stores[0].Run(ctx, first)
		require.NoError(t, err)
		ids := []int64{first, anotherRun(t, stores[0], r.Plan, r.Deployment)}
		errs := make([]error, len(ids))
		var group sync.WaitGroup
		for i, id := range ids {
			group.Go(func() { _, errs[i] = stores[i].Claim(ctx, id, 0, store.WorkerOn("host", 100+i), alive) })
		}
		group.Wait()
		got := 0
		for _, err := range errs {
			if err == nil {
				got++
				continue
			}
			assert.ErrorIs(t, err, store.ErrTaken)
		}
		require.Equal(t, 1, got, "%v", errs)
	}
}

// oneOfManyReserves has many runs want the same address at the same moment.
func oneOfManyReserves(t *testing.T, open Opener) {
	path := fresh(t)
	stores := []store.Store{open(t, path), open(t, path)}
	for round := range 6 {
		var group sync.WaitGroup
		got := make(chan int64, 8)
		for i := range 4 {
			id := newRun(t, stores[i%2])
			group.Go(func() {
				if err := stores[i%2].Reserve(ctx, id, []store.Reservation{{Site: "hall", Value: fmt.Sprint("10.0.0.", round)}, {Site: "hall", Value: fmt.Sprint("vlan ", round)}}); err == nil {
					got <- id
				} else {
					assert.ErrorContains(t, err, "is held by run")
				}
			})
		}
		group.Wait()
		require.Len(t, got, 1)
		id := <-got
		held, err := stores[0].Reservations(ctx)
		require.NoError(t, err)
		mine := 0
		for _, h := range held {
			if h.Run == id {
				mine++
			}
		}
		assert.Equal(t, 2, mine, "all that it asked for")
	}
}

// aDeliveryIsTakenByOne has many take what is to be told.
func aDeliveryIsTakenByOne(t *testing.T, open Opener) {
	path := fresh(t)
	stores := []store.Store{open(t, path), open(t, path), open(t, path)}
	now := time.Now()
	const there = 20
	for i := range there {
		d := store.Delivery{Hook: "mail", At: now.Add(-time.Minute)}
		d.Event.ID = fmt.Sprint("e", i)
		_, err := stores[0].Enlist(ctx, d)
		require.NoError(t, err)
	}
	var group sync.WaitGroup
	var mu sync.Mutex
	taken := map[int64]int{}
	for _, s := range stores {
		group.Go(func() {
			for {
				d, err := s.TakeDelivery(ctx, now, now.Add(-time.Hour))
				if errors.Is(err, store.ErrNotFound) {
					return
				}
				if !assert.NoError(t, err) {
					return
				}
				mu.Lock()
				taken[d.ID]++
				mu.Unlock()
			}
		})
	}
	group.Wait()
	assert.Len(t, taken, there)
	for id, n := range taken {
		assert.Equal(t, 1, n, "delivery %d", id)
	}
}

// textsFromOutsideAreKept has texts that no database of texts would take: what they hold is told otherwise, and what was noted is whole.
func textsFromOutsideAreKept(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	hostile := "caf\xe9 \x00 '; DROP TABLE runs; -- ? $1 \\ \U0001F30A"
	e, err := s.Note(ctx, trail.Entry{At: time.Now(), Actor: guard.Actor{Name: hostile, Way: guard.Command}, Act: guard.BeginRun, On: hostile, Note: hostile, Failed: hostile})
	require.NoError(t, err)
	all, err := s.Trail(ctx, 0, 10)
	require.NoError(t, err)
	require.Equal(t, []trail.Entry{e}, all)
	v, err := s.VerifyTrail(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, v.Wrong)
	id := newRun(t, s)
	j, err := s.Journal(ctx, id, 0)
	require.NoError(t, err)
	require.NoError(t, j.Append(run.Event{Kind: run.Logged, Step: hostile, Text: hostile}))
	require.NoError(t, j.Close())
	events, err := s.Events(ctx, id, 0, 10)
	require.NoError(t, err)
	require.Len(t, events, 1)
	assert.Contains(t, events[0].Text, "DROP TABLE runs; -- ? $1 \\ \U0001F30A")
	_, err = s.CreateDeployment(ctx, hostile, hostile, guard.Owner{Person: hostile})
	assert.NoError(t, err)
}

// whoeverWaitsIsTold holds that what tells of changes tells of those of another process, and that what does not says so.
func whoeverWaitsIsTold(t *testing.T, open Opener) {
	path := fresh(t)
	here, there := open(t, path), open(t, path)
	id := newRun(t, there)
	if here.Changed(store.TopicTrail) == nil {
		return // it is looked at now and then
	}
	j, err := there.Journal(ctx, id, 0)
	require.NoError(t, err)
	defer j.Close()
	for _, c := range []struct {
		of     store.Topic
		change func() error
	}{
		{store.TopicTrail, func() error {
			_, err := there.Note(ctx, trail.Entry{At: time.Now(), Act: guard.BeginRun, On: "x"})
			return err
		}},
		{store.TopicRun(id), func() error { return j.Append(run.Event{Kind: run.Logged}) }},
		{store.TopicRun(id), func() error { return there.Cancel(ctx, id) }},
		{store.TopicRun(id), func() error { _, err := there.Claim(ctx, id, 0, "host/1", alive); return err }},
	} {
		for settled := false; !settled; { // whoever waits is told once that it may have missed something
			select {
			case <-here.Changed(c.of):
			case <-time.After(300 * time.Millisecond):
				settled = true
			}
		}
		told, other := here.Changed(c.of), here.Changed(store.TopicRun(id+1000))
		require.NoError(t, c.change())
		select {
		case <-told:
		case <-time.After(20 * time.Second):
			require.Fail(t, "nobody told", string(c.of))
		}
		select {
		case <-other:
			assert.Fail(t, "what did not change is told")
		default:
		}
	}
}

// Many processes, not many of one, ask a store: what is held between them holds whatever one process knows.
const (
	processes  = 8
	asksOfEach = 125
	fitOfThese = 400
	notesOfAll = 10
)

// Processes has a test open the store at an address in many processes, each of which runs the test of that name once more: they note what they do, want the same run, and
// take from one quota. One gets the run, as many take as fit, and nothing is lost. Env is the variable that tells them the address.
func Processes(t *testing.T, test, env, address string, open func(t *testing.T, address string) store.Store) {
	if at := os.Getenv(env); at != "" {
		besideOthers(t, open(t, at))
		return
	}
	s := open(t, address)
	id := newRun(t, s)
	var group sync.WaitGroup
	for range processes {
		group.Go(func() {
			cmd := exec.CommandContext(t.Context(), os.Args[0], "-test.run=^"+test+"$")
			cmd.Env = append(os.Environ(), env+"="+address)
			out, err := cmd.CombinedOutput()
			assert.NoError(t, err, string(out))
		})
	}
	group.Wait()
	r, err := s.Run(ctx, id)
	require.NoError(t, err)
	assert.EqualValues(t, 1, r.Epoch, "one of them got it")
	v, err := s.VerifyTrail(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, v.Wrong)
	assert.EqualValues(t, processes*notesOfAll+1, v.Last().Seq, "and noted that")
	takes, err := s.Takes(ctx)
	require.NoError(t, err)
	uses := quota.Uses(takes, time.Now())
	require.Len(t, uses, 1)
	assert.Equal(t, quota.Use{Account: "team", Measure: quota.Cores, Most: fitOfThese, Held: fitOfThese}, uses[0])
}

// besideOthers is what each of the processes does.
func besideOthers(t *testing.T, s store.Store) {
	note := func(act guard.Act) {
		_, err := s.Note(ctx, trail.Entry{At: time.Now(), Actor: guard.Actor{Name: "ana", Way: guard.Command}, Act: act, On: "run 1"})
		require.NoError(t, err)
	}
	for range notesOfAll {
		note(guard.Confirm)
	}
	switch _, err := s.Claim(ctx, 1, 0, store.WorkerOn("host", os.Getpid()), alive); {
	case err == nil:
		note(guard.BeginRun)
	default:
		require.ErrorIs(t, err, store.ErrTaken)
	}
	for range asksOfEach {
		_, err := s.HoldQuota(ctx, store.Hold{Request: 1, State: quota.Held, At: time.Now()}, []quota.Take{{Account: "team", Measure: quota.Cores, Amount: 1, Most: fitOfThese}})
		var over *quota.Overrun
		if err != nil {
			require.ErrorAs(t, err, &over)
		}
	}
}
