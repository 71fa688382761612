package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
)

// TestTeamsFromTheCommandLine checks, keeps, lists and asks the scenario's directory, and tries what is wrong.
func TestTeamsFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := t.TempDir()
	run := commands(t, ws)
	assert.Contains(t, run(3, "team"), "there is no directory of teams")
	scenario := "../../examples/flood-watch/teams.yaml"
	assert.Contains(t, run(0, "team", "check", scenario), "5 people in 4 teams with 5 grants: nothing is wrong; the workspace is kept by ana")
	assert.Contains(t, run(5, "team", "set", scenario), "could not set it again: give a person with the user")
	text, err := os.ReadFile(scenario)
	require.NoError(t, err)
	mine := filepath.Join(t.TempDir(), "teams.yaml")
	require.NoError(t, os.WriteFile(mine, []byte(strings.Replace(string(text), "user: ana", "user: "+acting.Whoami(), 1)), 0o644))
	assert.Contains(t, run(0, "team", "set", mine), "it holds from the next act on")
	assert.Regexp(t, `eva +gauging +user eva +requester: things of own; approver: things of own; stage trial; operator: things of own; at presa`, run(0, "team"))
	var d guard.Directory
	require.NoError(t, json.Unmarshal([]byte(run(0, "team", "--json")), &d))
	assert.Len(t, d.People, 5)
	assert.Contains(t, run(0, "team", "may", "eva", "operate", "--team", "gauging", "--site", "presa"), "yes  given to the team gauging")
	assert.Contains(t, run(1, "team", "may", "eva", "operate", "--team", "gauging", "--site", "vega"), "no  their right to operate is bounded, and this is at vega, not at presa")
	assert.Equal(t, len(guard.Rights), strings.Count(run(0, "team", "may", "lia"), "\n"))
	assert.Contains(t, run(2, "team", "may", "eva", "sing"), `"sing" is no right`)
	assert.Contains(t, run(3, "team", "give", "7", "--team", "gauging"), "not found")
	assert.Contains(t, run(0, "log"), "ana by command  set who may do what, for 5 people"[len("ana by command  "):])
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte(strings.NewReplacer("members: [eva]", "members: [mia]", "role: approver, teams: [ribera]", "role: pope").Replace(string(text))), 0o644))
	said := run(2, "team", "check", bad)
	assert.Contains(t, said, `teams.gauging.members: there is nobody called "mia"`)
	assert.Contains(t, said, `grants[2].role: there is no role "pope"`)
	run(2, "team", "set", bad)
	assert.Regexp(t, `eva +gauging`, run(0, "team"), "and what was kept stays")
}
