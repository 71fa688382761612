package placement

import (
	"cmp"
	"fmt"
	"slices"

	"andamio/internal/core/estate"
)

// room is a part of a site with one capacity: a host, or a zone that does not expose hosts.
type room struct {
	site       *estate.Site
	zone, host string
	free       estate.Capacity
}

func (r *room) key(scope string) string {
	switch scope {
	case "host":
		return r.site.Name + "/" + r.zone + "/" + r.host
	case "zone":
		return r.site.Name + "/" + r.zone
	}
	return r.site.Name
}

// option is a room with the size a workload would have there.
type option struct {
	room *room
	size string
	// take is what the size takes of the room, which may be more than the workload needs.
	take estate.Capacity
	cost float64
}

// search is the state of one depth-first search.
type search struct {
	p       Problem
	rooms   []*room
	options map[string][]option
	order   []Workload
	chosen  map[string]option
	// crowd counts the instances of a node in a room's scope; limit is the most there may be.
	crowd   map[string]int
	limit   map[string]map[string]int
	tries   int
	deepest int
}

func newSearch(p Problem) *search {
	s := &search{p: p, options: map[string][]option{}, chosen: map[string]option{}, crowd: map[string]int{},
		limit: map[string]map[string]int{}}
	for _, site := range p.Estate.Sites {
		for _, z := range site.Zones {
			if len(z.Hosts) == 0 {
				s.rooms = append(s.rooms, &room{site, z.Name, "", z.Free})
			}
			for _, h := range z.Hosts {
				s.rooms = append(s.rooms, &room{site, z.Name, h.Name, h.Free})
			}
		}
	}
	known := map[string][]option{}
	for _, w := range p.Workloads {
		key := s.likeness(w)
		if known[key] == nil {
			known[key] = s.optionsOf(w)
		}
		s.options[w.Name] = known[key]
	}
	s.order = slices.Clone(p.Workloads)
	slices.SortStableFunc(s.order, func(a, b Workload) int {
		return cmp.Or(cmp.Compare(sitesOf(s.options[a.Name]), sitesOf(s.options[b.Name])),
			cmp.Compare(b.Need.Cores, a.Need.Cores), cmp.Compare(a.Node, b.Node))
	})
	s.setLimits()
	return s
}

func sitesOf(options []option) int {
	seen := map[string]bool{}
	for _, o := range options {
		seen[o.room.site.Name] = true
	}
	return len(seen)
}

// likeness is equal for workloads that have the same options: those of one need under the same rules.
func (s *search) likeness(w Workload) string {
	key := fmt.Append(nil, w.Need, w.VolumesGiB, w.OS, w.Image, " ")
	for i, r := range s.p.Rules {
		if r.covers(w.Node) {
			key = fmt.Append(key, i, " ")
		}
	}
	return string(key)
}

// optionsOf lists every room the workload may use when all is free, cheapest first.
func (s *search) optionsOf(w Workload) []option {
	var out []option
	for _, r := range s.rooms {
		if s.excluded(w, r.site) != "" {
			continue
		}
		if o, ok := fit(w, r); ok {
			out = append(out, o)
		}
	}
	slices.SortStableFunc(out, func(a, b option) int { return cmp.Compare(a.cost, b.cost) })
	return out
}

// excluded says which rule, or which lack, keeps the workload from a site whatever its capacity; "" if nothing does.
func (s *search) excluded(w Workload, site *estate.Site) string {
	for _, r := range s.p.Rules {
		if !r.covers(w.Node) {
			continue
		}
		if lack := r.lack(site); lack != "" {
			return fmt.Sprintf("rule %s: %s", r.Name, lack)
		}
	}
	if w.Image != "" && !site.ImageNamed(w.Image) {
		return "no image " + w.Image
	}
	if w.Image == "" && site.Image(w.OS) == nil {
		return "no image with " + w.OS
	}
	if _, ok := shape(w, site); !ok {
		return fmt.Sprintf("no size with %s and %s", estate.Cores(w.Need.Cores), estate.GiB(w.Need.MemoryGiB))
	}
	return ""
}

// lack says which demand of the rule the site does not meet.
func (r Rule) lack(site *estate.Site) string {
	if len(r.Sites) > 0 && !slices.Contains(r.Sites, site.Name) {
		return "not among its sites"
	}
	if len(r.Kinds) > 0 && !slices.Contains(r.Kinds, string(site.Kind)) {
		return fmt.Sprintf("%s, not %s", site.Kind, list(r.Kinds))
	}
	if len(r.Jurisdictions) > 0 && !slices.Contains(r.Jurisdictions, site.Jurisdiction) {
		return fmt.Sprintf("under %s, not %s", site.Jurisdiction, list(r.Jurisdictions))
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

func because(r Rule) string {
	if r.Because == "" {
		return ""
	}
	return " (" + r.Because + ")"
}

// shape is the cheapest size at a site that holds the workload, or its own shape where the site is free-form.
func shape(w Workload, site *estate.Site) (estate.Size, bool) {
	best, found := estate.Size{}, false
	if site.FreeForm {
		p := site.Prices
		best = estate.Size{Cores: w.Need.Cores, MemoryGiB: w.Need.MemoryGiB,
			PricePerHour: float64(w.Need.Cores)*p.Core + w.Need.MemoryGiB*p.Memory}
		found = true
	}
	for _, size := range site.Sizes {
		if size.Cores >= w.Need.Cores && size.MemoryGiB >= w.Need.MemoryGiB && (!found || size.PricePerHour < best.PricePerHour) {
			best, found = size, true
		}
	}
	return best, found
}

// fit makes the option of a room, if the workload fits into what is free.
func fit(w Workload, r *room) (option, bool) {
	size, ok := shape(w, r.site)
	take := estate.Capacity{Cores: size.Cores, MemoryGiB: size.MemoryGiB, DiskGiB: w.Need.DiskGiB}
	if !ok || !r.free.Fits(take) {
		return option{}, false
	}
	cost := size.PricePerHour + w.Need.DiskGiB*r.site.Prices.Disk + r.site.Prices.Address
	return option{r, size.Name, take, round(cost)}, true
}

// setLimits turns rules that keep instances apart into the most that may share a place: as even as the number of
// places allows.
func (s *search) setLimits() {
	count := map[string]int{}
	for _, w := range s.p.Workloads {
		count[w.Node]++
	}
	for _, w := range s.p.Workloads {
		for _, r := range s.p.Rules {
			if r.Apart == "" || !r.covers(w.Node) {
				continue
			}
			places := map[string]bool{}
			for _, o := range s.options[w.Name] {
				places[o.room.key(r.Apart)] = true
			}
			if s.limit[w.Node] == nil {
				s.limit[w.Node] = map[string]int{}
			}
			s.limit[w.Node][r.Apart] = (count[w.Node] + max(len(places), 1) - 1) / max(len(places), 1)
		}
	}
}

// crowded says in which scope a room already holds as many of the node's instances as it may; "" if in none.
func (s *search) crowded(w Workload, r *room) string {
	for _, scope := range []string{"site", "zone", "host"} {
		if limit, ok := s.limit[w.Node][scope]; ok && s.crowd[w.Node+"|"+scope+"|"+r.key(scope)] >= limit {
			return scope
		}
	}
	return ""
}

// put places or, with sign -1, lifts a workload.
func (s *search) put(w Workload, o option, sign int) {
	if sign > 0 {
		o.room.free = o.room.free.Minus(o.take)
		s.chosen[w.Name] = o
	} else {
		o.room.free = o.room.free.Plus(o.take)
		delete(s.chosen, w.Name)
	}
	for scope := range s.limit[w.Node] {
		s.crowd[w.Node+"|"+scope+"|"+o.room.key(scope)] += sign
	}
}

// place finds places for the workloads from the i-th on.
func (s *search) place(i int) bool {
	if i == len(s.order) {
		return true
	}
	s.deepest = max(s.deepest, i)
	w := s.order[i]
	for _, o := range s.options[w.Name] {
		if s.tries++; s.tries > maxTries {
			return false
		}
		if s.crowded(w, o.room) != "" || !o.room.free.Fits(o.take) {
			continue
		}
		s.put(w, o, 1)
		if s.place(i + 1) {
			return true
		}
		s.put(w, o, -1)
	}
	return false
}
