package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
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
	free := filepath.Join(t.TempDir(), "holidays.ics")
	require.NoError(t, os.WriteFile(free, []byte("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTAMP:20260101T000000Z\r\nDTSTART;VALUE=DATE:20200601\r\nRRULE:FREQ=YEARLY\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"), 0o644))
	assert.Contains(t, run(0, "hours", "flood-watch", "--holidays", free, "--stay-off", "2026-12-24", "--stay-on", "2026-12-31"), "off every day 19:00 to 07:00, and all of 3 days, on through 1 night")
	assert.Contains(t, run(2, "hours", "flood-watch", "--stay-off", "christmas"), `"christmas" is no day`)
	require.NoError(t, os.WriteFile(free, []byte("tea"), 0o644))
	assert.Contains(t, run(2, "hours", "flood-watch", "--holidays", free), "holidays.ics: this is no iCalendar file")
	written := run(0, "calendar", "flood-watch", "--days", "3")
	assert.Equal(t, 3, strings.Count(written, "SUMMARY:flood-watch: switch off"), written)
	assert.Contains(t, run(0, "calendar", "--output", free), "events written to "+free)
	assert.Contains(t, run(2, "calendar", "--days", "0"), "between 1 and 3660 days")
	assert.Contains(t, run(3, "calendar", "twin"), "nothing to be written")
	assert.Contains(t, run(2, "lease", "flood-watch"), "with --until or with --for")
	assert.Contains(t, run(2, "lease", "flood-watch", "--until", "1999-01-01"), "is over")
	assert.Contains(t, run(2, "lease", "flood-watch", "--for", "30d", "--extend-by", "1d"), "say both or neither")
	assert.Contains(t, run(0, "lease", "flood-watch", "--for", "30d", "--extend-by", "1w", "--extend-times", "1"), "flood-watch: ends ")
	assert.Contains(t, run(0, "lease", "extend", "flood-watch"), "it was extended 1 time of 1")
	assert.Contains(t, run(5, "lease", "extend", "flood-watch"), "extended 1 times of 1")
	assert.Contains(t, run(3, "lease", "extend", "twin"), "has no promise of the kind lease")
	assert.Regexp(t, `1 flood-watch +saved every day 02:00, 7 kept +0 +0 +0 +not due yet`, run(0, "promises", "flood-watch"))
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

// TestServiceLevelsFromTheCommandLine checks, keeps, gives, changes and takes service levels, with every mistake that is likely.
func TestServiceLevelsFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	run(0, "run", planFile(t, ws))
	file := "../../examples/flood-watch/levels.yaml"
	assert.Contains(t, run(0, "level"), "there are no service levels")
	assert.Contains(t, run(3, "level", "give", "flood-watch", "levee"), "andamio level set FILE keeps some")
	assert.Contains(t, run(0, "level", "check", file), "3 service levels: nothing is wrong")
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("version: andamio.levels/1\nlevels: [{ level: a, save: { rule: FREQ=DAILY, at: noon, keep: 1 } }]"), 0o644))
	assert.Regexp(t, `bad.yaml: levels\[0\]: save: "noon" is no time of day`, run(2, "level", "set", bad))
	assert.Contains(t, run(0, "level", "set", file), "kept: sandbag, levee, dam")
	said := run(0, "level")
	assert.Regexp(t, `levee +saved every day 02:00, 7 kept; drilled every first Saturday 04:00 +–`, said)
	assert.Contains(t, said, "flood-watch has to have levee or better: A register of people to warn is kept every night.")
	assert.Contains(t, run(5, "level", "give", "flood-watch", "sandbag"), "has to have levee or better, by the rule registers")
	shown := run(1, "level", "give", "flood-watch", "levee")
	assert.Contains(t, shown, "note: the service level is levee")
	assert.Contains(t, shown, "note: promised: saved every day 02:00, 7 kept")
	assert.Regexp(t, `note: keeping the copies costs at most \d\.\d+ cr/h, when there are as many`, shown)
	assert.Contains(t, run(0, "promises"), "nothing is promised")
	run(0, "level", "give", "flood-watch", "levee", "--confirm", "flood-watch")
	assert.Regexp(t, `levee +saved .* flood-watch`, run(0, "level"))
	assert.Regexp(t, `auto-\d{8}-\d{4} \*`, run(0, "snapshot", "flood-watch"))
	assert.Contains(t, run(0, "level", "give", "flood-watch", "levee"), "nothing is to be done")
	assert.Contains(t, run(4, "snapshot", "every", "flood-watch"), "it is part of the service level levee")
	assert.Contains(t, run(4, "snapshot", "drill", "drop", "flood-watch"), "it is part of the service level levee")
	assert.Contains(t, run(3, "level", "give", "flood-watch", "dam"), "paired")
	for _, site := range []string{"presa", "vega", "alisio-norte", "alisio-sur"} {
		run(0, "pair", site, "tramonta")
	}
	better := run(0, "level", "give", "flood-watch", "dam", "--confirm", "flood-watch")
	assert.Contains(t, better, "note: promised: copied to tramonta every hour, 4h lost at most")
	assert.Contains(t, better, "note: no more: saved every day 02:00, 7 kept")
	assert.Regexp(t, `drilled every Saturday 04:00 +0 +0 +0 +unproven`, run(0, "promises"))
	var all struct {
		Deployments []promises.LevelState `json:"deployments"`
	}
	require.NoError(t, json.Unmarshal([]byte(run(0, "level", "--json")), &all))
	require.Len(t, all.Deployments, 1)
	assert.Equal(t, []string{"dam", "levee"}, []string{all.Deployments[0].Level, all.Deployments[0].Required})
	assert.Contains(t, run(5, "level", "drop", "flood-watch"), "has to have levee")
	report := t.TempDir()
	said = run(0, "promises", "report", "--output", report)
	assert.Contains(t, said, "promises.csv")
	assert.Regexp(t, `1 flood-watch +saved every hour, 48 kept, of one moment +dam +0 +0 +0 +unproven`, said)
	assert.Contains(t, said, "0 times due")
	table, err := os.ReadFile(filepath.Join(report, "promises.csv"))
	require.NoError(t, err)
	assert.Equal(t, "deployment,name,level,promised,due,state,note\n", string(table))
	assert.Contains(t, run(2, "promises", "report", "--from", "2027-01-02", "--to", "2027-01-01"), "ends after it begins")
	assert.Contains(t, run(2, "promises", "report", "--from", "monday"), `"monday" is no day`)
	assert.Contains(t, run(0, "log"), "set the service levels sandbag, levee, dam")
	assert.Contains(t, run(0, "level", "settle"), "nothing is to be settled")
	run(0, "clone", "flood-watch", "twin")
	run(0, "snapshot", "drill", "twin", "--rule", "FREQ=WEEKLY")
	run(0, "snapshot", "drill", "drop", "twin")
	run(0, "snapshot", "every", "twin")
	run(0, "snapshot", "every", "drop", "twin")
	assert.Contains(t, run(3, "snapshot", "every", "drop", "twin"), "not")
	shown = run(1, "level", "settle")
	assert.Contains(t, shown, "give twin the service level levee")
	assert.Contains(t, shown, "promised: saved every day 02:00, 7 kept")
	assert.Contains(t, run(1, "level", "settle", "--confirm", "twin"), `"twin" is not`)
	assert.Contains(t, run(1, "level", "settle", "--json"), `"purpose": "give twin the service level levee"`)
	began := regexp.MustCompile(`run (\d+) goes on`).FindStringSubmatch(run(0, "level", "settle", "--confirm", "all"))
	require.Len(t, began, 2)
	run(0, "watch", began[1])
	assert.Contains(t, run(0, "level", "settle"), "nothing is to be settled")
	windows := "../../examples/flood-watch/windows.yaml"
	assert.Contains(t, run(0, "calendar", "windows"), "there are no blackouts and no maintenance windows")
	assert.Contains(t, run(0, "calendar", "check", windows), "2 blackouts, 1 maintenance window: nothing is wrong")
	require.NoError(t, os.WriteFile(bad, []byte("version: andamio.windows/1\nblackouts: [{ name: a, from: soon, until: later }]"), 0o644))
	assert.Regexp(t, `bad.yaml: blackouts\[0\]: from: "soon" is no day`, run(2, "calendar", "set", bad))
	assert.Contains(t, run(0, "calendar", "set", windows), "2 blackouts, 1 maintenance window kept")
	said = run(0, "calendar", "windows")
	assert.Regexp(t, `blackout +autumn floods +2027-09-15 to 2027-11-01 +deployment.services`, said)
	assert.Regexp(t, `maintenance +small hours +every day at 01:00 for 4h`, said)
	assert.Contains(t, run(0, "calendar", "windows", "--json"), `"name": "briefing"`)
}

// TestReplicasFromTheCommandLine keeps copies of a register at another site, fails over to them, goes back, and drops them.
func TestReplicasFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	run(0, "run", planFile(t, ws))
	assert.Contains(t, run(0, "replica", "flood-watch"), "no copies of flood-watch are kept elsewhere; andamio replica renew flood-watch SITE makes some")
	assert.Contains(t, run(3, "replica", "renew", "flood-watch", "tramonta", "--of", "register"), "paired")
	run(0, "pair", "vega", "tramonta")
	assert.Contains(t, run(5, "replica", "renew", "flood-watch", "vega", "--of", "register"), "all of it is at vega already")
	shown := run(1, "replica", "renew", "flood-watch", "tramonta", "--of", "register")
	assert.Regexp(t, `build +tramonta +contacts-vol-1~tramonta +a copy of contacts-vol-1`, shown)
	run(0, "replica", "renew", "flood-watch", "tramonta", "--of", "register", "--confirm", "flood-watch")
	assert.Regexp(t, `tramonta +\d{4}-\d\d-\d\d .* contacts-host-1, contacts-vol-1 +\d+(\.\d)? [KM]iB +\d\.\d+ cr/h`, run(0, "replica", "flood-watch"))
	again := run(0, "replica", "renew", "flood-watch", "tramonta", "--of", "register", "--confirm", "flood-watch")
	assert.Regexp(t, `it is made like contacts-vol-1`, again)
	assert.NotContains(t, again, "data:", "what is kept anew is no loss")
	assert.Contains(t, run(0, "snapshot", "flood-watch"), "there is no snapshot of flood-watch", "those of copies are not listed")
	assert.Contains(t, run(2, "snapshot", "take", "flood-watch", "--name", "copy-one"), "give this one another name")
	assert.Contains(t, run(2, "replica", "every", "flood-watch"), "site: say where copies are kept")
	assert.Contains(t, run(2, "replica", "every", "flood-watch", "--to", "tramonta", "--lose", "much"), `"much" is no span`)
	assert.Contains(t, run(0, "replica", "every", "flood-watch", "--to", "tramonta", "--of", "register", "--lose", "4h"), "copied to tramonta every hour, 4h lost at most; next")
	assert.Regexp(t, `copied to tramonta .* as of \S+ ago`, run(0, "promises"))
	assert.Contains(t, run(5, "replica", "failover", "flood-watch", "presa"), "no whole copy of flood-watch is kept at")
	assert.Contains(t, run(5, "replica", "failover", "flood-watch", "tramonta"), "the rules forbid it")
	lift := "sensitive-data-stays-home"
	draft := run(1, "replica", "failover", "flood-watch", "tramonta", "--lift", lift)
	assert.Contains(t, draft, "fail over contacts-host-1 to tramonta, copy")
	assert.Contains(t, draft, "nothing was done; --confirm flood-watch runs it")
	assert.Contains(t, run(0, "replica", "failover", "flood-watch", "tramonta", "--lift", lift, "--confirm", "flood-watch"), "move 1 has begun")
	assert.Contains(t, run(0, "move", "status"), "moved, not committed")
	assert.Contains(t, run(0, "clock"), "what is left on of move 1")
	assert.Contains(t, run(4, "replica", "renew", "flood-watch", "tramonta"), "is not over")
	run(0, "move", "back", "1", "--confirm", "flood-watch")
	assert.Contains(t, run(4, "move", "start", "--move", "1", "--wave", "1"), "andamio replica failover does so anew")
	run(0, "replica", "every", "drop", "flood-watch")
	run(0, "replica", "drop", "flood-watch", "tramonta", "--confirm", "flood-watch")
	assert.Contains(t, run(0, "replica", "flood-watch"), "no copies of flood-watch")
}
