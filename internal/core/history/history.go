// Package history says how long steps take, from how long steps like them took before.
//
// In go samples of past runs; out come, for a plan's steps, the median that is expected and distributions to draw from.
// What makes steps alike is their [Key]: the site, the operation, and the kind or the software it is done to. Durations
// are taken to be log-normal, with a factor that all steps of a site share in one run, since a site that is slow is slow
// at everything. How little is known widens what is drawn: a key with two samples is drawn more widely than one with
// fifty.
package history

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"

	"andamio/internal/core/plan"
)

// Sample is how long one step took in one run, in seconds.
type Sample struct {
	Key     string
	Run     int64
	Seconds float64
}

// Key is what makes steps alike.
func Key(p *plan.Plan, s *plan.Step) string {
	r := p.Resource(s.Resource)
	what := string(r.Kind)
	if s.Script != nil {
		what = r.Node + " " + s.Script.Path
	}
	return strings.Join([]string{s.Site, string(s.Op), what}, "/")
}

// What is believed of a step before anything is known of its like: that it takes the plan's expectation, give or take,
// with the weight of so many samples.
const (
	priorSigma   = 0.22
	priorSamples = 2
	// spreadSamples is the weight of the belief about how widely durations spread.
	spreadSamples = 4
	// priorSite is the spread of the factor that steps of a site share.
	priorSite = 0.08
	// least is the shortest duration that counts, in seconds.
	least = 1e-3
)

// History is what is known.
type History struct {
	keys  map[string]*known
	sites map[string]float64
}

// known is what the samples of a key come to, in logarithms of seconds.
type known struct {
	n          float64
	mean, vari float64
}

// New learns from samples.
func New(samples []Sample) *History {
	h := &History{keys: map[string]*known{}, sites: map[string]float64{}}
	byKey := map[string][]Sample{}
	for _, s := range samples {
		s.Seconds = math.Log(max(s.Seconds, least))
		byKey[s.Key] = append(byKey[s.Key], s)
	}
	for key, list := range byKey {
		k := &known{n: float64(len(list))}
		for _, s := range list {
			k.mean += s.Seconds / k.n
		}
		for _, s := range list {
			k.vari += (s.Seconds - k.mean) * (s.Seconds - k.mean)
		}
		h.keys[key] = k
	}
	h.learnSites(byKey)
	return h
}

// learnSites estimates the spread of each site's factor: how far the mean of a run's deviations at a site strays beyond
// what chance would do.
func (h *History) learnSites(byKey map[string][]Sample) {
	type cell struct {
		site string
		run  int64
	}
	sums := map[cell][]float64{}
	for key, list := range byKey {
		site, _, _ := strings.Cut(key, "/")
		for _, s := range list {
			c := cell{site, s.Run}
			sums[c] = append(sums[c], s.Seconds-h.keys[key].mean)
		}
	}
	between, within, runs := map[string]float64{}, map[string]float64{}, map[string]float64{}
	for c, list := range sums {
		mean, vari := 0.0, 0.0
		for _, x := range list {
			mean += x / float64(len(list))
		}
		for _, x := range list {
			vari += (x - mean) * (x - mean)
		}
		n := float64(len(list))
		between[c.site] += mean * mean
		if n > 1 {
			within[c.site] += vari / (n - 1) / n
		}
		runs[c.site]++
	}
	for site, n := range runs {
		tau := max(between[site]-within[site], 0)
		h.sites[site] = math.Sqrt((tau + priorSite*priorSite*spreadSamples) / (n + spreadSamples))
	}
}

// belief is the mean and the spread of a step's logarithm, with how many samples each is worth.
func (h *History) belief(p *plan.Plan, s *plan.Step) (mean, vari, n, degrees float64) {
	prior := math.Log(max(s.Seconds, least))
	k := h.keys[Key(p, s)]
	if k == nil {
		return prior, priorSigma * priorSigma, priorSamples, spreadSamples
	}
	n = priorSamples/4.0 + k.n // what happened outweighs what was expected soon
	mean = (prior*priorSamples/4.0 + k.mean*k.n) / n
	degrees = spreadSamples + k.n - 1
	vari = (priorSigma*priorSigma*spreadSamples + k.vari) / degrees
	if tau := h.sites[s.Site]; k.n > 1 { // what the site's factor explains is not counted twice
		vari = max(vari-tau*tau*k.n/degrees, vari/2)
	}
	return mean, vari, n, degrees
}

// Median is how long a step is expected to take, in seconds, and whether anything like it was done before.
func (h *History) Median(p *plan.Plan, s *plan.Step) (float64, bool) {
	if h == nil || h.keys[Key(p, s)] == nil {
		return s.Seconds, false
	}
	mean, _, _, _ := h.belief(p, s)
	return math.Exp(mean), true
}

// Apply puts what was learned in the place of a plan's expectations and schedules it anew.
func (h *History) Apply(p *plan.Plan) error {
	changed := false
	for i := range p.Steps {
		s := &p.Steps[i]
		if m, ok := h.Median(p, s); ok && s.Seconds > 0 {
			s.Seconds = math.Round(m*1000) / 1000
			changed = true
		}
	}
	if !changed {
		return nil
	}
	return p.Arrange()
}

// Drawing draws durations for the steps of one imagined run after another.
type Drawing struct {
	h     *History
	plan  *plan.Plan
	rand  *rand.Rand
	steps []drawn
	// of are the beliefs that this run draws from, by key; sites its factors.
	keys    []belief
	keyMean []float64
	keySig  []float64
	sites   map[string]float64
}

type drawn struct {
	key  int
	site string
	zero bool
	// offset is how much longer than the first of its key the plan expects the step to take, as a logarithm.
	offset float64
}

type belief struct{ mean, vari, n, degrees float64 }

// Draw prepares to draw for a plan; chance comes from the seed alone.
func (h *History) Draw(p *plan.Plan, seed uint64) *Drawing {
	if h == nil {
		h = New(nil)
	}
	d := &Drawing{h: h, plan: p, rand: rand.New(rand.NewPCG(seed, 11)), steps: make([]drawn, len(p.Steps)), sites: map[string]float64{}}
	at := map[string]int{}
	first := map[int]float64{}
	for i := range p.Steps {
		s := &p.Steps[i]
		key := Key(p, s)
		k, seen := at[key]
		if !seen {
			k = len(d.keys)
			at[key] = k
			first[k] = s.Seconds
			var b belief
			b.mean, b.vari, b.n, b.degrees = h.belief(p, s)
			d.keys = append(d.keys, b)
		}
		x := drawn{key: k, site: s.Site, zero: s.Seconds == 0}
		if h.keys[key] == nil && first[k] > 0 && s.Seconds > 0 {
			x.offset = math.Log(s.Seconds / first[k])
		}
		d.steps[i] = x
	}
	d.keyMean, d.keySig = make([]float64, len(d.keys)), make([]float64, len(d.keys))
	return d
}

// Begin draws what is common to one run: how each kind of step and each site does in it.
func (d *Drawing) Begin() {
	for i, b := range d.keys {
		sigma := math.Sqrt(b.vari * b.degrees / chiSquare(d.rand, b.degrees))
		d.keySig[i] = sigma
		d.keyMean[i] = b.mean + sigma/math.Sqrt(b.n)*d.rand.NormFloat64()
	}
	for _, s := range d.plan.Sites {
		tau, known := d.h.sites[s.Name]
		if !known {
			tau = priorSite
		}
		d.sites[s.Name] = tau * d.rand.NormFloat64()
	}
}

// chiSquare draws from the chi-square distribution, by its approximation after Wilson and Hilferty.
func chiSquare(r *rand.Rand, degrees float64) float64 {
	c := 2 / (9 * degrees)
	x := 1 - c + math.Sqrt(c)*r.NormFloat64()
	return degrees * max(x*x*x, 0.01)
}

// Seconds draws the duration of a step, that has taken at least so long already.
func (d *Drawing) Seconds(i int, gone float64) float64 {
	s := &d.steps[i]
	if s.zero {
		return gone
	}
	for range 20 {
		x := math.Exp(d.keyMean[s.key] + s.offset + d.sites[s.site] + d.keySig[s.key]*d.rand.NormFloat64())
		if x > gone {
			return x
		}
	}
	return gone * 1.1
}

// Quantile is a quantile of some numbers, which it sorts.
func Quantile(all []float64, q float64) float64 {
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	at := q * float64(len(all)-1)
	low := int(at)
	if low+1 >= len(all) {
		return all[len(all)-1]
	}
	return all[low] + (all[low+1]-all[low])*(at-float64(low))
}
