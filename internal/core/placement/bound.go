package placement

import (
	"math"
	"sync"
)

// bound is a lower bound of the objective, and the prices that it comes from.
//
// Capacities of sites and the limits of groups are relaxed: using them has a price instead (lambda, mu), and what there is
// of them is paid back. Then every tree of units that talk to one another may choose for itself, and the best choice for a
// tree is found exactly: the bound is the sum of what each finds cheapest, less what is paid back (Geoffrion, Lagrangean
// relaxation for integer programming, 1974). Traffic that would close a circle becomes a choice of its own, whose ends are
// made to agree with the units' by prices too (msg).
type bound struct {
	m      *model
	value  float64
	trees  [][]int32   // those that choose; all, but for a sample
	caps   []float64   // what there is for them, by site and dimension
	lambda []float64   // by site and dimension, for the whole of the capacity
	mu     [][]float64 // by group and place, for the whole of the limit; nil where the limit cannot bind
	limit  [][]float64 // what of a group the places may hold
	msg    []float64   // by edge that closes a circle, side and site
	trend  []float64   // the direction in which the prices moved last
	out    []bool      // by unit and site: proven not to be in any better placement
}

// work is what one evaluation fills in.
type work struct {
	adj   []float64  // by class and site: the least of its options there at the prices
	best  []int32    // the option that is it
	theta []float64  // by unit and site: what it pays itself
	h, up []float64  // by unit and site: what it pays with all below it, and what that is seen from above
	pick  []int32    // by unit: the site it would choose
	meet  [][2]int32 // by edge that closes a circle: the sites that it would choose
	used  []float64  // by site and dimension
	held  [][]float64
}

func newBound(m *model) *bound {
	b := &bound{m: m, trees: m.forest.trees, caps: m.caps, lambda: make([]float64, len(m.sites)*len(m.dims)), mu: make([][]float64, len(m.groups)),
		limit: make([][]float64, len(m.groups)), msg: make([]float64, 2*len(m.forest.cross)*len(m.sites)), value: math.Inf(-1)}
	for g := range m.groups {
		b.limit[g] = m.limits(&m.groups[g])
		if b.limit[g] != nil {
			b.mu[g] = make([]float64, len(b.limit[g]))
		}
	}
	return b
}

// limits is how many of a group the sites (or providers) may hold; nil where that is no limit.
func (m *model) limits(g *group) []float64 {
	if g.scope == perProvider {
		out := make([]float64, len(m.providers))
		for i := range out {
			out[i] = float64(g.most)
		}
		return out
	}
	out, binds := make([]float64, len(m.sites)), false
	for s := range out {
		places := 1
		switch g.scope {
		case perHost:
			places = len(m.roomsOf[s])
		case perZone:
			seen := map[int32]bool{}
			for _, r := range m.roomsOf[s] {
				seen[m.rooms[r].zone] = true
			}
			places = len(seen)
		}
		out[s] = float64(g.most * places)
		binds = binds || int(out[s]) < len(g.members)
	}
	if !binds {
		return nil
	}
	return out
}

func (m *model) newWork() *work {
	S := len(m.sites)
	w := &work{adj: make([]float64, len(m.classes)*S), best: make([]int32, len(m.classes)*S), theta: make([]float64, len(m.units)*S),
		h: make([]float64, len(m.units)*S), up: make([]float64, len(m.units)*S), meet: make([][2]int32, len(m.forest.cross)), pick: make([]int32, len(m.units)), used: make([]float64, S*len(m.dims)), held: make([][]float64, len(m.groups))}
	for g := range m.groups {
		if limit := m.limits(&m.groups[g]); limit != nil {
			w.held[g] = make([]float64, len(limit))
		}
	}
	return w
}

// evaluate works out the bound at the present prices; infinite if some unit may be nowhere.
func (b *bound) evaluate(w *work) float64 {
	m, S := b.m, len(b.m.sites)
	sideBySide(len(m.classes), func(from, to int) {
		for c := from; c < to; c++ {
			b.priced(c, w)
		}
	})
	clear(w.used)
	for _, h := range w.held {
		clear(h)
	}
	sum := b.circles(w)
	b.choose(w)
	for _, tree := range b.trees {
		for k, u := range tree {
			at := w.pick[u]
			if at < 0 {
				return inf
			}
			if k == 0 {
				sum += w.h[int(u)*S+int(at)]
			}
			b.count(int(u), int(at), w)
		}
	}
	for _, l := range b.lambda {
		sum -= l
	}
	for _, mu := range b.mu {
		for _, x := range mu {
			sum -= x
		}
	}
	return sum
}

// priced finds, for each site, the option of a class that is least at the present prices.
func (b *bound) priced(c int, w *work) {
	m, S, D := b.m, len(b.m.sites), len(b.m.dims)
	cl := m.classes[c]
	for s := range S {
		least, at := inf, int32(-1)
		for i := cl.lo[s]; i < cl.lo[s+1]; i++ {
			x := cl.opts[i].c
			for d, take := range cl.opts[i].take {
				if l := b.lambda[s*D+d]; l > 0 {
					x += l * take / b.caps[s*D+d]
				}
			}
			if x < least {
				least, at = x, i
			}
		}
		w.adj[c*S+s], w.best[c*S+s] = least, at
	}
}

// aPart is how many make it worth to work on them side by side.
const aPart = 150

// sideBySide does something for all of n, in parts at once where there are many.
func sideBySide(n int, do func(from, to int)) {
	parts := min(n/aPart+1, 64)
	if parts == 1 {
		do(0, n)
		return
	}
	var group sync.WaitGroup
	for k := range parts {
		group.Go(func() { do(n*k/parts, n*(k+1)/parts) })
	}
	group.Wait()
}

// choose lets every tree choose the sites of its units. They do so side by side: none asks what another one does.
func (b *bound) choose(w *work) {
	sideBySide(len(b.trees), func(from, to int) {
		for _, tree := range b.trees[from:to] {
			b.tree(tree, w)
		}
	})
}

func (b *bound) tree(tree []int32, w *work) {
	m, S := b.m, len(b.m.sites)
	for _, u := range tree {
		b.weigh(int(u), w)
		copy(w.h[int(u)*S:int(u)*S+S], w.theta[int(u)*S:])
	}
	m.upward(tree, w.h, w.up)
	for _, u := range tree {
		parent := m.forest.parent[u]
		if parent >= 0 {
			if parent = w.pick[parent]; parent < 0 {
				w.pick[u] = -1
				continue
			}
		}
		w.pick[u], _ = m.best(u, w.h, parent)
	}
}

// circles lets the edges that close circles choose their ends.
func (b *bound) circles(w *work) float64 {
	m, S := b.m, len(b.m.sites)
	sum := 0.0
	for k, i := range m.forest.cross {
		ma, mb := b.msg[2*k*S:2*k*S+S], b.msg[2*k*S+S:2*k*S+2*S]
		least := inf
		for x := range S {
			for y := range S {
				if q := m.between(&m.edges[i], int32(x), int32(y)) - ma[x] - mb[y]; q < least {
					least, w.meet[k] = q, [2]int32{int32(x), int32(y)}
				}
			}
		}
		sum += least
	}
	return sum
}

// weigh works out what a unit pays at each site by itself.
func (b *bound) weigh(u int, w *work) {
	m, S := b.m, len(b.m.sites)
	theta := w.theta[u*S : u*S+S]
	clear(theta)
	for _, wl := range m.units[u].members {
		adj := w.adj[int(m.class[wl])*S:]
		for s := range theta {
			theta[s] += adj[s]
		}
		for _, g := range m.groupsOf[wl] {
			if mu := b.mu[g]; mu != nil {
				for s := range theta {
					at := m.siteOrProvider(g, s)
					theta[s] += mu[at] / b.limit[g][at]
				}
			}
		}
		for _, k := range m.crossOf[wl] {
			msg := b.msg[b.side(k, wl):]
			for s := range theta {
				theta[s] += msg[s]
			}
		}
	}
	if b.out != nil {
		for s := range theta {
			if b.out[u*S+s] {
				theta[s] = inf
			}
		}
	}
}

// count adds what a unit uses at a site.
func (b *bound) count(u, at int, w *work) {
	m, S, D := b.m, len(b.m.sites), len(b.m.dims)
	for _, wl := range m.units[u].members {
		c := int(m.class[wl])
		for d, take := range m.classes[c].opts[w.best[c*S+at]].take {
			w.used[at*D+d] += take
		}
		for _, g := range m.groupsOf[wl] {
			if b.mu[g] != nil {
				w.held[g][m.siteOrProvider(g, at)]++
			}
		}
	}
}

func (m *model) siteOrProvider(g int32, s int) int {
	if m.groups[g].scope == perProvider {
		return int(m.providerOf[s])
	}
	return s
}

// side is where the messages of the k-th edge that closes a circle to one of its workloads begin.
func (b *bound) side(k, w int32) int {
	S := len(b.m.sites)
	if b.m.edges[b.m.forest.cross[k]].a == w {
		return int(k) * 2 * S
	}
	return int(k)*2*S + S
}

// raise makes the bound better for some rounds, towards an objective that was found; it ends early when there is nothing
// left to gain, or when stop says so. It returns the work of the best prices.
func (b *bound) raise(target float64, rounds int, stop func() bool) *work {
	m := b.m
	now, w, best := newCopy(b), m.newWork(), m.newWork()
	step, since := 1.0, 0
	for range rounds {
		v := now.evaluate(w)
		if v > b.value+1e-9*math.Abs(v) {
			b.take(now, v)
			since = 0
		} else if since++; since >= 6 {
			step, since = step*0.6, 0
			now.copyPrices(b)
			now.trend = nil
			if v = now.evaluate(w); step < 0.004 {
				break
			}
		}
		if b.value >= target-1e-9*max(1, math.Abs(target)) || math.IsInf(b.value, 1) || stop() {
			break
		}
		if !now.step(w, step*max(min(target-v, 0.03*math.Abs(v)), 1e-6*math.Abs(target)+1e-9)) {
			break
		}
	}
	now.copyPrices(b)
	now.evaluate(best)
	return best
}

// warm finds prices to begin with from a sample of the trees, every k-th, as if there were as much less of everything:
// what is scarce for all is scarce for them, and they are asked in a fraction of the time.
func (b *bound) warm(target float64, k, rounds int, stop func() bool) {
	few := newCopy(b)
	few.trees, few.caps, few.value = nil, clone(b.caps), math.Inf(-1)
	for i := 0; i < len(b.trees); i += k {
		few.trees = append(few.trees, b.trees[i])
	}
	part := float64(len(few.trees)) / float64(len(b.trees))
	for i := range few.caps {
		few.caps[i] *= part
	}
	few.raise(target*part, rounds, stop)
	for i, l := range few.lambda {
		b.lambda[i] = l / part
	}
}

func newCopy(b *bound) *bound {
	c := &bound{m: b.m, trees: b.trees, caps: b.caps, limit: b.limit, lambda: clone(b.lambda), msg: clone(b.msg), mu: make([][]float64, len(b.mu)), out: b.out, value: b.value}
	for g := range b.mu {
		c.mu[g] = clone(b.mu[g])
	}
	return c
}

func (b *bound) copyPrices(from *bound) {
	copy(b.lambda, from.lambda)
	copy(b.msg, from.msg)
	for g := range b.mu {
		copy(b.mu[g], from.mu[g])
	}
}

func (b *bound) take(from *bound, v float64) {
	b.value = v
	b.copyPrices(from)
}

// step moves the prices along the subgradient: dearer where more is used than there is, cheaper where less is. False says
// that nothing is overused or priced, so that the bound is exact in them.
func (b *bound) step(w *work, gain float64) bool {
	g := b.slope(w)
	norm := 0.0
	for i, x := range g {
		if b.trend == nil {
			break
		}
		g[i] = 0.4*x + 0.6*b.trend[i]
	}
	b.trend = append(b.trend[:0], g...)
	for _, x := range g {
		norm += x * x
	}
	if norm < 1e-18 {
		return false
	}
	b.move(g, gain/norm)
	return true
}

// slope is the subgradient at what the units chose: for each price how much more is used than there is, as a part of it;
// for each message the difference between what edge and unit chose. 0 where a price of 0 would have to fall.
func (b *bound) slope(w *work) []float64 {
	m, S := b.m, len(b.m.sites)
	g := make([]float64, 0, len(b.lambda)+len(b.msg)+len(b.mu)*S)
	over := func(used, limit, price float64) float64 {
		x := used/max(limit, 1e-9) - 1
		if math.IsInf(limit, 1) || limit <= 0 || x < 0 && price == 0 {
			return 0
		}
		return x
	}
	for i, price := range b.lambda {
		g = append(g, over(w.used[i], b.caps[i], price))
	}
	for k, mu := range b.mu {
		for at, price := range mu {
			g = append(g, over(w.held[k][at], b.limit[k][at], price))
		}
	}
	for k, i := range m.forest.cross {
		for side, wl := range [2]int32{m.edges[i].a, m.edges[i].b} {
			from := len(g)
			g = append(g, make([]float64, S)...)
			g[from+int(w.pick[m.unitOf[wl]])]++
			g[from+int(w.meet[k][side])]--
		}
	}
	return g
}

// move changes the prices along a direction.
func (b *bound) move(g []float64, t float64) {
	for i := range b.lambda {
		b.lambda[i] = max(b.lambda[i]+t*g[i], 0)
	}
	g = g[len(b.lambda):]
	for k, mu := range b.mu {
		weight := b.m.groups[k].weight
		for at := range mu {
			mu[at] = max(mu[at]+t*g[at], 0)
			if weight > 0 { // breaking a preference costs its weight, so that no more can be asked for it
				mu[at] = min(mu[at], weight*b.limit[k][at])
			}
		}
		g = g[len(mu):]
	}
	for i := range b.msg {
		b.msg[i] += t * g[i]
	}
}

// exclude marks what cannot be in any placement better than the objective that was found: a unit at a site that would
// raise the bound above it.
func (b *bound) exclude(w *work, target float64) {
	m, S := b.m, len(b.m.sites)
	if b.out == nil {
		b.out = make([]bool, len(m.units)*S)
	}
	whole := make([]float64, len(m.units)*S)
	for _, tree := range m.forest.trees {
		m.downward(tree, w.h, w.up, whole)
		_, least := m.best(tree[0], w.h, -1)
		for _, u := range tree {
			for s, x := range whole[int(u)*S : int(u)*S+S] {
				if b.value+x-least > target+1e-7*max(1, math.Abs(target)) {
					b.out[int(u)*S+s] = true
				}
			}
		}
	}
}
