package promise_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/clock"
	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
)

var (
	noon  = time.Date(2026, 3, 27, 12, 0, 0, 0, time.UTC)
	two   = time.Date(2026, 3, 27, 1, 0, 0, 0, time.UTC) // in Madrid
	ana   = guard.Actor{Name: "ana", Way: guard.Command}
	day   = 24 * time.Hour
	every = promise.When{Rule: "FREQ=DAILY", Zone: "Europe/Madrid", Start: two}
)

func TestWhatCannotBePromisedIsRefused(t *testing.T) {
	off := promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: noon.Add(7 * time.Hour)}
	on := promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: noon.Add(-5 * time.Hour)}
	for _, c := range []struct {
		p    promise.Promise
		says string
	}{
		{promise.Promise{Kind: promise.Saved}, "has the terms of its kind"},
		{promise.Promise{Kind: promise.Saved, Lease: &promise.LeaseTerms{Until: noon.Add(day)}}, "is nothing that is promised"},
		{promise.Promise{Kind: promise.Saved, Saved: &promise.SavedTerms{When: every, Keep: 1}, Lease: &promise.LeaseTerms{}}, "and no others"},
		{promise.Promise{Kind: "glory", Lease: &promise.LeaseTerms{Until: noon.Add(day)}}, `"glory" is nothing`},
		{promise.Promise{Kind: promise.Saved, Saved: &promise.SavedTerms{When: every}}, "between 1 and 366"},
		{promise.Promise{Kind: promise.Saved, Saved: &promise.SavedTerms{When: every, Keep: 367}}, "between 1 and 366"},
		{promise.Promise{Kind: promise.Saved, Saved: &promise.SavedTerms{When: promise.When{Rule: "FREQ=NOW", Zone: "UTC", Start: noon}, Keep: 1}}, "FREQ"},
		{promise.Promise{Kind: promise.Saved, Saved: &promise.SavedTerms{When: promise.When{Rule: "FREQ=DAILY", Zone: "Mars/Base", Start: noon}, Keep: 1}}, "Mars"},
		{promise.Promise{Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: noon}}, "is over"},
		{promise.Promise{Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: noon.Add(day), Grace: -1}}, "less than nothing"},
		{promise.Promise{Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: noon.Add(day), Times: 2}}, "say both or neither"},
		{promise.Promise{Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: noon.Add(day), Notice: make([]time.Duration, 11)}}, "at most 10 times"},
		{promise.Promise{Kind: promise.Hours, Hours: &promise.HoursTerms{Off: off, On: promise.When{Rule: "FREQ=DAILY;UNTIL=20260301T000000Z", Zone: "UTC", Start: on.Start}}}, "never go off and come back"},
		{promise.Promise{Kind: promise.Hours, Hours: &promise.HoursTerms{Off: off, On: on, Lead: 12 * time.Hour}}, "takes 12h0m0s to start"},
		{promise.Promise{Kind: promise.Hours, Hours: &promise.HoursTerms{Off: promise.When{}, On: on}}, "off: "},
		{promise.Promise{Kind: promise.Hours, Hours: &promise.HoursTerms{Off: off, On: promise.When{Rule: "FREQ=NOW", Zone: "UTC", Start: noon}}}, "on: "},
		{promise.Promise{Kind: promise.Replicated, Replicated: &promise.ReplicatedTerms{When: every}}, "site: say where"},
		{promise.Promise{Kind: promise.Replicated, Replicated: &promise.ReplicatedTerms{When: every, Site: "vega", Lose: -1}}, "not younger than now"},
		{promise.Promise{Kind: promise.Replicated, Replicated: &promise.ReplicatedTerms{When: promise.When{Rule: "FREQ=NOW", Zone: "UTC"}, Site: "vega"}}, "FREQ"},
		{promise.Promise{Kind: promise.Replicated, Drilled: &promise.DrilledTerms{When: every}}, "is nothing that is promised"},
		{promise.Promise{Kind: promise.Drilled, Drilled: &promise.DrilledTerms{When: promise.When{Rule: "FREQ=NOW", Zone: "UTC"}}}, "FREQ"},
	} {
		assert.ErrorContains(t, c.p.Check(noon), c.says, "%+v", c.p)
	}
	for _, p := range []promise.Promise{
		{Kind: promise.Saved, Saved: &promise.SavedTerms{When: every, Keep: 7}},
		{Kind: promise.Hours, Hours: &promise.HoursTerms{Off: off, On: on, Lead: time.Minute}},
		{Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: noon.Add(day), By: day, Times: 1, Notice: []time.Duration{time.Hour}}},
	} {
		assert.NoError(t, p.Check(noon))
	}
}

// TestWhatIsDueForAPromise looks what is due when, over the night in which Madrid puts its clocks forward: two is three then (RFC 5545, section 3.3.5).
func TestWhatIsDueForAPromise(t *testing.T) {
	saved := promise.Promise{Deployment: 7, Kind: promise.Saved, By: ana, Saved: &promise.SavedTerms{When: every, Keep: 7}}
	dues := saved.Dues(noon)
	require.Len(t, dues, 1)
	d := dues[0]
	assert.Equal(t, []any{promise.DueSave, "7", guard.Schedule}, []any{d.Kind, d.Subject, d.By.Way})
	for at, want := noon, []time.Time{two.Add(day), two.Add(2 * day), two.Add(3*day - time.Hour)}; len(want) > 0; want = want[1:] {
		next, err := d.Next(at)
		require.NoError(t, err)
		assert.True(t, want[0].Equal(next), "%s and not %s", want[0], next)
		at = next
	}
	lease := promise.Promise{Deployment: 7, Kind: promise.Lease, By: ana, Lease: &promise.LeaseTerms{Until: noon.Add(30 * day), Grace: 7 * day, Notice: []time.Duration{7 * day, day}}}
	at := map[string]time.Time{}
	for _, d := range lease.Dues(noon) {
		at[d.Kind+" "+d.Subject] = d.Start
		id, err := promise.DeploymentOf(d.Subject)
		require.NoError(t, err)
		assert.EqualValues(t, 7, id)
	}
	assert.Equal(t, map[string]time.Time{"end of lease 7": noon.Add(30 * day), "end of grace 7": noon.Add(37 * day), "notice of end 7 7d": noon.Add(23 * day), "notice of end 7 1d": noon.Add(29 * day)}, at)
	off, on := promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: noon.Add(7 * time.Hour)}, promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: noon.Add(-5 * time.Hour)}
	hours := promise.Promise{Deployment: 7, Kind: promise.Hours, By: ana, Hours: &promise.HoursTerms{Off: off, On: on, Lead: 10 * time.Minute}}
	dues = hours.Dues(noon)
	require.Len(t, dues, 2)
	next, err := dues[1].Next(noon)
	require.NoError(t, err)
	assert.Equal(t, noon.Add(19*time.Hour-10*time.Minute), next, "it is switched on before it is to serve")
	assert.Equal(t, []string{"saved every day 02:00, 7 kept", "off every day 19:00 to 07:00", "ends 26 Apr 2026 12:00"}, []string{saved.Words(), hours.Words(), lease.Words()})
	assert.Empty(t, (&promise.Promise{Kind: "glory"}).Dues(noon))
}

func TestALeaseIsExtendedWithinItsBounds(t *testing.T) {
	l := promise.LeaseTerms{Until: noon.Add(day), By: 2 * day, Times: 2}
	require.NoError(t, l.Extend(noon))
	assert.Equal(t, noon.Add(3*day), l.Until)
	require.NoError(t, l.Extend(noon.Add(10*day)), "in its grace")
	assert.Equal(t, noon.Add(12*day), l.Until, "after now, since it was over")
	require.ErrorContains(t, l.Extend(noon), "extended 2 times of 2")
}

// TestWhetherItIsOffNow walks over two years, by steps that meet every hour of the day, both changes of the clock in them, and holds it against the times of day in the zone: off on
// weekdays from 19:00 to 07:00, and all the weekend.
func TestWhetherItIsOffNow(t *testing.T) {
	for _, name := range []string{"Europe/Madrid", "Australia/Sydney"} {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		begin := time.Date(2026, 1, 5, 0, 0, 0, 0, zone) // a Monday
		week := func(h int) promise.When {
			return promise.When{Rule: "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", Zone: name, Start: begin.Add(time.Duration(h) * time.Hour)}
		}
		h := promise.HoursTerms{Off: week(19), On: week(7), Lead: 10 * time.Minute}
		for at := begin.Add(20 * time.Hour); at.Before(begin.AddDate(2, 0, 0)); at = at.Add(13 * time.Hour) {
			local := at.In(zone)
			weekday := local.Weekday() != time.Saturday && local.Weekday() != time.Sunday
			got, err := h.IsOffAt("", at)
			require.NoError(t, err)
			require.Equal(t, !weekday || local.Hour() < 7 || local.Hour() >= 19, got, "%s", local)
		}
		soon, err := h.IsOffAt("", begin.Add(7*time.Hour-5*time.Minute))
		require.NoError(t, err)
		assert.False(t, soon, "it is switched on before it is to serve")
	}
	l := promise.LeaseTerms{Until: noon, Grace: day}
	assert.Equal(t, []bool{false, true, false, true}, []bool{l.Over(noon.Add(-1)), l.Over(noon), l.Gone(noon.Add(day - 1)), l.Gone(noon.Add(day))})
}

func TestHowAPromiseWasKept(t *testing.T) {
	at := func(n int) time.Time { return noon.Add(time.Duration(n) * day) }
	p := promise.ProofOf([]promise.Firing{
		{At: at(3), Began: at(3).Add(clock.Grace + 1), Ended: at(3).Add(time.Hour), Done: true},
		{At: at(1), Began: at(1).Add(clock.Grace), Ended: at(1).Add(time.Hour), Done: true},
		{At: at(4), Began: at(4), Failed: true, Note: "no room"},
		{At: at(7), Began: at(7), Missed: 2},
		{At: at(8), Began: at(8), Held: true, Note: "the season"},
	})
	var states []promise.State
	for _, m := range p.Marks {
		states = append(states, m.State)
	}
	assert.Equal(t, []promise.State{promise.Kept, promise.Late, promise.Broken, promise.Broken, promise.Going, promise.Held}, states)
	assert.Equal(t, []int{1, 1, 3}, []int{p.Kept, p.Late, p.Broken})
	assert.Equal(t, at(3).Add(time.Hour), p.Last)
	assert.False(t, p.Unproven())
	began := promise.Firing{At: at(1), Began: at(1), Ended: at(1).Add(time.Hour), Until: at(1).Add(time.Hour), Done: true}
	slow := began
	slow.Ended = slow.Until.Add(1)
	p = promise.ProofOf([]promise.Firing{began, slow})
	assert.Equal(t, []int{1, 1}, []int{p.Kept, p.Late}, "it was to be done by then, and not only begun")
	none := promise.ProofOf([]promise.Firing{{At: at(1), Failed: true}})
	assert.True(t, none.Unproven(), "what was never kept is not proven")
}

func TestSpans(t *testing.T) {
	for text, want := range map[string]time.Duration{"30d": 30 * day, "2w": 14 * day, "1w2d3h": 9*day + 3*time.Hour, "12h": 12 * time.Hour, "90m": 90 * time.Minute, "1d30m": day + 30*time.Minute} {
		got, err := promise.ParseSpan(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "d", "-1d", "1y", "3", "1d-2h", "99999999999w", "1d1w", "x"} {
		_, err := promise.ParseSpan(text)
		assert.Error(t, err, text)
	}
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.Int64Range(1, int64(400*day/time.Second)).Draw(t, "seconds")) * time.Second
		got, err := promise.ParseSpan(promise.Span(d))
		if err != nil || got != d {
			t.Fatalf("%s is written %q and read %s %v", d, promise.Span(d), got, err)
		}
	})
}

func TestHowOftenInWords(t *testing.T) {
	for rule, want := range map[string]string{
		"FREQ=DAILY": "every day 02:00", "FREQ=WEEKLY;BYDAY=SU": "every Sunday 02:00", "FREQ=WEEKLY;BYDAY=MO,WE,FR": "every Monday, Wednesday and Friday 02:00",
		"FREQ=MONTHLY;BYDAY=1SA": "every first Saturday 02:00", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR": "weekdays 02:00", "FREQ=HOURLY": "every hour",
		"FREQ=MONTHLY;BYDAY=-1SA": "freq=monthly;byday=-1sa 02:00", "FREQ=WEEKLY;BYDAY=1SU": "freq=weekly;byday=1su 02:00", "FREQ=MONTHLY;BYDAY=9SA": "freq=monthly;byday=9sa 02:00",
		"RRULE:FREQ=DAILY": "every day 02:00",
	} {
		p := promise.Promise{Kind: promise.Drilled, Drilled: &promise.DrilledTerms{When: promise.When{Rule: rule, Zone: "Europe/Madrid", Start: two}}}
		assert.Equal(t, "drilled "+want, p.Words())
		assert.Equal(t, "Europe/Madrid", p.Zone())
		dues := p.Dues(noon)
		require.Len(t, dues, 1)
		assert.Equal(t, promise.DueDrill, dues[0].Kind)
	}
}

func TestDailyCountsFromToday(t *testing.T) {
	w, err := promise.Daily(noon, "FREQ=DAILY", "02:00", "Europe/Madrid")
	require.NoError(t, err)
	assert.Equal(t, every, w)
	_, err = promise.Daily(noon, "FREQ=DAILY", "2am", "UTC")
	require.ErrorContains(t, err, `"2am" is no time of day`)
	_, err = promise.Daily(noon, "FREQ=DAILY", "02:00", "Mars/Base")
	require.ErrorContains(t, err, "is no time zone")
}

// TestDaysAreExcepted has it stay off on a holiday and on through a night, also where it is switched on earlier so that it serves in time, over the night in which the
// clocks go back.
func TestDaysAreExcepted(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Madrid")
	require.NoError(t, err)
	day := func(d int) time.Time { return time.Date(2026, 10, d, 0, 0, 0, 0, time.UTC) }
	at := func(d, h, m int) time.Time { return time.Date(2026, 10, d, h, m, 0, 0, zone) }
	h := promise.HoursTerms{Lead: 10 * time.Minute}
	h.Off, err = promise.Daily(at(20, 0, 0), "FREQ=DAILY", "19:00", "Europe/Madrid")
	require.NoError(t, err)
	h.On, err = promise.Daily(at(20, 0, 0), "FREQ=DAILY", "07:00", "Europe/Madrid")
	require.NoError(t, err)
	require.NoError(t, h.On.But([]time.Time{day(22), day(25)}))
	require.NoError(t, h.Off.But([]time.Time{day(23)}))
	p := promise.Promise{Deployment: 1, Kind: promise.Hours, By: ana, Hours: &h}
	require.NoError(t, p.Check(at(20, 12, 0)))
	assert.Equal(t, "off every day 19:00 to 07:00, and all of 2 days, on through 1 night", p.Words())
	for when, off := range map[time.Time]bool{at(21, 12, 0): false, at(22, 12, 0): true, at(23, 6, 49): true, at(23, 6, 51): false, at(23, 23, 0): false, at(24, 23, 0): true, at(25, 12, 0): true, at(26, 12, 0): false} {
		got, err := h.IsOffAt("", when)
		require.NoError(t, err)
		assert.Equal(t, off, got, "%s", when)
	}
	var ons, offs []string
	for _, d := range p.Dues(at(20, 12, 0)) {
		for next := at(20, 12, 0); ; {
			next, err = d.Next(next)
			require.NoError(t, err)
			if !next.Before(at(27, 0, 0)) {
				break
			}
			text := next.In(zone).Format("2 15:04")
			if d.Kind == promise.DueOn {
				ons = append(ons, text)
			} else {
				offs = append(offs, text)
			}
		}
	}
	assert.Equal(t, []string{"21 06:50", "23 06:50", "24 06:50", "26 06:50"}, ons)
	assert.Equal(t, []string{"20 19:00", "21 19:00", "22 19:00", "24 19:00", "25 19:00", "26 19:00"}, offs)
	assert.ErrorContains(t, h.On.But(make([]time.Time, 1000)), "at most 1000 days")
}

// TestWhatCannotBeWorkedOutIsSaid asks of hours with rules and zones that there are not whether it is off, and for days to be excepted from them.
func TestWhatCannotBeWorkedOutIsSaid(t *testing.T) {
	bad := promise.When{Rule: "FREQ=NOW", Zone: "UTC", Start: noon}
	for _, h := range []promise.HoursTerms{{Off: bad, On: every}, {Off: every, On: bad}} {
		off, err := h.IsOffAt("", noon)
		require.ErrorContains(t, err, "FREQ")
		assert.False(t, off)
	}
	nowhere := promise.When{Rule: "FREQ=DAILY", Zone: "Mars/Base", Start: noon}
	require.ErrorContains(t, nowhere.But([]time.Time{noon}), "is no time zone")
	assert.Empty(t, nowhere.Except)
	_, err := nowhere.Last(noon)
	require.ErrorContains(t, err, "is no time zone")
	p := promise.Promise{Kind: promise.Drilled, Drilled: &promise.DrilledTerms{When: nowhere}}
	assert.Equal(t, "drilled every day 12:00", p.Words(), "in UTC, where nobody knows the zone")
}

func TestSpansAreWrittenShort(t *testing.T) {
	for d, want := range map[time.Duration]string{90 * time.Minute: "1h30m", 12 * time.Hour: "12h", 5 * time.Minute: "5m", 90 * time.Second: "1m30s", 30 * day: "30d", 25 * time.Hour: "1d1h", 0: "0s"} {
		assert.Equal(t, want, promise.Span(d))
	}
	d, err := promise.ParseSpan("0d1h")
	require.NoError(t, err)
	assert.Equal(t, time.Hour, d)
}
