package calendar_test

import (
	"fmt"
	"os/exec"
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

// TestAnotherImplementationAgrees compares with dateutil, where it is installed: it is other people's.
func TestAnotherImplementationAgrees(t *testing.T) {
	if exec.Command("python3", "-c", "import dateutil.rrule").Run() != nil {
		t.Skip("python3-dateutil is not installed: the rest of the tests holds without it")
	}
	start := time.Date(2026, 1, 5, 7, 15, 0, 0, time.UTC)
	var rules []string
	for _, freq := range []string{"HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY"} {
		for _, interval := range []string{"", ";INTERVAL=2", ";INTERVAL=7"} {
			for _, by := range []string{"", ";BYDAY=MO,WE,SA", ";BYMONTHDAY=-1", ";BYHOUR=2,14;BYMINUTE=30", ";BYMONTH=2,11", ";COUNT=4", ";UNTIL=20260220T000000Z"} {
				rules = append(rules, "FREQ="+freq+interval+by)
			}
		}
	}
	script := `import sys
from datetime import datetime
from itertools import islice
from dateutil.rrule import rrulestr
for line in sys.stdin:
    try:
        r = rrulestr(line.strip().replace("Z", ""), dtstart=datetime(2026, 1, 5, 7, 15))
        print(" ".join(x.strftime("%Y%m%dT%H%M%S") for x in islice(r, 6)))
    except ValueError:
        print() # it never is
`
	cmd := exec.Command("python3", "-c", script)
	cmd.Stdin = strings.NewReader(strings.Join(rules, "\n") + "\n")
	out, err := cmd.Output()
	require.NoError(t, err)
	lines := strings.Split(strings.TrimRight(string(out), "\n"), "\n")
	require.Len(t, lines, len(rules))
	for i, rule := range rules {
		r, err := calendar.Parse(rule, time.UTC, start)
		if lines[i] == "" {
			assert.ErrorContains(t, err, "never occurs", rule)
			continue
		}
		require.NoError(t, err, rule)
		var got []string
		for _, at := range r.After(start.Add(-time.Second), 6) {
			got = append(got, at.Format("20060102T150405"))
		}
		assert.Equal(t, lines[i], strings.Join(got, " "), rule)
	}
}
