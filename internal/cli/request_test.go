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
	"andamio/internal/service/requests"
	"andamio/internal/service/workspace"
)

// TestRequestsFromTheCommandLine asks, waits until it serves, decides, accepts, withdraws and says, as whoever is at the keyboard.
func TestRequestsFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	scenario := "../../examples/flood-watch/"
	text, err := os.ReadFile(scenario + "teams.yaml")
	require.NoError(t, err)
	// whoever runs the tests is another person each time, as the directory says
	be := func(who string) {
		t.Helper()
		mine := strings.Replace(string(text), "user: "+who, "user: "+acting.Whoami(), 1)
		_, err := guard.ReadDirectory([]byte(mine))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(ws, workspace.FileTeams), []byte(mine), 0o600))
	}
	be("ana")
	for _, name := range []string{"trial-map", "worker-pool"} {
		run(0, "offer", "publish", "../../examples/offers/"+name+".yaml")
	}
	run(0, "quota", "set", scenario+"quotas.yaml")
	assert.Contains(t, run(0, "decide", "rules", "set", scenario+"approvals.yaml"), "kept: 3 rules")
	assert.Regexp(t, `storm +ask +lia +So many workers are for a storm`, run(0, "decide", "rules"))
	assert.Contains(t, run(0, "request"), "nothing was asked for")

	be("ibo")
	before := run(1, "request", "ask", "trial-map")
	assert.Contains(t, before, "nothing was asked for")
	assert.Contains(t, before, "It ends 30d after it is built, and what is on it is kept 7d more; you may have it end 14d later, 2 times.")
	said := run(0, "request", "ask", "trial-map", "-a", "fronts=2", "--yes", "--wait", "--why", "for the open day")
	assert.Contains(t, said, "request 1, A map to try things on called public-map-map-1: serving (Trials that cost little are approved at once, up to three a team.)")
	shown := run(0, "request", "show", "1")
	assert.Regexp(t, `(?s)ibo +asked +for the open day.*rule small-trials approved.*building +run 1`, shown)
	assert.NotContains(t, shown, "a yes builds")
	assert.Regexp(t, `it is standing.*, costs \d\.\d+ cr/h now, and has cost 0\.\d\d cr`, shown)
	assert.Regexp(t, `it ends \d{4}-\d\d-\d\d .*andamio lease extend \d+ has it end later, 2 more times`, shown)
	assert.Contains(t, run(1, "request", "stop", "1"), "nothing was done; --confirm public-map-map-1 runs it")
	assert.Contains(t, run(0, "request", "stop", "1", "--confirm", "public-map-map-1"), "run 2 began")
	assert.Contains(t, run(4, "request", "stop", "1", "--confirm", "public-map-map-1"), "it is so already")
	run(0, "request", "start", "1", "--confirm", "public-map-map-1")
	assert.Contains(t, run(1, "request", "give-back", "1"), "give back public-map-map-1: ")
	assert.Contains(t, run(1, "request", "give-back", "1", "--json"), `"would": {`)
	assert.Contains(t, run(3, "request", "ask", "worker-pool", "--yes"), "nothing called worker-pool is offered to you")
	assert.Contains(t, run(5, "request", "ask", "trial-map", "-a", "fronts=3", "--yes"), "the quota trials/ibo has 4 instances, of which 2 instances are taken: 3 instances more are too many")
	assert.Regexp(t, `(?m)^2 +ibo +public-map .* refused `, run(0, "request"))

	be("ana")
	assert.Regexp(t, `small-trials +approve .* approved [12] in 30 days`, run(0, "decide", "rules"))
	be("teo")
	assert.NotContains(t, run(0, "request"), "ibo")
	run(3, "request", "show", "1")
	assert.Contains(t, run(0, "request", "ask", "worker-pool", "-a", "workers=6", "-a", "cores=hurried", "--yes"), "request 3, Forecast workers called workers-1: asked, waits for lia (So many workers are for a storm")
	run(0, "request", "say", "3", "the", "river", "rises")
	assert.Contains(t, run(6, "decide", "3", "--yes"), "that takes the right to approve")
	assert.Contains(t, run(0, "decide"), "nothing waits for you")

	be("lia")
	waits := run(0, "decide")
	assert.Regexp(t, `(?s)request 3, .*a yes builds:\n6 instances, 48 cores, .*of the quota forecasting, 24 cores are left with it`, waits)
	assert.Contains(t, run(2, "decide", "3"), "say --yes or --no")
	assert.Contains(t, run(2, "decide", "3", "--no"), "say why")
	assert.Contains(t, run(0, "decide", "3", "--no", "--say", "it is no storm"), "request 3, Forecast workers called workers-1: refused")
	assert.Contains(t, run(4, "decide", "3", "--yes"), "is refused: there is nothing to decide")
	assert.Contains(t, run(2, "decide", "x", "--yes"), `"x" is no number of a request`)

	be("teo")
	assert.Contains(t, run(0, "request", "show", "3"), "it is no storm")
	run(0, "request", "ask", "worker-pool", "-a", "workers=4", "-a", "cores=hurried", "--yes")
	assert.Contains(t, run(0, "request", "withdraw", "4", "--say", "not needed"), "workers-1: withdrawn")
	assert.Contains(t, run(4, "request", "accept", "4"), "there is no other price to accept")
	assert.Contains(t, run(0, "request", "again", "3", "-a", "workers=4", "--yes"), "request 5, Forecast workers called workers-1: ")
	shown = run(1, "request", "change", "5", "-a", "workers=6")
	assert.Regexp(t, `(?s)6 instances, 48 cores, .*it is called workers-1\. So many workers .*of the quota forecasting, 24 cores are left after it.*nothing was asked for`, shown)
	run(0, "request", "change", "5", "-a", "workers=2", "-a", "cores=", "--yes", "--why", "two will do")
	assert.Regexp(t, `answered otherwise: cores as usual, not hurried; workers 2, not 4; \d\.\d+ cr/h, not \d\.\d+\. two will do`, run(0, "request", "show", "5"))
	assert.Contains(t, run(2, "request", "change", "5", "-a", "workers=2", "--yes"), "these are the answers that request 5 has")
	assert.Contains(t, run(4, "request", "change", "4", "-a", "workers=2", "--yes"), "is withdrawn: its answers are not changed any more")
	var all []requests.View
	require.NoError(t, json.Unmarshal([]byte(run(0, "request", "--json")), &all))
	assert.Len(t, all, 3)
	be("ana")
	assert.Equal(t, 6, strings.Count(run(0, "request"), "\n"), "who may read sees all")
	assert.Regexp(t, `lia by command +decided request 3, Forecast workers`, run(0, "log"))
}
