package storetest

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/token"
	"andamio/internal/store"
)

// tokensAreKeptByTheirDigests holds that tokens are known as they were made after the store was opened anew, are rotated until they are revoked, and are revoked once.
func tokensAreKeptByTheirDigests(t *testing.T, open Opener) {
	name := fresh(t)
	s := open(t, name)
	none, err := s.Tokens(ctx)
	require.NoError(t, err)
	assert.Empty(t, none)
	a := token.Token{ID: "aa", Name: "build", Of: "ana", Made: noon, Ends: noon.Add(time.Hour), From: []string{"192.0.2.0/24"},
		Limit: guard.Limit{Rights: []guard.Right{guard.Read, guard.Ask}, Scope: guard.Scope{Sites: []string{"vega"}, Deployments: []string{"map*"}}}}
	b := token.Token{ID: "bb", Name: "short", Of: "ana", Parent: "aa", Made: noon.Add(time.Minute), Ends: noon.Add(time.Hour)}
	require.NoError(t, s.AddToken(ctx, a, token.Secrets{Now: "one"}))
	require.NoError(t, s.AddToken(ctx, b, token.Secrets{Now: "two"}))
	require.ErrorIs(t, s.AddToken(ctx, b, token.Secrets{Now: "three"}), store.ErrTaken)

	s = open(t, name)
	all, err := s.Tokens(ctx)
	require.NoError(t, err)
	assert.Equal(t, []token.Token{b, a}, all)
	require.NoError(t, s.RotateToken(ctx, "aa", "four", noon.Add(2*time.Minute)))
	require.NoError(t, s.UseToken(ctx, "aa", noon.Add(3*time.Minute), "192.0.2.7"))
	require.NoError(t, s.RevokeToken(ctx, "bb", "eva", noon.Add(4*time.Minute)))
	require.NoError(t, s.RevokeToken(ctx, "bb", "ana", noon.Add(5*time.Minute)))
	require.ErrorIs(t, s.RotateToken(ctx, "bb", "five", noon), store.ErrNotFound, "what is revoked is not rotated")

	s = open(t, name)
	got, secrets, err := s.Token(ctx, "aa")
	require.NoError(t, err)
	a.Until, a.Used, a.UsedFrom = noon.Add(2*time.Minute), noon.Add(3*time.Minute), "192.0.2.7"
	assert.Equal(t, a, got)
	assert.Equal(t, token.Secrets{Now: "four", Before: "one", Until: noon.Add(2 * time.Minute)}, secrets)
	got, secrets, err = s.Token(ctx, "bb")
	require.NoError(t, err)
	b.Revoked, b.RevokedBy = noon.Add(4*time.Minute), "eva"
	assert.Equal(t, b, got, "it was revoked once")
	assert.Equal(t, token.Secrets{Now: "two"}, secrets)

	whatIsAskedWithAKeyIsAskedOnce(t, s)
	_, _, err = s.Token(ctx, "cc")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.ErrorIs(t, s.RevokeToken(ctx, "cc", "eva", noon), store.ErrNotFound)
	require.ErrorIs(t, s.UseToken(ctx, "cc", noon, "x"), store.ErrNotFound)
}

// whatIsAskedWithAKeyIsAskedOnce holds that of several that ask with a key one is new, and that it is known how it was answered.
func whatIsAskedWithAKeyIsAskedOnce(t *testing.T, s store.Store) {
	t.Helper()
	o := store.Once{Who: "aa", Key: "k", Digest: "d", At: noon}
	var isNew atomic.Int64
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			kept, first, err := s.KeepOnce(ctx, o)
			assert.NoError(t, err)
			assert.Equal(t, o, kept)
			if first {
				isNew.Add(1)
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 1, isNew.Load())
	_, first, err := s.KeepOnce(ctx, store.Once{Who: "bb", Key: "k", Digest: "d", At: noon.Add(time.Hour)})
	require.NoError(t, err)
	assert.True(t, first, "another's key is another")
	o.Status, o.Type, o.Body = 202, "application/json", []byte("{}")
	require.NoError(t, s.AnswerOnce(ctx, o))
	kept, first, err := s.KeepOnce(ctx, store.Once{Who: "aa", Key: "k", Digest: "other", At: noon.Add(time.Minute)})
	require.NoError(t, err)
	assert.False(t, first)
	assert.Equal(t, o, kept)
	require.NoError(t, s.ForgetOnce(ctx, noon.Add(time.Minute)))
	require.ErrorIs(t, s.AnswerOnce(ctx, o), store.ErrNotFound)
	o.Who = "bb"
	require.NoError(t, s.AnswerOnce(ctx, o), "what was asked later is known still")
}
