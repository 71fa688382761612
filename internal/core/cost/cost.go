// Package cost adds up what a placement costs: by hour, month, one and three years, under each model of payment, in the
// internal unit or another currency, and by workload, tier, site or tag.
package cost

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
)

// Hours of the spans that costs are given for: a month is a twelfth of a year of 365 days.
const (
	Month      = 730.0
	Year       = 8760.0
	ThreeYears = 3 * Year
)

// Line is what something costs per hour. Of names it.
type Line struct {
	Of      string         `json:"of"`
	PerHour money.Amount   `json:"per_hour"`
	Parts   placement.Cost `json:"parts"`
	// Workloads is how many are in it.
	Workloads int `json:"workloads"`
}

// By is what costs are added up by: "workload", "node", "tier", "site", or "tag:NAME".
type By string

// Known reports whether costs can be added up so; nothing is known too.
func (b By) Known() bool {
	tag, isTag := strings.CutPrefix(string(b), "tag:")
	return slices.Contains([]By{"", "workload", "node", "tier", "site"}, b) || isTag && tag != ""
}

// Sums adds the costs of a placement up, the dearest first.
func Sums(p *placement.Problem, placed *placement.Placement, by By) []Line {
	lines := map[string]*Line{}
	for i := range placed.Choices {
		c, w := &placed.Choices[i], &p.Workloads[i]
		key := keyOf(w, c, by)
		l := lines[key]
		if l == nil {
			l = &Line{Of: key}
			lines[key] = l
		}
		l.PerHour += c.Cost.Total()
		l.Workloads++
		l.Parts.Compute += c.Cost.Compute
		l.Parts.Storage += c.Cost.Storage
		l.Parts.Address += c.Cost.Address
		l.Parts.Egress += c.Cost.Egress
	}
	out := make([]Line, 0, len(lines))
	for _, key := range slices.Sorted(maps.Keys(lines)) {
		out = append(out, *lines[key])
	}
	slices.SortStableFunc(out, func(a, b Line) int { return cmp.Compare(b.PerHour, a.PerHour) })
	return out
}

func keyOf(w *placement.Workload, c *placement.Choice, by By) string {
	switch by {
	case "site":
		return c.Site
	case "tier":
		return w.Tier
	case "node":
		return w.Node
	}
	if tag, ok := strings.CutPrefix(string(by), "tag:"); ok {
		if v := w.Tags[tag]; v != "" {
			return v
		}
		return "(no " + tag + ")"
	}
	return w.Name
}

// Payment is what the same placement would cost per hour under a model of payment. Offered counts the workloads whose site
// offers it; the others are counted by the hour.
type Payment struct {
	Payment estate.Payment `json:"payment"`
	PerHour money.Amount   `json:"per_hour"`
	Offered int            `json:"offered"`
}

// Payments prices a placement under every model.
func Payments(p *placement.Problem, placed *placement.Placement) []Payment {
	var out []Payment
	for _, pay := range estate.Payments {
		line := Payment{Payment: pay}
		for i := range placed.Choices {
			c := &placed.Choices[i]
			compute, offered := price(p.Estate.Site(c.Site), c, pay)
			line.PerHour += c.Cost.Total() - c.Cost.Compute + money.Of(compute)
			if offered {
				line.Offered++
			}
		}
		out = append(out, line)
	}
	return out
}

// price is what a choice's cores and memory cost per hour under a model of payment.
func price(s *estate.Site, c *placement.Choice, pay estate.Payment) (float64, bool) {
	for _, z := range s.Sizes {
		if z.Name == c.Size {
			return z.Price(pay)
		}
	}
	hourly := float64(c.Takes.Cores)*s.Prices.Core + c.Takes.MemoryGiB*s.Prices.Memory
	if f, ok := s.Prices.Reserved[pay]; ok {
		return hourly * f, true
	}
	return hourly, pay == estate.Hourly
}

// In turns an amount of the internal unit into another currency; "" or the unit's own name leaves it.
func In(e *estate.Estate, amount money.Amount, currency string) (money.Amount, string, error) {
	if currency == "" || currency == e.Currency {
		return amount, e.Currency, nil
	}
	rate, ok := e.Currencies[currency]
	if !ok {
		return 0, "", fmt.Errorf("nobody said how much %s a %s is; known are %v", currency, e.Currency, slices.Sorted(maps.Keys(e.Currencies)))
	}
	return amount.Times(rate), currency, nil
}
