package storetest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/store"
)

// whatDecidesAnAccountIsKept keeps books, prices, of which the same is kept once, and whose a deployment was from when on.
func whatDecidesAnAccountIsKept(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	require.NoError(t, s.KeepBook(ctx, 7, store.Book{Runs: "1", Body: []byte("a")}))
	require.NoError(t, s.KeepBook(ctx, 7, store.Book{Runs: "1 2", Body: []byte("b")}))
	require.NoError(t, s.KeepBook(ctx, 8, store.Book{Runs: "3", Body: []byte("c")}))
	books, err := s.Books(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[int64]store.Book{7: {Runs: "1 2", Body: []byte("b")}, 8: {Runs: "3", Body: []byte("c")}}, books)

	for i, body := range []string{"dear", "dear", "cheap", "dear", "dear"} {
		require.NoError(t, s.KeepPrices(ctx, store.PriceList{Site: "vega", From: noon.AddDate(0, 0, i), Body: []byte(body)}))
	}
	require.NoError(t, s.KeepPrices(ctx, store.PriceList{Site: "presa", From: noon.AddDate(0, 0, 1), Body: []byte("dear")}))
	lists, err := s.PriceLists(ctx)
	require.NoError(t, err)
	require.Len(t, lists, 4, "the same again is no other list")
	for i, want := range []struct {
		site, body string
		day        int
	}{{"vega", "dear", 0}, {"presa", "dear", 1}, {"vega", "cheap", 2}, {"vega", "dear", 3}} {
		assert.Equal(t, want.site+want.body, lists[i].Site+string(lists[i].Body))
		assert.True(t, lists[i].From.Equal(noon.AddDate(0, 0, want.day)))
	}

	id, err := s.CreateDeployment(ctx, "life", "", guard.Owner{Team: "gauging"})
	require.NoError(t, err)
	require.NoError(t, s.Own(ctx, id, guard.Owner{Person: "ana", Tags: map[string]string{"fund": "7"}}))
	require.ErrorIs(t, s.Own(ctx, id+1, guard.Owner{}), store.ErrNotFound)
	owners, err := s.Owners(ctx)
	require.NoError(t, err)
	require.Len(t, owners, 1)
	require.Len(t, owners[id], 2)
	assert.Equal(t, []guard.Owner{{Team: "gauging"}, {Person: "ana", Tags: map[string]string{"fund": "7"}}}, []guard.Owner{owners[id][0].Owner, owners[id][1].Owner})
	assert.False(t, owners[id][1].From.Before(owners[id][0].From))
	d, err := s.Deployment(ctx, id)
	require.NoError(t, err)
	assert.True(t, d.Created.Equal(owners[id][0].From), "it is the first's from its beginning on")
}
