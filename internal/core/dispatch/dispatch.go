// Package dispatch decides which step of a plan begins when: as many at once as the plan and the limits allow, the step
// first whose remaining path is the longest, all that waits for it included.
//
// In go a plan, limits, and word of how steps ended; out come the steps to begin. The engine runs by it and the
// rehearsal imagines by it, so that what is rehearsed is what will be done. It knows no clock and is not safe for use
// from several goroutines.
package dispatch

import (
	"math/bits"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
)

// Limits bounds how much happens at once; 0 is no bound.
type Limits struct {
	// Steps is for the whole run, PerSite for each site that Sites does not name, Kinds for each kind of resource at
	// each site.
	Steps   int                `json:"steps,omitempty"`
	PerSite int                `json:"per_site,omitempty"`
	Sites   map[string]int     `json:"sites,omitempty"`
	Kinds   map[kinds.Kind]int `json:"kinds,omitempty"`
}

// Default suits sites that take requests in parallel.
var Default = Limits{Steps: 64, PerSite: 24}

// class is what limits are counted by. Patient steps are those that wait for a person, for a window, or for others like
// them: they count for no limit, or they would keep out what they wait for.
type class struct {
	site    string
	kind    kinds.Kind
	patient bool
}

func classOf(p *plan.Plan, s *plan.Step) class {
	return class{s.Site, p.Resource(s.Resource).Kind, s.Op.Waits()}
}

// bound is what holds for a class: at which of the dispatcher's sites it is counted, and how many may be under way there
// and of the class; 0 is no bound.
type bound struct {
	patient          bool
	site             int32
	mostSite, mostOf int
}

// step is what the dispatcher knows of a step.
type step struct {
	// class is a place among the dispatcher's bounds: rehearsals ask for it millions of times.
	class int32
	// remaining is the least expected time from the step's beginning to the end of the plan, in seconds.
	remaining float64
	waits     int
	after     []int32
	onFailure []int32
	called    bool
}

// Dispatcher holds the steps of one run.
type Dispatcher struct {
	plan   *plan.Plan
	limits Limits
	steps  []step
	// bounds, ready and ofClass are by class, atSite is by site.
	bounds  []bound
	ready   []queue
	ofClass []int
	atSite  []int
	// running is how many steps are under way that count, patient how many that do not.
	running, patient int
}

// New prepares a plan. Steps that were done before are not begun, nor are those that failed before.
func New(p *plan.Plan, l Limits, done, failed func(i int) bool) *Dispatcher {
	d := &Dispatcher{plan: p, limits: l, steps: make([]step, len(p.Steps))}
	d.classify()
	at := make(map[string]int32, len(p.Steps))
	for i := range p.Steps {
		at[p.Steps[i].ID] = int32(i)
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		for _, a := range s.After {
			if b := at[a]; !done(int(b)) {
				d.steps[i].waits++
				d.steps[b].after = append(d.steps[b].after, int32(i))
			}
		}
		for _, f := range s.AfterFailure {
			d.steps[at[f]].onFailure = append(d.steps[at[f]].onFailure, int32(i))
		}
		if len(s.AfterFailure) > 0 {
			d.steps[i].waits++ // for the failure
		}
	}
	d.remain()
	for i := range d.steps {
		if d.steps[i].waits == 0 && !done(i) && !failed(i) {
			d.push(int32(i))
		}
	}
	for i := range d.steps {
		if failed(i) {
			d.fell(i, done)
		}
	}
	return d
}

// classify gives each step its class, and each class its bound.
func (d *Dispatcher) classify() {
	classes, sites := map[class]int32{}, map[string]int32{}
	for i := range d.plan.Steps {
		c := classOf(d.plan, &d.plan.Steps[i])
		at, known := classes[c]
		if !known {
			site, known := sites[c.site]
			if !known {
				site = int32(len(sites))
				sites[c.site] = site
			}
			at = int32(len(classes))
			classes[c] = at
			d.bounds = append(d.bounds, bound{c.patient, site, d.limits.at(c.site), d.limits.Kinds[c.kind]})
		}
		d.steps[i].class = at
	}
	d.queues()
	d.ofClass, d.atSite = make([]int, len(classes)), make([]int, len(sites))
}

// queues makes an empty queue for each class.
func (d *Dispatcher) queues() {
	d.ready = make([]queue, len(d.bounds))
	for c := range d.ready {
		d.ready[c].Before = d.before
	}
}

// at is how many steps may be under way at a site.
func (l Limits) at(site string) int {
	if most, named := l.Sites[site]; named {
		return most
	}
	return l.PerSite
}

// remain works out for each step how long it takes from its beginning to the end of the plan at least: the longest path
// that begins with it, or, where only so many may go on at once, its own time and all the work that waits for it shared
// among them. The latter lets what much waits for, such as a network, go before what is merely long. Steps are sorted by
// level.
func (d *Dispatcher) remain() {
	over := d.workOver()
	for i := len(d.steps) - 1; i >= 0; i-- {
		s := &d.steps[i]
		for _, list := range [2][]int32{s.after, s.onFailure} {
			for _, a := range list {
				s.remaining = max(s.remaining, d.steps[a].remaining)
			}
		}
		if over != nil {
			s.remaining = max(s.remaining, over[i]/float64(d.limits.Steps))
		}
		s.remaining += d.plan.Steps[i].Seconds
	}
}

// mostCounted is up to how many steps the work over each is counted; the sets take memory in the square of it.
const mostCounted = 12_000

// workOver is how many seconds of work wait, directly or through others, for each step; nil where nothing bounds how much
// goes on at once, or there are too many steps.
func (d *Dispatcher) workOver() []float64 {
	n := len(d.steps)
	if d.limits.Steps == 0 || n > mostCounted {
		return nil
	}
	words := (n + 63) / 64
	sets := make([]uint64, n*words)
	out := make([]float64, n)
	for i := n - 1; i >= 0; i-- {
		set := sets[i*words : (i+1)*words]
		for _, a := range d.steps[i].after {
			set[a/64] |= 1 << (a % 64)
			for w, word := range sets[int(a)*words : (int(a)+1)*words] {
				set[w] |= word
			}
		}
		for w, word := range set {
			for ; word != 0; word &= word - 1 {
				out[i] += d.plan.Steps[w*64+bits.TrailingZeros64(word)].Seconds
			}
		}
	}
	return out
}

func (d *Dispatcher) push(i int32) { d.ready[d.steps[i].class].Push(i) }

// Next is the place in the plan of a step to begin now; false if none may.
func (d *Dispatcher) Next() (int, bool) {
	full := d.limits.Steps > 0 && d.running >= d.limits.Steps
	var best *queue
	for c := range d.ready {
		q := &d.ready[c]
		if q.Len() == 0 || !d.bounds[c].patient && (full || !d.room(c)) {
			continue
		}
		if best == nil || d.before(q.Items[0], best.Items[0]) {
			best = q
		}
	}
	if best == nil {
		return 0, false
	}
	i := best.Pop()
	d.count(int(i), 1)
	return int(i), true
}

// count counts a step that begins, or with -1 ends.
func (d *Dispatcher) count(i, by int) {
	c := d.steps[i].class
	if d.bounds[c].patient {
		d.patient += by
		return
	}
	d.running += by
	d.atSite[d.bounds[c].site] += by
	d.ofClass[c] += by
}

// room reports that the limits of a class and its site are not met.
func (d *Dispatcher) room(c int) bool {
	b := &d.bounds[c]
	return (b.mostSite <= 0 || d.atSite[b.site] < b.mostSite) && (b.mostOf == 0 || d.ofClass[c] < b.mostOf)
}

// before orders steps: the longer remaining path first, then as the plan has them.
func (d *Dispatcher) before(a, b int32) bool {
	x, y := d.steps[a].remaining, d.steps[b].remaining
	if x != y {
		return x > y
	}
	return a < b
}

// Running is how many steps are under way.
func (d *Dispatcher) Running() int { return d.running + d.patient }

func (d *Dispatcher) end(i int) { d.count(i, -1) }

// Done says that a step that was begun is done, or was not needed, and frees what waited for it.
func (d *Dispatcher) Done(i int) {
	d.end(i)
	d.free(d.steps[i].after)
}

// Failed says that a step that was begun has failed: what waits for it is held, and what its failure calls for is freed.
func (d *Dispatcher) Failed(i int) {
	d.end(i)
	d.fell(i, func(int) bool { return false })
}

// fell frees what a failure calls for, unless it was done before.
func (d *Dispatcher) fell(i int, done func(i int) bool) {
	for _, f := range d.steps[i].onFailure {
		if s := &d.steps[f]; !s.called && !done(int(f)) {
			s.called = true
			d.free([]int32{f})
		}
	}
}

// Again makes a step that failed ready once more. Skip frees what waits for it without it.
func (d *Dispatcher) Again(i int) { d.push(int32(i)) }
func (d *Dispatcher) Skip(i int)  { d.free(d.steps[i].after) }

func (d *Dispatcher) free(list []int32) {
	for _, next := range list {
		if d.steps[next].waits--; d.steps[next].waits == 0 {
			d.push(next)
		}
	}
}

// Needless are steps that no failure called for, and those that follow them alone, in the plan's order; call it when
// nothing is under way.
func (d *Dispatcher) Needless() []int {
	var out []int
	needless := map[string]bool{}
	for i := range d.plan.Steps {
		s := &d.plan.Steps[i]
		follows := false
		for _, a := range s.After {
			follows = follows || needless[a]
		}
		if d.steps[i].waits == 0 || !follows && (len(s.AfterFailure) == 0 || d.steps[i].called) {
			continue
		}
		needless[s.ID] = true
		out = append(out, i)
	}
	return out
}

// queue holds the ready steps of one class, the one to begin first on top.
type queue struct{ Heap[int32] }

// Fork makes into a dispatcher in the same state that goes on by itself, and returns it; nil makes a new one. What into
// has of memory is used again: a rehearsal forks hundreds of times.
func (d *Dispatcher) Fork(into *Dispatcher) *Dispatcher {
	if into == nil {
		into = &Dispatcher{plan: d.plan, limits: d.limits, bounds: d.bounds}
		into.queues()
	}
	into.steps = append(into.steps[:0], d.steps...)
	into.atSite, into.ofClass = append(into.atSite[:0], d.atSite...), append(into.ofClass[:0], d.ofClass...)
	into.running, into.patient = d.running, d.patient
	for c := range d.ready {
		into.ready[c].Items = append(into.ready[c].Items[:0], d.ready[c].Items...)
	}
	return into
}
