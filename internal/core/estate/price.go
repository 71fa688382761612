package estate

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
	Core    float64 `json:"core"`
	Memory  float64 `json:"memory_gib"`
	Disk    float64 `json:"disk_gib"`
	Address float64 `json:"address"`
	// Reserved are factors on the prices of cores and memory under other models of payment.
	Reserved map[Payment]float64 `json:"reserved,omitempty"`
	// Egress is the price of a GiB that leaves the site, by where it goes: a site, a provider, or "*" for elsewhere.
	Egress map[string]float64 `json:"egress_gib,omitempty"`
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
