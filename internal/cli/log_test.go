package cli

import (
	"database/sql"
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/trail"
)

// TestTheLogSaysWhoDidWhatAndWhetherThatIsTrue keeps, reads, chooses, exports and verifies, and finds what somebody changed who
// reached into the database.
func TestTheLogSaysWhoDidWhatAndWhetherThatIsTrue(t *testing.T) {
	t.Parallel()
	ws := t.TempDir()
	run := commands(t, ws)
	assert.Contains(t, run(0, "log", "--verify"), "no entries")
	assert.Empty(t, run(0, "log"))
	run(0, "credentials", "key", "ana-laptop")
	run(0, "credentials", "key", "eva-laptop")
	run(0, "notices", "--listen", "10.0.0.5")
	all := run(0, "log")
	assert.Regexp(t, `(?s)^ +1  \d{4}-\d\d-\d\d \d\d:\d\d:\d\d  \S+ by command  kept the key pair ana-laptop\n +2 .* eva-laptop\n +3 .*had notices sent to 10\.0\.0\.5`, all)
	assert.Equal(t, 1, strings.Count(run(0, "log", "--on", "eva"), "\n"))
	assert.Equal(t, 2, strings.Count(run(0, "log", "--act", "keep-key"), "\n"))
	assert.Equal(t, 2, strings.Count(run(0, "log", "--last", "2"), "\n"))
	assert.Contains(t, run(0, "log", "--last", "1"), "10.0.0.5")
	assert.Empty(t, run(0, "log", "--who", "nobody-of-this-name"))
	assert.Empty(t, run(0, "log", "--way", "screen"))
	run(2, "log", "--way", "telepathy")
	var v trail.Verifier
	for _, line := range strings.Split(strings.TrimSpace(run(0, "log", "--json")), "\n") {
		var e trail.Entry
		require.NoError(t, json.Unmarshal([]byte(line), &e), line)
		v.Next(e)
	}
	v.End(3)
	assert.Empty(t, v.Wrong, "what is exported can be verified by others")
	said := run(0, "log", "--verify")
	assert.Contains(t, said, "3 entries, the last with the digest "+v.Last().Digest)
	assert.Contains(t, run(4, "log", "--expect", "0123"), "may have been made anew")

	db, err := sql.Open("sqlite", filepath.Join(ws, "andamio.db"))
	require.NoError(t, err)
	defer db.Close()
	for _, change := range []string{`DROP TRIGGER trail_is_not_changed`, `DROP TRIGGER trail_is_not_shortened`, `UPDATE trail SET who = 'somebody' WHERE seq = 2`} {
		_, err := db.Exec(change)
		require.NoError(t, err)
	}
	assert.Contains(t, run(4, "log", "--verify"), "entry 2 was changed")
	_, err = db.Exec(`DELETE FROM trail WHERE seq > 1`)
	require.NoError(t, err)
	assert.Contains(t, run(4, "log", "--verify"), "entry 2 and those up to 3 are missing: they were the last")
	assert.Contains(t, run(4, "log", "--verify", "--json"), `"wrong"`)
}
