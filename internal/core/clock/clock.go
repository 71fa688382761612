// Package clock decides what of what is due is done now, what is caught up with, and what was missed.
//
// In go what is registered, up to when it was seen to, and the time; out comes at most one occurrence to do, and how many are said to be
// missed. It knows no clock of its own: the time is an argument.
package clock

import (
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/guard"
)

// Due is something that is to be done at a time, or again and again.
type Due struct {
	ID int64 `json:"id"`
	// Kind says what is done, Subject to what. There is one of a kind for a subject.
	Kind    string `json:"kind"`
	Subject string `json:"subject"`
	// Rule is a recurrence (RFC 5545) counted from Start in the time zone Zone; "" is once, at Start.
	Rule  string    `json:"rule,omitempty"`
	Zone  string    `json:"zone,omitempty"`
	Start time.Time `json:"start"`
	// By is who set it up: what it does is done by them.
	By guard.Actor `json:"by"`
	// Seen is up to when it was seen to.
	Seen time.Time `json:"seen"`
}

// rule is the recurrence of what has one.
func (d *Due) rule() (*calendar.Rule, error) {
	zone, err := calendar.Zone(d.Zone)
	if err != nil {
		return nil, err
	}
	return calendar.Parse(d.Rule, zone, d.Start)
}

// Next is when it is due next after a moment; zero if never again.
func (d *Due) Next(after time.Time) (time.Time, error) {
	if d.Rule == "" {
		if d.Start.After(after) {
			return d.Start, nil
		}
		return time.Time{}, nil
	}
	r, err := d.rule()
	if err != nil {
		return time.Time{}, err
	}
	return r.Next(after), nil
}

// Late says what becomes of what was due while nobody looked.
type Late string

const (
	// CatchUp does it once, however often it was due.
	CatchUp Late = "caught up"
	// Miss says that it was missed, and does it at the next time.
	Miss Late = "missed"
)

// Grace is how late something may begin and still counts as on time.
const Grace = 2 * time.Minute

// Verdict is what is to be done about something that may be due.
type Verdict struct {
	// Do is the occurrence that is to be done now; zero is none.
	Do time.Time
	// Missed is how many occurrences before that, or all until now, will not be done.
	Missed int
	// Seen is up to when it is seen to then.
	Seen time.Time
}

// Judge says what is to be done at a time. Every occurrence is either done or missed, once, whatever the times are at which it is asked.
func Judge(d *Due, late Late, now time.Time) (Verdict, error) {
	last, earlier, err := d.occurred(now)
	if err != nil || last.IsZero() {
		return Verdict{Seen: d.Seen}, err
	}
	v := Verdict{Do: last, Missed: earlier, Seen: last}
	if late == Miss && now.Sub(last) > Grace {
		v.Do, v.Missed = time.Time{}, earlier+1
	}
	return v, nil
}

// occurred is the last occurrence that was not seen to, and how many there were before it.
func (d *Due) occurred(now time.Time) (last time.Time, earlier int, err error) {
	if d.Rule == "" {
		if d.Start.After(d.Seen) && !d.Start.After(now) {
			return d.Start, 0, nil
		}
		return time.Time{}, 0, nil
	}
	r, err := d.rule()
	if err != nil {
		return time.Time{}, 0, err
	}
	last = r.Last(now)
	if !last.After(d.Seen) {
		return time.Time{}, 0, nil
	}
	return last, max(r.Between(d.Seen, last)-1, 0), nil
}
