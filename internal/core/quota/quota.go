// Package quota is how much whom may have: limits on what stands and what it costs, by team, person, site and stage, and what a thing takes
// of each.
//
// In go a file of quotas (YAML or JSON, schemas/quotas.schema.json) and what something takes at which sites for whom; out come the accounts
// that it is taken from, and how much of each is used, held, paused and free. All amounts are whole numbers, so that they add up.
package quota

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"path"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/money"
	"andamio/internal/core/printable"
)

// Version is the format that [Read] accepts.
const Version = "andamio.quotas/1"

// Measure is what is limited.
type Measure string

// The measures: counts; GiB, kept in MiB; money an hour, and in a calendar month, kept in millionths.
const (
	Instances Measure = "instances"
	Cores     Measure = "cores"
	MemoryGiB Measure = "memory_gib"
	DiskGiB   Measure = "disk_gib"
	Addresses Measure = "addresses"
	PerHour   Measure = "per_hour"
	PerMonth  Measure = "per_month"
)

// Measures are all of them, in the order in which they are shown.
var Measures = []Measure{Instances, Cores, MemoryGiB, DiskGiB, Addresses, PerHour, PerMonth}

// unit is how many of an amount are one of a measure.
func (m Measure) unit() float64 {
	switch m {
	case MemoryGiB, DiskGiB:
		return 1024
	case PerHour, PerMonth:
		return 1e6
	}
	return 1
}

// Amount is so much of a measure as it is kept.
func (m Measure) Amount(v float64) int64 { return int64(math.Round(v * m.unit())) }

// Value is an amount as people write it.
func (m Measure) Value(amount int64) float64 { return float64(amount) / m.unit() }

// Says is an amount in words.
func (m Measure) Says(amount int64, currency string) string {
	v := m.Value(amount)
	switch m {
	case MemoryGiB:
		return estate.GiB(v) + " of memory"
	case DiskGiB:
		return estate.GiB(v) + " of disk"
	case PerHour:
		return fmt.Sprintf("%.3f %s/h", v, currency)
	case PerMonth:
		return fmt.Sprintf("%.2f %s this month", v, currency)
	case Cores:
		return estate.Cores(int(amount))
	}
	if m == Addresses && amount != 1 {
		return fmt.Sprintf("%d addresses", amount)
	}
	return printable.Count(int(amount), map[Measure]string{Instances: "instance", Addresses: "address"}[m])
}

// Amounts are how much of each measure.
type Amounts map[Measure]int64

// File is the quotas of a workspace.
type File struct {
	Version string  `json:"version"`
	Quotas  []Quota `json:"quotas"`
}

// Quota limits what is of a team (and of teams within it), of a person, at a site and of a stage; what is not said bounds nothing.
type Quota struct {
	Name   string `json:"quota"`
	Team   string `json:"team,omitempty"`
	Person string `json:"person,omitempty"`
	Site   string `json:"site,omitempty"`
	Stage  string `json:"stage,omitempty"`
	// Each gives every person, or every team, as much for itself.
	Each string              `json:"each,omitempty"`
	Most map[Measure]float64 `json:"most"`
}

// Kinds of whom a quota is for each of.
const (
	EachPerson = "person"
	EachTeam   = "team"
)

// Read reads a file of quotas and checks it: every mistake is in the error.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("these are no quotas: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	var errs []error
	seen := map[string]bool{}
	for i := range f.Quotas {
		q := &f.Quotas[i]
		wrong := func(format string, args ...any) {
			errs = append(errs, fmt.Errorf("quotas[%d]: %s", i, fmt.Sprintf(format, args...)))
		}
		q.check(wrong)
		if seen[q.Name] {
			wrong("another is called %s", q.Name)
		}
		seen[q.Name] = true
	}
	return &f, errors.Join(errs...)
}

func (q *Quota) check(wrong func(string, ...any)) {
	if q.Name == "" || strings.ContainsAny(q.Name, "/# \t") {
		wrong("quota: %q is no name: it has no spaces, / or #", q.Name)
	}
	if len(q.Most) == 0 {
		wrong("most: it limits nothing")
	}
	for _, m := range slices.Sorted(maps.Keys(q.Most)) {
		switch v := q.Most[m]; {
		case !slices.Contains(Measures, m):
			wrong("most: %q is no measure; there are %v", m, Measures)
		case v < 0 || math.IsNaN(v) || v*m.unit() > math.MaxInt64/4:
			wrong("most.%s: %v is no limit", m, v)
		}
	}
	if q.Each != "" && q.Each != EachPerson && q.Each != EachTeam {
		wrong("each: %q is neither person nor team", q.Each)
	}
	for _, p := range []string{q.Person, q.Site, q.Stage, q.Team} {
		if _, err := path.Match(p, ""); err != nil {
			wrong("%q is no pattern", p)
		}
	}
}

// CheckAgainst says which teams and people of the quotas there are not.
func (f *File) CheckAgainst(d *guard.Directory) error {
	var errs []error
	for i, q := range f.Quotas {
		if _, known := d.Teams[q.Team]; q.Team != "" && !known && !strings.ContainsAny(q.Team, "*?[") {
			errs = append(errs, fmt.Errorf("quotas[%d].team: there is no team %q", i, q.Team))
		}
		if _, known := d.People[q.Person]; q.Person != "" && !known && !strings.ContainsAny(q.Person, "*?[") {
			errs = append(errs, fmt.Errorf("quotas[%d].person: there is nobody called %q", i, q.Person))
		}
	}
	return errors.Join(errs...)
}

// Part is what something takes at one site.
type Part struct {
	Site    string  `json:"site"`
	Amounts Amounts `json:"amounts"`
}

// Take is so much of a measure from an account: a quota, or what it gives each of those that it is for.
type Take struct {
	Account string  `json:"account"`
	Measure Measure `json:"measure"`
	Amount  int64   `json:"amount"`
	// Most is the limit.
	Most int64 `json:"most"`
}

// Month is a calendar month, in which budgets are.
type Month struct {
	// Name is 2006-01.
	Name        string
	Start, Ends time.Time
}

// MonthOf is the month of a time, in its zone.
func MonthOf(t time.Time) Month {
	start := time.Date(t.Year(), t.Month(), 1, 0, 0, 0, 0, t.Location())
	return Month{start.Format("2006-01"), start, start.AddDate(0, 1, 0)}
}

// Rest is the money that a price an hour comes to from a time to the end of the month.
func (m Month) Rest(perHour money.Amount, from time.Time) int64 {
	return m.RestOf(int64(perHour), from)
}

// RestOf is Rest of a price that is a plain number.
func (m Month) RestOf(perHour int64, from time.Time) int64 {
	if from.Before(m.Start) {
		from = m.Start
	}
	if !from.Before(m.Ends) {
		return 0
	}
	return int64(math.Round(float64(perHour) * m.Ends.Sub(from).Hours()))
}

// Takes are what something takes from which accounts, sorted. From a budget of a month it takes what its price comes to from now to the
// month's end. around is a team with those that it is within, which have to give it too.
func (f *File) Takes(parts []Part, of guard.Owner, around []string, now time.Time) []Take {
	var out []Take
	month := MonthOf(now)
	for i := range f.Quotas {
		q := &f.Quotas[i]
		account, is := q.account(of, around)
		if !is {
			continue
		}
		sum := Amounts{}
		for _, p := range parts {
			if !fits(q.Site, p.Site) {
				continue
			}
			for m, n := range p.Amounts {
				sum[m] += n
			}
		}
		for _, m := range Measures {
			most, limited := q.Most[m]
			if !limited {
				continue
			}
			t := Take{account, m, sum[m], m.Amount(most)}
			if m == PerMonth {
				t.Account, t.Amount = account+"#"+month.Name, month.Rest(money.Amount(sum[PerHour]), now)
			}
			if t.Amount != 0 {
				out = append(out, t)
			}
		}
	}
	slices.SortFunc(out, func(a, b Take) int {
		return strings.Compare(a.Account+"\x00"+string(a.Measure), b.Account+"\x00"+string(b.Measure))
	})
	return out
}

// Spent are what something has cost in a month, by site, of which budgets, sorted.
func (f *File) Spent(cost map[string]money.Amount, of guard.Owner, around []string, month Month) []Take {
	var out []Take
	for i := range f.Quotas {
		q := &f.Quotas[i]
		most, limited := q.Most[PerMonth]
		account, is := q.account(of, around)
		if !is || !limited {
			continue
		}
		t := Take{account + "#" + month.Name, PerMonth, 0, PerMonth.Amount(most)}
		for site, n := range cost {
			if fits(q.Site, site) {
				t.Amount += int64(n)
			}
		}
		if t.Amount != 0 {
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b Take) int { return strings.Compare(a.Account, b.Account) })
	return out
}

// account is whose account something of somebody is taken from, by a quota; false if the quota is not for it.
func (q *Quota) account(of guard.Owner, around []string) (string, bool) {
	if !fits(q.Person, of.Person) || !fits(q.Stage, of.Stage) {
		return "", false
	}
	if q.Team != "" && !slices.ContainsFunc(around, func(t string) bool { return fits(q.Team, t) }) {
		return "", false
	}
	switch q.Each {
	case EachPerson:
		return q.Name + "/" + of.Person, of.Person != ""
	case EachTeam:
		return q.Name + "/" + of.Team, of.Team != ""
	}
	return q.Name, true
}

// PerHour is what parts cost an hour, by account of a month's budget.
func (f *File) PerHour(parts []Part, of guard.Owner, around []string, now time.Time) map[string]int64 {
	out := map[string]int64{}
	for i := range f.Quotas {
		q := &f.Quotas[i]
		account, is := q.account(of, around)
		if _, limited := q.Most[PerMonth]; !is || !limited {
			continue
		}
		for _, p := range parts {
			if fits(q.Site, p.Site) {
				out[account+"#"+MonthOf(now).Name] += p.Amounts[PerHour]
			}
		}
	}
	return out
}

// Accounts are those of quotas that are not for each of many, with nothing taken.
func (f *File) Accounts(now time.Time) []Use {
	var out []Use
	for i := range f.Quotas {
		q := &f.Quotas[i]
		for _, m := range Measures {
			most, limited := q.Most[m]
			if q.Each != "" || !limited {
				continue
			}
			u := Use{Account: q.Name, Measure: m, Most: m.Amount(most)}
			if m == PerMonth {
				u.Account += "#" + MonthOf(now).Name
			}
			out = append(out, u)
		}
	}
	return out
}

// Concerns reports that something of a person could be taken from an account: their own, one of their teams', or of a team around these.
func (f *File) Concerns(account, person string, teams, around []string) bool {
	name, _, _ := strings.Cut(account, "#")
	name, of, each := strings.Cut(name, "/")
	for i := range f.Quotas {
		q := &f.Quotas[i]
		if q.Name != name {
			continue
		}
		switch {
		case each && q.Each == EachPerson && of != person, each && q.Each == EachTeam && !slices.Contains(teams, of):
			return false
		case q.Team != "" && !slices.ContainsFunc(around, func(t string) bool { return fits(q.Team, t) }):
			return false
		}
		return fits(q.Person, person)
	}
	return false
}

// Most is the limit of an account as it is now; false if there is none any more.
func (f *File) Most(account string, m Measure) (int64, bool) {
	name, _, _ := strings.Cut(account, "#")
	name, _, _ = strings.Cut(name, "/")
	for i := range f.Quotas {
		if f.Quotas[i].Name == name {
			most, limited := f.Quotas[i].Most[m]
			return m.Amount(most), limited
		}
	}
	return 0, false
}

func fits(pattern, s string) bool {
	ok, err := path.Match(pattern, s)
	return pattern == "" || pattern == s || ok && err == nil
}

// Overrun is the error of what does not fit into a quota.
type Overrun struct {
	Take
	// Taken is what others have of it.
	Taken int64
}

func (o *Overrun) Error() string {
	return fmt.Sprintf("the quota %s has %s, of which %s are taken: %s more are too many", o.Account, o.Measure.Says(o.Most, ""), o.Measure.Says(o.Taken, ""), o.Measure.Says(o.Amount, ""))
}

// Code is the class of the error: a limit forbids it.
func (*Overrun) Code() fault.Code { return fault.Refused }
