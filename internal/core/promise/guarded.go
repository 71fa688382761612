package promise

import (
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/clock"
)

// GuardedTerms say when nothing takes service away by itself, and how long before it is said otherwise. That the deployment goes off or ends is promised for
// times of its own, which it keeps.
type GuardedTerms struct {
	// When guarded hours begin; no rule is never.
	When
	// For is how long they last.
	For time.Duration `json:"for,omitempty"`
	// Notice is how long before it is said that something takes service away by itself; 0 is not at all.
	Notice time.Duration `json:"notice,omitempty"`
	// Announced is from when on something does that was said; it may for [AnnouncedFor].
	Announced time.Time `json:"announced,omitzero"`
}

// Guarding reads guarded hours that begin by a rule at a time of day, as in 06:00, and last for a span, as in 16h; and how long before it is said. Each may be "".
func Guarding(now time.Time, rule, at, lasts, notice, zone string) (*GuardedTerms, error) {
	var out GuardedTerms
	var err error
	if rule != "" || at != "" || lasts != "" {
		// From yesterday on: those of last night may go on.
		if out.When, err = Daily(now.AddDate(0, 0, -1), rule, at, zone); err != nil {
			return nil, err
		}
		if out.For, err = ParseSpan(lasts); err != nil {
			return nil, fmt.Errorf("for: %w", err)
		}
	}
	if notice != "" {
		if out.Notice, err = ParseSpan(notice); err != nil {
			return nil, fmt.Errorf("notice: %w", err)
		}
	}
	return &out, out.check()
}

// AnnouncedFor is how long what was said before may be begun; after that it has to be said again.
const AnnouncedFor = 24 * time.Hour

func (t *GuardedTerms) check() error {
	switch {
	case t.Rule == "" && t.For == 0 && t.Notice == 0:
		return errors.New("it guards nothing: say guarded hours, or how long before it is said that service is taken away")
	case (t.Rule == "") != (t.For == 0):
		return errors.New("guarded hours have a rule and say how long they last: say both or neither")
	case t.For < 0 || t.Notice < 0:
		return errors.New("nothing of it is less than nothing")
	case t.Notice > mostNotice:
		return fmt.Errorf("notice: at most %s before", Span(mostNotice))
	case t.Rule == "":
		return nil
	}
	r, err := t.rule()
	if err != nil {
		return err
	}
	if first := r.Next(t.Start.Add(-1)); !first.IsZero() {
		if next := r.Next(first); !next.IsZero() && next.Sub(first) <= t.For {
			return fmt.Errorf("for: guarded hours of %s begin anew before they end, so that nothing could ever be done", Span(t.For))
		}
	}
	return nil
}

// mostNotice bounds how long before something is said.
const mostNotice = 90 * 24 * time.Hour

// Until is the end of the guarded hours that go on at a moment; zero if none do.
func (t *GuardedTerms) Until(now time.Time) (time.Time, error) {
	if t.Rule == "" {
		return time.Time{}, nil
	}
	began, err := t.Last(now)
	if err != nil || began.IsZero() || !began.Add(t.For).After(now) {
		return time.Time{}, err
	}
	return began.Add(t.For), nil
}

// Meets is the first time after a moment, of the next looked at, at which something is due within guarded hours; zero if none is.
func (t *GuardedTerms) Meets(d *clock.Due, after time.Time) time.Time {
	for range mostMet {
		at, err := d.Next(after)
		if err != nil || at.IsZero() {
			return time.Time{}
		}
		if until, err := t.Until(at); err == nil && !until.IsZero() {
			return at
		}
		after = at
	}
	return time.Time{}
}

// mostMet bounds how many times are looked at: those of every hour of two weeks.
const mostMet = 24 * 14

// Said reports that what takes service away at a moment was said before.
func (t *GuardedTerms) Said(now time.Time) bool {
	return t.Notice == 0 || !t.Announced.IsZero() && !now.Before(t.Announced) && now.Before(t.Announced.Add(AnnouncedFor))
}

// Announce says at a moment that service will be taken away, from when it may be: not within guarded hours.
func (t *GuardedTerms) Announce(now time.Time) error {
	at := now.Add(t.Notice)
	for range mostInRow {
		until, err := t.Until(at)
		if err != nil {
			return err
		}
		if until.IsZero() {
			break
		}
		at = until
	}
	t.Announced = at.UTC()
	return nil
}

// mostInRow bounds how many guarded hours are looked at that begin where others end, as some of 23 hours do when clocks go forward.
const mostInRow = 10

func (t *GuardedTerms) words() string {
	var text string
	if t.Rule != "" {
		text = fmt.Sprintf("guarded %s for %s", t.When.words(), Span(t.For))
	}
	switch {
	case t.Notice == 0:
		return text
	case text == "":
		return fmt.Sprintf("service is taken away by itself only %s after that was said", Span(t.Notice))
	}
	return fmt.Sprintf("%s, else %s after it was said", text, Span(t.Notice))
}
