package app

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/service/moves"
)

// TestAPackageIsBuiltElsewhere packs the log, and builds it at another site from the archive alone.
func TestAPackageIsBuiltElsewhere(t *testing.T) {
	t.Parallel()
	a, box := paired(t, 0.01)
	dep, _ := theLog(t, a)
	onHost(t, a, dep, "echo 'level 1.20 m at the bridge' >> /var/lib/levels/page/levels/index.html")
	file := filepath.Join(t.TempDir(), "log.ova")
	_, err := a.ExportPackage(ctx, dep, "log-host-1", file, false)
	require.ErrorContains(t, err, "is on")
	stop, err := a.Powering(ctx, dep, "", false)
	require.NoError(t, err)
	carriedOut(t, a, stop)
	out, err := a.ExportPackage(ctx, dep, "log-host-1", file, false)
	require.NoError(t, err)
	assert.Less(t, out.Bytes, int64(40<<20), "what holds nothing takes no room")
	left, err := filepath.Glob(filepath.Join(filepath.Dir(file), ".*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	o, arc, err := a.ImportPackage(ctx, moves.ImportRequest{File: file, Site: "tramonta"})
	require.NoError(t, err)
	assert.Positive(t, o.Plan.CostPerHour, "what is imported costs what it costs")
	assert.Positive(t, o.Wanted.CostPerHour)
	assert.Equal(t, []int{8085}, arc.Ports)
	s := carriedOut(t, a, o)
	require.Equal(t, run.Standing, s.Status)
	assert.Equal(t, []string{"tramonta"}, active(box, "log-host-1"))
	id, err := a.store.Runs(ctx)
	require.NoError(t, err)
	d, err := a.Deployment(ctx, id[0].Deployment)
	require.NoError(t, err)
	assert.False(t, d.Stand.Plan.Resource("log-host-1").Off)
	for _, on := range []bool{false, true} { // it is a deployment like others
		o, err := a.Powering(ctx, d.ID, "", on)
		require.NoError(t, err)
		carriedOut(t, a, o)
	}
	assert.Equal(t, []string{"tramonta"}, active(box, "log-host-1"))
	text := readThere(t, a, d, "cat /var/lib/levels/page/levels/index.html")
	assert.Contains(t, text, "at the bridge")

	t.Run("a package that changed meanwhile is not written", func(t *testing.T) {
		o, _, err := a.ImportPackage(ctx, moves.ImportRequest{File: file, Site: "presa", Name: "another"})
		require.NoError(t, err)
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		data[len(data)-2000]++
		require.NoError(t, os.WriteFile(file, data, 0o600))
		id, err := a.NewRun(ctx, o)
		require.NoError(t, err)
		require.Error(t, a.Work(ctx, id))
		s, err := a.Replay(ctx, id)
		require.NoError(t, err)
		assert.Contains(t, s.Step("log-host-1/"+string(op.Fill)).Error, "is not the package")
		_, _, err = a.ImportPackage(ctx, moves.ImportRequest{File: file, Site: "presa"})
		require.Error(t, err)
	})
	t.Run("lifted to object storage, and built from it there", func(t *testing.T) {
		o, out, err := a.Lifting(ctx, dep, "log-host-1", false, moves.ImportRequest{Site: "alisio-sur", Name: "lifted"})
		require.NoError(t, err)
		require.FileExists(t, out.File)
		s := carriedOut(t, a, o)
		require.Equal(t, run.Standing, s.Status, explainRun(s))
		assert.NoFileExists(t, out.File, "what was packed for the run goes with it")
		assert.Contains(t, active(box, "log-host-1"), "alisio-sur")
		all, err := a.store.Runs(ctx)
		require.NoError(t, err)
		d, err := a.Deployment(ctx, all[0].Deployment)
		require.NoError(t, err)
		assert.Contains(t, readThere(t, a, d, "cat /var/lib/levels/page/levels/index.html"), "at the bridge")
		drop, err := a.Dropping(ctx, d.ID)
		require.NoError(t, err)
		require.Len(t, drop.Plan.Steps, 1, "the object goes, and nothing else is touched")
		carriedOut(t, a, drop)
		for _, h := range box.Holds() {
			assert.NotEqual(t, "object", h.Term, "%+v", h)
		}
		assert.Contains(t, active(box, "log-host-1"), "alisio-sur", "what was built stays")
		_, err = a.Dropping(ctx, d.ID)
		require.ErrorContains(t, err, "nothing of deployment")
	})
	t.Run("where it cannot be", func(t *testing.T) {
		for want, w := range map[string]moves.ImportRequest{"no site": {File: file, Site: "nowhere"}, "no such file": {File: file + "x", Site: "vega"}} {
			_, _, err := a.ImportPackage(ctx, w)
			require.Error(t, err, want)
		}
	})
}
