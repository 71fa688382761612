package estate

import (
	"cmp"

	"andamio/internal/core/money"
)

// Payment is how instances are paid for.
type Payment string

// The models of payment. A reserved price is given per hour of the term.
const (
	Hourly    Payment = "hourly"
	Reserved1 Payment = "reserved-1y"
	Reserved3 Payment = "reserved-3y"
)

// Payments are all models, the freest first.
var Payments = []Payment{Hourly, Reserved1, Reserved3}

// Size is a named shape of instance with its price.
type Size struct {
	Name         string  `json:"name"`
	Cores        int     `json:"cores"`
	MemoryGiB    float64 `json:"memory_gib"`
	PricePerHour float64 `json:"price_per_hour"`
	// Reserved are the prices per hour of other models of payment, where the site offers them.
	Reserved map[Payment]float64 `json:"reserved,omitempty"`
	// Extra are extras that the size has.
	Extra map[string]float64 `json:"extra,omitempty"`
}

// Price is the price per hour under a model of payment; where the site does not offer it, the hourly one and false.
func (z Size) Price(p Payment) (float64, bool) {
	if x, ok := z.Reserved[p]; ok {
		return x, true
	}
	return z.PricePerHour, p == Hourly || p == ""
}

// StorageClass is a kind of volume with its price for a GiB and hour.
type StorageClass struct {
	Name     string  `json:"name"`
	PriceGiB float64 `json:"price_gib"`
}

// Prices per hour. Core and memory prices apply where sizes are free-form.
type Prices struct {
	// Currency is what they are in; "" is the estate's.
	Currency string  `json:"currency,omitempty"`
	Core     float64 `json:"core"`
	Memory   float64 `json:"memory_gib"`
	Disk     float64 `json:"disk_gib"`
	Address  float64 `json:"address"`
	// Reserved are factors on the prices of cores and memory under other models of payment.
	Reserved map[Payment]float64 `json:"reserved,omitempty"`
	// Egress is the price of a GiB that leaves the site, by where it goes: a site, a provider, or "*" for elsewhere.
	Egress map[string]float64 `json:"egress_gib,omitempty"`
}

// UsualCurrency is the unit of an estate of which nobody said one.
const UsualCurrency = "cr"

// OneCurrency is what all sites' prices are in: that of the first site that names one. Prices in two currencies cannot be
// added up, so sites with another are returned, to be left out.
func OneCurrency(sites []*Site) (currency string, others []*Site) {
	for _, s := range sites {
		switch own := s.Prices.Currency; {
		case own == "" || own == currency:
		case currency == "":
			currency = own
		default:
			others = append(others, s)
		}
	}
	return cmp.Or(currency, UsualCurrency), others
}

// SiteWide is the key of prices for every destination that has none of its own.
const SiteWide = "*"

// EgressTo is the price of moving a GiB from the site to another; nothing within a site.
func (s *Site) EgressTo(to *Site) float64 {
	if to != nil && to.Name == s.Name {
		return 0
	}
	if to != nil {
		if x, ok := s.Prices.Egress[to.Name]; ok {
			return x
		}
		if x, ok := s.Prices.Egress[to.Provider]; ok && to.Provider != "" {
			return x
		}
	}
	return s.Prices.Egress[SiteWide]
}

// DiskPrice is the price of a GiB of a storage class and hour; of the site's ordinary disk if the class is empty. False
// says that the site has no such class.
func (s *Site) DiskPrice(class string) (float64, bool) {
	if class == "" {
		return s.Prices.Disk, true
	}
	for _, c := range s.Storage {
		if c.Name == class {
			return c.PriceGiB, true
		}
	}
	return 0, false
}

// Costs is what an instance costs an hour while it runs and while it is switched off: its cores and memory by its size, or
// by themselves where the site sells no such size, its own disk of a storage class, and its address. Only the first is spared
// while it is off. What it sends elsewhere is not in it.
func (s *Site) Costs(size, class string, need Capacity) (on, off money.Amount) {
	off = s.VolumeCosts(need.DiskGiB, class) + money.Of(s.Prices.Address)
	compute := float64(need.Cores)*s.Prices.Core + need.MemoryGiB*s.Prices.Memory
	for _, z := range s.Sizes {
		if z.Name == size {
			compute = z.PricePerHour
		}
	}
	return money.Of(compute) + off, off
}

// VolumeCosts is what a volume of a storage class costs an hour; of a class that the site does not know, what any disk does.
func (s *Site) VolumeCosts(gib float64, class string) money.Amount {
	price, known := s.DiskPrice(class)
	if !known {
		price = s.Prices.Disk
	}
	return money.Of(gib * price)
}

// Distance is the milliseconds between two sites as either of them measured it; false if neither did.
func Distance(a, b *Site) (float64, bool) {
	if a.Name == b.Name {
		return 0, true
	}
	if ms, ok := a.Distances[b.Name]; ok {
		return ms, true
	}
	ms, ok := b.Distances[a.Name]
	return ms, ok
}

// ZoneMs is the milliseconds between two zones of the site.
func (s *Site) ZoneMs(a, b string) float64 {
	for _, d := range s.Between {
		if d.Zones == [2]string{a, b} || d.Zones == [2]string{b, a} {
			return d.Ms
		}
	}
	return 0
}
