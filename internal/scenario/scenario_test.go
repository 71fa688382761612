package scenario_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/sandbox"
	"andamio/internal/scenario"
	"andamio/internal/service/requests"
	"andamio/internal/service/templates"
)

// TestRequestsAreOfEveryFate furnishes a workspace twice: everybody asks once, and what they ask for is built, refused, withdrawn and waits.
func TestRequestsAreOfEveryFate(t *testing.T) {
	ctx := t.Context()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: 0.003, Zone: "ribera.test"})
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	dir := t.TempDir()
	open := func() *app.App {
		a, err := app.Open(ctx, dir, app.InProcess(ctx))
		require.NoError(t, err)
		t.Cleanup(func() { a.Close() })
		return a
	}
	a := open()
	require.NoError(t, a.ConnectSandbox(box))
	user := a.Actor().Name
	for _, first := range []bool{true, false} {
		done, err := scenario.Prepare(ctx, a)
		require.NoError(t, err)
		assert.Equal(t, first, done)
		a = open()
		assert.Equal(t, scenario.Engineer, a.Actor().Name, "%s is the engineer", user)
		require.NoError(t, scenario.Offers(ctx, a, filepath.Join(dir, "offers")))
		require.NoError(t, scenario.Requests(ctx, a))
	}
	var got []string
	require.Eventually(t, func() bool {
		all, err := a.Requests(ctx)
		require.NoError(t, err)
		got = nil
		for i := len(all) - 1; i >= 0; i-- {
			v := all[i]
			if v.Stage == requests.StageBuilding {
				return false
			}
			got = append(got, fmt.Sprint(v.Person, " ", v.Name, ": ", v.Stage, ", ", v.Decision.Rule, ", ", v.Waits, ", mine ", v.Mine))
		}
		return true
	}, 2*time.Minute, 20*time.Millisecond)
	assert.Equal(t, []string{
		"eva gauge-1: serving, gauges, , mine false",
		"ibo public-map-map-1: serving, small-trials, , mine false",
		"ibo public-map-map-2: refused, , , mine false",
		"teo workers-1: refused, storm, , mine false",
		"teo workers-1: withdrawn, , , mine false",
		"teo workers-1: asked, , somebody who may approve, mine true",
		"teo workers-2: asked, storm, lia, mine false",
	}, got)
	versions, err := a.Offer(ctx, "trial-map", 0)
	require.NoError(t, err)
	assert.EqualValues(t, 1, versions.Number, "each is published once")
	_, err = os.Stat(filepath.Join(dir, "offers", "trial-map.yaml"))
	require.NoError(t, err, "and can be changed")
}
