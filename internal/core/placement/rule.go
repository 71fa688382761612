package placement

import (
	"cmp"
	"fmt"
	"slices"

	"andamio/internal/core/estate"
)

// Rule limits where workloads may run, or prefers some places. Lists say what a site must satisfy; an empty list asks
// nothing, unless Listed says that only the sites listed will do.
type Rule struct {
	Name    string
	Because string
	// Short is the rule in a word or two, for a cell of the matrix.
	Short string
	// Nodes are the names of the nodes it covers; none means all.
	Nodes                                 []string
	Sites, Kinds, Jurisdictions, Features []string
	Listed                                bool
	// Apart, if not empty, keeps the instances of each covered node apart, over "provider", "site", "zone" or "host": no
	// one of those holds more than Most, or than half of them (rounded up) where Most is 0. Jointly counts all covered nodes
	// as one.
	Apart   string
	Most    int
	Jointly bool
	// Together, if not empty, keeps everything it covers at one "site", "zone" or "host".
	Together string
	// Weight makes a preference of the rule: what each workload that breaks it is worth per hour. 0 is a rule that must
	// hold. Preferences are of sites, or keep apart.
	Weight float64
}

func (r Rule) covers(node string) bool { return len(r.Nodes) == 0 || slices.Contains(r.Nodes, node) }

// binds reports that the rule holds for a workload: it covers it, and is not lifted for it.
func (r Rule) binds(w *Workload) bool {
	return r.covers(w.Node) && (len(w.Exempt) == 0 || !slices.Contains(w.Exempt, r.Name))
}

// ofSites reports whether the rule is one of what sites must satisfy.
func (r Rule) ofSites() bool { return r.Apart == "" && r.Together == "" }

// under is the jurisdiction of a site in words.
func under(site *estate.Site) string { return cmp.Or(site.Jurisdiction, "no jurisdiction") }

// lack says which demand of the rule the site does not meet, "" if it meets all.
func (r Rule) lack(site *estate.Site) string {
	if (r.Listed || len(r.Sites) > 0) && !slices.Contains(r.Sites, site.Name) {
		if r.Listed && r.Because != "" {
			return r.Because
		}
		return "not among its sites"
	}
	if len(r.Kinds) > 0 && !slices.Contains(r.Kinds, string(site.Kind)) {
		return fmt.Sprintf("%s, not %s", site.Kind, list(r.Kinds))
	}
	if len(r.Jurisdictions) > 0 && !slices.Contains(r.Jurisdictions, site.Jurisdiction) {
		return fmt.Sprintf("under %s, not %s", under(site), list(r.Jurisdictions))
	}
	for _, f := range r.Features {
		if !site.Has(f) {
			return "not " + f
		}
	}
	return ""
}

func list(words []string) string {
	if len(words) == 1 {
		return words[0]
	}
	return fmt.Sprintf("one of %v", words)
}

// short says in a word or two what of the rule a site does not meet.
func (r Rule) short(site *estate.Site) string {
	switch {
	case r.Short != "":
		return r.Short
	case r.Listed:
		return r.Name
	case len(r.Sites) > 0 && !slices.Contains(r.Sites, site.Name):
		return "not allowed"
	case len(r.Kinds) > 0 && !slices.Contains(r.Kinds, string(site.Kind)):
		return "not " + r.Kinds[0]
	case len(r.Jurisdictions) > 0 && !slices.Contains(r.Jurisdictions, site.Jurisdiction):
		return "under " + under(site)
	}
	return r.lack(site)
}

func because(r Rule) string {
	if r.Because == "" {
		return ""
	}
	return " (" + r.Because + ")"
}

// Allowed are the sites that no rule keeps a node from, whatever their capacity, and why it is kept from the others.
func Allowed(e *estate.Estate, rules []Rule, node string) (sites []*estate.Site, why []string) {
	for _, site := range e.Sites {
		lack := ""
		for _, r := range rules {
			if lack == "" && r.Weight == 0 && r.ofSites() && r.covers(node) {
				if lack = r.lack(site); lack != "" {
					why = append(why, fmt.Sprintf("%s: rule %s, %s", site.Name, r.Name, lack))
				}
			}
		}
		if lack == "" {
			sites = append(sites, site)
		}
	}
	return sites, why
}

// Offers reports whether a site has a size that holds the need.
func Offers(site *estate.Site, need estate.Capacity) bool {
	return len(shapes(&Workload{Need: need}, site, "")) > 0
}

// shape is a size that holds a workload at a site, with the price of its cores and memory.
type shape struct {
	name  string
	takes estate.Capacity
	price float64
	// service says that it is a service of the site's own, which takes nothing of its rooms.
	service bool
}

// shapes are the sizes at a site that hold a workload, or its own shape where the site is free-form, without those that
// another one betters in price and in everything it takes.
func shapes(w *Workload, site *estate.Site, pay estate.Payment) []shape {
	var all []shape
	if s, is := appliance(w, site); is {
		return []shape{s}
	}
	if site.FreeForm {
		p, factor := site.Prices, 1.0
		if f, ok := p.Reserved[pay]; ok {
			factor = f
		}
		all = append(all, shape{takes: w.Need, price: factor * (float64(w.Need.Cores)*p.Core + w.Need.MemoryGiB*p.Memory)})
	}
	for _, size := range site.Sizes {
		takes := estate.Capacity{Cores: size.Cores, MemoryGiB: size.MemoryGiB, DiskGiB: w.Need.DiskGiB, Extra: size.Extra}
		if takes.Fits(w.Need) {
			price, _ := size.Price(pay)
			all = append(all, shape{name: size.Name, takes: takes, price: price})
		}
	}
	var out []shape
	for i, a := range all {
		if !slices.ContainsFunc(all, func(b shape) bool { return b.betters(a) }) && !equalBefore(all[:i], a) {
			out = append(out, a)
		}
	}
	slices.SortStableFunc(out, func(a, b shape) int {
		switch {
		case a.price < b.price:
			return -1
		case a.price > b.price:
			return 1
		}
		return 0
	})
	return out
}

// appliance is a service of the site's own that takes the place of a workload, and so nothing of its rooms; false where there is none. A workload that stands there as
// an instance stays one, and one whose size somebody chose has that.
func appliance(w *Workload, site *estate.Site) (shape, bool) {
	price, has := site.Appliances[w.Appliance]
	if !has || w.Appliance == "" {
		return shape{}, false
	}
	for _, s := range []*Spot{w.Now, w.Pin} {
		if s != nil && s.Site == site.Name && s.Size != w.Appliance && (s == w.Now || s.Size != "" || w.Stays) {
			return shape{}, false
		}
	}
	return shape{name: w.Appliance, price: price, service: true}, true
}

// betters reports whether a shape is no dearer and no larger than another, and less of one of them.
func (a shape) betters(b shape) bool {
	return a.price <= b.price && b.takes.Fits(a.takes) && (a.price < b.price || !a.takes.Fits(b.takes))
}

func equalBefore(all []shape, a shape) bool {
	return slices.ContainsFunc(all, func(b shape) bool {
		return a.price == b.price && a.takes.Fits(b.takes) && b.takes.Fits(a.takes)
	})
}
