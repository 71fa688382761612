package storetest

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/clock"
	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/store"
)

// aPromiseIsKeptWithWhatIsDueForIt sets, changes and drops promises, of which others than one thinks are changed by nobody, and looks what is due.
func aPromiseIsKeptWithWhatIsDueForIt(t *testing.T, open Opener) {
	name := fresh(t)
	s := open(t, name)
	ana := guard.Actor{Name: "ana", Way: guard.Command}
	lease := promise.Promise{Deployment: 1, Kind: promise.Lease, By: ana, Since: noon, Lease: &promise.LeaseTerms{Until: noon.AddDate(0, 0, 30), Grace: 24 * time.Hour, Notice: []time.Duration{time.Hour, 24 * time.Hour}}}
	saved := promise.Promise{Deployment: 1, Kind: promise.Saved, By: ana, Since: noon, Saved: &promise.SavedTerms{When: promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: noon}, Keep: 7}}
	other := lease
	other.Deployment = 11 // whose number begins like the first's
	for _, p := range []promise.Promise{lease, saved, other} {
		require.NoError(t, s.SetPromise(ctx, p, nil))
	}
	all, err := s.Promises(ctx)
	require.NoError(t, err)
	assert.Equal(t, []promise.Promise{lease, saved, other}, all)
	due := func() map[string]time.Time {
		dues, err := s.Dues(ctx)
		require.NoError(t, err)
		out := map[string]time.Time{}
		for _, d := range dues {
			assert.Equal(t, "ana", d.By.Name)
			out[d.Kind+" "+d.Subject] = d.Start.UTC()
		}
		return out
	}
	assert.Len(t, due(), 4+1+4)
	later := lease
	terms := *lease.Lease
	terms.Until, terms.Notice, terms.Extended = noon.AddDate(0, 0, 60), nil, 1
	later.Lease, later.Since = &terms, noon.Add(time.Hour)
	require.NoError(t, s.SetPromise(ctx, later, &lease))
	require.ErrorIs(t, s.SetPromise(ctx, later, &lease), store.ErrTaken, "another was faster")
	gone := promise.Promise{Deployment: 3, Kind: promise.Lease, Since: noon, Lease: &terms}
	require.ErrorIs(t, s.SetPromise(ctx, gone, &gone), store.ErrTaken, "it is gone")
	now := due()
	assert.Len(t, now, 2+1+4, "nothing is due of what was before")
	assert.Equal(t, noon.AddDate(0, 0, 60), now["end of lease 1"])
	assert.Equal(t, noon.AddDate(0, 0, 61), now["end of grace 1"])

	none := &promise.Promise{}
	require.ErrorIs(t, s.SetPromise(ctx, later, none), store.ErrTaken, "there is one")
	require.ErrorIs(t, s.DropPromise(ctx, 1, promise.Lease, &lease), store.ErrTaken, "it was changed")
	require.ErrorIs(t, s.DropPromise(ctx, 3, promise.Lease, none), store.ErrNotFound)
	ends := promise.Promise{Deployment: 4, Kind: promise.Ends, By: ana, Since: noon, Ends: &promise.EndsTerms{Sets: []promise.SetEnd{{Set: "a", Until: noon.Add(time.Hour)}, {Set: "b", Until: noon.Add(9 * time.Hour)}}}}
	require.NoError(t, s.SetPromise(ctx, ends, none))
	seen := func() map[string]clock.Due {
		dues, err := s.Dues(ctx)
		require.NoError(t, err)
		out := map[string]clock.Due{}
		for _, d := range dues {
			if d.Kind == promise.DueDrop {
				out[d.Subject] = d
			}
		}
		return out
	}
	before := seen()
	more := ends
	set := ends.Ends.With("c", noon.Add(8*time.Hour))
	set = set.With("b", noon.Add(7*time.Hour))
	more.Ends, more.Since = &set, noon.Add(3*time.Hour)
	require.NoError(t, s.SetPromise(ctx, more, &ends))
	after := seen()
	require.Len(t, after, 3)
	assert.Equal(t, before["4 a"], after["4 a"], "what was due when nobody looked is due still")
	assert.Equal(t, noon.Add(7*time.Hour), after["4 b"].Start.UTC())
	assert.Equal(t, noon.Add(3*time.Hour), after["4 b"].Seen.UTC())
	assert.Equal(t, noon.Add(3*time.Hour), after["4 c"].Seen.UTC())
	require.NoError(t, s.DropPromise(ctx, 4, promise.Ends, &more))

	epoch, err := s.TakeLease(ctx, "serve", "a/1", "", noon, noon.Add(-time.Minute), holderLives)
	require.NoError(t, err)
	dues, err := s.Dues(ctx)
	require.NoError(t, err)
	for _, d := range dues {
		for n := range 3 {
			f := store.Firing{Due: d.ID, Kind: d.Kind, Subject: d.Subject, At: noon.AddDate(0, 0, n), Began: noon.AddDate(0, 0, n), State: store.FiringDone}
			took, err := s.Fire(ctx, "serve", epoch, f)
			require.NoError(t, err)
			require.True(t, took)
		}
	}
	fired, err := s.PromiseFirings(ctx, 1, promise.Saved, 2)
	require.NoError(t, err)
	require.Len(t, fired, 2, "the newest")
	assert.Equal(t, noon.AddDate(0, 0, 2), fired[0].At.UTC())
	fired, err = s.PromiseFirings(ctx, 1, promise.Lease, 100)
	require.NoError(t, err)
	assert.Len(t, fired, 6, "and none of another whose number begins alike")
	require.NoError(t, s.DropPromise(ctx, 1, promise.Lease, nil))
	require.ErrorIs(t, s.DropPromise(ctx, 1, promise.Lease, nil), store.ErrNotFound)
	assert.Len(t, due(), 1+4)
	fired, err = s.PromiseFirings(ctx, 1, promise.Lease, 100)
	require.NoError(t, err)
	assert.Len(t, fired, 6, "what was done stays known")
	again := open(t, name)
	all, err = again.Promises(ctx)
	require.NoError(t, err)
	assert.Equal(t, []promise.Promise{saved, other}, all)
}
