package storetest

import (
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/hook"
	"andamio/internal/store"
)

// whatAHookTellsIsTakenTogether has two users take what one hook is to tell, as many at a time: each goes to one of them, nothing is taken that is another's, not due, or taken.
func whatAHookTellsIsTakenTogether(t *testing.T, open Opener) {
	name := fresh(t)
	users := []store.Store{open(t, name), open(t, name)}
	for i := range 30 {
		at := noon
		if i >= 27 {
			at = noon.Add(time.Hour)
		}
		_, err := users[0].Enlist(ctx, store.Delivery{Hook: []string{"a", "b", "a"}[i%3], Event: hook.Event{ID: fmt.Sprint("log-", i), Type: hook.LogNoted, At: at}, At: at})
		require.NoError(t, err)
	}
	one, err := users[0].TakeDelivery(ctx, noon, noon.Add(-time.Minute))
	require.NoError(t, err)
	require.Equal(t, "log-0", one.Event.ID)
	var group sync.WaitGroup
	var mu sync.Mutex
	taken := map[string]int{}
	for _, u := range users {
		group.Go(func() {
			for {
				got, err := u.TakeDeliveriesOf(ctx, "a", 4, noon)
				assert.NoError(t, err)
				assert.LessOrEqual(t, len(got), 4)
				assert.True(t, slices.IsSortedFunc(got, func(a, b store.Delivery) int { return int(a.ID - b.ID) }))
				mu.Lock()
				for _, d := range got {
					taken[d.Event.ID]++
					assert.Equal(t, []any{"a", store.DeliverySending, 1}, []any{d.Hook, d.State, d.Tries})
				}
				mu.Unlock()
				if len(got) == 0 || err != nil {
					return
				}
			}
		})
	}
	group.Wait()
	assert.Len(t, taken, 17, "of 18 that are due one was taken before")
	for id, n := range taken {
		assert.Equal(t, 1, n, id)
	}
	rest, err := users[1].TakeDeliveriesOf(ctx, "a", 10, noon.Add(time.Hour))
	require.NoError(t, err)
	assert.Len(t, rest, 2, "which are due now")
}

// anEventIsToldOnceByEachHook has two users enlist the same events at once and see to them at once; what failed waits, what broke off is taken up
// by another, and what was taken up by another is not settled.
func anEventIsToldOnceByEachHook(t *testing.T, open Opener) {
	name := fresh(t)
	users := []store.Store{open(t, name), open(t, name)}
	s := users[0]
	var group sync.WaitGroup
	var mu sync.Mutex
	enlisted, taken := 0, map[int64]int{}
	for _, u := range users {
		group.Go(func() {
			for i := range 20 {
				first, err := u.Enlist(ctx, store.Delivery{Hook: []string{"a", "b"}[i%2], Event: hook.Event{ID: fmt.Sprint("run-", i/2), Type: hook.RunStands, At: noon, Tags: map[string]string{"x": "y"}}, At: noon})
				assert.NoError(t, err)
				mu.Lock()
				if first {
					enlisted++
				}
				mu.Unlock()
			}
			for {
				d, err := u.TakeDelivery(ctx, noon, noon.Add(-time.Minute))
				if err != nil {
					assert.ErrorIs(t, err, store.ErrNotFound)
					return
				}
				mu.Lock()
				taken[d.ID]++
				mu.Unlock()
			}
		})
	}
	group.Wait()
	assert.Equal(t, 20, enlisted)
	assert.Len(t, taken, 20)
	for id, n := range taken {
		assert.Equal(t, 1, n, id)
	}
	all, err := s.Deliveries(ctx, 5)
	require.NoError(t, err)
	require.Len(t, all, 5)
	d := all[0]
	assert.Equal(t, []any{"b", "run-9", hook.RunStands, store.DeliverySending, 1, map[string]string{"x": "y"}}, []any{d.Hook, d.Event.ID, d.Event.Type, d.State, d.Tries, d.Event.Tags})

	d.State, d.Next, d.Note = store.DeliveryWaiting, noon.Add(time.Minute), "503"
	require.NoError(t, s.SettleDelivery(ctx, d))
	_, err = s.TakeDelivery(ctx, noon.Add(30*time.Second), noon.Add(-time.Minute))
	require.ErrorIs(t, err, store.ErrNotFound, "it waits")
	again, err := s.TakeDelivery(ctx, noon.Add(time.Minute), noon.Add(-time.Minute))
	require.NoError(t, err)
	assert.Equal(t, []any{d.ID, 2, "503"}, []any{again.ID, again.Tries, again.Note})
	broke, err := s.TakeDelivery(ctx, noon.Add(time.Hour), noon.Add(2*time.Minute))
	require.NoError(t, err)
	assert.Equal(t, "broke off", broke.Note, "whoever sent it is silent")
	broke.Tries--
	broke.State = store.DeliverySent
	require.NoError(t, s.SettleDelivery(ctx, broke))
	broke.Tries++
	broke.State = store.DeliveryFailed
	require.NoError(t, s.SettleDelivery(ctx, broke))
	require.ErrorIs(t, s.ResendDelivery(ctx, again.ID, noon), store.ErrNotFound, "it is being sent")
	require.NoError(t, s.ResendDelivery(ctx, broke.ID, noon), "who was replaced settled nothing")

	require.NoError(t, s.SetHooks(ctx, []string{"a", "b"}, noon))
	require.NoError(t, s.SetHooks(ctx, []string{"b", "c"}, noon.Add(time.Hour)))
	since, err := s.HooksSince(ctx)
	require.NoError(t, err)
	require.Len(t, since, 2)
	assert.True(t, since["b"].Equal(noon) && since["c"].Equal(noon.Add(time.Hour)))
	require.NoError(t, s.SetHooks(ctx, nil, noon))
	since, err = s.HooksSince(ctx)
	require.NoError(t, err)
	assert.Empty(t, since)
}
