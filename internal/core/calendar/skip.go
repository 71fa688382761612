package calendar

import (
	"time"

	"github.com/teambition/rrule-go"
)

// period is how long one of a frequency takes on the wall, where all take as long; what is 0 comes too seldom to be worth skipping.
var period = map[rrule.Frequency]time.Duration{rrule.MINUTELY: time.Minute, rrule.HOURLY: time.Hour, rrule.DAILY: 24 * time.Hour, rrule.WEEKLY: 7 * 24 * time.Hour}

// interval is how long it is from one period of the rule to the next; 0 of what cannot be skipped, or has no rule.
func (r *Rule) interval() time.Duration {
	rule := r.set.GetRRule()
	if rule == nil || rule.OrigOptions.Count > 0 {
		return 0
	}
	return period[rule.OrigOptions.Freq] * time.Duration(max(rule.OrigOptions.Interval, 1))
}

// until is when the rule ends, by the clock on the wall; zero if it says no such time.
func (r *Rule) until() time.Time {
	if rule := r.set.GetRRule(); rule != nil {
		return rule.OrigOptions.Until
	}
	return time.Time{}
}

// from iterates over the occurrences, of those before a moment on the wall only as many as there happen to be. The library counts from the start of a
// rule: what is due every minute since a year would be gone through half a million times for the next one. A start that is put forward by whole
// intervals has the same occurrences from there on; a rule that counts them (COUNT) has not, and keeps its own.
func (r *Rule) from(says time.Time) rrule.Next {
	start, interval := r.set.GetDTStart(), r.interval()
	if interval == 0 || !says.After(start.Add(2*interval)) {
		return r.set.Iterator()
	}
	o := r.set.GetRRule().OrigOptions
	o.Dtstart = start.Add((says.Sub(start)/interval - 1) * interval) // one less: of a week some days are before its start
	later, err := rrule.NewRRule(o)
	if err != nil { // it was a rule with another start
		return r.set.Iterator()
	}
	set := &rrule.Set{}
	set.DTStart(o.Dtstart)
	set.RRule(later)
	for _, at := range r.set.GetRDate() {
		set.RDate(at)
	}
	return set.Iterator()
}
