package clock_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/clock"
)

// days are the moments of two years at a time of day in a zone, of those days that a function says, worked out day by day: no rule is read for it.
func days(zone *time.Location, hour, minute int, on func(time.Time) bool) []time.Time {
	var out []time.Time
	for d := 0; d < 731; d++ {
		day := time.Date(2027, 6, 1+d, 12, 0, 0, 0, zone)
		if on(day) {
			// What a day has twice is the first, and what it does not have counts from before it is left out (RFC 5545, section 3.3.5).
			_, before := day.AddDate(0, 0, -1).Zone()
			at := time.Date(day.Year(), day.Month(), day.Day(), hour, minute, -before, 0, time.UTC)
			if is := time.Date(day.Year(), day.Month(), day.Day(), hour, minute, 0, 0, zone); is.Hour() == hour && is.Minute() == minute && at.In(zone).Hour() != hour {
				at = is
			}
			out = append(out, at)
		}
	}
	return out
}

// TestTwoYearsOfAClock has what is due be looked at over two years with both hemispheres' daylight saving and a leap day, by a machine that sleeps for
// minutes or weeks and whose clock is set back: each time is seen to at most once, none is forgotten without a word, and what is late is said to be.
func TestTwoYearsOfAClock(t *testing.T) {
	every := func(time.Time) bool { return true }
	for name, c := range map[string]struct {
		rule, zone   string
		hour, minute int
		on           func(time.Time) bool
	}{
		"nights in the north":               {"FREQ=DAILY", "Europe/Madrid", 1, 30, every},
		"at an hour that one night is left": {"FREQ=DAILY", "Europe/Madrid", 2, 30, every},
		"in the south":                      {"FREQ=DAILY", "America/Santiago", 0, 30, every},
		"by half hours":                     {"FREQ=DAILY", "Australia/Lord_Howe", 2, 15, every},
		"without":                           {"FREQ=DAILY", "Asia/Kolkata", 23, 59, every},
		"working days":                      {"FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "Australia/Sydney", 8, 0, func(d time.Time) bool { return d.Weekday() != time.Saturday && d.Weekday() != time.Sunday }},
		"a month's last day":                {"FREQ=MONTHLY;BYMONTHDAY=-1", "Europe/Lisbon", 12, 0, func(d time.Time) bool { return d.AddDate(0, 0, 1).Day() == 1 }},
		"the leap day":                      {"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "UTC", 12, 0, func(d time.Time) bool { return d.Month() == 2 && d.Day() == 29 }},
		"the thirty-first":                  {"FREQ=MONTHLY;BYMONTHDAY=31", "America/Bogota", 12, 0, func(d time.Time) bool { return d.Day() == 31 }},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			zone, err := time.LoadLocation(c.zone)
			require.NoError(t, err)
			start := time.Date(2027, 6, 1, c.hour, c.minute, 0, 0, zone)
			want := days(zone, c.hour, c.minute, c.on)
			expected := unix(want)
			for seed := range uint64(2) {
				for _, late := range []clock.Late{clock.CatchUp, clock.Miss} {
					d := clock.Due{Rule: c.rule, Zone: c.zone, Start: start, Seen: start.Add(-time.Second)}
					done, missed := lived(t, &d, late, want[len(want)-1].Add(3*time.Hour), rand.New(rand.NewPCG(seed, 29)))
					assert.Equal(t, len(want), len(done)+missed, "each is done or said to be missed")
					for at, began := range done {
						assert.True(t, expected[at], "nothing is due at %s", time.Unix(at, 0).In(zone))
						if late == clock.Miss {
							assert.LessOrEqual(t, began-at, int64(clock.Grace.Seconds()), "what is late is said to be missed")
						}
					}
				}
			}
		})
	}
}

func unix(all []time.Time) map[int64]bool {
	out := map[int64]bool{}
	for _, x := range all {
		out[x.Unix()] = true
	}
	return out
}

// lived looks again and again at what is due, as a machine does that sleeps and whose clock is set, until an end: when what was due was done, and how often it was missed.
func lived(t *testing.T, d *clock.Due, late clock.Late, end time.Time, r *rand.Rand) (done map[int64]int64, missed int) {
	now, done := d.Seen, map[int64]int64{}
	for now.Before(end) {
		switch r.IntN(20) {
		case 0: // it sleeps
			now = now.Add(time.Duration(r.IntN(20*24)) * time.Hour)
		case 1: // its clock is set back
			now = now.Add(-time.Duration(r.IntN(26*3600)) * time.Second)
		default: // it looks when something is due, as a server does that is up
			next, err := d.Next(now)
			require.NoError(t, err)
			if next.IsZero() || next.Sub(now) > 400*24*time.Hour {
				next = now.Add(24 * time.Hour)
			}
			now = next.Add(time.Duration(r.IntN(100)) * time.Second)
		}
		if now.After(end) {
			now = end
		}
		v, err := clock.Judge(d, late, now)
		require.NoError(t, err)
		if at := v.Do.Unix(); !v.Do.IsZero() {
			assert.Zero(t, done[at], "it is done twice")
			assert.False(t, v.Do.After(now), "nothing is done early")
			done[at] = now.Unix()
		}
		missed += v.Missed
		assert.False(t, v.Seen.Before(d.Seen), "what was seen to stays seen to, whatever the clock says")
		d.Seen = v.Seen
	}
	return done, missed
}
