package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/problem"
)

const basin = "../../examples/placement/basin.yaml"

func TestPlacePrintsWhereAndWhyAndHowGood(t *testing.T) {
	code, out, errOut := call("place", "--problem", basin)
	require.Equal(t, exitDone, code, errOut)
	assert.Regexp(t, `contacts-host-1 +vega +\S+ +\S+ +its own +0\.3100 cr +no other site can take it`, out)
	assert.Regexp(t, `\d\.\d{3} cr/h · \d+ a month · \d+ a year · \d+ in three years`, out)
	assert.Contains(t, out, "if reserved-1y")
	assert.Contains(t, out, "the best there is, proven")
	code, out, _ = call("place", "--problem", basin, "--currency", "EUR")
	require.Equal(t, exitDone, code)
	assert.Regexp(t, `0\.2852 EUR`, out)
	code, out, _ = call("place", "--problem", basin, "--by", "tag:owner")
	require.Equal(t, exitDone, code)
	assert.Regexp(t, `(?s)tag:owner +an hour.*\(no owner\) .*river +1\.\d{3}`, out)
}

func TestPlaceAsJSONIsTheSameForTheSameSeed(t *testing.T) {
	_, first, _ := call("place", "--problem", basin, "--json", "--seed", "7")
	_, again, _ := call("place", "--problem", basin, "--json", "--seed", "7")
	assert.Equal(t, first, again)
	var a problem.Answer
	require.NoError(t, json.Unmarshal([]byte(first), &a))
	assert.Len(t, a.Choices, 20)
	for _, c := range a.Choices {
		assert.Len(t, c.Verdicts, 5)
		assert.NotEmpty(t, c.Reasons)
	}
	code, _, _ := call("place", "--problem", basin, "--time", "50ms")
	assert.Equal(t, exitDone, code)
}

func TestPlaceWritesTheModel(t *testing.T) {
	file := filepath.Join(t.TempDir(), "model.lp")
	code, out, errOut := call("place", "--problem", basin, "--lp", file)
	require.Equal(t, exitDone, code, errOut)
	assert.Contains(t, out, "written: ")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(data), "\\ workload 0: gauge-node"))
	assert.True(t, strings.HasSuffix(string(data), "End\n"))
}

func TestPlaceSaysWhatForbids(t *testing.T) {
	data, err := os.ReadFile(basin)
	require.NoError(t, err)
	dir := t.TempDir()
	sites, err := os.ReadFile("../../examples/placement/estate.json")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.json"), sites, 0o600))
	for name, c := range map[string]struct {
		change [2]string
		code   int
		says   string
	}{
		"five apart on four hosts": {[2]string{"  - name: contacts-host\n    count: 2", "  - name: contacts-host\n    count: 5"}, 5, "rule contacts-apart (one host may fail)"},
		"out of the folder":        {[2]string{"estate_file: estate.json", "estate_file: ../estate.json"}, 2, "leads out of the problem's folder"},
		"a mistake":                {[2]string{"cores: 8", "cores: -8"}, 2, "workloads[1].needs.cores: -8 is negative"},
	} {
		text := strings.Replace(string(data), c.change[0], c.change[1], 1)
		require.NotEqual(t, string(data), text, name)
		file := filepath.Join(dir, "p.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		code, _, errOut := call("place", "--problem", file)
		assert.Equal(t, c.code, code, name)
		assert.Contains(t, errOut, c.says, name)
	}
	for _, args := range [][]string{{"place"}, {"place", "--problem", basin, "--currency", "pearls"}, {"place", "--problem", basin, "--time", "-3s"}, {"place", "x"}, {"place", "--problem", basin, "--by", "mood"}} {
		code, _, _ := call(args...)
		assert.Equal(t, statuses[fault.Invalid], code, args)
	}
}

func TestEstatesAreShownAndImported(t *testing.T) {
	code, out, errOut := call("estate", "show", "../../examples/flood-watch/estate.json")
	require.Equal(t, exitDone, code, errOut)
	assert.Regexp(t, `zone b, b-2 +free +21 cores, 88 GiB memory, 2\.9 TiB disk +of 32 cores`, out)
	assert.Contains(t, out, "5 sites, free: ")
	file := filepath.Join(t.TempDir(), "own.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`version: andamio.estate/1
currency: cr
sites:
  - name: hall
    kind: private
    network: address
    pace: 1
    free_form: true
    zones: [ { name: a, free: { cores: 4, memory_gib: 8, disk_gib: 90 } } ]
    images: [ { name: base, os: linux } ]
    prices: { core: 0.1, memory_gib: 0, disk_gib: 0, address: 0 }
    timings: { network: 1, volume: 1, instance: 1, interface: 1, attachment: 1 }
`), 0o600))
	to := filepath.Join(t.TempDir(), "own.json")
	code, out, errOut = call("estate", "import", file, "-o", to)
	require.Equal(t, exitDone, code, errOut)
	assert.Contains(t, out, "1 sites written to")
	data, err := os.ReadFile(to)
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	assert.Equal(t, 4, e.Site("hall").Zones[0].Free.Cores)
	code, _, errOut = call("estate", "show", basin)
	assert.Equal(t, statuses[fault.Invalid], code)
	assert.Contains(t, errOut, "this is no estate")
	code, _, _ = call("estate", "show", "a", "b")
	assert.Equal(t, statuses[fault.Invalid], code)
	code, _, _ = call("estate", "release")
	assert.Equal(t, statuses[fault.Invalid], code)
}
