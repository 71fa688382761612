package app

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/service/reconcile"
	"andamio/internal/site"
)

// TestWhatHasNoRoomIsSaidBeforeItBegins takes an instance away by hand and lets others take its room: putting it right again
// is refused with what lacks, and nothing has begun; once one of them is retired there is room.
func TestWhatHasNoRoomIsSaidBeforeItBegins(t *testing.T) {
	t.Parallel()
	a, _, inv := deployed(t)
	sites, err := a.Sites()
	require.NoError(t, err)
	presa := sites["presa"]
	var gone *inventory.Record
	for i := range inv.RecordedRecords {
		if r := &inv.RecordedRecords[i]; r.Name == "gauge-node-1" && r.Class == kinds.Instance || r.Site == "presa" && r.Class == kinds.Instance {
			gone = r
		}
	}
	require.NotNil(t, gone)
	require.NoError(t, presa.Delete(ctx, kinds.Instance, gone.Provider))
	var fillers []string
	for i := range 20 { // until it is full
		made, err := presa.Create(ctx, site.Request{Kind: kinds.Instance, Name: fmt.Sprintf("filler-%d", i), Cores: 1, MemoryGiB: 1, DiskGiB: 1, Image: "debian-12-edge"})
		if err != nil {
			assert.Equal(t, site.Conflict, site.ClassOf(err), err.Error())
			break
		}
		stands(t, presa, made)
		fillers = append(fillers, made.ID)
	}
	require.NotEmpty(t, fillers)
	inv = surveyedAll(t, a)
	var missing *inventory.Finding
	for i := range inv.Findings {
		if f := &inv.Findings[i]; f.Type == inventory.Missing && f.Class == kinds.Instance {
			missing = f
		}
	}
	require.NotNil(t, missing)
	runs, err := a.store.Runs(ctx)
	require.NoError(t, err)
	_, err = a.Settling(ctx, inv, []reconcile.Choice{{Finding: *missing, Way: inventory.CorrectSite}}, "", time.Time{})
	require.ErrorContains(t, err, "there is no room for gauge-node-1 (2 cores, 4 GiB memory")
	assert.ErrorContains(t, err, "at presa, where zone dam")
	assert.ErrorContains(t, err, "retire that first")
	after, err := a.store.Runs(ctx)
	require.NoError(t, err)
	assert.Len(t, after, len(runs), "nothing has begun")
	for _, id := range fillers {
		require.NoError(t, presa.Delete(ctx, kinds.Instance, id))
	}
	s, err := a.Settling(ctx, surveyedAll(t, a), []reconcile.Choice{{Finding: *missing, Way: inventory.CorrectSite}}, "", time.Time{})
	require.NoError(t, err)
	carryOut(t, a, s)
	assert.Empty(t, surveyedAll(t, a).Findings)
}
