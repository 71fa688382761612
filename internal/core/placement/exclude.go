package placement

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/estate"
)

// exclusion is why a workload may not be at a site whatever its capacity. Rule is the rule's name, "" for a lack of the
// site itself; short is it in a word or two.
type exclusion struct{ rule, text, short string }

// excluded reports whether anything keeps a workload from a site whatever its capacity.
func (m *model) excluded(w *Workload, s int) bool { return len(m.exclusions(w, s, true)) > 0 }

// exclusions lists everything that keeps a workload from a site whatever its capacity; the first only, if that will do.
func (m *model) exclusions(w *Workload, s int, first bool) []exclusion {
	site := m.sites[s]
	var out []exclusion
	if w.Pin != nil && w.Pin.Site != "" && w.Pin.Site != site.Name {
		if w.Stays {
			out = append(out, exclusion{"", "it stands at " + w.Pin.Site, "stands"})
		} else {
			out = append(out, exclusion{"", "pinned to " + w.Pin.Site, "pinned"})
		}
	}
	if slices.Contains(w.Forbid, site.Name) {
		out = append(out, exclusion{"", "forbidden by hand", "forbidden"})
	}
	for _, id := range m.ruleIDs[w.Node] {
		r := &m.p.Rules[id]
		if r.Weight > 0 || !r.ofSites() || !r.binds(w) {
			continue
		}
		if first && len(out) > 0 {
			return out
		}
		if lack := r.lack(site); lack != "" {
			out = append(out, exclusion{r.Name, fmt.Sprintf("rule %s: %s", r.Name, lack), r.short(site)})
		}
	}
	for _, e := range w.Ends {
		out = append(out, m.tooFar(e, s)...)
	}
	return append(out, lacks(w, site)...)
}

// tooFar says whether a site is too far from a fixed end.
func (m *model) tooFar(e End, s int) []exclusion {
	end := m.siteNamed(e.Site)
	if end < 0 || e.MaxMs <= 0 {
		return nil
	}
	ms := m.ms[s*len(m.sites)+end]
	if ms >= 0 && ms <= e.MaxMs+slack {
		return nil
	}
	if ms < 0 {
		return []exclusion{{"", fmt.Sprintf("how far it is from %s is not known, and it must be within %g ms", e.Site, e.MaxMs), "far?"}}
	}
	return []exclusion{{"", fmt.Sprintf("%g ms from %s, and it must be within %g ms", ms, e.Site, e.MaxMs), fmt.Sprintf("%g ms", ms)}}
}

// system is what system a workload needs, in words.
func (w *Workload) system() string {
	if release := w.Release.String(); release != "" {
		return strings.TrimSpace(w.OS + " (" + release + ")")
	}
	return w.OS
}

// lacks is what a site does not offer that a workload needs.
func lacks(w *Workload, site *estate.Site) []exclusion {
	var out []exclusion
	add := func(short, format string, args ...any) {
		out = append(out, exclusion{"", fmt.Sprintf(format, args...), short})
	}
	switch {
	case w.Image != "" && !site.ImageNamed(w.Image):
		add("no image", "no image %s", w.Image)
	case w.Image != "" || site.Image(w.OS, w.Release, w.Capabilities...) != nil:
	case site.Image(w.OS, w.Release) != nil:
		add("no image", "no image of %s with %s", w.system(), list(w.Capabilities))
	default:
		add("no image", "no image with %s", w.system())
	}
	if _, ok := site.DiskPrice(w.Storage); !ok {
		add("no "+w.Storage, "no storage class %s", w.Storage)
	}
	if len(shapes(w, site, "")) == 0 {
		add("no size", "no size with %s and %s", estate.Cores(w.Need.Cores), estate.GiB(w.Need.MemoryGiB))
	}
	return out
}
