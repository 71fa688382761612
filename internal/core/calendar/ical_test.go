package calendar_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/calendar"
	"andamio/internal/core/fault"
)

const holidays = `BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Ribera//holidays//EN
BEGIN:VEVENT
UID:river
DTSTAMP:20260101T000000Z
DTSTART;VALUE=DATE:20200601
RRULE:FREQ=YEARLY
SUMMARY:Day of the river
END:VEVENT
BEGIN:VEVENT
UID:works
DTSTAMP:20260101T000000Z
DTSTART;VALUE=DATE:20261230
DTEND;VALUE=DATE:20270102
SUMMARY:Works
 at the weir
END:VEVENT
BEGIN:VEVENT
UID:old
DTSTAMP:20260101T000000Z
DTSTART:20190601T080000Z
SUMMARY:Long ago
END:VEVENT
END:VCALENDAR
`

func TestDaysOfACalendar(t *testing.T) {
	from := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	days, err := calendar.Days(strings.NewReader(strings.ReplaceAll(holidays, "\n", "\r\n")), from, from.AddDate(2, 0, 0))
	require.NoError(t, err)
	var got []string
	for _, d := range days {
		got = append(got, d.Date.Format(time.DateOnly)+" "+d.Name)
	}
	assert.Equal(t, []string{"2026-06-01 Day of the river", "2026-12-30 Worksat the weir", "2026-12-31 Worksat the weir", "2027-01-01 Worksat the weir", "2027-06-01 Day of the river"}, got)
	for _, bad := range []string{"", "tea", strings.Replace(holidays, "FREQ=YEARLY", "FREQ=NEVER", 1), strings.Replace(holidays, "FREQ=YEARLY", "FREQ=MINUTELY", 1), strings.Replace(holidays, "FREQ=YEARLY", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", 1), strings.Replace(holidays, "DTSTART;VALUE=DATE:20200601\n", "", 1), strings.Replace(holidays, "20261230", "yesterday", 1)} {
		_, err := calendar.Days(strings.NewReader(bad), from, from.AddDate(1, 0, 0))
		assert.Equal(t, fault.Invalid, fault.CodeOf(err), "%q: %v", bad[:min(20, len(bad))], err)
	}
}

func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	at := time.Date(2026, 11, 29, 18, 0, 0, 0, time.UTC)
	var text strings.Builder
	require.NoError(t, calendar.Write(&text, at, []calendar.Event{{UID: "1-save@andamio.example", Summary: "flood-watch, saved; \x1b[31mred", At: at.Add(8 * time.Hour)}}))
	assert.Contains(t, text.String(), "DTSTART:20261130T020000Z\r\n")
	assert.NotContains(t, text.String(), "\x1b")
	days, err := calendar.Days(strings.NewReader(text.String()), at, at.AddDate(0, 0, 9))
	require.NoError(t, err)
	require.Len(t, days, 1)
	assert.Equal(t, "flood-watch, saved; red", days[0].Name)
	assert.Equal(t, fault.NotFound, fault.CodeOf(calendar.Write(&text, at, nil)))
}

func FuzzDays(f *testing.F) {
	f.Add(holidays)
	f.Add(strings.Replace(holidays, "YEARLY", "MINUTELY", 1))
	from := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		days, err := calendar.Days(strings.NewReader(text), from, from.AddDate(2, 0, 0))
		if err != nil {
			assert.Equal(t, fault.Invalid, fault.CodeOf(err))
		}
		for _, d := range days {
			assert.False(t, d.Date.Before(from.AddDate(0, 0, -1)))
		}
	})
}
