package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/offers"
)

// TestOffersFromTheCommandLine checks, publishes, lists, shows, prices and withdraws the scenario's offers.
func TestOffersFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	dir := "../../examples/offers"
	assert.Contains(t, run(0, "offer"), "nothing is offered")
	said := run(0, "offer", "check", filepath.Join(dir, "worker-pool.yaml"))
	assert.Contains(t, said, "all 12 sets of answers were worked out")
	assert.Contains(t, said, "doubt: there is no directory of teams, so nobody but the engineer is in the audience")
	for _, name := range []string{"worker-pool", "trial-map"} {
		assert.Contains(t, run(0, "offer", "publish", filepath.Join(dir, name+".yaml")), "version 1 of "+name+" is offered to team:")
	}
	assert.Regexp(t, `trial-map +A map to try things on +maps +1 +published +team:public-map, team:forecasting`, run(0, "offer"))
	assert.Regexp(t, `(?s)fronts +How many fronts\? +from 1 to 3 +usually 1.*first +Which level.*more`, run(0, "offer", "show", "trial-map"))
	assert.Regexp(t, `(?s)3 instances, 3 cores, 12 GiB memory, 24 GiB disk, 3 addresses, at vega \(3\)\nit serves after about .*\n0\.217 cr/h, 158\.12 cr a month\n\nall of it at one site:\n  vega +0\.217 cr/h`,
		run(0, "offer", "quote", "trial-map", "-a", "fronts=3", "-a", "memory=middling"))
	var q offers.Quote
	require.NoError(t, json.Unmarshal([]byte(run(0, "offer", "quote", "worker-pool", "--json")), &q))
	assert.Len(t, q.Sites, 3)
	assert.Contains(t, run(1, "offer", "quote", "worker-pool", "-a", "workers=32"), "workers: 32 is not offered; it goes from 2 to 8 in steps of 2")
	assert.Contains(t, run(2, "offer", "quote", "worker-pool", "-a", "workers"), `"workers" is no answer: INPUT=VALUE was expected`)
	assert.Contains(t, run(3, "offer", "quote", "no-such"), "nothing called no-such is offered to you")
	tmpl := t.TempDir()
	require.NoError(t, os.CopyFS(tmpl, os.DirFS(filepath.Join(dir, "map"))))
	made := run(0, "offer", "make", "small-map", tmpl, "--input", "cores=2")
	assert.Contains(t, made, "written: "+filepath.Join(tmpl, "offers", "small-map.yaml"))
	assert.Contains(t, made, "small-map: all 8 sets of answers were worked out")
	assert.Contains(t, run(4, "offer", "make", "small-map", tmpl), "is there already")
	assert.Contains(t, run(2, "offer", "make", "small-map", tmpl, "--input", "cores=many"), "cores")
	run(0, "offer", "publish", filepath.Join(tmpl, "offers", "small-map.yaml"))
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	text, err := os.ReadFile(filepath.Join(dir, "trial-map.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(bad, []byte(strings.Replace(string(text), "template: map", "template: nowhere", 1)), 0o644))
	assert.Regexp(t, `bad\.yaml: template: .*nowhere`, run(2, "offer", "publish", bad))
	require.NoError(t, os.WriteFile(bad, []byte(strings.NewReplacer("input: fronts", "input: wings", "template: map", "template: "+absolute(t, filepath.Join(dir, "map"))).Replace(string(text))), 0o644))
	assert.Contains(t, run(2, "offer", "check", bad), `questions[0].input: the template has no input "wings"; it has fronts, memory, cores, first`)
	require.NoError(t, os.WriteFile(bad, []byte(strings.NewReplacer("sites: [\"alisio-*\", vega]", "sites: [atlantis]", "template: map", "template: "+absolute(t, filepath.Join(dir, "map"))).Replace(string(text))), 0o644))
	assert.Contains(t, run(1, "offer", "check", bad), "cannot be had: fronts 1, memory 2 GiB: it may stand at none of the sites that answer")
	assert.Contains(t, run(5, "offer", "publish", bad), "6 of 6 answers that were tried cannot be had")
	assert.Contains(t, run(0, "offer", "withdraw", "trial-map"), "offered no more")
	assert.Contains(t, run(3, "offer", "withdraw", "trial-map"), "not found")
	assert.Contains(t, run(0, "log", "--act", "make-offer"), "offered trial-map")
}

func absolute(t *testing.T, name string) string {
	t.Helper()
	out, err := filepath.Abs(name)
	require.NoError(t, err)
	return out
}
