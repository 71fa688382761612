package ledger

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
)

// Saving is what an instance would have cost less in a time: stopped outside working hours, a size smaller, or at another site. It is of
// the instance alone, by the lists of prices as they are now, without what passes between it and others.
type Saving struct {
	Deployment string       `json:"deployment"`
	Resource   string       `json:"resource"`
	Title      string       `json:"title"`
	Site       string       `json:"site"`
	Cost       money.Amount `json:"cost"`
	// Stopping is what was paid for it being on outside working hours.
	Stopping money.Amount `json:"stopping"`
	// Smaller and Elsewhere are nil where there is nothing smaller, or cheaper.
	Smaller   *Instead `json:"smaller,omitempty"`
	Elsewhere *Instead `json:"elsewhere,omitempty"`
}

// Instead is something cheaper, and what it would have saved.
type Instead struct {
	What  string       `json:"what"`
	Saved money.Amount `json:"saved"`
}

// Most is the larger saving of an instance.
func (s *Saving) Most() money.Amount {
	out := s.Stopping
	for _, x := range []*Instead{s.Smaller, s.Elsewhere} {
		if x != nil {
			out = max(out, x.Saved)
		}
	}
	return out
}

// The hours in which people work: from Monday to Friday.
const (
	workFrom = 7
	workTo   = 20
)

// Savings are what each instance that an account is of would have cost less, the most first. sites are those that may be used instead.
func Savings(all []Entry, q Query, p Prices, sites []string, rates *Rates) []Saving {
	by := map[string]*Saving{}
	var order []*Saving
	for i := range all {
		e := &all[i]
		if e.Kind != kinds.Instance || e.Seconds(q.From, q.To) == 0 || !q.fits(e) {
			continue
		}
		key := e.Name + "\x00" + e.Resource
		s := by[key]
		if s == nil {
			s = &Saving{Deployment: e.Name, Resource: e.Resource, Title: e.Title, Site: e.Site}
			by[key] = s
			order = append(order, s)
		}
		s.add(e, q, p, sites, rates)
	}
	out := make([]Saving, 0, len(order))
	for _, s := range order {
		if s.Most() > 0 {
			out = append(out, *s)
		}
	}
	slices.SortStableFunc(out, func(a, b Saving) int {
		return cmp.Or(cmp.Compare(b.Most(), a.Most()), strings.Compare(a.Resource, b.Resource))
	})
	return out
}

// add counts what an entry would have cost less.
func (s *Saving) add(e *Entry, q Query, p Prices, sites []string, rates *Rates) {
	s.Site = e.Site
	s.Cost += rates.cost(&e.Charge, q.From, q.To)
	if e.Off {
		return
	}
	rest := *e
	rest.PerHour -= e.PerHourOff
	for _, n := range outsideWork(q.From, q.To) {
		s.Stopping += rates.cost(&rest.Charge, n.from, n.to)
	}
	here := p.Last(e.Site)
	if here == nil {
		return
	}
	now := asked(here, &e.Charge)
	if what, price := smaller(here, e); what != "" && price < now {
		s.Smaller = s.Smaller.or(what, less(e, now-price, q, rates))
	}
	best, where := now, ""
	for _, name := range sites {
		site := p.Last(name)
		if name == e.Site || site == nil || site.Prices.Currency != here.Prices.Currency {
			continue
		}
		if price, fits := priceAt(site, e); fits && price < best {
			best, where = price, name
		}
	}
	if where != "" {
		s.Elsewhere = s.Elsewhere.or(where, less(e, now-best, q, rates))
	}
}

// or adds what is saved to what was before; the last way counts.
func (i *Instead) or(what string, saved money.Amount) *Instead {
	if i != nil {
		saved += i.Saved
	}
	return &Instead{what, saved}
}

// less is what an entry costs less in a time at a price that is lower by so much an hour.
func less(e *Entry, perHour money.Amount, q Query, rates *Rates) money.Amount {
	x := *e
	x.PerHour = perHour
	return rates.cost(&x.Charge, q.From, q.To)
}

// smaller is the next cheaper size that a site has with no more of anything, or half of it where it has no sizes; and its price.
func smaller(s *estate.Site, e *Entry) (string, money.Amount) {
	if len(s.Sizes) == 0 {
		if e.Cores < 2 || e.MemoryGiB < 1 {
			return "", 0
		}
		x := *e
		x.Cores, x.MemoryGiB = e.Cores/2, e.MemoryGiB/2
		return freeForm(&x), asked(s, &x.Charge)
	}
	var best *estate.Size
	for i := range s.Sizes {
		z := &s.Sizes[i]
		if z.Name != e.Size && z.Cores <= e.Cores && z.MemoryGiB <= e.MemoryGiB && (z.Cores < e.Cores || z.MemoryGiB < e.MemoryGiB) && (best == nil || z.PricePerHour > best.PricePerHour) {
			best = z
		}
	}
	if best == nil {
		return "", 0
	}
	x := *e
	x.Size, x.Cores, x.MemoryGiB = best.Name, best.Cores, best.MemoryGiB
	return best.Name, asked(s, &x.Charge)
}

// priceAt is the least that a site asks an hour for what an entry is of; false if it has no size that large.
func priceAt(s *estate.Site, e *Entry) (money.Amount, bool) {
	x := *e
	x.Size, x.Class = "", ""
	if len(s.Sizes) == 0 {
		return asked(s, &x.Charge), true
	}
	var best money.Amount
	found := false
	for _, z := range s.Sizes {
		if z.Cores < e.Cores || z.MemoryGiB < e.MemoryGiB {
			continue
		}
		x.Size = z.Name
		if price := asked(s, &x.Charge); !found || price < best {
			best, found = price, true
		}
	}
	return best, found
}

// outsideWork are the nights and weekends of a time, in its zone.
func outsideWork(from, to time.Time) []span {
	var out []span
	add := func(a, b time.Time) {
		if a.Before(from) {
			a = from
		}
		if b.After(to) {
			b = to
		}
		if b.After(a) {
			out = append(out, span{a, b})
		}
	}
	for day := date(from, from.Month(), from.Day()); day.Before(to); day = day.AddDate(0, 0, 1) {
		next := day.AddDate(0, 0, 1)
		if w := day.Weekday(); w == time.Saturday || w == time.Sunday {
			add(day, next)
			continue
		}
		at := func(hour int) time.Time {
			return time.Date(day.Year(), day.Month(), day.Day(), hour, 0, 0, 0, day.Location())
		}
		add(day, at(workFrom))
		add(at(workTo), next)
	}
	return out
}
