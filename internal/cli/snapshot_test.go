package cli

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/promises"
)

// TestSnapshotsAndPromisesFromTheCommandLine takes, restores and drops, and promises, extends and promises no more, with every mistake that is likely.
func TestSnapshotsAndPromisesFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	run(0, "run", planFile(t, ws))
	assert.Contains(t, run(0, "snapshot", "flood-watch"), "there is no snapshot of flood-watch; andamio snapshot take flood-watch takes one")
	assert.Contains(t, run(0, "promises"), "nothing is promised")
	said := run(1, "snapshot", "take", "flood-watch", "--name", "one", "--of", "register")
	assert.Contains(t, said, "contacts-vol-1.one   it is taken")
	assert.Contains(t, said, "nothing was done; --confirm flood-watch runs it")
	run(0, "snapshot", "take", "flood-watch", "--name", "one", "--of", "register", "--barrier", "--confirm", "flood-watch")
	assert.Contains(t, run(4, "snapshot", "take", "flood-watch", "--name", "one"), "has a snapshot one already")
	assert.Contains(t, run(2, "snapshot", "take", "flood-watch", "--name", "No"), `"No" is no name of a snapshot`)
	assert.Contains(t, run(3, "snapshot", "take", "flood-watch", "--of", "moon"), `no instance, volume or tier "moon"; there are`)
	assert.Regexp(t, `one \* +\d{4}-.* – +contacts-host-1, contacts-vol-1 +\d+(\.\d)? [KM]iB +\d\.\d+ cr/h +at one moment`, run(0, "snapshot", "flood-watch"))
	shown := run(1, "snapshot", "restore", "flood-watch", "one", "--discard")
	assert.Contains(t, shown, "since one goes")
	assert.Contains(t, shown, "it is stopped while a disk is restored")
	assert.Contains(t, run(3, "snapshot", "restore", "flood-watch", "two"), `no snapshot "two"; there are one`)
	run(0, "snapshot", "restore", "flood-watch", "one", "--confirm", "flood-watch")
	assert.Regexp(t, `before-\d{8}-\d{4} +.* one `, run(0, "snapshot", "flood-watch"))
	run(0, "snapshot", "beside", "flood-watch", "one", "twin")
	assert.Contains(t, run(0, "deployments"), "twin")
	assert.Contains(t, run(1, "snapshot", "drop", "flood-watch", "one"), "the snapshot one of contacts-vol-1 goes")
	run(0, "snapshot", "drop", "flood-watch", "one", "--confirm", "flood-watch")

	assert.Contains(t, run(0, "snapshot", "every", "flood-watch", "--at", "02:00", "--zone", "Europe/Madrid", "--keep", "7"), "flood-watch: saved every day 02:00, 7 kept; next ")
	assert.Contains(t, run(2, "snapshot", "every", "flood-watch", "--keep", "0"), "between 1 and 366 are kept")
	assert.Contains(t, run(0, "hours", "flood-watch", "--days", "mo,tu,we,th,fr", "--zone", "Europe/Madrid"), "off weekdays 19:00 to 07:00")
	assert.Contains(t, run(2, "hours", "flood-watch", "--off", "noon"), `"noon" is no time of day`)
	assert.Contains(t, run(2, "lease", "flood-watch"), "with --until or with --for")
	assert.Contains(t, run(2, "lease", "flood-watch", "--until", "1999-01-01"), "is over")
	assert.Contains(t, run(2, "lease", "flood-watch", "--for", "30d", "--extend-by", "1d"), "say both or neither")
	assert.Contains(t, run(0, "lease", "flood-watch", "--for", "30d", "--extend-by", "1w", "--extend-times", "1"), "flood-watch: ends ")
	assert.Contains(t, run(0, "lease", "extend", "flood-watch"), "it was extended 1 time of 1")
	assert.Contains(t, run(5, "lease", "extend", "flood-watch"), "extended 1 times of 1")
	assert.Contains(t, run(3, "lease", "extend", "twin"), "has no promise of the kind lease")
	assert.Regexp(t, `1 flood-watch +saved every day 02:00, 7 kept +0 +0 +0 +unproven`, run(0, "promises", "flood-watch"))
	var all []promises.Kept
	require.NoError(t, json.Unmarshal([]byte(run(0, "promises", "--json")), &all))
	require.Len(t, all, 3)
	for _, k := range all {
		if k.Lease != nil {
			assert.WithinDuration(t, time.Now().Add(37*24*time.Hour), k.Lease.Until, time.Hour)
		}
	}
	assert.Contains(t, run(0, "clock"), "end of the lease of deployment 1")
	run(0, "lease", "drop", "flood-watch")
	run(0, "hours", "drop", "flood-watch")
	assert.NotContains(t, run(0, "clock"), "end of the lease")
	assert.Contains(t, run(0, "log"), "promised of flood-watch: saved every day 02:00, 7 kept")
}
