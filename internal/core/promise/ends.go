package promise

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/clock"
)

// EndsTerms are until when snapshots are kept that somebody took: those of a set are dropped then.
type EndsTerms struct {
	Sets []SetEnd `json:"sets"`
}

// SetEnd is until when a set of snapshots is kept.
type SetEnd struct {
	Set   string    `json:"set"`
	Until time.Time `json:"until"`
}

// With are the terms by which a set is kept until a time; zero is for as long as nobody drops it.
func (t EndsTerms) With(set string, until time.Time) EndsTerms {
	out := EndsTerms{Sets: slices.DeleteFunc(slices.Clone(t.Sets), func(e SetEnd) bool { return e.Set == set })}
	if !until.IsZero() {
		out.Sets = append(out.Sets, SetEnd{set, until.UTC()})
	}
	slices.SortFunc(out.Sets, func(a, b SetEnd) int {
		if c := a.Until.Compare(b.Until); c != 0 {
			return c
		}
		return strings.Compare(a.Set, b.Set)
	})
	return out
}

// Until is until when a set is kept; zero says nothing of it.
func (t *EndsTerms) Until(set string) time.Time {
	for _, e := range t.Sets {
		if e.Set == set {
			return e.Until
		}
	}
	return time.Time{}
}

// Over are the sets whose time is over at a moment, that which ended first before others.
func (t *EndsTerms) Over(now time.Time) []string {
	var out []string
	for _, e := range t.Sets {
		if !e.Until.After(now) {
			out = append(out, e.Set)
		}
	}
	return out
}

// mostEnds bounds how many sets have an end.
const mostEnds = 500

func (t *EndsTerms) check() error {
	if len(t.Sets) == 0 || len(t.Sets) > mostEnds {
		return fmt.Errorf("sets: between 1 and %d have an end, not %d", mostEnds, len(t.Sets))
	}
	seen := map[string]bool{}
	for _, e := range t.Sets {
		switch {
		case e.Set == "" || e.Until.IsZero():
			return errors.New("sets: each says which it is, and until when it is kept")
		case seen[e.Set]:
			return fmt.Errorf("sets: %s ends once", e.Set)
		}
		seen[e.Set] = true
	}
	return nil
}

func (t *EndsTerms) dues(once func(kind, part string, at time.Time) clock.Due) []clock.Due {
	var out []clock.Due
	for _, e := range t.Sets {
		out = append(out, once(DueDrop, e.Set, e.Until))
	}
	return out
}

func (t *EndsTerms) words() string {
	var out []string
	for _, e := range t.Sets {
		out = append(out, e.Set+" until "+e.Until.Format("2 Jan 2006 15:04"))
	}
	return "kept: " + strings.Join(out, ", ")
}
