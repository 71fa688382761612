package placement

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
)

// CauseKind is what a cause is.
type CauseKind string

// The kinds of cause. A need is what a workload asks of a site, such as an image.
const (
	CauseRule     CauseKind = "rule"
	CauseCapacity CauseKind = "capacity"
	CauseQuota    CauseKind = "quota"
	CausePin      CauseKind = "pin"
	CauseNeed     CauseKind = "need"
	CauseDistance CauseKind = "distance"
	CauseBudget   CauseKind = "budget"
)

// Cause is a rule, a capacity or the like that has a part in there being no placement. Name is the rule's or the site's.
type Cause struct {
	Kind CauseKind
	Name string
	Text string
}

// Impossible is the error for a problem without a placement.
type Impossible struct {
	// Workloads cannot all be placed, though any fewer of them can; Causes are what together forbids it, and nothing less
	// does. Remedies each make it possible alone.
	Workloads []string
	Causes    []Cause
	Remedies  []string
	// Verdicts judges the first of them at every site, as if the others were not there.
	Verdicts []Verdict
}

// Code is the class of the error: nothing that is there now can hold it.
func (e *Impossible) Code() fault.Code { return fault.Refused }

func (e *Impossible) Error() string {
	var lines []string
	switch {
	case len(e.Workloads) == 1:
		lines = append(lines, fmt.Sprintf("there is no place for %s:", e.Workloads[0]))
	case len(e.Workloads) > 6:
		lines = append(lines, fmt.Sprintf("there is no place for %d workloads together, %s, …:", len(e.Workloads), strings.Join(e.Workloads[:6], ", ")))
	case len(e.Workloads) > 1:
		lines = append(lines, fmt.Sprintf("there is no place for these together: %s:", strings.Join(e.Workloads, ", ")))
	default:
		lines = append(lines, "there is no such placement:")
	}
	if len(e.Workloads) == 1 {
		for _, v := range e.Verdicts {
			lines = append(lines, fmt.Sprintf("  %s: %s", v.Site, v.Reason))
		}
	}
	if len(e.Causes) > 0 {
		lines = append(lines, "what forbids it, all of it needed:")
		for _, c := range e.Causes {
			lines = append(lines, "  "+c.Text)
		}
	}
	if len(e.Remedies) > 0 {
		lines = append(lines, "any of these would make it possible:")
		for _, r := range e.Remedies {
			lines = append(lines, "  "+r)
		}
	}
	return strings.Join(lines, "\n")
}

// why explains a search that found nothing.
func (f *finder) why() error {
	if !f.proven {
		return ErrGaveUp
	}
	d := &diagnosis{p: *f.m.p, o: f.o, rng: rand.New(rand.NewPCG(f.o.Seed, 3))}
	return d.explain(f.m)
}

// diagnosis finds the smallest part of a problem that is impossible, and what would make it possible, by solving parts of it.
type diagnosis struct {
	p     Problem
	o     Options
	rng   *rand.Rand
	tests int
}

// causes are all that may have a part in it.
func (d *diagnosis) causes(m *model) []Cause {
	var out []Cause
	for _, r := range d.p.Rules {
		if r.Weight == 0 {
			out = append(out, Cause{CauseRule, r.Name, "rule " + r.Name + because(r)})
		}
	}
	pinned, stays, near := false, false, false
	for _, w := range d.p.Workloads {
		pinned = pinned || w.Pin != nil && !w.Stays || len(w.Forbid) > 0
		stays = stays || w.Pin != nil && w.Stays
		near = near || slices.ContainsFunc(w.Ends, func(e End) bool { return e.MaxMs > 0 })
	}
	switch {
	case pinned && stays:
		out = append(out, Cause{CausePin, "", "what is pinned or forbidden by hand, and what stands where it is"})
	case pinned:
		out = append(out, Cause{CausePin, "", "what is pinned or forbidden by hand"})
	case stays:
		out = append(out, Cause{CausePin, "", "what stands where it is"})
	}
	for _, t := range d.p.Traffic {
		near = near || t.MaxMs > 0
	}
	if near {
		out = append(out, Cause{CauseDistance, "", "how near to each other some must be"})
	}
	for i, s := range m.sites {
		if free, all := s.Addresses(); len(s.Quotas) > 0 || all > 0 {
			text := "the account's quota at " + s.Name
			if len(s.Quotas) == 0 {
				text = fmt.Sprintf("the %d free addresses of %s", free, s.Name)
			}
			out = append(out, Cause{CauseQuota, s.Name, text})
		}
		var free estate.Capacity
		for _, r := range m.roomsOf[i] {
			free = free.Plus(m.rooms[r].info.Free)
		}
		places := "in one place"
		if n := len(m.roomsOf[i]); n > 1 {
			places = fmt.Sprintf("in %d places", n)
		}
		out = append(out, Cause{CauseCapacity, s.Name, fmt.Sprintf("the capacity of %s: %s free %s", s.Name, free, places)})
	}
	return out
}

// boundless is room for anything.
var boundless = estate.Capacity{Cores: 1 << 30, MemoryGiB: 1 << 40, DiskGiB: 1 << 40}

// without is a problem of some workloads with only some causes left.
func (d *diagnosis) without(workloads []Workload, keep []Cause) Problem {
	has := func(kind CauseKind, name string) bool {
		return slices.ContainsFunc(keep, func(c Cause) bool { return c.Kind == kind && c.Name == name })
	}
	q := d.p
	q.Budget, q.Weights, q.Traffic, q.Rules, q.Workloads = 0, Weights{}, nil, nil, nil
	names := map[string]bool{}
	for _, w := range workloads {
		names[w.Name] = true
		if !has(CausePin, "") {
			w.Pin, w.Forbid = nil, nil
		}
		if !has(CauseDistance, "") {
			w.Ends = nil
		}
		q.Workloads = append(q.Workloads, w)
	}
	for _, r := range d.p.Rules {
		if r.Weight == 0 && has(CauseRule, r.Name) {
			if r.Apart != "" && r.Most == 0 { // half is half of all, not of those that are looked at
				r.Most = (d.count(r) + 1) / 2
			}
			q.Rules = append(q.Rules, r)
		}
	}
	for _, t := range d.p.Traffic {
		if names[t.From] && names[t.To] && t.MaxMs > 0 && has(CauseDistance, "") {
			q.Traffic = append(q.Traffic, t)
		}
	}
	e := *d.p.Estate
	e.Sites = nil
	for _, s := range d.p.Estate.Sites {
		own := *s
		if !has(CauseQuota, s.Name) {
			own.Quotas, own.Networks = nil, nil
		}
		if !has(CauseCapacity, s.Name) {
			own = roomy(own)
		}
		e.Sites = append(e.Sites, &own)
	}
	q.Estate = &e
	return q
}

// count is how many instances of a node a rule covers at most.
func (d *diagnosis) count(r Rule) int {
	n, most := map[string]int{}, 0
	for _, w := range d.p.Workloads {
		if r.binds(&w) {
			key := w.Node
			if r.Jointly {
				key = ""
			}
			n[key]++
			most = max(most, n[key])
		}
	}
	return most
}

// roomy is a site whose every room holds anything.
func roomy(s estate.Site) estate.Site {
	var zones []estate.Zone
	for _, z := range s.Zones {
		z.Free, z.Total = boundless, estate.Capacity{}
		z.Hosts = slices.Clone(z.Hosts)
		for i := range z.Hosts {
			z.Hosts[i].Free, z.Hosts[i].Total = boundless, estate.Capacity{}
		}
		zones = append(zones, z)
	}
	s.Zones = zones
	return s
}

// judge says of a problem whether a placement was found, and whether it is proven that there is none; neither, if it cannot
// tell soon.
func (d *diagnosis) judge(q Problem) (possible, impossible bool) {
	if d.tests--; d.tests < 0 || d.o.Stop() {
		return false, false
	}
	m, err := newModel(&q)
	if err != nil {
		return false, false
	}
	f := newFinder(m, d.o)
	if f.w = m.newWork(); len(m.units) > 0 && math.IsInf(f.b.evaluate(f.w), 1) {
		return false, true
	}
	for _, squeeze := range []bool{false, true} {
		if construct(m, f.w, f.rng, 0, squeeze).whole() {
			return true, false
		}
		if !squeeze && f.hopeless() {
			return false, true
		}
	}
	if len(m.units) > smallUnits {
		return false, false
	}
	f.b.value = f.b.evaluate(f.w)
	best, all := prove(f.b, f.w, nil, judgeNodes, f.o.Stop)
	return best != nil, best == nil && all
}

// judgeNodes is how many nodes are visited to judge one problem.
const judgeNodes = 3000

func (d *diagnosis) impossible(q Problem) bool { _, no := d.judge(q); return no }
func (d *diagnosis) possible(q Problem) bool   { yes, _ := d.judge(q); return yes }

func (d *diagnosis) explain(m *model) error {
	all := d.causes(m)
	d.tests = testsAPart
	few := d.homeless(m)
	if few == nil {
		few = d.workloads(all)
	}
	d.tests = testsAPart
	causes := d.fewest(few, all)
	d.tests = testsAPart
	out := &Impossible{}
	for _, w := range few {
		out.Workloads = append(out.Workloads, w.Name)
	}
	// A need that no site meets has no cause but itself.
	for _, w := range few {
		if len(causes) == 0 {
			causes = append(causes, Cause{CauseNeed, w.Name, "what " + w.Name + " needs: " + needs(&w)})
			break
		}
	}
	out.Causes, out.Remedies = causes, d.remedies(few, causes, all)
	if s := newState(m); len(few) == 1 {
		w := m.workload[few[0].Name]
		for i, site := range m.sites {
			v := s.verdict(w, int32(i), 0)
			if v.Fits { // by itself it fits: together with what it must be with it does not
				v = Verdict{Reason: "fits by itself"}
			}
			v.Site = site.Name
			out.Verdicts = append(out.Verdicts, v)
		}
	}
	return out
}

func needs(w *Workload) string {
	text := w.Need.String()
	if w.Image != "" {
		text += ", image " + w.Image
	} else if system := w.system(); system != "" {
		text += ", " + system
	}
	if w.Storage != "" {
		text += ", storage class " + w.Storage
	}
	return text
}

// tooLarge says that no room of a site holds a workload even when nothing else is placed.
func (s *state) tooLarge(w, site int32) Verdict {
	m := s.m
	var most estate.Capacity
	for _, r := range m.roomsOf[site] {
		if free := m.rooms[r].info.Free; free.Cores >= most.Cores {
			most = free
		}
	}
	return Verdict{Reason: fmt.Sprintf("full: at most %s in one place, needs %s", most, m.p.Workloads[w].Need), Short: "full"}
}

// homeless is the first workload that no site could take though there were no others; none is nil. What is wrong with it alone is said before what is wrong with
// several together.
func (d *diagnosis) homeless(m *model) []Workload {
	for w := range d.p.Workloads {
		if c := m.classes[m.class[w]]; c.lo[0] == c.lo[len(m.sites)] {
			return d.p.Workloads[w : w+1]
		}
	}
	return nil
}

// workloads takes away as many workloads as can be, in ever smaller parts, so that what is left is still impossible.
func (d *diagnosis) workloads(all []Cause) []Workload {
	few := slices.Clone(d.p.Workloads)
	for size := (len(few) + 1) / 2; size >= 1; size /= 2 {
		for from := 0; from < len(few) && len(few) > 1; {
			to := min(from+size, len(few))
			less := append(slices.Clone(few[:from]), few[to:]...)
			if len(less) > 0 && d.impossible(d.without(less, all)) {
				few = less
			} else {
				from = to
			}
		}
	}
	return few
}

// testsAPart is how many problems are judged for each part of a diagnosis.
const testsAPart = 120

// orders is in how many orders causes are taken away, in search of the smallest set.
const orders = 3

// fewest takes away causes as long as the rest is impossible, in several orders, and returns the smallest rest.
func (d *diagnosis) fewest(few []Workload, all []Cause) []Cause {
	var best []Cause
	for order := range orders {
		left := slices.Clone(all)
		if order > 0 {
			d.rng.Shuffle(len(left), func(i, k int) { left[i], left[k] = left[k], left[i] })
		}
		for i := 0; i < len(left); {
			less := append(slices.Clone(left[:i]), left[i+1:]...)
			if d.impossible(d.without(few, less)) {
				left = less
			} else {
				i++
			}
		}
		if best == nil || len(left) < len(best) {
			best = left
		}
	}
	return best
}

// remedies are what makes the whole possible alone: doing without one of the causes, or so much more capacity.
func (d *diagnosis) remedies(few []Workload, causes, all []Cause) []string {
	var out []string
	for i, c := range all {
		without := append(slices.Clone(all[:i]), all[i+1:]...)
		if c.Kind == CauseCapacity {
			if more := d.more(few, c.Name, all); more != "" {
				out = append(out, more)
			}
			continue
		}
		if slices.Contains(causes, c) && d.possible(d.without(d.p.Workloads, without)) {
			out = append(out, "without "+c.Text)
		}
	}
	return out
}

// more is by how much a site must grow to make the whole possible: a room for one of the workloads, or two, and so on; "" if
// that does not help.
func (d *diagnosis) more(few []Workload, site string, all []Cause) string {
	q := d.without(d.p.Workloads, all)
	i := slices.IndexFunc(q.Estate.Sites, func(s *estate.Site) bool { return s.Name == site })
	few = slices.Clone(few)
	slices.SortStableFunc(few, func(a, b Workload) int { return a.Need.Cores - b.Need.Cores })
	var sums []estate.Capacity
	var extra estate.Capacity
	for _, w := range few {
		takes := w.Need
		if z := shapes(&w, q.Estate.Sites[i], ""); len(z) > 0 {
			takes = z[0].takes
		}
		extra = extra.Plus(takes)
		sums = append(sums, extra)
	}
	helps := func(k int) bool { return d.possible(grown(q, i, sums[k])) }
	if !helps(len(sums) - 1) {
		return ""
	}
	return fmt.Sprintf("%s more at %s, in one place", sums[sort.Search(len(sums)-1, helps)], site)
}

// grown is a problem with one more host at a site, or with more in its first zone where it exposes none.
func grown(q Problem, i int, extra estate.Capacity) Problem {
	site := *q.Estate.Sites[i]
	site.Zones = slices.Clone(site.Zones)
	z := &site.Zones[0]
	if len(z.Hosts) == 0 {
		z.Free, z.Total = z.Free.Plus(extra), estate.Capacity{}
	} else {
		z.Hosts = append(slices.Clone(z.Hosts), estate.Host{Name: "one more", Free: extra})
	}
	e := *q.Estate
	e.Sites = slices.Clone(e.Sites)
	e.Sites[i] = &site
	q.Estate = &e
	return q
}
