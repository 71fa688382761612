package ledger

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
)

// Deployed is what is known of a deployment beside its journals.
type Deployed struct {
	Name string
	// Application is what it is counted as where its owner says no service.
	Application string
	// Owners are whose it was from when on, the oldest first.
	Owners []Owned
}

// Owned is whose something is from a moment on.
type Owned struct {
	From  time.Time   `json:"from"`
	Owner guard.Owner `json:"owner"`
}

// Entry is a charge, or a part of one, with what it is accounted by.
type Entry struct {
	Charge
	Name        string      `json:"name"`
	Application string      `json:"application,omitempty"`
	Owner       guard.Owner `json:"owner,omitzero"`
}

// Entries are the charges of a deployment, cut where it became somebody else's.
func (d *Deployed) Entries(all []Charge) []Entry {
	var cuts []time.Time
	for i := range d.Owners {
		if i > 0 {
			cuts = append(cuts, d.Owners[i].From)
		}
	}
	out := make([]Entry, 0, len(all))
	for i := range all {
		c := &all[i]
		for _, s := range spans(c, cuts) {
			e := Entry{Charge: c.part(s.from, s.to), Name: d.Name, Owner: d.owner(s.from)}
			e.Application = cmp.Or(e.Owner.Service, d.Application)
			out = append(out, e)
		}
	}
	return out
}

// owner is whose it was at a time; before it was anybody's, the first's.
func (d *Deployed) owner(at time.Time) guard.Owner {
	var out guard.Owner
	for i := range d.Owners {
		if i == 0 || !d.Owners[i].From.UTC().Truncate(time.Second).After(at) {
			out = d.Owners[i].Owner
		}
	}
	return out
}

// Dimensions are what an account is by; tags are tag:NAME.
var Dimensions = []string{"application", "deployment", "service", "team", "person", "stage", "site", "zone", "kind", "size"}

// tagDimension is how a tag is asked for.
const tagDimension = "tag:"

// key is under what an entry is accounted in a dimension; "" is under nothing.
func (e *Entry) key(by string) string {
	if name, is := strings.CutPrefix(by, tagDimension); is {
		return e.Owner.Tags[name]
	}
	switch by {
	case "application":
		return e.Application
	case "deployment":
		return e.Name
	case "service":
		return e.Service
	case "team":
		return e.Owner.Team
	case "person":
		return e.Owner.Person
	case "stage":
		return e.Owner.Stage
	case "site":
		return e.Site
	case "zone":
		return e.Site + "/" + e.Zone
	case "kind":
		return string(e.Kind)
	case "size":
		return cmp.Or(e.Size, freeForm(e))
	}
	return ""
}

// freeForm is a size in words where the site has no name for it.
func freeForm(e *Entry) string {
	if e.Kind != kinds.Instance {
		return string(e.Kind)
	}
	return fmt.Sprintf("%d × %g GiB", e.Cores, e.MemoryGiB)
}

// Query is what an account is asked for.
type Query struct {
	// From and To are the time that it is of.
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	// By is one of the dimensions.
	By string `json:"by"`
	// Every cuts the time into hours, days or months, of the zone of From; "" does not.
	Every string `json:"every,omitempty"`
	// Only are patterns by dimension: what does not fit all of them is left out.
	Only map[string]string `json:"only,omitempty"`
}

// The lengths into which an account's time is cut.
const (
	Hourly  = "hour"
	Daily   = "day"
	Monthly = "month"
)

// mostCuts is into how many parts a time is cut at most.
const mostCuts = 2000

// Check says what is wrong with a query.
func (q *Query) Check() error {
	if !q.To.After(q.From) {
		return fault.Invalidf("the account's time ends at %s and begins at %s: it has to begin before", q.To.Format(time.DateTime), q.From.Format(time.DateTime))
	}
	for _, by := range append(slices.Sorted(maps.Keys(q.Only)), q.By) {
		if name, is := strings.CutPrefix(by, tagDimension); !slices.Contains(Dimensions, by) && (!is || name == "") {
			return fault.Invalidf("an account is not by %q; it is by %s, or by tag:NAME", by, strings.Join(Dimensions, ", "))
		}
	}
	for by, pattern := range q.Only {
		if _, err := path.Match(pattern, ""); err != nil {
			return fault.Invalidf("%s: %q is no pattern", by, pattern)
		}
	}
	if _, known := steps[q.Every]; !known && q.Every != "" {
		return fault.Invalidf("an account is cut into hours, days or months, not by %q", q.Every)
	}
	if n := len(q.cuts()); n > mostCuts {
		return fault.Invalidf("that would be more than %d %ss: ask for a shorter time, or for longer parts", mostCuts, q.Every)
	}
	return nil
}

// steps are where the next part of a time begins, and the first.
var steps = map[string]struct{ first, next func(time.Time) time.Time }{
	Hourly:  {func(t time.Time) time.Time { return t.Truncate(time.Hour) }, func(t time.Time) time.Time { return t.Add(time.Hour) }},
	Daily:   {func(t time.Time) time.Time { return date(t, t.Month(), t.Day()) }, func(t time.Time) time.Time { return t.AddDate(0, 0, 1) }},
	Monthly: {func(t time.Time) time.Time { return date(t, t.Month(), 1) }, func(t time.Time) time.Time { return t.AddDate(0, 1, 0) }},
}

func date(t time.Time, m time.Month, day int) time.Time {
	return time.Date(t.Year(), m, day, 0, 0, 0, 0, t.Location())
}

// cuts are where the parts of the time begin.
func (q *Query) cuts() []time.Time {
	out := []time.Time{q.From}
	step, is := steps[q.Every]
	if !is {
		return out
	}
	for at := step.next(step.first(q.From)); at.Before(q.To) && len(out) <= mostCuts; at = step.next(at) {
		out = append(out, at)
	}
	return out
}

// fits reports that an entry is asked for.
func (q *Query) fits(e *Entry) bool {
	for by, pattern := range q.Only {
		if ok, err := path.Match(pattern, e.key(by)); pattern != e.key(by) && (err != nil || !ok) {
			return false
		}
	}
	return true
}

// Line is what stands under one key of an account.
type Line struct {
	Key  string       `json:"key"`
	Cost money.Amount `json:"cost"`
	// Hours are those that instances were on, HoursOff those that they were off.
	Hours    float64 `json:"hours"`
	HoursOff float64 `json:"hours_off,omitempty"`
	// Now is what it costs an hour at the end of the time.
	Now money.Amount `json:"per_hour_now"`
	// Each is the cost of each part of the time.
	Each []money.Amount `json:"each,omitempty"`

	on, off int64
}

// Account is what a time cost, line by line, the dearest first. The lines add up to the total, and their parts to them.
type Account struct {
	Query
	Currency string `json:"currency"`
	// Parts are where the parts of the time begin.
	Parts []time.Time `json:"parts,omitempty"`
	Lines []Line      `json:"lines"`
	Total Line        `json:"total"`
	Rate  *Rates      `json:"-"`
}

// Sum makes the account that a query asks for.
func Sum(all []Entry, q Query, unit string, rates *Rates) *Account {
	out := &Account{Query: q, Currency: rates.In(unit), Rate: rates, Total: Line{Key: "all"}}
	cuts := q.cuts()
	if q.Every != "" {
		out.Parts = cuts
		out.Total.Each = make([]money.Amount, len(cuts))
	}
	lines := map[string]*Line{}
	end := q.To.Add(-time.Second)
	for i := range all {
		e := &all[i]
		if !e.From.Before(q.To) || !e.To.IsZero() && !e.To.After(q.From) || !q.fits(e) {
			continue
		}
		l := lines[e.key(q.By)]
		if l == nil {
			l = &Line{Key: e.key(q.By), Each: make([]money.Amount, len(out.Total.Each))}
			lines[l.Key] = l
		}
		for _, x := range []*Line{l, &out.Total} {
			x.add(e, cuts, q.To, rates)
			if e.Stands(end) {
				x.Now += worth(e.PerHour, rates.At(end))
			}
		}
	}
	for _, l := range lines {
		l.round()
		out.Lines = append(out.Lines, *l)
	}
	out.Total.round()
	slices.SortFunc(out.Lines, func(a, b Line) int { return cmp.Or(cmp.Compare(b.Cost, a.Cost), strings.Compare(a.Key, b.Key)) })
	return out
}

// add counts an entry.
func (l *Line) add(e *Entry, cuts []time.Time, to time.Time, rates *Rates) {
	if e.Kind == kinds.Instance {
		n := e.Seconds(cuts[0], to)
		if e.Off {
			l.off += n
		} else {
			l.on += n
		}
	}
	if len(l.Each) == 0 {
		l.Cost += rates.cost(&e.Charge, cuts[0], to)
		return
	}
	for i, from := range cuts {
		if !e.To.IsZero() && !e.To.After(from) {
			break
		}
		until := to
		if i+1 < len(cuts) {
			until = cuts[i+1]
		}
		if !until.After(e.From) {
			continue
		}
		x := rates.cost(&e.Charge, from, until)
		l.Each[i] += x
		l.Cost += x
	}
}

func (l *Line) round() {
	l.Hours, l.HoursOff = float64(l.on)/secondsPerHour, float64(l.off)/secondsPerHour
	if len(l.Each) == 0 {
		l.Each = nil
	}
}

// Others is the key of the lines that [Account.Top] puts together.
const Others = "others"

// Top are the dearest lines, with those beyond so many put together as the last.
func (a *Account) Top(n int) []Line {
	if len(a.Lines) <= n {
		return a.Lines
	}
	out := slices.Clone(a.Lines[:n-1])
	rest := Line{Key: Others, Each: make([]money.Amount, len(a.Total.Each))}
	for _, l := range a.Lines[n-1:] {
		rest.Cost, rest.Now, rest.Hours, rest.HoursOff = rest.Cost+l.Cost, rest.Now+l.Now, rest.Hours+l.Hours, rest.HoursOff+l.HoursOff
		for i, x := range l.Each {
			rest.Each[i] += x
		}
	}
	return append(out, rest)
}

// Expected is what the time from the account's end to another comes to, if everything stays as it is.
func (a *Account) Expected(until time.Time) money.Amount {
	return after(a.Total.Now, max(until.Unix()-a.To.Unix(), 0))
}
