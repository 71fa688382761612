package app

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

const boundedLevels = `
version: andamio.levels/1
levels:
- level: calm
  save: { rule: FREQ=DAILY, at: "02:00", keep: 2 }
  limit: { per_second: 500, mib_per_second: 12.5 }
- level: brisk
  save: { rule: FREQ=DAILY, at: "02:00", keep: 2 }
  limit: { mib_per_second: 40 }
- level: free
  save: { rule: FREQ=DAILY, at: "02:00", keep: 2 }
`

// boundsOf are what bounds the volumes of a deployment at their sites.
func boundsOf(t *testing.T, a *App, id int64) map[string]int {
	t.Helper()
	d, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	sites, err := a.Sites()
	require.NoError(t, err)
	out := map[string]int{}
	for i := range d.Stand.Plan.Resources {
		r := &d.Stand.Plan.Resources[i]
		if r.Kind != kinds.Volume {
			continue
		}
		got, err := sites[r.Site].Read(ctx, kinds.Volume, d.Stand.Plan.Known[r.ID]["site.id"])
		require.NoError(t, err)
		out[got.Attributes[site.AttrIOPerSecond]+"/"+got.Attributes[site.AttrIOMiBPerSecond]]++
	}
	return out
}

// TestVolumesAreBoundedByTheirServiceLevel gives levels that bound volumes in turn, has one be built again, and takes the level away.
func TestVolumesAreBoundedByTheirServiceLevel(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	now := time.Now()
	_, err := a.SetLevels(ctx, []byte(boundedLevels))
	require.NoError(t, err)
	n := boundsOf(t, a, id)["/"]
	require.Positive(t, n, "nothing bounds them")

	give := func(level string) []string {
		o, err := a.Levelling(ctx, id, level, now)
		require.NoError(t, err)
		carriedTo(t, a, o, err, run.Standing)
		return o.Plan.Promised.Adds
	}
	assert.Contains(t, give("calm"), "each volume bounded to 500 reads and writes and 12.5 MiB a second")
	assert.Equal(t, map[string]int{"500/12.5": n}, boundsOf(t, a, id))
	again, err := a.Levelling(ctx, id, "calm", now)
	require.NoError(t, err)
	assert.True(t, again.Plan.Nothing(), "they are bounded so already")
	give("brisk")
	assert.Equal(t, map[string]int{"/40": n}, boundsOf(t, a, id))

	require.NoError(t, a.WatchPromises(ctx, now))
	f := &fallen{t: t, a: a, id: id, now: now}
	limited := func() *promise.LimitedTerms {
		all, err := a.PromisesOf(ctx, id, now)
		require.NoError(t, err)
		for i := range all {
			if all[i].Kind == promise.Limited {
				return all[i].Limited
			}
		}
		return nil
	}
	assert.Zero(t, limited().At, "all are bounded")
	volume := ""
	d, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	for i := range d.Stand.Plan.Resources {
		if r := &d.Stand.Plan.Resources[i]; r.Kind == kinds.Volume {
			volume = r.ID
		}
	}
	at, there := f.at(volume)
	for name, link := range d.Stand.Plan.Known {
		if x := link["site.id."+volume]; x != "" {
			require.NoError(t, at.Delete(ctx, kinds.Attachment, x), name)
		}
	}
	require.Eventually(t, func() bool { return at.Delete(ctx, kinds.Volume, there) == nil }, 20*time.Second, 20*time.Millisecond)
	o, err := a.RaisingAgain(ctx, id, []promise.Fall{{Machine: volume, How: promise.FellGone}})
	carriedTo(t, a, o, err, run.Standing)
	assert.Equal(t, map[string]int{"/40": n - 1, "/": 1}, boundsOf(t, a, id), "what is built again is bounded by nothing yet")
	require.NoError(t, a.WatchPromises(ctx, now))
	assert.Equal(t, now.Add(time.Second).UTC(), limited().At)
	note, err := a.As(guard.Actor{Name: "ana", Way: guard.Schedule}).Due(ctx, promise.DueLimit, id, now)
	require.NoError(t, err)
	assert.Contains(t, note, "run ")
	assert.Equal(t, map[string]int{"/40": n}, boundsOf(t, a, id))
	note, err = a.As(guard.Actor{Name: "ana", Way: guard.Schedule}).Due(ctx, promise.DueLimit, id, now)
	require.NoError(t, err)
	assert.Equal(t, "all are bounded", note)

	give("free")
	assert.Equal(t, map[string]int{"/": n}, boundsOf(t, a, id))
	give("calm")
	o, err = a.Levelling(ctx, id, "", now)
	carriedTo(t, a, o, err, run.Standing)
	assert.Equal(t, map[string]int{"/": n}, boundsOf(t, a, id), "what promised it is no more")
}
