// Package window is when what is done by itself may change anything: not in a blackout, and what takes service away only within a maintenance window.
//
// In go a file of both (YAML or JSON, schemas/windows.schema.json), what a deployment is, whether an act takes service away, and the time; out comes what holds the
// act, and until when. It knows no clock of its own.
package window

import (
	"errors"
	"fmt"
	"regexp"
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/condition"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/promise"
)

// Version is the format that [Read] accepts.
const Version = "andamio.windows/1"

// File is the blackouts and maintenance windows of a workspace.
type File struct {
	Version string `json:"version"`
	// Zone is the time zone of days and times of day, by its IANA name; "" is UTC.
	Zone string `json:"zone,omitempty"`
	// Blackouts are when nothing is changed by itself.
	Blackouts []Span `json:"blackouts,omitempty"`
	// Maintenance is when what takes service away may be done by itself. What no window is for may be at any time.
	Maintenance []Span `json:"maintenance,omitempty"`
}

// Span is a time, or one that recurs.
type Span struct {
	Name string `json:"name"`
	// From and Until bound one, as in 2027-10-01 or 2027-10-01T08:00; Until is the first moment after it.
	From  string `json:"from,omitempty"`
	Until string `json:"until,omitempty"`
	// Rule is a recurrence (RFC 5545, section 3.3.10) of one that begins at a time of day, as in 02:00, and lasts as long as in 3h.
	Rule string `json:"rule,omitempty"`
	At   string `json:"at,omitempty"`
	For  string `json:"for,omitempty"`
	// When is an expression (CEL) over deployment: its name, services, team, person, stage and tags; "" fits all.
	When string `json:"when,omitempty"`
	// Say is the sentence that is shown.
	Say string `json:"say,omitempty"`

	from, until time.Time
	rule        *calendar.Rule
	lasts       time.Duration
	condition   condition.Condition
}

// Held says what holds an act, and until when.
type Held struct {
	Span     string `json:"span"`
	Blackout bool   `json:"blackout,omitempty"`
	// Guarded says that the guarded hours of a deployment hold it, Announced that it was said and waits for as long as it is said before.
	Guarded   bool      `json:"guarded,omitempty"`
	Announced bool      `json:"announced,omitempty"`
	Say       string    `json:"say,omitempty"`
	Until     time.Time `json:"until"`
}

// Error says so in words; errors.As finds until when.
func (h *Held) Error() string {
	text := "it waits for the maintenance window " + h.Span + ", which opens " + h.Until.Format("2 Jan 15:04 MST")
	switch until := h.Until.Format("2 Jan 15:04 MST"); {
	case h.Blackout:
		text = "it is held by the blackout " + h.Span + " until " + until
	case h.Guarded:
		text = "it takes service away, and " + h.Span + " is guarded until " + until
	case h.Announced:
		text = "it takes service away from " + h.Span + ", which is said before: it is done from " + until + " on"
	}
	if h.Say != "" {
		text += ": " + h.Say
	}
	return text
}

var spanName = regexp.MustCompile(`^[a-z0-9]([a-z0-9 -]{0,58}[a-z0-9])?$`)

// Read reads a file and checks it: every mistake is in the error.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("these are no windows: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	zone, err := calendar.Zone(f.Zone)
	if err != nil {
		return nil, fmt.Errorf("zone: %w", err)
	}
	var errs []error
	seen := map[string]bool{}
	for _, list := range []struct {
		name  string
		spans []Span
	}{{"blackouts", f.Blackouts}, {"maintenance", f.Maintenance}} {
		for i := range list.spans {
			s := &list.spans[i]
			for _, err := range s.Check(zone) {
				errs = append(errs, fmt.Errorf("%s[%d]: %w", list.name, i, err))
			}
			if seen[s.Name] {
				errs = append(errs, fmt.Errorf("%s[%d]: another is called %s", list.name, i, s.Name))
			}
			seen[s.Name] = true
		}
	}
	return &f, errors.Join(errs...)
}

// counted is what rules count from that do not say themselves: a Monday.
var counted = time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)

// Check checks one and makes it ready: times of day are by the clock on the wall of the zone.
func (s *Span) Check(zone *time.Location) []error {
	var errs []error
	if !spanName.MatchString(s.Name) {
		errs = append(errs, fmt.Errorf("name: %q is no name: it has small letters, digits, - and blanks, at most 60", s.Name))
	}
	env, err := condition.OfDeployments()
	if err == nil {
		s.condition, err = condition.New(env, s.When)
	}
	if err != nil {
		errs = append(errs, fmt.Errorf("when: %w", err))
	}
	once := s.From != "" || s.Until != ""
	if again := s.Rule != "" || s.At != "" || s.For != ""; once == again {
		return append(errs, errors.New("it is either from a day until another, or by a rule, at a time of day, for a while"))
	}
	if once {
		return append(errs, s.checkOnce(zone)...)
	}
	return append(errs, s.checkAgain(zone)...)
}

func (s *Span) checkOnce(zone *time.Location) []error {
	var errs []error
	read := func(name, text string) (at time.Time) {
		for _, form := range []string{time.DateOnly, "2006-01-02T15:04"} {
			if at, err := time.ParseInLocation(form, text, zone); err == nil {
				return at
			}
		}
		errs = append(errs, fmt.Errorf("%s: %q is no day as 2027-10-01, nor a time of one as 2027-10-01T08:00", name, text))
		return at
	}
	s.From, s.Until = estate.Day(s.From), estate.Day(s.Until)
	s.from, s.until = read("from", s.From), read("until", s.Until)
	if len(errs) == 0 && !s.from.Before(s.until) {
		errs = append(errs, fmt.Errorf("until: %s is not after %s", s.Until, s.From))
	}
	return errs
}

func (s *Span) checkAgain(zone *time.Location) []error {
	var errs []error
	at, err := time.Parse("15:04", s.At)
	if err != nil {
		errs = append(errs, fmt.Errorf("at: %q is no time of day as 02:00", s.At))
	}
	if s.lasts, err = promise.ParseSpan(s.For); err != nil {
		errs = append(errs, fmt.Errorf("for: %w", err))
	} else if s.lasts < time.Minute {
		errs = append(errs, errors.New("for: it lasts less than a minute"))
	}
	start := time.Date(counted.Year(), counted.Month(), counted.Day(), at.Hour(), at.Minute(), 0, 0, zone)
	if s.rule, err = calendar.Parse(s.Rule, zone, start); err != nil {
		errs = append(errs, fmt.Errorf("rule: %w", err))
	}
	return errs
}

// End is when it ends that goes on at a moment; zero if none goes on.
func (s *Span) End(now time.Time) time.Time {
	began, end := s.from, s.until
	if s.rule != nil {
		if began = s.rule.Last(now); began.IsZero() {
			return time.Time{}
		}
		end = began.Add(s.lasts)
	}
	if began.After(now) || !end.After(now) {
		return time.Time{}
	}
	return end
}

// Next is when it begins next after a moment; zero if never.
func (s *Span) Next(now time.Time) time.Time {
	if s.rule != nil {
		return s.rule.Next(now)
	}
	if s.from.After(now) {
		return s.from
	}
	return time.Time{}
}

// Holds says what holds an act on a deployment at a moment, nil if nothing does. An expression that cannot be worked out is an error: it might hold it.
func (f *File) Holds(of *condition.Subject, disturbs bool, now time.Time) (*Held, error) {
	if held, err := f.blackout(of, now); held != nil || err != nil || !disturbs {
		return held, err
	}
	var opens *Held
	for i := range f.Maintenance {
		s := &f.Maintenance[i]
		fits, err := s.fits(of)
		if err != nil {
			return nil, err
		}
		if !fits {
			continue
		}
		if !s.End(now).IsZero() {
			return nil, nil
		}
		if at := s.Next(now); opens == nil || !at.IsZero() && (opens.Until.IsZero() || at.Before(opens.Until)) {
			opens = &Held{Span: s.Name, Say: s.Say, Until: at}
		}
	}
	if opens != nil && opens.Until.IsZero() { // all are over: nothing says when it may be, so that a person does it
		return nil, fault.Refusedf("the maintenance window %s is over and opens no more: do it by hand, or write another", opens.Span)
	}
	return opens, nil
}

// blackout is the one that ends last of those that go on.
func (f *File) blackout(of *condition.Subject, now time.Time) (*Held, error) {
	var out *Held
	for i := range f.Blackouts {
		s := &f.Blackouts[i]
		end := s.End(now)
		if end.IsZero() || out != nil && !end.After(out.Until) {
			continue
		}
		fits, err := s.fits(of)
		if err != nil {
			return nil, err
		}
		if fits {
			out = &Held{Span: s.Name, Blackout: true, Say: s.Say, Until: end}
		}
	}
	return out, nil
}

// Words say when it is.
func (s *Span) Words() string {
	if s.rule == nil {
		return s.From + " to " + s.Until
	}
	return promise.Often(s.Rule) + " at " + s.At + " for " + s.For
}

func (s *Span) fits(of *condition.Subject) (bool, error) {
	fits, err := s.condition.Holds(of.Facts())
	if err != nil {
		return false, fault.Refusedf("whether %s is meant by %q cannot be worked out: %w", of.Name, s.Name, err)
	}
	return fits, nil
}

// Going are the blackouts that go on at a moment, for whatever they are meant.
func (f *File) Going(now time.Time) []Held {
	var out []Held
	for i := range f.Blackouts {
		if end := f.Blackouts[i].End(now); !end.IsZero() {
			out = append(out, Held{Span: f.Blackouts[i].Name, Blackout: true, Say: f.Blackouts[i].Say, Until: end})
		}
	}
	return out
}
