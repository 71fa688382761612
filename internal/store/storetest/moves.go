package storetest

import (
	"context"
	"testing"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func movesAndPairsAreKept(t *testing.T, open Opener) {
	s, ctx := open(t, fresh(t)), context.Background()
	_, err := s.Move(ctx, 7)
	require.ErrorIs(t, err, store.ErrNotFound)
	dep, err := s.CreateDeployment(ctx, "level-log", "", guard.Owner{})
	require.NoError(t, err)
	at := time.Unix(1_800_000_000, 5)
	id, err := s.CreateMove(ctx, dep, "somebody", []byte(`{"name":"x"}`), at)
	require.NoError(t, err)
	m, err := s.Move(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, store.Move{ID: id, Deployment: dep, Created: at, Who: "somebody", Body: []byte(`{"name":"x"}`)}, m)

	body, err := s.Pair(ctx, "vega", "presa")
	require.NoError(t, err)
	assert.Nil(t, body)
	require.NoError(t, s.SetPair(ctx, "vega", "presa", []byte("one")))
	require.NoError(t, s.SetPair(ctx, "presa", "vega", []byte("two")))
	body, err = s.Pair(ctx, "presa", "vega")
	require.NoError(t, err)
	assert.Equal(t, "two", string(body), "the order of the two does not matter")
	all, err := s.Pairs(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 1)
	require.NoError(t, s.SetPair(ctx, "vega", "presa", nil))
	all, err = s.Pairs(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
}
