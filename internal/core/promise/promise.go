// Package promise is what is kept up for a deployment over time: that it is saved again and again, that it is off at hours, that it ends.
//
// In go what was promised and what was done when about it; out comes what is due when, and for each time whether it was kept, was late, or was
// broken. It knows no clock: the time is an argument.
package promise

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/clock"
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
)

// Kinds are all of them.
var Kinds = []Kind{Saved, Hours, Lease}

// Promise is one of a deployment.
type Promise struct {
	Deployment int64       `json:"deployment"`
	Kind       Kind        `json:"kind"`
	By         guard.Actor `json:"by"`
	Since      time.Time   `json:"since"`

	Saved *SavedTerms `json:"saved,omitempty"`
	Hours *HoursTerms `json:"hours,omitempty"`
	Lease *LeaseTerms `json:"lease,omitempty"`
}

// When is a recurrence (RFC 5545) counted from Start, which begins at a minute, in a time zone by its IANA name.
type When struct {
	Rule  string    `json:"rule"`
	Zone  string    `json:"zone"`
	Start time.Time `json:"start"`
}

// SavedTerms say when snapshots are taken, of what, and how many are kept.
type SavedTerms struct {
	When
	// Keep is how many of them are kept: the oldest go.
	Keep    int      `json:"keep"`
	Of      []string `json:"of,omitempty"`
	Barrier bool     `json:"barrier,omitempty"`
}

// HoursTerms say when machines go off, and when they are to serve again.
type HoursTerms struct {
	Off When `json:"off"`
	On  When `json:"on"`
	// Lead is how long before On they are switched on, so that they serve then.
	Lead time.Duration `json:"lead"`
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
	for _, said := range []bool{p.Saved != nil, p.Hours != nil, p.Lease != nil} {
		if said {
			terms++
		}
	}
	switch {
	case terms != 1:
		return errors.New("a promise has the terms of its kind, and no others")
	case p.Kind == Saved && p.Saved != nil:
		return p.Saved.check()
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
	return calendar.Parse(w.Rule, zone, w.Start)
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

func (t *HoursTerms) check(now time.Time) error {
	off, err := t.Off.rule()
	if err != nil {
		return fmt.Errorf("off: %w", err)
	}
	on, err := t.On.rule()
	if err != nil {
		return fmt.Errorf("on: %w", err)
	}
	switch first, back := off.Next(now), on.Next(now); {
	case first.IsZero() || back.IsZero():
		return errors.New("it would never go off and come back")
	case on.Next(first).IsZero():
		return errors.New("it would go off and never come back")
	case on.Next(first).Sub(first) <= t.Lead:
		return fmt.Errorf("it would be off for %s, and takes %s to start", on.Next(first).Sub(first), t.Lead)
	}
	return nil
}

// IsOff reports that it is to be off at a time: that it went off last after it was switched on last.
func (t *HoursTerms) IsOff(now time.Time) (bool, error) {
	off, err := t.Off.rule()
	if err != nil {
		return false, err
	}
	on, err := t.On.rule()
	if err != nil {
		return false, err
	}
	last, back := off.Last(now), on.Last(now.Add(t.Lead))
	return !last.IsZero() && last.After(back.Add(-t.Lead)), nil
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

// The kinds of what is due for promises (package clock).
const (
	DueSave   = "save"
	DueOff    = "switch off"
	DueOn     = "switch on"
	DueNotice = "notice of end"
	DueEnd    = "end of lease"
	DueGone   = "end of grace"
)

// dueKinds are those of each kind of promise.
var dueKinds = map[Kind][]string{Saved: {DueSave}, Hours: {DueOff, DueOn}, Lease: {DueNotice, DueEnd, DueGone}}

// DueKindsOf are the kinds of what is due for a promise of a kind.
func DueKindsOf(k Kind) []string { return slices.Clone(dueKinds[k]) }

// subject is that of what is due for a deployment; a part tells several of a kind apart.
func (p *Promise) subject(part string) string {
	if part == "" {
		return strconv.FormatInt(p.Deployment, 10)
	}
	return fmt.Sprintf("%d %s", p.Deployment, part)
}

// DeploymentOf is the deployment that something due is for.
func DeploymentOf(subject string) (int64, error) {
	head, _, _ := strings.Cut(subject, " ")
	return strconv.ParseInt(head, 10, 64)
}

// Dues are what is due for a promise, from a moment on.
func (p *Promise) Dues(from time.Time) []clock.Due {
	by := p.By.By(guard.Schedule)
	again := func(kind string, w When, earlier time.Duration) clock.Due {
		return clock.Due{Kind: kind, Subject: p.subject(""), Rule: w.Rule, Zone: w.Zone, Start: w.Start.Add(-earlier), By: by, Seen: from}
	}
	once := func(kind, part string, at time.Time) clock.Due {
		return clock.Due{Kind: kind, Subject: p.subject(part), Start: at, By: by, Seen: from}
	}
	switch p.Kind {
	case Saved:
		return []clock.Due{again(DueSave, p.Saved.When, 0)}
	case Hours:
		return []clock.Due{again(DueOff, p.Hours.Off, 0), again(DueOn, p.Hours.On, p.Hours.Lead)}
	case Lease:
		out := []clock.Due{once(DueEnd, "", p.Lease.Until), once(DueGone, "", p.Lease.Until.Add(p.Lease.Grace))}
		for _, n := range p.Lease.Notice {
			out = append(out, once(DueNotice, Span(n), p.Lease.Until.Add(-n)))
		}
		return out
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

// Words say what is promised.
func (p *Promise) Words() string {
	switch p.Kind {
	case Saved:
		text := fmt.Sprintf("saved %s, %d kept", p.Saved.When.words(), p.Saved.Keep)
		if len(p.Saved.Of) > 0 {
			text += ", of " + strings.Join(p.Saved.Of, ", ")
		}
		return text
	case Hours:
		return fmt.Sprintf("off %s to %s", p.Hours.Off.words(), p.Hours.On.clock())
	case Lease:
		return "ends " + p.Lease.Until.Format("2 Jan 2006 15:04")
	}
	return string(p.Kind)
}

// frequencies are rules that people have a word for.
var frequencies = map[string]string{"FREQ=DAILY": "every day", "FREQ=HOURLY": "every hour", "FREQ=WEEKLY": "every week", "FREQ=MONTHLY": "every month",
	"FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR": "weekdays", "FREQ=WEEKLY;BYDAY=SA,SU": "weekends", "FREQ=MINUTELY": "every minute"}

func (w *When) words() string {
	often, known := frequencies[w.Rule]
	if !known {
		often = strings.ToLower(strings.TrimPrefix(w.Rule, "RRULE:"))
	}
	if w.Rule == "FREQ=HOURLY" {
		return often
	}
	return often + " " + w.clock()
}

// clock is the time of day of a recurrence, in its own zone.
func (w *When) clock() string {
	zone, err := calendar.Zone(w.Zone)
	if err != nil {
		zone = time.UTC
	}
	return w.Start.In(zone).Format("15:04")
}

// Span is a duration as people say it: "30d", "12h", "1d12h".
func Span(d time.Duration) string {
	const day = 24 * time.Hour
	if d < day || d%time.Hour != 0 {
		text := d.String()
		if strings.HasSuffix(text, "m0s") {
			text = strings.TrimSuffix(text, "0s")
		}
		if strings.HasSuffix(text, "h0m") {
			text = strings.TrimSuffix(text, "0m")
		}
		return text
	}
	text := fmt.Sprintf("%dd", d/day)
	if d%day != 0 {
		text += fmt.Sprintf("%dh", d%day/time.Hour)
	}
	return text
}

// ParseSpan reads what [Span] writes: weeks and days before hours, minutes and seconds.
func ParseSpan(text string) (time.Duration, error) {
	rest, out := text, time.Duration(0)
	for _, unit := range []struct {
		letter string
		long   time.Duration
	}{{"w", 7 * 24 * time.Hour}, {"d", 24 * time.Hour}} {
		if head, tail, has := strings.Cut(rest, unit.letter); has {
			n, err := strconv.Atoi(head)
			if err != nil || n < 0 || n > mostUnits {
				return 0, fmt.Errorf("%q is no span of time, such as 30d or 12h", text)
			}
			rest, out = tail, out+time.Duration(n)*unit.long
		}
	}
	if rest == "" && text != "" {
		return out, nil
	}
	d, err := time.ParseDuration(rest)
	if err != nil || d < 0 {
		return 0, fmt.Errorf("%q is no span of time, such as 30d or 12h", text)
	}
	return out + d, nil
}

// mostUnits bounds weeks and days, so that no span overflows.
const mostUnits = 10_000

// State is how a promise was kept at one time.
type State string

// The states.
const (
	Going  State = "going"
	Kept   State = "kept"
	Late   State = "late"
	Broken State = "broken"
)

// Firing is what was done when something was due.
type Firing struct {
	At, Began, Ended time.Time
	// Until is by when it had to be done; zero says that it counts when it was begun.
	Until time.Time
	// Done says that it was done, Failed that it could not be, though it may be tried again; Missed how many times before it nobody saw to.
	Done, Failed bool
	Missed       int
	Note         string
}

// Mark is how a promise was kept at one time, or at several before it that nobody saw to.
type Mark struct {
	At    time.Time `json:"at"`
	State State     `json:"state"`
	Note  string    `json:"note,omitempty"`
}

// Proof is what shows that a promise was kept.
type Proof struct {
	// Marks are the last times at which something was due, the oldest first; Kept, Late and Broken count all that are known.
	Marks              []Mark `json:"marks,omitempty"`
	Kept, Late, Broken int
	// Last is when it was kept last; zero says that it never was: it is unproven.
	Last time.Time `json:"last,omitzero"`
}

// ProofOf reads what was done, in any order. What began later than the clock allows, was tried again until then, or was not
// done by when it had to be, was late.
func ProofOf(all []Firing) Proof {
	all = slices.Clone(all)
	slices.SortStableFunc(all, func(a, b Firing) int { return a.At.Compare(b.At) })
	var out Proof
	for _, f := range all {
		if f.Missed > 0 {
			out.Broken += f.Missed
			out.Marks = append(out.Marks, Mark{At: f.At, State: Broken, Note: fmt.Sprintf("%d times before nobody saw to it", f.Missed)})
		}
		m := Mark{At: f.At, State: Going, Note: f.Note}
		switch {
		case f.Done && f.Began.Sub(f.At) <= clock.Grace && (f.Until.IsZero() || !f.Ended.After(f.Until)):
			m.State = Kept
			out.Kept++
		case f.Done:
			m.State = Late
			out.Late++
		case f.Failed:
			m.State = Broken
			out.Broken++
		}
		if f.Done && f.Ended.After(out.Last) {
			out.Last = f.Ended
		}
		out.Marks = append(out.Marks, m)
	}
	return out
}

// Unproven reports that it was never kept.
func (p *Proof) Unproven() bool { return p.Last.IsZero() }
