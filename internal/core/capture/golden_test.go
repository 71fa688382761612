package capture

import (
	"flag"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/plantest"
)

var update = flag.Bool("update", false, "write the recorded templates anew")

// TestTemplatesOfWhatStandsAreAsRecorded makes templates of all that the plans of the examples raise, and of what stands of the scenario once copies and snapshots are kept of it: all
// of them as they are recorded.
func TestTemplatesOfWhatStandsAreAsRecorded(t *testing.T) {
	plans := map[string]*plan.Plan{"drill": plantest.Plan(t, "drill"), "storm-season": plantest.Plan(t, "storm-season"), "pair": pair()}
	recorded, err := filepath.Glob("../plan/testdata/*.plan.json")
	require.NoError(t, err)
	require.NotEmpty(t, recorded)
	for _, file := range recorded {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		p, err := plan.Read(data)
		require.NoError(t, err, file)
		plans[strings.TrimSuffix(filepath.Base(file), ".plan.json")] = p
	}
	for name, p := range plans {
		files, err := Template(p)
		require.NoError(t, err, name)
		golden := filepath.Join("testdata", name+".yaml")
		if *update {
			require.NoError(t, os.WriteFile(golden, files["template.yaml"], 0o644))
		}
		want, err := os.ReadFile(golden)
		require.NoError(t, err, "run the test with -update")
		assert.Equal(t, string(want), string(files["template.yaml"]), name)
		for _, path := range slices.Sorted(maps.Keys(files)) {
			if text, script := p.Scripts[path]; script {
				assert.Equal(t, text, string(files[path]), "%s: %s", name, path)
			}
		}
	}
}

// TestKeepsakesAreNoPartsOfATemplate holds that a template of what stands is the same whether or not snapshots are kept of it: no template builds one.
func TestKeepsakesAreNoPartsOfATemplate(t *testing.T) {
	p := plantest.Plan(t, "drill")
	stands, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	before, err := Template(stands.Plan)
	require.NoError(t, err)
	taken, err := change.Snapshot(stands, change.Snapping{Set: "x", Disks: []string{"contacts-host-1", "dispatch-host-1"}, Memory: true}, "snapshot")
	require.NoError(t, err)
	kept, err := change.Done(stands, taken)
	require.NoError(t, err)
	after, err := Template(kept.Plan)
	require.NoError(t, err)
	assert.Equal(t, string(before["template.yaml"]), string(after["template.yaml"]))
}
