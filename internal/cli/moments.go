package cli

import (
	"fmt"
	"time"

	"andamio/internal/core/promise"
)

// momentForms are those in which a moment may be written, of this machine's time where they say no other.
var momentForms = []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", time.DateOnly}

// momentOf is what a text says of a past moment: a date with or without a time, a time of today (of yesterday, where it is not over yet), or how long ago.
func momentOf(text string, now time.Time) (time.Time, error) {
	for _, form := range momentForms {
		if at, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return at, nil
		}
	}
	if at, err := time.ParseInLocation("15:04", text, now.Location()); err == nil {
		at = time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
		if at.After(now) {
			at = at.AddDate(0, 0, -1)
		}
		return at, nil
	}
	if ago, err := promise.ParseSpan(text); err == nil {
		return now.Add(-ago), nil
	}
	return time.Time{}, fmt.Errorf("%q is no moment: write 03:00, 2026-11-30 03:00, an RFC 3339 time, or how long ago, such as 2h", text)
}
