package promise

import (
	"fmt"
	"strings"
	"time"

	"andamio/internal/core/calendar"
)

// Words say what is promised.
func (p *Promise) Words() string {
	switch p.Kind {
	case Saved:
		text := fmt.Sprintf("saved %s, %d kept", p.Saved.When.words(), p.Saved.Keep)
		if len(p.Saved.Of) > 0 {
			text += ", of " + strings.Join(p.Saved.Of, ", ")
		}
		return text + atOnce(p.Saved.Barrier)
	case Replicated:
		text := "copied to " + p.Replicated.Site + " " + p.Replicated.When.words()
		if p.Replicated.Lose > 0 {
			text += ", " + Span(p.Replicated.Lose) + " lost at most"
		}
		return text + atOnce(p.Replicated.Barrier)
	case Drilled:
		return "drilled " + p.Drilled.When.words()
	case Hours:
		return p.Hours.words()
	case Ends:
		return p.Ends.words()
	case Guarded:
		return p.Guarded.words()
	case Limited:
		return p.Limited.words()
	case Recovered:
		return p.Recovered.words()
	case Lease:
		return "ends " + p.Lease.Until.Format("2 Jan 2006 15:04")
	}
	return string(p.Kind)
}

// atOnce says that all machines stand still, so that what is kept of them is of one moment.
func atOnce(barrier bool) string {
	if barrier {
		return ", of one moment"
	}
	return ""
}

// frequencies are rules that people have a word for.
var frequencies = map[string]string{"FREQ=DAILY": "every day", "FREQ=HOURLY": "every hour", "FREQ=WEEKLY": "every week", "FREQ=MONTHLY": "every month",
	"FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR": "weekdays", "FREQ=WEEKLY;BYDAY=SA,SU": "weekends", "FREQ=MINUTELY": "every minute"}

func (w *When) words() string {
	often := Often(w.Rule)
	if w.Rule == "FREQ=HOURLY" {
		return often
	}
	return often + " " + w.clock()
}

// Often says how often a rule has something happen; one that people have no words for is as it is written.
func Often(rule string) string {
	rule = strings.TrimPrefix(rule, "RRULE:")
	if text, known := frequencies[rule]; known {
		return text
	}
	if days, weekly := strings.CutPrefix(rule, "FREQ=WEEKLY;BYDAY="); weekly {
		if names := daysOf(days); names != "" {
			return "every " + names
		}
	}
	if day, monthly := strings.CutPrefix(rule, "FREQ=MONTHLY;BYDAY="); monthly && len(day) == 3 {
		if name, which := days[day[1:]], ordinals[day[:1]]; name != "" && which != "" {
			return "every " + which + " " + name
		}
	}
	return strings.ToLower(rule)
}

// days are those of a week as rules have them (RFC 5545, section 3.3.10), ordinals which of a month.
var (
	days     = map[string]string{"MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday", "FR": "Friday", "SA": "Saturday", "SU": "Sunday"}
	ordinals = map[string]string{"1": "first", "2": "second", "3": "third", "4": "fourth", "5": "fifth"}
)

// daysOf are the days of a list in words; "" if one of them is none.
func daysOf(list string) string {
	var out []string
	for day := range strings.SplitSeq(list, ",") {
		name := days[day]
		if name == "" {
			return ""
		}
		out = append(out, name)
	}
	if last := len(out) - 1; last > 0 {
		return strings.Join(out[:last], ", ") + " and " + out[last]
	}
	return out[0]
}

// clock is the time of day of a recurrence, in its own zone.
func (w *When) clock() string {
	zone, err := calendar.Zone(w.Zone)
	if err != nil {
		zone = time.UTC
	}
	return w.Start.In(zone).Format("15:04")
}
