package storetest

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/offer"
	"andamio/internal/store"
)

// oneVersionOfAnOfferIsPublished has two users publish versions at once, and withdraws.
func oneVersionOfAnOfferIsPublished(t *testing.T, open Opener) {
	name := fresh(t)
	users := []store.Store{open(t, name), open(t, name)}
	s := users[0]
	version := func(note string) store.Offer {
		return store.Offer{Offer: offer.Offer{Version: offer.Version, Name: "trial-map", Title: "A map", Note: note, Inputs: map[string]any{"fronts": 2.0},
			Questions: []offer.Question{{Input: "memory", Ask: "How much?", Choices: []offer.Choice{{Value: "4 GiB", Title: "little"}}}}},
			Source: "sha256:" + note, By: guard.Actor{Name: "ana", Way: guard.Screen}, Published: time.Now().Truncate(time.Microsecond)}
	}
	first := version("first")
	n, err := s.PublishOffer(ctx, first)
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
	got, err := s.Offer(ctx, "trial-map", 1)
	require.NoError(t, err)
	first.Number, first.State = 1, store.OfferPublished
	assert.True(t, first.Published.Equal(got.Published))
	got.Published = first.Published
	assert.Equal(t, first, got, "it comes back as it was")
	var group sync.WaitGroup
	for i := range 20 {
		group.Go(func() {
			_, err := users[i%2].PublishOffer(ctx, version(fmt.Sprint(i)))
			assert.NoError(t, err)
		})
	}
	group.Wait()
	all, err := s.OfferVersions(ctx, "trial-map")
	require.NoError(t, err)
	require.Len(t, all, 21)
	for i, o := range all {
		assert.EqualValues(t, 21-i, o.Number, "each has a number of its own")
		assert.Equal(t, i == 0, o.State == store.OfferPublished)
	}
	_, err = s.PublishOffer(ctx, store.Offer{Offer: offer.Offer{Name: "a-gauge"}})
	require.NoError(t, err)
	listed, err := s.Offers(ctx)
	require.NoError(t, err)
	require.Len(t, listed, 2)
	assert.Equal(t, []any{"a-gauge", int64(21)}, []any{listed[0].Name, listed[1].Number})
	require.NoError(t, s.WithdrawOffer(ctx, "a-gauge"))
	require.ErrorIs(t, s.WithdrawOffer(ctx, "a-gauge"), store.ErrNotFound)
	require.ErrorIs(t, s.WithdrawOffer(ctx, "b-gauge"), store.ErrNotFound)
	_, err = s.Offer(ctx, "a-gauge", 7)
	require.ErrorIs(t, err, store.ErrNotFound)
	none, err := s.OfferVersions(ctx, "b-gauge")
	require.NoError(t, err)
	assert.Empty(t, none)
}
