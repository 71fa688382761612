// Package promise is what is kept up for a deployment over time: that it is saved again and again and can be restored, that it is off at hours, that it ends.
//
// In go what was promised and what was done when about it; out comes what is due when, and for each time whether it was kept, was late, or was
// broken. It knows no clock: the time is an argument.
package promise

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/guard"
)

// Kind is what is promised. There is one of a kind for a deployment.
type Kind string

// The kinds.
const (
	// Saved is that snapshots are taken by a rule, and so many kept.
	Saved Kind = "saved"
	// Hours is that it is off from some times to others.
	Hours Kind = "hours"
	// Lease is that it ends: it is stopped then, and taken away after a grace.
	Lease Kind = "lease"
	// Drilled is that restoring is tried by a rule: the newest snapshot is raised beside, looked at, and taken away.
	Drilled Kind = "drilled"
	// Replicated is that copies are kept at another site, by a rule.
	Replicated Kind = "replicated"
	// Guarded is that nothing takes service away by itself at hours, and that it is said before where something does otherwise.
	Guarded Kind = "guarded"
	// Recovered is that machines which fell are raised again.
	Recovered Kind = "recovered"
	// Limited is that volumes are bounded in how much they are read and written.
	Limited Kind = "limited"
	// Ends is that snapshots which somebody took are dropped in their time.
	Ends Kind = "ends"
)

// Kinds are all of them.
var Kinds = []Kind{Saved, Replicated, Drilled, Recovered, Limited, Guarded, Hours, Ends, Lease}

// Conditional reports that nothing is due for promises of a kind until something happens: as long as nothing was, they are in force.
func (k Kind) Conditional() bool { return k == Guarded || k == Recovered || k == Limited }

// Promise is one of a deployment.
type Promise struct {
	Deployment int64       `json:"deployment"`
	Kind       Kind        `json:"kind"`
	By         guard.Actor `json:"by"`
	Since      time.Time   `json:"since"`
	// Level is the service level that it is part of; "" was promised by itself.
	Level string `json:"level,omitempty"`

	Saved      *SavedTerms      `json:"saved,omitempty"`
	Replicated *ReplicatedTerms `json:"replicated,omitempty"`
	Drilled    *DrilledTerms    `json:"drilled,omitempty"`
	Hours      *HoursTerms      `json:"hours,omitempty"`
	Lease      *LeaseTerms      `json:"lease,omitempty"`
	Guarded    *GuardedTerms    `json:"guarded,omitempty"`
	Ends       *EndsTerms       `json:"ends,omitempty"`
	Recovered  *RecoveredTerms  `json:"recovered,omitempty"`
	Limited    *LimitedTerms    `json:"limited,omitempty"`
}

// Zone is the time zone that a promise is kept in; "" is none, or UTC.
func (p *Promise) Zone() string {
	switch {
	case p.Saved != nil:
		return p.Saved.Zone
	case p.Replicated != nil:
		return p.Replicated.Zone
	case p.Drilled != nil:
		return p.Drilled.Zone
	case p.Hours != nil:
		return p.Hours.Off.Zone
	case p.Guarded != nil:
		return p.Guarded.Zone
	}
	return ""
}

// Daily is a recurrence that is counted from today at a time of day, as in 02:00.
func Daily(now time.Time, rule, at, zone string) (When, error) {
	place, err := calendar.Zone(zone)
	if err != nil {
		return When{}, err
	}
	clock, err := time.Parse("15:04", at)
	if err != nil {
		return When{}, fmt.Errorf("%q is no time of day, such as 02:00", at)
	}
	today := now.In(place)
	return When{Rule: rule, Zone: zone, Start: time.Date(today.Year(), today.Month(), today.Day(), clock.Hour(), clock.Minute(), 0, 0, place).UTC()}, nil
}

// When is a recurrence (RFC 5545) counted from Start, which begins at a minute, in a time zone by its IANA name.
type When struct {
	Rule  string    `json:"rule"`
	Zone  string    `json:"zone"`
	Start time.Time `json:"start"`
	// Except are occurrences that are none.
	Except []time.Time `json:"except,omitempty"`
}

// But leaves out the occurrences at its time of day on some days, of which the dates count.
func (w *When) But(days []time.Time) error {
	zone, err := calendar.Zone(w.Zone)
	if err != nil {
		return err
	}
	if len(w.Except)+len(days) > mostExcepted {
		return fmt.Errorf("at most %d days are excepted", mostExcepted)
	}
	at := w.Start.In(zone)
	for _, d := range days {
		w.Except = append(w.Except, time.Date(d.Year(), d.Month(), d.Day(), at.Hour(), at.Minute(), 0, 0, zone).UTC())
	}
	return nil
}

// mostExcepted bounds how many occurrences are left out.
const mostExcepted = 1000

// text is the recurrence with what is left out of it, all of it earlier by so much.
func (w *When) text(earlier time.Duration) string {
	if len(w.Except) == 0 {
		return w.Rule
	}
	lines := []string{"RRULE:" + strings.TrimPrefix(w.Rule, "RRULE:")}
	for _, x := range w.Except {
		lines = append(lines, "EXDATE:"+x.Add(-earlier).UTC().Format("20060102T150405Z"))
	}
	return strings.Join(lines, "\n")
}

// SavedTerms say when snapshots are taken, of what, and how many are kept.
type SavedTerms struct {
	When
	// Keep is how many of them are kept: the oldest go.
	Keep    int      `json:"keep"`
	Of      []string `json:"of,omitempty"`
	Barrier bool     `json:"barrier,omitempty"`
}

// ReplicatedTerms say when copies are made like their disks, where, and how much may be lost.
type ReplicatedTerms struct {
	When
	Site    string   `json:"site"`
	Of      []string `json:"of,omitempty"`
	Barrier bool     `json:"barrier,omitempty"`
	// Lose is how old a copy may be at most: what was written since is lost when it is failed over to. 0 says nothing of that.
	Lose time.Duration `json:"lose,omitempty"`
}

// DrilledTerms say when restoring is tried.
type DrilledTerms struct {
	When
	// Raised is the set that was raised last, and At when it served.
	Raised string    `json:"raised,omitempty"`
	At     time.Time `json:"at,omitzero"`
}

// LeaseTerms say until when something is there.
type LeaseTerms struct {
	Until time.Time `json:"until"`
	// Grace is how long after that it is kept, switched off, before it is taken away with all that is on it.
	Grace time.Duration `json:"grace"`
	// Notice is how long before the end it is said, each once.
	Notice []time.Duration `json:"notice,omitempty"`
	// By so much it may be extended by whoever it is of, Times times; Extended is how often it was.
	By       time.Duration `json:"extend_by,omitempty"`
	Times    int           `json:"extend_times,omitempty"`
	Extended int           `json:"extended,omitempty"`
}

// MostKept bounds how many snapshots are kept by rule, and MostNotices how often an end is said.
const (
	MostKept    = 366
	MostNotices = 10
)

// Check says what is wrong with a promise; nil if nothing is.
func (p *Promise) Check(now time.Time) error {
	terms := 0
	for _, said := range []bool{p.Saved != nil, p.Replicated != nil, p.Drilled != nil, p.Hours != nil, p.Lease != nil, p.Guarded != nil, p.Ends != nil, p.Recovered != nil, p.Limited != nil} {
		if said {
			terms++
		}
	}
	switch {
	case terms != 1:
		return errors.New("a promise has the terms of its kind, and no others")
	case p.Kind == Saved && p.Saved != nil:
		return p.Saved.check()
	case p.Kind == Replicated && p.Replicated != nil:
		return p.Replicated.check()
	case p.Kind == Drilled && p.Drilled != nil:
		_, err := p.Drilled.rule()
		return err
	case p.Kind == Guarded && p.Guarded != nil:
		return p.Guarded.check()
	case p.Kind == Ends && p.Ends != nil:
		return p.Ends.check()
	case p.Kind == Limited && p.Limited != nil:
		return p.Limited.check()
	case p.Kind == Recovered && p.Recovered != nil:
		return p.Recovered.check()
	case p.Kind == Hours && p.Hours != nil:
		return p.Hours.check(now)
	case p.Kind == Lease && p.Lease != nil:
		return p.Lease.check(now)
	}
	return fmt.Errorf("%q is nothing that is promised; there are %v", p.Kind, Kinds)
}

func (w *When) rule() (*calendar.Rule, error) {
	zone, err := calendar.Zone(w.Zone)
	if err != nil {
		return nil, err
	}
	return calendar.Parse(w.text(0), zone, w.Start)
}

// Last is when it was due last at a time; zero if it never was.
func (w *When) Last(now time.Time) (time.Time, error) {
	r, err := w.rule()
	if err != nil {
		return time.Time{}, err
	}
	return r.Last(now), nil
}

func (t *SavedTerms) check() error {
	if t.Keep < 1 || t.Keep > MostKept {
		return fmt.Errorf("keep: between 1 and %d are kept, not %d", MostKept, t.Keep)
	}
	_, err := t.rule()
	return err
}

func (t *ReplicatedTerms) check() error {
	switch {
	case t.Site == "":
		return errors.New("site: say where copies are kept")
	case t.Lose < 0:
		return errors.New("lose: a copy is not younger than now")
	}
	_, err := t.rule()
	return err
}

// Over reports that a lease is over at a time, and Gone that its grace is.
func (t *LeaseTerms) Over(now time.Time) bool { return !t.Until.After(now) }

// Gone reports that the grace of a lease is over at a time.
func (t *LeaseTerms) Gone(now time.Time) bool { return !t.Until.Add(t.Grace).After(now) }

func (t *LeaseTerms) check(now time.Time) error {
	switch {
	case !t.Until.After(now):
		return fmt.Errorf("until: %s is over", t.Until.Format(time.RFC3339))
	case t.Grace < 0 || t.By < 0 || t.Times < 0:
		return errors.New("nothing of a lease is less than nothing")
	case (t.By == 0) != (t.Times == 0):
		return errors.New("an extension is by how much and how often: say both or neither")
	case len(t.Notice) > MostNotices:
		return fmt.Errorf("notice: an end is said at most %d times", MostNotices)
	}
	return nil
}

// Extend lets a lease end later, if it may be: by so much after it would have ended, or after now if that is over.
func (t *LeaseTerms) Extend(now time.Time) error {
	if t.Extended >= t.Times {
		return fmt.Errorf("it was extended %d times of %d: whoever operates it may set another end", t.Extended, t.Times)
	}
	if t.Until.Before(now) {
		t.Until = now
	}
	t.Until = t.Until.Add(t.By)
	t.Extended++
	return nil
}
