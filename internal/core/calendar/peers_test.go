package calendar_test

import (
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/calendar"
)

// withICalendar is a Python that has icalendar, which others wrote; it skips the test where none has.
func withICalendar(t *testing.T, script, given string) string {
	t.Helper()
	for _, python := range []string{"python3", "/usr/bin/python3"} {
		if exec.CommandContext(t.Context(), python, "-c", "import icalendar").Run() != nil {
			continue
		}
		cmd := exec.CommandContext(t.Context(), python, "-c", script)
		cmd.Stdin = strings.NewReader(given)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	t.Skip("python3-icalendar is not installed: the rest of the tests holds without it")
	return ""
}

// TestAnotherReadsWhatIsWritten has icalendar read a calendar of ours, with a line that has to be folded and letters of more than one octet.
func TestAnotherReadsWhatIsWritten(t *testing.T) {
	at := time.Date(2026, 3, 28, 23, 30, 0, 0, time.FixedZone("", 2*60*60))
	long := strings.Repeat("presa del Río, vacía; ", 8)
	var text strings.Builder
	require.NoError(t, calendar.Write(&text, at, []calendar.Event{{UID: "1-save@andamio.example", Summary: long, At: at}, {UID: "2", Summary: `a\b, "c"`, At: at.AddDate(0, 0, 1)}}))
	assert.Equal(t, "2.0 2\n1-save@andamio.example|2026-03-28T21:30:00+00:00|2026-03-28T21:30:00+00:00|"+long+"\n"+`2|2026-03-29T21:30:00+00:00|2026-03-28T21:30:00+00:00|a\b, "c"`,
		withICalendar(t, `import sys, icalendar
cal = icalendar.Calendar.from_ical(sys.stdin.buffer.read())
events = cal.walk("VEVENT")
assert not any(e.errors for e in events), [e.errors for e in events]
print(cal["VERSION"], len(events))
for e in events:
    print("|".join([str(e["UID"]), e["DTSTART"].dt.isoformat(), e["DTSTAMP"].dt.isoformat(), str(e["SUMMARY"])]))
`, text.String()))
}

// TestWhatAnotherWritesIsRead has icalendar write holidays in the forms that it knows: days, times in a zone that it describes, rules, days added and left out.
func TestWhatAnotherWritesIsRead(t *testing.T) {
	text := withICalendar(t, `import sys, icalendar
from datetime import date, datetime, timedelta, timezone
from zoneinfo import ZoneInfo
cal = icalendar.Calendar()
cal.add("prodid", "-//others//EN"); cal.add("version", "2.0")
def event(uid, summary, start, **more):
    e = icalendar.Event()
    e.add("uid", uid); e.add("summary", summary); e.add("dtstart", start); e.add("dtstamp", datetime(2026, 1, 1, tzinfo=timezone.utc))
    for k, v in more.items(): e.add(k, v)
    cal.add_component(e)
event("1", "Día del Río, grande", date(2026, 6, 1), dtend=date(2026, 6, 3))
event("2", "every second Monday of a quarter", date(2026, 1, 12), rrule={"freq": "monthly", "interval": 3, "byday": "2MO", "count": 4}, exdate=[date(2026, 7, 13), date(2026, 10, 12)], rdate=date(2026, 12, 24))
event("3", "night work", datetime(2026, 10, 24, 22, 0, tzinfo=ZoneInfo("Europe/Madrid")), duration=timedelta(hours=4))
event("4", "x" * 200, date(2026, 11, 1))
sys.stdout.write(cal.to_ical().decode())
`, "")
	from := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	days, err := calendar.Days(strings.NewReader(text+"\r\n"), from, from.AddDate(1, 0, 0))
	require.NoError(t, err, text)
	var got []string
	for _, d := range days {
		got = append(got, d.Date.Format(time.DateOnly)+" "+d.Name[:min(len(d.Name), 20)])
	}
	assert.Equal(t, []string{"2026-01-12 every second Monday ", "2026-04-13 every second Monday ", "2026-06-01 Día del Río, grand", "2026-06-02 Día del Río, grand",
		"2026-10-24 night work", "2026-10-25 night work", "2026-11-01 xxxxxxxxxxxxxxxxxxxx", "2026-12-24 every second Monday "}, got)
}
