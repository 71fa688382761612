package calendar

import (
	"slices"
	"time"

	"github.com/teambition/rrule-go"
)

// onTheWall is a recurrence by the clock on the wall of a zone, written as if that were UTC, where every time of day is there once a day: the library counts
// wrongly on days that begin with an hour that is left out.
func onTheWall(s *rrule.Set, zone *time.Location) (*rrule.Set, error) {
	out := &rrule.Set{}
	out.DTStart(wall(s.GetDTStart(), zone))
	if r := s.GetRRule(); r != nil {
		o := r.OrigOptions
		o.Dtstart = out.GetDTStart()
		if !o.Until.IsZero() {
			o.Until = wall(o.Until, zone)
		}
		rule, err := rrule.NewRRule(o)
		if err != nil {
			return nil, err
		}
		out.RRule(rule)
	}
	for _, at := range s.GetRDate() {
		out.RDate(wall(at, zone))
	}
	return out, nil // what is excepted are moments, not what the wall says
}

// wall is what the clock on the wall says at a moment, as if that were UTC.
func wall(at time.Time, zone *time.Location) time.Time {
	_, offset := at.In(zone).Zone()
	return at.UTC().Add(time.Duration(offset) * time.Second)
}

// most is more than a clock is ever put forward or back by at once: once a whole day was left out.
const most = 25 * time.Hour

// moment is when the clock on the wall says something: of what it says twice the first time; what it never says, since the clock is put forward, counts
// from before that (RFC 5545, section 3.3.5).
func (r *Rule) moment(says time.Time) time.Time {
	_, offset := says.Add(-most).In(r.zone).Zone() // as it was before whatever is at that time
	early := says.Add(-time.Duration(offset) * time.Second).In(r.zone)
	if wall(early, r.zone).Equal(says) {
		return early
	}
	_, offset = early.Zone()
	if late := says.Add(-time.Duration(offset) * time.Second).In(r.zone); wall(late, r.zone).Equal(says) {
		return late
	}
	return early
}

// doubt is within which time of a moment occurrences may come in another order than the clock on the wall says: where it is put forward or back.
func (r *Rule) doubt(at time.Time) time.Duration {
	_, before := at.Add(-most).In(r.zone).Zone()
	_, after := at.Add(most).In(r.zone).Zone()
	if before == after {
		return 0
	}
	return most
}

// within hands out the occurrences after a moment, in order and each once, until no more are asked for.
func (r *Rule) within(after time.Time, more func(time.Time) bool) {
	from := wall(after, r.zone).Add(-r.doubt(after))
	next := r.from(from)
	var held []time.Time // those that another may come before
	hand := func(until time.Time) (on bool) {
		slices.SortFunc(held, time.Time.Compare)
		held = slices.CompactFunc(held, time.Time.Equal)
		for on = true; on && len(held) > 0 && !held[0].After(until); held = held[1:] {
			on = more(held[0])
		}
		return on
	}
	for says, there := next(); there; says, there = next() {
		if says.Before(from) {
			continue
		}
		at := r.moment(says)
		if at.After(after) && !r.except[at.Unix()] {
			held = append(held, at)
		}
		if r.doubt(at) == 0 && !hand(at) {
			return
		}
	}
	if len(held) > 0 {
		hand(slices.MaxFunc(held, time.Time.Compare))
	}
}

// Next is the first occurrence after a moment; zero if there is none any more.
func (r *Rule) Next(after time.Time) (next time.Time) {
	r.within(after, func(at time.Time) bool {
		next = at
		return false
	})
	return next
}

// Last is the last occurrence at or before a moment; zero if there is none.
func (r *Rule) Last(at time.Time) time.Time {
	end := wall(at, r.zone)
	if until := r.until(); !until.IsZero() && until.Before(end) {
		end = until
	}
	for _, ago := range []time.Duration{2*r.interval() + r.doubt(at), 400 * 24 * time.Hour} { // most rules occur that often
		if last := r.lastSince(end.Add(-ago), at); !last.IsZero() {
			return last
		}
	}
	return r.lastSince(time.Time{}, at)
}

// lastSince is the last occurrence at or before a moment, of those since a time on the wall; zero if there is none.
func (r *Rule) lastSince(since, at time.Time) (last time.Time) {
	until := wall(at, r.zone).Add(r.doubt(at))
	var far time.Time // on the wall, and so long ago that none of another day is after it
	next := r.from(since)
	for says, there := next(); there && !says.After(until); says, there = next() {
		if says.Before(since) {
			continue
		}
		if until.Sub(says) > 3*most {
			if len(r.except) == 0 || !r.except[r.moment(says).Unix()] {
				far = says
			}
		} else if x := r.moment(says); !x.After(at) && x.After(last) && !r.except[x.Unix()] {
			last = x
		}
	}
	if last.IsZero() && !far.IsZero() {
		last = r.moment(far)
	}
	return last
}

// After are the first occurrences after a moment, at most so many.
func (r *Rule) After(moment time.Time, most int) []time.Time {
	var out []time.Time
	r.within(moment, func(at time.Time) bool {
		if len(out) < most {
			out = append(out, at)
		}
		return len(out) < most
	})
	return out
}

// Between are how many occurrences lie after one moment and at or before another.
func (r *Rule) Between(after, until time.Time) int {
	n := 0
	r.within(after, func(at time.Time) bool {
		if at.After(until) {
			return false
		}
		n++
		return true
	})
	return n
}
