package storetest

import (
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/decide"
	"andamio/internal/core/guard"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/store"
)

// aRequestIsChangedByOneAtATime has two users decide a request at once, over and over: one does, and its thread says which.
func aRequestIsChangedByOneAtATime(t *testing.T, open Opener) {
	name := fresh(t)
	users := []store.Store{open(t, name), open(t, name)}
	s := users[0]
	eva := guard.Actor{Name: "eva", Way: guard.Screen}
	r := store.Request{Offer: "trial-map", Person: "eva", Owner: guard.Owner{Team: "gauging", Person: "eva", Stage: "trial"}, State: store.RequestWaiting, Created: noon, Changed: noon,
		RequestBody: store.RequestBody{Number: 2, Title: "A map", Name: "map-1", Answers: offer.Answers{"fronts": "2"}, PerHour: money.Of(0.2), Currency: "cr", Seconds: 40, Sites: []string{"vega"},
			Decision: decide.Decision{Then: decide.Ask, Need: 2, Say: "Two say yes."}, Yes: []string{"lia"}}}
	id, err := s.AddRequest(ctx, r, store.RequestEvent{At: noon, By: eva, Stage: "asked", Text: "for the open day"}, store.RequestEvent{At: noon, Rule: "two", Text: "Two say yes."})
	require.NoError(t, err)
	got, err := s.Request(ctx, id)
	require.NoError(t, err)
	r.ID = id
	assert.True(t, got.Created.Equal(noon) && got.Changed.Equal(noon))
	same := got
	same.Created, same.Changed = noon, noon
	assert.Equal(t, r, same)
	_, err = users[1].AddRequest(ctx, r)
	require.ErrorIs(t, err, store.ErrNameTaken, "of those that are not over no two have one name")
	var won atomic.Int64
	var group sync.WaitGroup
	for i := range 10 {
		group.Go(func() {
			mine := got
			mine.State, mine.Run = store.RequestBuilt, int64(i+1)
			changed, err := users[i%2].ChangeRequest(ctx, mine, store.RequestWaiting, store.RequestEvent{At: noon, By: eva, Stage: "built", Text: "yes"})
			assert.NoError(t, err)
			if changed {
				won.Add(1)
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 1, won.Load())
	thread, err := s.RequestThread(ctx, id)
	require.NoError(t, err)
	require.Len(t, thread, 3)
	assert.Equal(t, []string{"asked", "", "built"}, []string{thread[0].Stage, thread[1].Stage, thread[2].Stage})
	assert.EqualValues(t, []int64{1, 2, 3}, []int64{thread[0].Seq, thread[1].Seq, thread[2].Seq})
	assert.Equal(t, []any{eva, "two"}, []any{thread[0].By, thread[1].Rule})
	now, err := s.Request(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, store.RequestBuilt, now.State)
	stale := got
	changed, err := s.ChangeRequest(ctx, stale, store.RequestBuilt)
	require.NoError(t, err)
	assert.False(t, changed, "it was changed since it was read")
	all, err := s.Requests(ctx)
	require.NoError(t, err)
	assert.Equal(t, []store.Request{now}, all)
	_, err = s.Request(ctx, 99)
	require.ErrorIs(t, err, store.ErrNotFound)
}
