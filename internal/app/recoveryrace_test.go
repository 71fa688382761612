package app

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/promise"
	"andamio/internal/site"
)

// TestNothingIsRaisedThatCouldNotBeNoted has somebody change what is promised while machines are looked at: nothing is done by terms that do not hold any
// more, and a try that could not be counted is none.
func TestNothingIsRaisedThatCouldNotBeNoted(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	f := &fallen{t: t, a: a, id: ofScenario(t, a), now: time.Now()}
	set := func(tries int) {
		_, err := a.SetPromise(ctx, promise.Promise{Deployment: f.id, Kind: promise.Recovered, Recovered: &promise.RecoveredTerms{After: time.Minute, Tries: tries}}, f.now)
		require.NoError(t, err)
	}
	set(3)
	f.switched("contacts-host-1", "stop", site.Stopped)
	f.watched(time.Second)
	f.watched(time.Minute)
	was, err := a.store.Promises(ctx)
	require.NoError(t, err)
	require.Len(t, was, 1)
	set(1) // whoever holds the old terms writes nothing over these
	old := was[0]
	err = a.store.SetPromise(ctx, old, &old)
	assert.Error(t, err)
	assert.Equal(t, 1, f.terms().Tries)
	assert.Empty(t, f.terms().Tried)
	assert.NoError(t, a.WatchPromises(ctx, f.now), "it is looked at anew")
	f.watched(2 * time.Minute)
	note, err := f.due()
	require.NoError(t, err)
	assert.Contains(t, note, "contacts-host-1 was off")
	assert.Len(t, f.terms().Tried, 1)
	_, err = a.As(a.desk.Actor).Due(ctx, promise.DueRecover, 99, f.now)
	assert.Equal(t, fault.NotFound, fault.CodeOf(err))
}
