package calendar_test

import (
	"fmt"
	"math/rand/v2"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/calendar"
	"andamio/internal/core/fault"
)

func zone(t require.TestingT, name string) *time.Location {
	z, err := calendar.Zone(name)
	require.NoError(t, err)
	return z
}

func TestRulesCountFromTheirStart(t *testing.T) {
	madrid, kolkata := zone(t, "Europe/Madrid"), zone(t, "Asia/Kolkata")
	start := time.Date(2026, 3, 2, 0, 0, 0, 0, madrid)
	for _, c := range []struct {
		rule  string
		in    *time.Location
		after string
		want  string
	}{
		{"FREQ=DAILY;INTERVAL=3", madrid, "2026-03-10T12:00:00+01:00", "2026-03-11T00:00:00+01:00"},
		{"FREQ=DAILY;INTERVAL=3", madrid, "2026-03-11T12:00:00+01:00", "2026-03-14T00:00:00+01:00"},
		{"FREQ=DAILY;BYHOUR=2;BYMINUTE=30", madrid, "2026-03-28T03:00:00+01:00", "2026-03-29T03:30:00+02:00"}, // there is no 2:30 that night
		{"rrule:freq=weekly;byday=sa;byhour=22", madrid, "2026-03-10T12:00:00+01:00", "2026-03-14T22:00:00+01:00"},
		{"FREQ=DAILY;BYHOUR=22", kolkata, "2026-03-10T00:00:00+05:30", "2026-03-10T22:00:00+05:30"}, // on the hour there, too
		{"DTSTART;TZID=Europe/Madrid:20260101T090000\nRRULE:FREQ=MONTHLY\nEXDATE;TZID=Europe/Madrid:20260401T090000", time.UTC, "2026-03-02T00:00:00Z", "2026-05-01T09:00:00+02:00"},
		{"FREQ=DAILY;COUNT=3", madrid, "2026-03-03T12:00:00+01:00", "2026-03-04T00:00:00+01:00"},
		{"FREQ=DAILY;COUNT=3", madrid, "2026-03-04T12:00:00+01:00", ""},
	} {
		r, err := calendar.Parse(c.rule, c.in, start.In(c.in).Truncate(0))
		require.NoError(t, err, c.rule)
		if c.in == kolkata {
			r, err = calendar.Parse(c.rule, c.in, calendar.Midnight(start, kolkata))
			require.NoError(t, err)
		}
		after, err := time.Parse(time.RFC3339, c.after)
		require.NoError(t, err)
		next := r.Next(after)
		if c.want == "" {
			assert.True(t, next.IsZero(), "%s after %s: %s", c.rule, c.after, next)
			continue
		}
		want, err := time.Parse(time.RFC3339, c.want)
		require.NoError(t, err)
		assert.True(t, want.Equal(next), "%s after %s is %s, not %s", c.rule, c.after, c.want, next)
	}
}

func TestWhatIsNoRuleIsRefused(t *testing.T) {
	for _, text := range []string{"", "daily", "FREQ=NEVER", "FREQ=DAILY;INTERVAL=0", "FREQ=DAILY;COUNT=0", "FREQ=DAILY;COUNT=2;UNTIL=20270101T000000Z",
		"FREQ=DAILY;FREQ=HOURLY", "FREQ=SECONDLY", "FREQ=HOURLY;INTERVAL=2;BYHOUR=1", "FREQ=MINUTELY;INTERVAL=60;BYMINUTE=7", "FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "SUMMARY:tea", "RRULE:FREQ=DAILY;BYHOUR=25", "DTSTART:yesterday\nRRULE:FREQ=DAILY"} {
		_, err := calendar.Parse(text, time.UTC, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))
		assert.Equal(t, fault.Invalid, fault.CodeOf(err), "%q: %v", text, err)
	}
	_, err := calendar.Zone("Ribera/Alta")
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
}

func TestOccurrencesAreOneAfterTheOther(t *testing.T) {
	start := time.Date(2026, 1, 5, 7, 15, 0, 0, time.UTC)
	rapid.Check(t, func(t *rapid.T) {
		text := fmt.Sprintf("FREQ=%s;INTERVAL=%d", rapid.SampledFrom([]string{"HOURLY", "DAILY", "WEEKLY"}).Draw(t, "often"), rapid.IntRange(1, 9).Draw(t, "interval"))
		r, err := calendar.Parse(text, time.UTC, start)
		require.NoError(t, err)
		at := start.Add(time.Duration(rapid.IntRange(0, 5000).Draw(t, "minutes")) * time.Minute)
		next, last := r.Next(at), r.Last(at)
		assert.True(t, next.After(at) && !last.After(at))
		assert.True(t, r.Next(last).Equal(next), "nothing lies between them")
		some := r.After(at, 5)
		require.Len(t, some, 5)
		assert.Equal(t, 3, r.Between(at, some[2]))
	})
}

// drawn is a rule with parts drawn at random, of those that may stand beside one another (section 3.3.10).
func drawn(r *rand.Rand) string {
	of := func(all ...string) string { return all[r.IntN(len(all))] }
	freq := of("MINUTELY", "HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY")
	parts := []string{"FREQ=" + freq}
	maybe := func(share int, part func() string) {
		if r.IntN(share) == 0 {
			parts = append(parts, part())
		}
	}
	maybe(2, func() string { return fmt.Sprintf("INTERVAL=%d", 1+r.IntN(9)) })
	maybe(3, func() string { return "BYMONTH=" + of("1", "2", "2,11", "6,7,8", "12") })
	switch {
	case r.IntN(3) > 0:
	case freq == "MONTHLY" || freq == "YEARLY":
		parts = append(parts, "BYDAY="+of("1SA", "-1SU", "2MO,4MO", "FR", "TU,TH"))
	default:
		parts = append(parts, "BYDAY="+of("MO", "MO,WE,SA", "SU", "MO,TU,WE,TH,FR"))
	}
	if freq != "WEEKLY" {
		maybe(5, func() string { return "BYMONTHDAY=" + of("1", "-1", "15,29", "29", "30,31", "-7,7") })
	}
	if freq == "YEARLY" {
		maybe(6, func() string { return "BYYEARDAY=" + of("1", "60,366", "-1") })
	}
	hours := freq == "MINUTELY" || freq == "HOURLY"
	maybe(map[bool]int{true: 6, false: 3}[hours], func() string { return "BYHOUR=" + of("2", "2,14", "0,23", "6,7,8,9") })
	maybe(map[bool]int{true: 6, false: 4}[hours], func() string { return "BYMINUTE=" + of("0", "30", "15,45") })
	if freq == "MONTHLY" && strings.Contains(strings.Join(parts, ";"), "BYDAY") {
		maybe(3, func() string { return "BYSETPOS=" + of("1", "-1", "2,-2") })
	}
	maybe(4, func() string { return "WKST=" + of("MO", "SU") })
	switch r.IntN(5) {
	case 0:
		parts = append(parts, fmt.Sprintf("COUNT=%d", 1+r.IntN(8)))
	case 1:
		parts = append(parts, "UNTIL="+of("20260220T000000Z", "20280229T120000Z", "20300101T000000Z"))
	}
	return strings.Join(parts, ";")
}

// TestLongAfterItsStartARuleIsAsCountedFromThere asks drawn rules about moments long after their start, and holds the answers against all that occurs since then.
func TestLongAfterItsStartARuleIsAsCountedFromThere(t *testing.T) {
	const most = 3000
	draw := rand.New(rand.NewPCG(2, 5545))
	start := time.Date(2026, 1, 5, 7, 15, 0, 0, time.UTC)
	turns := []time.Time{ // of the clock, in Madrid and in Santiago
		time.Date(2026, 3, 29, 1, 0, 0, 0, time.UTC), time.Date(2026, 10, 25, 1, 0, 0, 0, time.UTC),
		time.Date(2026, 4, 5, 3, 0, 0, 0, time.UTC), time.Date(2026, 9, 6, 4, 0, 0, 0, time.UTC)}
	for _, zone := range []string{"UTC", "Europe/Madrid", "America/Santiago"} {
		place, err := calendar.Zone(zone)
		require.NoError(t, err)
		for range 25 {
			text := drawn(draw)
			if draw.IntN(3) == 0 {
				text += "\nRDATE:20260110T091500Z,20270110T091500Z"
			}
			r, err := calendar.Parse(text, place, start)
			if err != nil {
				continue // it never occurs
			}
			all := r.After(start.Add(-time.Second), most)
			for range 8 {
				days := 1 << draw.IntN(10)
				at := start.Add(time.Duration(draw.IntN(days*24*60)) * time.Minute)
				if draw.IntN(3) == 0 {
					at = turns[draw.IntN(len(turns))].Add(time.Duration(draw.IntN(4*60)-60) * time.Minute)
				}
				if len(all) == most && !at.Before(all[len(all)-1]) {
					continue
				}
				n, on := slices.BinarySearchFunc(all, at, time.Time.Compare)
				if on {
					n++
				}
				var before, after time.Time
				if n > 0 {
					before = all[n-1]
				}
				if n < len(all) {
					after = all[n]
				}
				require.Equal(t, before.Unix(), r.Last(at).Unix(), "%s in %s, last at %s", text, zone, at)
				require.Equal(t, after.Unix(), r.Next(at).Unix(), "%s in %s, next after %s", text, zone, at)
			}
		}
	}
}

// othersPython is a Python that has dateutil; "" if none here has.
func othersPython() string {
	for _, python := range []string{"python3", "/usr/bin/python3"} {
		if exec.Command(python, "-c", "import dateutil.rrule").Run() == nil {
			return python
		}
	}
	return ""
}

// TestAnotherImplementationAgrees compares a thousand rules with dateutil, where it is installed: it is other people's.
func TestAnotherImplementationAgrees(t *testing.T) {
	python := othersPython()
	if python == "" {
		t.Skip("python3-dateutil is not installed: the rest of the tests holds without it")
	}
	start := time.Date(2026, 1, 5, 7, 15, 0, 0, time.UTC)
	r := rand.New(rand.NewPCG(1, 5545))
	var rules []string
	for seen := map[string]bool{}; len(rules) < 1000; {
		text := drawn(r)
		if _, err := calendar.Parse(text, time.UTC, start); err != nil { // it never occurs: the other looks for it until the year 9999
			require.ErrorContains(t, err, "never occurs", text)
			continue
		}
		if !seen[text] {
			rules, seen[text] = append(rules, text), true
		}
	}
	script := `import sys
from datetime import datetime
from itertools import islice
from dateutil.rrule import rrulestr
for line in sys.stdin:
    r = rrulestr(line.strip().replace("Z", ""), dtstart=datetime(2026, 1, 5, 7, 15))
    print(" ".join(x.strftime("%Y%m%dT%H%M%S") for x in islice(r, 6)))
`
	cmd := exec.Command(python, "-c", script)
	cmd.Stdin = strings.NewReader(strings.Join(rules, "\n") + "\n")
	out, err := cmd.Output()
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	require.Len(t, lines, len(rules))
	for i, rule := range rules {
		r, err := calendar.Parse(rule, time.UTC, start)
		require.NoError(t, err, rule)
		var got []string
		for _, at := range r.After(start.Add(-time.Second), 6) {
			got = append(got, at.Format("20060102T150405"))
		}
		assert.Equal(t, lines[i], strings.Join(got, " "), rule)
	}
}

// TestHoursThatAreLeftOut has what is due at an hour that a day does not have be done that day, as RFC 5545 says in section 3.3.5, and what a day has twice once.
func TestHoursThatAreLeftOut(t *testing.T) {
	for name, c := range map[string]struct {
		rule, zone, start string
		want              []string
	}{
		"by night":                     {"FREQ=DAILY", "Europe/Madrid", "20280325T023000", []string{"25 02:30 CET", "26 03:30 CEST", "27 02:30 CEST"}},
		"at midnight":                  {"FREQ=DAILY", "America/Santiago", "20270904T003000", []string{"04 00:30 -04", "05 01:30 -03", "06 00:30 -03"}},
		"by half hours":                {"FREQ=DAILY", "Australia/Lord_Howe", "20271002T021500", []string{"02 02:15 +1030", "03 02:45 +11", "04 02:15 +11"}},
		"a day":                        {"FREQ=DAILY", "Pacific/Apia", "20111229T120000", []string{"29 12:00 -10", "31 12:00 +14", "01 12:00 +14"}},
		"twice":                        {"FREQ=DAILY", "Europe/Madrid", "20281028T023000", []string{"28 02:30 CEST", "29 02:30 CEST", "30 02:30 CET"}},
		"by the hour, one left out":    {"FREQ=HOURLY", "America/Santiago", "20270904T230000", []string{"04 23:00 -04", "05 01:00 -03", "05 02:00 -03", "05 03:00 -03"}},
		"by the half hour":             {"FREQ=MINUTELY;INTERVAL=30", "Europe/Madrid", "20280326T013000", []string{"26 01:30 CET", "26 03:00 CEST", "26 03:30 CEST", "26 04:00 CEST"}},
		"until a moment":               {"FREQ=DAILY;UNTIL=20280326T013000Z", "Europe/Madrid", "20280325T023000", []string{"25 02:30 CET", "26 03:30 CEST"}},
		"but for one":                  {"RRULE:FREQ=DAILY;COUNT=3\nEXDATE;TZID=Europe/Madrid:20280326T023000", "Europe/Madrid", "20280325T023000", []string{"25 02:30 CET", "27 02:30 CEST"}},
		"by days of another's own":     {"RDATE;TZID=Europe/Madrid:20280329T100000,20280328T100000", "Europe/Madrid", "20280325T023000", []string{"28 10:00 CEST", "29 10:00 CEST"}},
		"in the zone that it says":     {"DTSTART;TZID=Europe/Madrid:20280325T023000\nRRULE:FREQ=DAILY;COUNT=2", "UTC", "20280101T000000", []string{"25 02:30 CET", "26 03:30 CEST"}},
		"on the first day of a season": {"FREQ=MONTHLY;BYDAY=1SU", "America/Santiago", "20270804T000000", []string{"05 01:00 -03", "03 00:00 -03", "07 00:00 -03"}},
	} {
		zone, err := calendar.Zone(c.zone)
		require.NoError(t, err)
		start, err := time.ParseInLocation("20060102T150405", c.start, zone)
		require.NoError(t, err)
		r, err := calendar.Parse(c.rule, zone, start)
		require.NoError(t, err, name)
		var got []string
		all := r.After(start.Add(-time.Second), len(c.want))
		for i, at := range all {
			got = append(got, at.Format("02 15:04 MST"))
			assert.True(t, r.Last(at).Equal(at), "%s: %s", name, at)
			assert.True(t, r.Next(at.Add(-1)).Equal(at), "%s: %s", name, at)
			assert.Equal(t, i, r.Between(all[0], at), "%s: %s", name, at)
			if i > 0 {
				assert.True(t, r.Last(at.Add(-1)).Equal(all[i-1]), "%s: %s", name, at)
			}
		}
		assert.Equal(t, c.want, got, name)
	}
}
