package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"andamio/internal/app"
)

// TestReactionsFromTheCommandLine checks and keeps a file of reactions, has one act and one call a person, and lets that one act again.
func TestReactionsFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	assert.Contains(t, run(0, "reaction"), "nothing is done by itself")
	assert.Contains(t, run(0, "reaction", "check", "../../examples/flood-watch/reactions.yaml"), "4 reactions: nothing is wrong\n  what fell raises what fell after 2m, builds again what is gone, elsewhere where it has to\n")
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("version: andamio.reactions/1\nreactions:\n- { name: a, scale: { tier: x, use: lots, least: 1, most: 2 } }"), 0o644))
	assert.Contains(t, run(2, "reaction", "set", bad), `line 3, "a": scale.use: "lots" is no share`)
	run(0, "run", planFile(t, ws))
	file := filepath.Join(t.TempDir(), "reactions.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`version: andamio.reactions/1
reactions:
- { name: grows, scale: { tier: forecast-host, use: 50%, least: 4, most: 5 } }
- { name: short, cool_down: 10s, scale: { tier: map-host, use: 5%, least: 1, most: 2 } }
`), 0o644))
	assert.Contains(t, run(0, "reaction", "set", file), "2 reactions kept")
	assert.Regexp(t, `grows +flood-watch +has 4 to 5 machines of forecast-host.* +– +nothing is to be done`, run(0, "reaction"))
	a, err := app.Open(t.Context(), ws, app.Idle())
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	now := time.Now().Add(time.Hour)
	for range 6 {
		require.NoError(t, a.MeasureAll(t.Context(), now))
		require.NoError(t, a.React(t.Context(), now))
		now = now.Add(15 * time.Second)
	}
	listed := run(1, "reaction")
	assert.Regexp(t, `grows +flood-watch .*\(proposed\) +\d+ \w+ \d\d:\d\d +there are to be at least 4 of forecast-host, and there are 3: it is left alone until`, listed)
	assert.Regexp(t, `short +flood-watch .*a person is called: .*: \d+ of map-host would do with 5% of each, and there are 2: more than 2 may not be, by this reaction`, listed)
	assert.Regexp(t, `scale forecast-host from 3 to 4 \(proposed\) +there are to be at least 4`, run(0, "reaction", "show", "grows", "flood-watch"))
	assert.Contains(t, run(0, "proposals"), "scale forecast-host to 4")
	assert.Contains(t, run(0, "log"), "reaction grows: there are to be at least 4")
	assert.Contains(t, run(3, "reaction", "show", "other", "flood-watch"), `no reaction "other" is for flood-watch`)
	assert.Contains(t, run(0, "reaction", "resume", "short", "flood-watch"), "short acts on flood-watch again")
	assert.Contains(t, run(3, "reaction", "resume", "other", "flood-watch"), `no reaction "other" has done anything`)
	assert.NotContains(t, run(0, "reaction"), "a person is called")
	for _, printed := range [][]string{{"reaction", "--json"}, {"reaction", "show", "grows", "flood-watch", "--json"}} {
		assert.True(t, json.Valid([]byte(run(0, printed...))), "%v", printed)
	}
}

// TestTheFilesOfTheScenarioAreAsTheirSchemasSay holds the files that administrators write against what is said of their form.
func TestTheFilesOfTheScenarioAreAsTheirSchemasSay(t *testing.T) {
	for _, name := range []string{"approvals", "hooks", "levels", "quotas", "rates", "teams", "thresholds", "windows", "reactions", "fronts"} {
		text, err := os.ReadFile("../../examples/flood-watch/" + name + ".yaml")
		require.NoError(t, err)
		var doc any
		require.NoError(t, yaml.Unmarshal(text, &doc))
		data, err := json.Marshal(doc)
		require.NoError(t, err)
		valid(t, name+".schema.json", string(data))
		invalid := strings.Replace(string(data), `"version"`, `"nothing"`, 1)
		assert.NotEqual(t, string(data), invalid)
	}
}
