package storetest

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/clock"
	"andamio/internal/core/guard"
	"andamio/internal/store"
)

func holderLives(store.Lease) bool { return true }

func aLeaseHasOneHolder(t *testing.T, open Opener) {
	name := fresh(t)
	s := open(t, name)
	_, err := s.Lease(ctx, "serve")
	require.ErrorIs(t, err, store.ErrNotFound)
	var got atomic.Int64
	var group sync.WaitGroup
	for i := range 6 {
		other := open(t, name)
		group.Go(func() {
			_, err := other.TakeLease(ctx, "serve", store.WorkerOn("host", i+1), "here", noon, noon.Add(-time.Minute), holderLives)
			if err == nil {
				got.Add(1)
				return
			}
			assert.ErrorIs(t, err, store.ErrTaken)
		})
	}
	group.Wait()
	assert.EqualValues(t, 1, got.Load())
	l, err := s.Lease(ctx, "serve")
	require.NoError(t, err)
	assert.EqualValues(t, 1, l.Epoch)
	assert.Equal(t, "here", l.Note)

	later := noon.Add(time.Minute)
	require.NoError(t, s.HoldLease(ctx, "serve", 1, later))
	_, err = s.TakeLease(ctx, "serve", "b/1", "", later, later.Add(-time.Second), holderLives)
	require.ErrorIs(t, err, store.ErrTaken, "it has just shown that it lives")
	epoch, err := s.TakeLease(ctx, "serve", "b/1", "", later.Add(time.Minute), later.Add(time.Second), holderLives)
	require.NoError(t, err, "it was silent")
	assert.EqualValues(t, 2, epoch)
	require.ErrorIs(t, s.HoldLease(ctx, "serve", 1, later), store.ErrTaken, "the one before hears of it")
	require.ErrorIs(t, s.LeaveLease(ctx, "serve", 1), store.ErrTaken)
	epoch, err = s.TakeLease(ctx, "serve", "c/1", "", later.Add(time.Minute), later, func(store.Lease) bool { return false })
	require.NoError(t, err, "it is known to be gone")
	require.NoError(t, s.LeaveLease(ctx, "serve", epoch))
	l, err = s.Lease(ctx, "serve")
	require.NoError(t, err)
	assert.True(t, l.Beat.IsZero())
	_, err = s.TakeLease(ctx, "serve", "d/1", "", later.Add(time.Minute), later, holderLives)
	require.NoError(t, err, "it was given back")
}

func whatIsDueIsRegisteredOnce(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	d := clock.Due{Kind: "survey", Subject: "vega", Rule: "FREQ=HOURLY", Zone: "UTC", Start: noon, By: guard.Actor{Name: "ana", Way: guard.Screen}, Seen: noon}
	id, err := s.Register(ctx, d)
	require.NoError(t, err)
	d.ID = id
	d.Seen = noon.Add(time.Hour)
	again, err := s.Register(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, id, again)
	all, err := s.Dues(ctx)
	require.NoError(t, err)
	d.Seen = noon
	assert.Equal(t, []clock.Due{d}, all, "what was seen to stays so, for the same rule")
	d.Rule, d.Seen = "FREQ=DAILY", noon.Add(2*time.Hour)
	_, err = s.Register(ctx, d)
	require.NoError(t, err)
	all, err = s.Dues(ctx)
	require.NoError(t, err)
	assert.Equal(t, []clock.Due{d}, all, "another rule counts from then on")
	require.NoError(t, s.Unregister(ctx, "survey", "vega"))
	require.NoError(t, s.Unregister(ctx, "survey", "vega"), "gone is gone")
	all, err = s.Dues(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
}

func whatIsDueIsDoneAtMostOnce(t *testing.T, open Opener) {
	name := fresh(t)
	s := open(t, name)
	id, err := s.Register(ctx, clock.Due{Kind: "survey", Subject: "vega", Rule: "FREQ=HOURLY", Start: noon, Seen: noon})
	require.NoError(t, err)
	epoch, err := s.TakeLease(ctx, "serve", "a/1", "", noon, noon, holderLives)
	require.NoError(t, err)
	f := store.Firing{Due: id, At: noon.Add(time.Hour), Kind: "survey", Subject: "vega", State: store.FiringGoing, Missed: 2, Began: noon.Add(61 * time.Minute)}
	var mine atomic.Int64
	var group sync.WaitGroup
	for range 6 {
		other := open(t, name)
		group.Go(func() {
			got, err := other.Fire(ctx, "serve", epoch, f)
			assert.NoError(t, err)
			if got {
				mine.Add(1)
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 1, mine.Load())
	all, err := s.Dues(ctx)
	require.NoError(t, err)
	assert.Equal(t, f.At, all[0].Seen)
	f.State, f.Ended, f.Again, f.Note = store.FiringFailed, noon.Add(62*time.Minute), noon.Add(63*time.Minute), "silent"
	require.NoError(t, s.EndFiring(ctx, f))
	f.Began = noon.Add(63 * time.Minute)
	got, err := s.Fire(ctx, "serve", epoch, store.Firing{Due: id, At: f.At, State: store.FiringGoing, Began: f.Began})
	require.NoError(t, err)
	assert.True(t, got, "what is to be tried again is")
	f.State, f.Note, f.Tries = store.FiringHeld, "the season", 2
	require.NoError(t, s.EndFiring(ctx, f))
	f.Began = noon.Add(70 * time.Minute)
	got, err = s.Fire(ctx, "serve", epoch, store.Firing{Due: id, At: f.At, State: store.FiringGoing, Began: f.Began})
	require.NoError(t, err)
	assert.True(t, got, "and what is held is")
	f.State, f.Again, f.Note, f.Tries = store.FiringDone, time.Time{}, "12 things", 3
	require.NoError(t, s.EndFiring(ctx, f))
	got, err = s.Fire(ctx, "serve", epoch, f)
	require.NoError(t, err)
	assert.False(t, got, "what is done is not")
	last, err := s.Firings(ctx, 10)
	require.NoError(t, err)
	assert.Equal(t, []store.Firing{f}, last)
	_, err = s.TakeLease(ctx, "serve", "b/1", "", noon.Add(time.Hour), noon.Add(time.Hour), holderLives)
	require.NoError(t, err)
	_, err = s.Fire(ctx, "serve", epoch, store.Firing{Due: id, At: noon.Add(2 * time.Hour)})
	require.ErrorIs(t, err, store.ErrTaken, "who has lost the lease does nothing more")
	require.ErrorIs(t, s.EndFiring(ctx, store.Firing{Due: id, At: noon}), store.ErrNotFound)
}
