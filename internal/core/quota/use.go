package quota

import (
	"math"
	"slices"
	"strings"
	"time"
)

// State is how what is taken is.
type State string

// The states: decided and not built, built, or built and paused.
const (
	Held   State = "held"
	Used   State = "used"
	Paused State = "paused"
)

// Use is how much of an account is taken.
type Use struct {
	Account string  `json:"account"`
	Measure Measure `json:"measure"`
	Most    int64   `json:"most"`
	Used    int64   `json:"used"`
	Held    int64   `json:"held"`
	Paused  int64   `json:"paused"`
}

// Free is what is left; less than nothing where the limit was lowered below what is taken.
func (u Use) Free() int64 { return u.Most - u.Used - u.Held - u.Paused }

// Taken is a take with how it is.
type Taken struct {
	Take
	State State
}

// Uses sum what is taken, by account and measure, sorted. Accounts of other months than the one of now are left out.
func Uses(all []Taken, now time.Time) []Use {
	month := MonthOf(now).Name
	sums := map[string]*Use{}
	for _, t := range all {
		if _, of, monthly := strings.Cut(t.Account, "#"); monthly && of != month {
			continue
		}
		key := t.Account + "\x00" + string(t.Measure)
		u := sums[key]
		if u == nil {
			u = &Use{Account: t.Account, Measure: t.Measure}
			sums[key] = u
		}
		u.Most = t.Most
		switch t.State {
		case Held:
			u.Held += t.Amount
		case Paused:
			u.Paused += t.Amount
		default:
			u.Used += t.Amount
		}
	}
	out := make([]Use, 0, len(sums))
	for _, u := range sums {
		out = append(out, *u)
	}
	slices.SortFunc(out, func(a, b Use) int {
		if c := strings.Compare(a.Account, b.Account); c != 0 {
			return c
		}
		return slices.Index(Measures, a.Measure) - slices.Index(Measures, b.Measure)
	})
	return out
}

// Forecast is how a budget of a month goes on if nothing changes.
type Forecast struct {
	// AtEnd is what will be spent at the month's end.
	AtEnd int64 `json:"at_end"`
	// RunsOut is when nothing is left; zero if something is at the month's end.
	RunsOut time.Time `json:"runs_out,omitzero"`
}

// Forecasts says how a budget goes on: what is spent, at a price an hour from now on.
func Forecasts(most, spent, perHour int64, now time.Time) Forecast {
	month := MonthOf(now)
	rest := month.Ends.Sub(now).Hours()
	f := Forecast{AtEnd: spent + int64(math.Round(float64(perHour)*rest))}
	if f.AtEnd <= most || perHour <= 0 {
		return f
	}
	hours := float64(max(most-spent, 0)) / float64(perHour)
	f.RunsOut = now.Add(time.Duration(hours * float64(time.Hour)))
	return f
}
