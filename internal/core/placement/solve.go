package placement

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"

	"andamio/internal/core/fault"
)

// ErrGaveUp says that no placement was found within the effort, though one may exist.
var ErrGaveUp = fault.Refusedf("no placement was found with the effort given, though none was proven impossible; allow more time, loosen a rule or add capacity")

// Solve places the workloads. The error is [*Impossible], [ErrGaveUp], or says what is wrong with the problem.
func Solve(p Problem, o Options) (*Placement, error) {
	p = p.weighted()
	m, err := newModel(&p)
	if err != nil {
		return nil, err
	}
	f := newFinder(m, o)
	f.find()
	if f.best == nil {
		return nil, f.why()
	}
	if over := p.Budget > 0 && f.best.money() > p.Budget+slack; over {
		return p.within(f, o)
	}
	if o.Like != nil {
		f.alike(o.Like)
		f.best.resemble(o.Like)
	}
	return m.result(f, o), nil
}

// weighted is the problem with the usual weights, if it has none.
func (p Problem) weighted() Problem {
	if p.Weights == (Weights{}) {
		p.Weights = Usual
	}
	return p
}

// budgetTries is how often money is made dearer until the budget holds.
const budgetTries = 12

// within looks for a placement within the budget, by making money weigh more until it holds. The result is not proven: what
// is bought with less may be better than what is found so.
func (p Problem) within(f *finder, o Options) (*Placement, error) {
	cheapest := f.b.value
	factor := p.Weights
	for range budgetTries {
		factor.Cost = 2*factor.Cost + 0.1
		q := p
		q.Weights = factor
		m, err := newModel(&q)
		if err != nil {
			return nil, err
		}
		g := newFinder(m, o)
		if g.find(); g.best == nil {
			return nil, g.why()
		}
		if g.best.money() <= p.Budget+slack {
			return p.weighed(f, g, o)
		}
		cheapest = g.b.value / factor.Cost
	}
	return nil, &Impossible{Causes: []Cause{{Kind: CauseBudget, Text: fmt.Sprintf("the budget of %.3f %s/h", p.Budget, p.Estate.Currency)}},
		Remedies: []string{fmt.Sprintf("a budget of %.3f %s/h or more", max(cheapest, f.best.money()/2), p.Estate.Currency)}}
}

// weighed takes a placement found with other weights into the model of these.
func (p Problem) weighed(f, g *finder, o Options) (*Placement, error) {
	s := newState(f.m)
	for u := range f.m.units {
		var was []pick
		for _, w := range f.m.units[u].members {
			opt := slices.IndexFunc(f.m.classes[f.m.class[w]].opts, func(o option) bool {
				return o.site == g.best.option(w).site && o.shape.name == g.best.option(w).shape.name
			})
			was = append(was, pick{w, int32(opt), g.best.room[w]})
		}
		s.back([]int32{int32(u)}, was)
	}
	f.best, f.proven = s, false
	return f.m.result(f, o), nil
}

// finder is one search: the best found, the bound, and what may yet be spent.
type finder struct {
	m    *model
	o    Options
	rng  *rand.Rand
	b    *bound
	w    *work
	best *state
	// proven says that nothing is better than best, or without a best that there is no placement.
	proven bool
}

func newFinder(m *model, o Options) *finder {
	if o.Effort <= 0 {
		o.Effort = 1
	}
	if o.Stop == nil {
		o.Stop = func() bool { return false }
	}
	if o.Progress == nil {
		o.Progress = func(Progress) {}
	}
	return &finder{m: m, o: o, rng: rand.New(rand.NewPCG(o.Seed, 0x5eed)), b: newBound(m)}
}

// Sizes of problems from which less is tried.
const (
	fewUnits   = 12
	smallUnits = 150
	largeUnits = 1500
)

// find searches until the best is proven or the effort is spent.
func (f *finder) find() {
	n := len(f.m.units)
	if n == 0 {
		f.best, f.proven, f.b.value = newState(f.m), true, 0
		return
	}
	f.w = f.m.newWork()
	f.b.value = f.b.evaluate(f.w)
	if math.IsInf(f.b.value, 1) {
		f.proven = true
		return
	}
	f.try(0, false)
	if f.best == nil && f.hopeless() {
		f.proven = true
		return
	}
	rounds := int(180 * math.Sqrt(f.o.Effort))
	if n > largeUnits {
		rounds = int(float64(24+n/8000) * math.Sqrt(f.o.Effort)) // after warming up
	}
	if n > largeUnits && !f.done() {
		f.b.warm(f.target(), max(n/1200, 2), int(float64(112+n/500)*math.Sqrt(f.o.Effort)), f.o.Stop)
		f.b.value = math.Inf(-1) // what the prices are worth for all is still to be seen
	}
	for attempt := 0; attempt < 2 && !f.done(); attempt++ {
		f.w = f.b.raise(f.target(), rounds, f.o.Stop)
		f.tell("bound")
		if f.done() {
			return
		}
		f.try(float64(attempt)*0.5, f.best == nil)
		if n > largeUnits {
			break
		}
	}
	for attempt := 0; attempt < 6 && f.best == nil && !f.o.Stop(); attempt++ {
		f.try(0.5+float64(attempt)*0.5, true)
	}
	if n <= smallUnits {
		f.proveSmall(f.nodes() / 20)
	}
	f.improve(int(f.o.Effort * float64(rebuilds(n))))
	if n <= smallUnits && !f.done() {
		f.w = f.b.raise(f.target(), rounds/2, f.o.Stop)
		f.proveSmall(f.nodes())
	}
}

// nodes is how many nodes a proof may visit: so many that it takes about as long for any size, and few where the bound is far
// from what was found, so that a proof is not to be hoped for. Of a few units all there is can nearly always be seen: in a
// second or two at the worst, where rooms are so tight that prices say little of them.
func (f *finder) nodes() int {
	if len(f.m.units) <= fewUnits {
		return int(f.o.Effort * 4e6)
	}
	n := f.o.Effort * 2e6 / float64(len(f.m.units)*len(f.m.sites))
	if f.best != nil {
		if gap := (f.best.objective - f.b.value) / max(f.best.objective, 1e-9); gap > 0.005 {
			n *= max(0.005/gap, 0.05)
		}
	}
	return int(n)
}

// rebuilds is how many parts are rebuilt at the usual effort.
func rebuilds(units int) int {
	if units > largeUnits {
		return largeUnits
	}
	return 600 + 34*units
}

// hopeless reports whether the rules, capacities and distances alone are shown to leave no placement: without any cost, the
// bound of a placement cannot be above nothing.
func (f *finder) hopeless() bool {
	q := f.m.p.bare()
	m, err := newModel(&q)
	if err != nil {
		return false
	}
	b := newBound(m)
	b.raise(1, 240, f.o.Stop)
	return b.value > 1e-6
}

// bare is the problem with only what must be, and nothing that costs.
func (p Problem) bare() Problem {
	q := p
	q.Budget, q.Weights, q.Traffic, q.Rules = 0, Weights{}, nil, nil
	for _, r := range p.Rules {
		if r.Weight == 0 {
			q.Rules = append(q.Rules, r)
		}
	}
	for _, t := range p.Traffic {
		if t.MaxMs > 0 {
			t.GiB, t.BackGiB = 0, 0
			q.Traffic = append(q.Traffic, t)
		}
	}
	return q
}

// done reports whether there is nothing more to find.
func (f *finder) done() bool {
	if f.best != nil && f.b.value >= f.best.objective-1e-7*max(1, math.Abs(f.best.objective)) {
		f.proven = true
	}
	return f.proven || f.o.Stop()
}

// target is what the bound is raised towards.
func (f *finder) target() float64 {
	if f.best != nil {
		return f.best.objective
	}
	return f.b.value + 0.1*math.Abs(f.b.value) + 1
}

func (f *finder) tell(phase string) {
	p := Progress{Phase: phase, Bound: f.b.value}
	if f.best != nil {
		p.Objective = f.best.objective
	}
	f.o.Progress(p)
}

// try constructs a placement along the present prices, settles it, and keeps it if it is the best; squeezing, others are moved
// for what found no room.
func (f *finder) try(shake float64, squeeze bool) {
	s := construct(f.m, f.w, f.rng, shake, squeeze)
	if !s.whole() {
		return
	}
	if s.objective > f.b.value+1e-9 {
		large := len(f.m.units) > largeUnits
		s.settleDown(4, false, f.rng, f.o.Stop)
		if !large {
			s.settleDown(20, true, f.rng, f.o.Stop)
		}
		f.tell("settled")
	}
	f.offer(s)
	f.tell("construct")
}

func (f *finder) offer(s *state) {
	if s != nil && (f.best == nil || s.objective < f.best.objective-gain) {
		f.best = s
	}
}

// proveSmall looks for something better, or for the proof that there is nothing, within a number of nodes.
func (f *finder) proveSmall(nodes int) {
	if f.done() {
		return
	}
	if f.best != nil {
		f.b.exclude(f.w, f.best.objective)
	}
	best, all := prove(f.b, f.w, f.best, nodes, f.o.Stop)
	f.best = best
	if all {
		f.proven = true
		if best != nil {
			f.b.value = best.objective
		}
	}
	f.tell("proof")
}

// improve betters the best by rebuilding parts of it.
func (f *finder) improve(times int) {
	if f.best == nil || f.done() {
		return
	}
	n := len(f.m.units)
	if n <= largeUnits {
		f.best.clone().walk(f.w, times, f.rng, func() bool { return f.done() }, func(s *state) {
			f.best = s.clone()
			f.tell("improve")
		})
		return
	}
	s := f.best
	p := s.planter(nil, 0, f.rng)
	for range max(times/largeUnits, 1) {
		for k, i := range f.rng.Perm(len(f.m.forest.trees)) {
			if k%16 == 0 && f.done() {
				return
			}
			s.replant(p, f.m.forest.trees[i])
		}
		f.tell("improve")
	}
}
