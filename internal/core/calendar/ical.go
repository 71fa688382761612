package calendar

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"

	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
)

// Day is one day of a calendar, such as a holiday. Date is its midnight of UTC.
type Day struct {
	Date time.Time
	Name string
}

// Bounds of what is read: how many bytes of a file, and how many days of one event.
const (
	mostBytes = 4 << 20
	mostDays  = 366
)

// Days reads which days an iCalendar file (RFC 5545) has events on, of those from one time until another, each once and in order. Events that recur
// count whenever they do; one of several days counts on all of them.
func Days(r io.Reader, from, until time.Time) ([]Day, error) {
	cal, err := decode(r)
	if err != nil {
		return nil, fault.Invalidf("this is no iCalendar file (RFC 5545): %w", err)
	}
	found := map[time.Time]string{}
	for _, e := range cal.Events() {
		if err := eachDay(e, from, until, func(day time.Time) {
			name, _ := e.Props.Text(ical.PropSummary)
			found[day] = printable.Clean(name)
		}); err != nil {
			return nil, err
		}
	}
	var out []Day
	for day, name := range found {
		out = append(out, Day{day, name})
	}
	slices.SortFunc(out, func(a, b Day) int { return a.Date.Compare(b.Date) })
	return out, nil
}

// decode reads a file. The library gives up on some lines that break off by a panic, which is an error like others here.
func decode(r io.Reader) (cal *ical.Calendar, err error) {
	defer func() {
		if why := recover(); why != nil {
			cal, err = nil, fmt.Errorf("a line breaks off: %v", why)
		}
	}()
	return ical.NewDecoder(io.LimitReader(r, mostBytes)).Decode()
}

// eachDay goes through the days that an event is on.
func eachDay(e ical.Event, from, until time.Time, use func(time.Time)) error {
	plainDates(e.Props)
	start, err := e.DateTimeStart(time.UTC)
	if err == nil && start.IsZero() {
		err = errors.New("DTSTART is missing")
	}
	if err != nil {
		return fault.Invalidf("an event has no time at which it begins: %w", err)
	}
	if err := daily(e, start); err != nil {
		return err
	}
	end, err := e.DateTimeEnd(time.UTC)
	if err != nil {
		return fault.Invalidf("an event of %s has no time at which it ends: %w", start.Format(time.DateOnly), err)
	}
	long := 1
	for long < mostDays && date(start).AddDate(0, 0, long).Before(end) {
		long++
	}
	begins := []time.Time{start}
	set, err := e.RecurrenceSet(time.UTC)
	if err != nil {
		return fault.Invalidf("an event of %s recurs by no rule: %w", start.Format(time.DateOnly), err)
	}
	if set != nil {
		begins = set.Between(from.AddDate(0, 0, -mostDays), until, true)
	}
	added, err := addedDates(e.Props)
	if err != nil {
		return fault.Invalidf("an event of %s recurs by no rule: %w", start.Format(time.DateOnly), err)
	}
	begins = append(begins, added...)
	for _, at := range begins {
		for n := range long {
			if day := date(at).AddDate(0, 0, n); !day.Before(date(from)) && day.Before(until) {
				use(day)
			}
		}
	}
	return nil
}

// addedDates are those of RDATE (section 3.8.5.2), which the library leaves out, but for those of EXDATE.
func addedDates(props ical.Props) ([]time.Time, error) {
	var out []time.Time
	for _, p := range props[ical.PropRecurrenceDates] {
		if begin, _, period := strings.Cut(p.Value, "/"); period {
			p.Value = begin
			p.Params.Del(ical.ParamValue)
		}
		at, err := p.DateTime(time.UTC)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(props[ical.PropExceptionDates], func(x ical.Prop) bool { return x.Value == p.Value }) {
			out = append(out, at)
		}
	}
	return out, nil
}

// plainDates has the dates of an event be as the standard writes them, where programs write them otherwise: a day says that it is one (section 3.3.4),
// each is by itself, and one in a zone that nobody knows counts by the clock on the wall there, which is the day that is meant.
func plainDates(props ical.Props) {
	for _, name := range []string{ical.PropDateTimeStart, ical.PropDateTimeEnd, ical.PropExceptionDates, ical.PropRecurrenceDates} {
		var all []ical.Prop
		for _, p := range props[name] {
			for text := range strings.SplitSeq(p.Value, ",") {
				one := ical.Prop{Name: p.Name, Params: maps.Clone(p.Params), Value: text}
				if one.Params == nil {
					one.Params = ical.Params{}
				}
				if len(text) == len("20060102") {
					one.Params.Set(ical.ParamValue, string(ical.ValueDate))
				}
				if zone := one.Params.Get(ical.ParamTimezoneID); zone != "" {
					if _, err := time.LoadLocation(zone); err != nil {
						one.Params.Del(ical.ParamTimezoneID)
					}
				}
				all = append(all, one)
			}
		}
		if all != nil {
			props[name] = all
		}
	}
}

// daily refuses rules of events that happen more often than once a day, or never: these are no days.
func daily(e ical.Event, start time.Time) error {
	rule, err := e.Props.RecurrenceRule()
	switch {
	case err != nil:
		return fault.Invalidf("an event of %s recurs by no rule: %w", start.Format(time.DateOnly), err)
	case rule == nil:
		return nil
	case rule.Freq > rrule.DAILY:
		return fault.Invalidf("an event of %s is more often than once a day", start.Format(time.DateOnly))
	case !occurs(*rule, start):
		return fault.Invalidf("an event of %s never occurs", start.Format(time.DateOnly))
	}
	return nil
}

// date is the midnight of UTC of the day that a time is on where it is.
func date(t time.Time) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
}

// Event is something that is at a time.
type Event struct {
	// UID is the same whenever it is written.
	UID, Summary string
	At           time.Time
}

// Write writes events as an iCalendar file, with the time at which they were looked up. Times are of UTC, so that no time zone has to be described.
func Write(w io.Writer, stamp time.Time, all []Event) error {
	cal := ical.NewCalendar()
	cal.Props.SetText(ical.PropVersion, "2.0")
	cal.Props.SetText(ical.PropProductID, "-//Andamio//what is promised//EN")
	for _, e := range all {
		x := ical.NewEvent()
		x.Props.SetText(ical.PropUID, e.UID)
		x.Props.SetText(ical.PropSummary, printable.Clean(e.Summary))
		x.Props.SetDateTime(ical.PropDateTimeStamp, stamp.UTC())
		x.Props.SetDateTime(ical.PropDateTimeStart, e.At.UTC())
		cal.Children = append(cal.Children, x.Component)
	}
	if len(all) == 0 {
		return fault.NotFoundf("there is nothing to be written into a calendar")
	}
	if err := ical.NewEncoder(w).Encode(cal); err != nil {
		return fmt.Errorf("the calendar cannot be written: %w", err)
	}
	return nil
}
