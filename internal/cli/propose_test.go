package cli

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsProposedIsConfirmedByAnother proposes from one command and confirms from another, withdraws, and is refused.
func TestWhatIsProposedIsConfirmedByAnother(t *testing.T) {
	t.Parallel()
	ws := levels(t)
	run := commands(t, ws)
	assert.Contains(t, run(0, "proposals"), "nothing waits to be confirmed")
	out := run(0, "retire", "level-log", "--propose")
	assert.Regexp(t, `(?s)retire +vega +log-host-1.*proposal 1 holds until .*; andamio confirm 1 begins it`, out)
	var p struct {
		Proposal int64
		By       struct{ Who, Way string }
	}
	require.NoError(t, json.Unmarshal([]byte(run(0, "stop", "level-log", "--propose", "--holds", "1h", "--json")), &p))
	assert.EqualValues(t, 2, p.Proposal)
	assert.Equal(t, "command", p.By.Way)
	assert.Regexp(t, `2 +stop of level-log +\S+ by command +until .*\n1 +retire level-log`, run(0, "proposals"))
	run(2, "retire", "level-log", "--propose", "--holds", "-1h")
	run(2, "confirm", "seven")
	assert.Contains(t, run(3, "confirm", "7"), "7")
	assert.Contains(t, run(1, "confirm", "1"), "nothing was done; --confirm level-log runs it")
	assert.Contains(t, run(1, "confirm", "1", "--confirm", "leveling"), "is not the deployment's name")
	assert.Contains(t, run(0, "withdraw", "2"), "proposal 2 is withdrawn")
	assert.Contains(t, run(4, "withdraw", "2"), "not open any more")
	assert.Contains(t, run(4, "confirm", "2", "--confirm", "level-log"), "was withdrawn")
	assert.Contains(t, run(0, "confirm", "1", "--confirm", "level-log"), "proposed by")
	assert.Contains(t, run(4, "confirm", "1", "--confirm", "level-log"), "was confirmed already")
	assert.Contains(t, run(0, "proposals"), "nothing waits")
	assert.Regexp(t, `2 .*was withdrawn[\s\S]*1 .*was confirmed already: it is run 2`, run(0, "proposals", "--all"))
	assert.Regexp(t, `proposed a plan of level-log: retire level-log[\s\S]*withdrew proposal 2[\s\S]*confirmed proposal 1\n.*began run 2: retire level-log`, run(0, "log"))
	assert.Contains(t, run(0, "deployments", "--json"), `"retired"`)
}
