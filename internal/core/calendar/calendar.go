// Package calendar is when something happens again and again: recurrence rules of iCalendar (RFC 5545) with a start, in a time zone.
//
// In go the text of a rule, a time zone and a start; out come its occurrences. The start is what a rule counts from: INTERVAL and COUNT
// mean nothing without one, so that who keeps a rule keeps its start beside it.
package calendar

import (
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"andamio/internal/core/fault"
)

// Rule is a recurrence.
type Rule struct {
	// set says when by the clock on the wall, which it takes for UTC: what that is of the zone is worked out in wall.go.
	set  *rrule.Set
	zone *time.Location
	// except are moments, in seconds, that are excepted.
	except map[int64]bool
}

// Zone is a time zone by its name in the IANA database; "" is UTC.
func Zone(name string) (*time.Location, error) {
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, fault.Invalidf("%q is no time zone; write its name as in Europe/Lisbon, or UTC", name)
	}
	return zone, nil
}

// Parse reads a rule: the value of an RRULE, as FREQ=DAILY;BYHOUR=2;BYMINUTE=30 (section 3.3.10), with or without its name; or lines of
// DTSTART, RRULE, RDATE and EXDATE. Times without a zone are in the given one. Start is what it counts from unless it says so itself.
func Parse(text string, zone *time.Location, start time.Time) (*Rule, error) {
	lines := strings.FieldsFunc(text, func(c rune) bool { return c == '\n' || c == '\r' })
	if len(lines) == 0 {
		return nil, fault.Invalidf("there is no recurrence rule; one is as FREQ=HOURLY or FREQ=DAILY;BYHOUR=2;BYMINUTE=30 (RFC 5545)")
	}
	var parts []string
	began := false
	for _, line := range lines {
		line = strings.TrimSpace(line)
		name, value, named := cut(line)
		if !named {
			name, value = "RRULE", line
		}
		switch {
		case line == "":
			continue
		case name == "RRULE":
			value = strings.ToUpper(value)
			if err := check(value); err != nil {
				return nil, err
			}
			parts = append(parts, "RRULE:"+value)
		case strings.HasPrefix(name, "DTSTART"), strings.HasPrefix(name, "RDATE"), strings.HasPrefix(name, "EXDATE"):
			began = began || strings.HasPrefix(name, "DTSTART")
			parts = append(parts, line)
		default:
			return nil, fault.Invalidf("%q is no part of a recurrence: there are RRULE, DTSTART, RDATE and EXDATE (RFC 5545, section 3.8.5)", name)
		}
	}
	if !began {
		parts = append([]string{"DTSTART;TZID=" + zone.String() + ":" + start.In(zone).Format("20060102T150405")}, parts...)
	}
	set, err := rrule.StrSliceToRRuleSetInLoc(parts, zone)
	if err != nil {
		return nil, fault.Invalidf("%q is no recurrence rule as in FREQ=HOURLY or FREQ=DAILY;BYHOUR=2;BYMINUTE=30 (RFC 5545): %w", text, err)
	}
	r := &Rule{zone: set.GetDTStart().Location(), except: map[int64]bool{}}
	for _, at := range set.GetExDate() {
		r.except[at.Unix()] = true
	}
	if r.set, err = onTheWall(set, r.zone); err != nil {
		return nil, fault.Invalidf("%q is no recurrence rule: %w", text, err)
	}
	if rule := r.set.GetRRule(); rule != nil && !occurs(rule.OrigOptions, r.set.GetDTStart()) {
		return nil, fault.Invalidf("%q never occurs", text)
	}
	return r, nil
}

// cut takes the name of a property from its value: what is before the first colon, if that looks like a name.
func cut(line string) (name, value string, named bool) {
	name, value, named = strings.Cut(line, ":")
	if !named || strings.Contains(strings.SplitN(name, ";", 2)[0], "=") {
		return "", "", false
	}
	property, parameters, _ := strings.Cut(name, ";")
	name = strings.ToUpper(property)
	if parameters != "" {
		name += ";" + parameters
	}
	return name, value, true
}

// check refuses what the standard does and the library does not (section 3.3.10).
func check(value string) error {
	given := map[string]string{}
	for part := range strings.SplitSeq(value, ";") {
		key, v, _ := strings.Cut(part, "=")
		if _, twice := given[key]; twice {
			return fault.Invalidf("%q says %s twice", value, key)
		}
		given[key] = v
	}
	_, count := given["COUNT"]
	_, until := given["UNTIL"]
	switch {
	case given["FREQ"] == "SECONDLY":
		return fault.Invalidf("%q is every so many seconds: nothing here is done as often", value)
	case count && until:
		return fault.Invalidf("%q has both COUNT and UNTIL: one of them ends it", value)
	case strings.Trim(given["INTERVAL"], "0") == "" && given["INTERVAL"] != "":
		return fault.Invalidf("%q has an INTERVAL of 0: it is 1 or more", value)
	case strings.Trim(given["COUNT"], "0") == "" && given["COUNT"] != "":
		return fault.Invalidf("%q has a COUNT of 0: it is 1 or more", value)
	}
	return nil
}

// Midnight is the beginning of a moment's day in a zone: what rules count from that say nothing else.
func Midnight(at time.Time, zone *time.Location) time.Time {
	y, m, d := at.In(zone).Date()
	return time.Date(y, m, d, 0, 0, 0, 0, zone)
}
