package placement

import (
	"fmt"
	"maps"
	"slices"

	"andamio/internal/core/estate"
)

// Breach is a rule, or a distance that traffic bears, that workloads do not keep to where they are.
type Breach struct {
	Rule, Because string
	// Workloads are those that break it, How says in what.
	Workloads []string
	How       string
}

// Breaches are the rules of a problem that workloads do not keep to at some places, and the distances that are too far.
// Preferences are no rules. Workloads that have no place count for nothing.
func Breaches(p Problem, at map[string]Spot) []Breach {
	var out []Breach
	for _, r := range p.Rules {
		switch {
		case r.Weight > 0:
		case r.ofSites():
			out = append(out, sitesBreached(p, r, at)...)
		case r.Apart != "":
			out = append(out, apartBreached(p, r, at)...)
		default:
			out = append(out, togetherBreached(p, r, at)...)
		}
	}
	for _, w := range p.Workloads {
		if slices.Contains(w.Forbid, at[w.Name].Site) {
			out = append(out, Breach{Rule: "forbidden", Workloads: []string{w.Name}, How: at[w.Name].Site + " was forbidden to it"})
		}
	}
	return append(out, distancesBreached(p, at)...)
}

func sitesBreached(p Problem, r Rule, at map[string]Spot) []Breach {
	var out []Breach
	for _, w := range p.Workloads {
		site := p.Estate.Site(at[w.Name].Site)
		if site == nil || !r.binds(&w) {
			continue
		}
		if lack := r.lack(site); lack != "" {
			how := site.Name
			if lack != r.Because { // that is said already
				how += ": " + lack
			}
			out = append(out, Breach{r.Name, r.Because, []string{w.Name}, how})
		}
	}
	return out
}

// scopeOf is the provider, site, zone or host of a place; "" for none.
func scopeOf(e *estate.Estate, spot Spot, scope string) string {
	site := e.Site(spot.Site)
	switch {
	case site == nil:
		return ""
	case scope == "provider":
		if site.Provider != "" {
			return site.Provider
		}
		return site.Name
	case scope == "site":
		return site.Name
	case scope == "zone":
		return site.Name + "/" + spot.Zone
	}
	return site.Name + "/" + spot.Zone + "/" + spot.Host
}

func apartBreached(p Problem, r Rule, at map[string]Spot) []Breach {
	groups := map[string][]Workload{}
	var order []string
	for _, w := range p.Workloads {
		if !r.binds(&w) || p.Estate.Site(at[w.Name].Site) == nil {
			continue
		}
		key := w.Node
		if r.Jointly {
			key = ""
		}
		if groups[key] == nil {
			order = append(order, key)
		}
		groups[key] = append(groups[key], w)
	}
	var out []Breach
	for _, key := range order {
		most := r.Most
		if most == 0 {
			most = (len(groups[key]) + 1) / 2
		}
		in := map[string][]string{}
		for _, w := range groups[key] {
			where := scopeOf(p.Estate, at[w.Name], r.Apart)
			in[where] = append(in[where], w.Name)
		}
		for _, where := range slices.Sorted(maps.Keys(in)) {
			if n := len(in[where]); n > most {
				out = append(out, Breach{r.Name, r.Because, in[where], fmt.Sprintf("%d at one %s, %s, where %d may be", n, r.Apart, where, most)})
			}
		}
	}
	return out
}

func togetherBreached(p Problem, r Rule, at map[string]Spot) []Breach {
	in := map[string][]string{}
	var all []string
	for _, w := range p.Workloads {
		if r.binds(&w) && p.Estate.Site(at[w.Name].Site) != nil {
			where := scopeOf(p.Estate, at[w.Name], r.Together)
			in[where] = append(in[where], w.Name)
			all = append(all, w.Name)
		}
	}
	if len(in) < 2 {
		return nil
	}
	return []Breach{{r.Name, r.Because, all, fmt.Sprintf("at %d of what is to be one %s", len(in), r.Together)}}
}

func distancesBreached(p Problem, at map[string]Spot) []Breach {
	var out []Breach
	for _, t := range p.Traffic {
		a, b := p.Estate.Site(at[t.From].Site), p.Estate.Site(at[t.To].Site)
		if t.MaxMs <= 0 || a == nil || b == nil || a == b {
			continue
		}
		if far, known := estate.Distance(a, b); known && far > t.MaxMs {
			out = append(out, Breach{"distance", "they talk, and must be near", []string{t.From, t.To},
				fmt.Sprintf("%g ms between %s and %s, where %g may be", far, a.Name, b.Name, t.MaxMs)})
		}
	}
	return out
}
