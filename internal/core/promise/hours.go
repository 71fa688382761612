package promise

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/clock"
	"andamio/internal/core/printable"
)

// HoursTerms say when machines go off, and when they are to serve again.
type HoursTerms struct {
	Off When `json:"off"`
	On  When `json:"on"`
	// Lead is how long before On they are switched on, so that they serve then.
	Lead time.Duration `json:"lead"`
	// Local has them go off and on by the clock on the wall of the site where each is, so that what stands at sites around the world follows the sun.
	Local bool `json:"local,omitempty"`
	// Zones are the time zones of these sites then, by their IANA names. Others are of the zone of Off and On.
	Zones map[string]string `json:"zones,omitempty"`
}

// at are the terms of machines at a site.
func (t *HoursTerms) at(site string) (HoursTerms, error) {
	zone, has := t.Zones[site]
	if !t.Local || !has {
		return *t, nil
	}
	return t.in(zone)
}

// in are the terms by the clock on the wall of a zone.
func (t *HoursTerms) in(zone string) (HoursTerms, error) {
	out := HoursTerms{Lead: t.Lead}
	var wrong error
	if out.Off, wrong = t.Off.in(zone); wrong != nil {
		return out, fmt.Errorf("off: %w", wrong)
	}
	if out.On, wrong = t.On.in(zone); wrong != nil {
		return out, fmt.Errorf("on: %w", wrong)
	}
	return out, nil
}

// in is the same by the clock on the wall of another zone: what is at seven there is at seven here.
func (w *When) in(name string) (When, error) {
	from, err := calendar.Zone(w.Zone)
	if err != nil {
		return When{}, err
	}
	to, err := calendar.Zone(name)
	if err != nil {
		return When{}, err
	}
	moved := func(t time.Time) time.Time {
		wall := t.In(from)
		return time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), wall.Nanosecond(), to).UTC()
	}
	out := When{Rule: w.Rule, Zone: name, Start: moved(w.Start)}
	for _, x := range w.Except {
		out.Except = append(out.Except, moved(x))
	}
	return out, nil
}

// zones are those by whose clocks machines go off and on, each once; "" is that of Off and On.
func (t *HoursTerms) zones() []string {
	if !t.Local || len(t.Zones) == 0 {
		return []string{""}
	}
	return slices.Compact(slices.Sorted(maps.Values(t.Zones)))
}

// IsOffAt reports that machines at a site are to be off at a time: that they went off last after they were switched on last.
func (t *HoursTerms) IsOffAt(site string, now time.Time) (bool, error) {
	there, err := t.at(site)
	if err != nil {
		return false, err
	}
	return there.isOff(now)
}

func (t *HoursTerms) isOff(now time.Time) (bool, error) {
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

func (t *HoursTerms) check(now time.Time) error {
	if len(t.Zones) > 0 && !t.Local {
		return errors.New("zones: sites have a say only where hours are by their clocks")
	}
	for _, zone := range t.zones() {
		there, err := *t, error(nil)
		if zone != "" {
			there, err = t.in(zone)
		}
		if err == nil {
			err = there.checkHere(now)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (t *HoursTerms) checkHere(now time.Time) error {
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

// dues are going off and coming back, by the clock of each zone.
func (t *HoursTerms) dues(again func(kind, part string, w When, earlier time.Duration) clock.Due) []clock.Due {
	var out []clock.Due
	for _, zone := range t.zones() {
		there := *t
		if zone != "" {
			there, _ = t.in(zone) // which was checked when it was promised
		}
		out = append(out, again(DueOff, zone, there.Off, 0), again(DueOn, zone, there.On, t.Lead))
	}
	return out
}

func (t *HoursTerms) words() string {
	text := fmt.Sprintf("off %s to %s", t.Off.words(), t.On.clock())
	if n := len(t.On.Except); n > 0 {
		text += fmt.Sprintf(", and all of %s", printable.Count(n, "day"))
	}
	if n := len(t.Off.Except); n > 0 {
		text += fmt.Sprintf(", on through %s", printable.Count(n, "night"))
	}
	if !t.Local {
		return text
	}
	if zones := t.zones(); zones[0] != "" {
		return text + " by the clock of each site: " + strings.Join(zones, ", ")
	}
	return text + " by the clock of each site"
}
