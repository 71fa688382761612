package calendar

import (
	"slices"
	"time"

	"github.com/teambition/rrule-go"
)

// occurs reports that a rule ever occurs. The library looks for the next occurrence until the year 9999, which for rules of hours and
// minutes takes very long where there is none.
func occurs(o rrule.ROption, start time.Time) bool {
	days := rrule.ROption{Freq: min(o.Freq, rrule.DAILY), Dtstart: Midnight(start, start.Location()), Bymonth: o.Bymonth, Bymonthday: o.Bymonthday,
		Byyearday: o.Byyearday, Byweekno: o.Byweekno, Byweekday: o.Byweekday, Byeaster: o.Byeaster}
	r, err := rrule.NewRRule(days)
	if err != nil || r.After(days.Dtstart.Add(-1), true).IsZero() {
		return false
	}
	step, day, at := 0, 0, 0 // in hours or minutes
	var allowed []int
	switch o.Freq {
	case rrule.HOURLY:
		step, day, at, allowed = o.Interval, 24, start.Hour(), o.Byhour
	case rrule.MINUTELY:
		step, day, at, allowed = o.Interval, 24*60, start.Hour()*60+start.Minute(), minutes(o.Byhour, o.Byminute)
	default:
		return true
	}
	if len(allowed) == 0 {
		return true
	}
	g := gcd(max(step, 1), day)
	return slices.ContainsFunc(allowed, func(x int) bool { return (x-at)%g == 0 })
}

// minutes are the minutes of a day in some hours and minutes of them; none is all.
func minutes(hours, of []int) []int {
	if len(hours) == 0 && len(of) == 0 {
		return nil
	}
	var out []int
	for h := range 24 {
		for m := range 60 {
			if (len(hours) == 0 || slices.Contains(hours, h)) && (len(of) == 0 || slices.Contains(of, m)) {
				out = append(out, h*60+m)
			}
		}
	}
	return out
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}
