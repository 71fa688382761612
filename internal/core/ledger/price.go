package ledger

import (
	"slices"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
)

// List is what a site asks from a moment on.
type List struct {
	From time.Time    `json:"from"`
	Site *estate.Site `json:"site"`
}

// Prices are the lists of each site, the oldest first.
type Prices map[string][]List

// at is the list in force at a time: the last that began by then, or the first that is known. Nil if none is.
func (p Prices) at(site string, when time.Time) *estate.Site {
	lists := p[site]
	if len(lists) == 0 {
		return nil
	}
	i := 0
	for i+1 < len(lists) && !lists[i+1].From.After(when) {
		i++
	}
	return lists[i].Site
}

// Last is what a site asks now; nil if that is not known.
func (p Prices) Last(site string) *estate.Site {
	if lists := p[site]; len(lists) > 0 {
		return lists[len(lists)-1].Site
	}
	return nil
}

// asked is what a site asks an hour for what a charge is of, without what passes between it and others.
func asked(s *estate.Site, c *Charge) money.Amount {
	switch c.Kind {
	case kinds.Volume, kinds.Snapshot:
		return s.VolumeCosts(c.DiskGiB, c.Class)
	case kinds.Instance:
		on, off := s.Costs(c.Size, c.Class, estate.Capacity{Cores: c.Cores, MemoryGiB: c.MemoryGiB, DiskGiB: c.DiskGiB})
		if c.Off {
			return off
		}
		return on
	}
	return 0
}

// Priced are charges at the prices that their sites asked from then to then: where a price changed, one charge ends and another begins. What
// a plan agreed beside the list, such as traffic, stays. A list in another currency than that of the agreement changes nothing.
func (p Prices) Priced(all []Charge) []Charge {
	out := make([]Charge, 0, len(all))
	for i := range all {
		c := &all[i]
		then := p.at(c.Site, c.Agreed)
		if then == nil {
			out = append(out, *c)
			continue
		}
		for _, at := range p.changes(c) {
			part := c.part(at.from, at.to)
			if now := p.at(c.Site, at.from); now != then && now.Prices.Currency == then.Prices.Currency {
				part.PerHour += asked(now, c) - asked(then, c)
				off := *c
				off.Off = true
				part.PerHourOff += asked(now, &off) - asked(then, &off)
			}
			part.base = part.From // another price counts anew
			if n := len(out); at.from.After(c.From) && out[n-1].PerHour == part.PerHour {
				out[n-1].To = part.To // nothing that concerns it changed
				continue
			}
			out = append(out, part)
		}
	}
	return out
}

// span is a time; it goes on where it has no end.
type span struct{ from, to time.Time }

// changes are the times of a charge within which its site's list is one.
func (p Prices) changes(c *Charge) []span {
	var cuts []time.Time
	for _, l := range p[c.Site] {
		cuts = append(cuts, l.From)
	}
	return spans(c, cuts)
}

// spans are the times into which a charge is cut at some moments, in order.
func spans(c *Charge, cuts []time.Time) []span {
	out := []span{{c.From, c.To}}
	for _, at := range cuts {
		at = at.UTC().Truncate(time.Second)
		last := &out[len(out)-1]
		if at.After(last.from) && (c.To.IsZero() || at.Before(c.To)) {
			last.to = at
			out = append(out, span{at, c.To})
		}
	}
	return out
}

// Add puts a list behind those of its site, unless it asks what the last one does.
func (p Prices) Add(l List) {
	l.From = l.From.UTC().Truncate(time.Second) // as charges are
	if last := p.Last(l.Site.Name); last == nil || !sameList(last, l.Site) {
		p[l.Site.Name] = append(p[l.Site.Name], l)
	}
}

// PriceList is what of a site decides what things cost there.
func PriceList(s *estate.Site) *estate.Site {
	return &estate.Site{Name: s.Name, Kind: s.Kind, Provider: s.Provider, Title: s.Title, Prices: s.Prices, Sizes: s.Sizes, Storage: s.Storage}
}

func sameList(a, b *estate.Site) bool {
	return a.Prices.Currency == b.Prices.Currency && a.Prices.Core == b.Prices.Core && a.Prices.Memory == b.Prices.Memory &&
		a.Prices.Disk == b.Prices.Disk && a.Prices.Address == b.Prices.Address &&
		slices.EqualFunc(a.Sizes, b.Sizes, func(x, y estate.Size) bool {
			return x.Name == y.Name && x.Cores == y.Cores && x.MemoryGiB == y.MemoryGiB && x.PricePerHour == y.PricePerHour
		}) && slices.Equal(a.Storage, b.Storage)
}
