// Package rehearse imagines a run many times over, with durations drawn from what was learned, and says how long it may
// take and what decides that.
//
// In go a plan or the state of a run, limits, and a history; out comes an [Answer]. Imagined runs are dispatched by the
// same code as real ones. Chance comes from the seed alone.
package rehearse

import (
	"cmp"
	"slices"
	"time"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/history"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// Answer is what came of imagining a run.
type Answer struct {
	Rounds int
	// P50 and P90 are the durations that half, and nine in ten, of the imagined runs stayed under.
	P50, P90 time.Duration
	// Decisive are the steps that decided the duration most often, with the share of runs in which they did.
	Decisive []Decisive
	// Unbounded is the median without any limit on how much goes on at once.
	Unbounded time.Duration
}

// Decisive is a step, and in which share of the imagined runs it was on the path that ended last.
type Decisive struct {
	Step  string
	Share float64
}

// Options bound the imagining. Zero values are the usual ones.
type Options struct {
	Limits dispatch.Limits
	Seed   uint64
	// Rounds is how many runs are imagined; 0 takes as many as are done in about a second.
	Rounds int
	// Between, if given, is called after each round: whoever imagines beside something that may not wait gives way there.
	Between func()
}

// Bounds of how many runs are imagined, and about how many steps in all.
const (
	leastRounds = 40
	mostRounds  = 1000
	allSteps    = 1_000_000
	mostListed  = 8
)

func (o Options) rounds(steps int) int {
	if o.Rounds > 0 {
		return o.Rounds
	}
	return min(max(allSteps/max(steps, 1), leastRounds), mostRounds)
}

// Plan imagines runs of a plan from its beginning.
func Plan(p *plan.Plan, h *history.History, o Options) Answer {
	return imagine(p, nil, 0, h, o)
}

// Rest imagines how a run that is under way goes on; the durations are those of the whole run.
func Rest(s *run.State, now time.Time, h *history.History, o Options) Answer {
	return imagine(s.Plan, s, now.Sub(s.Started).Seconds(), h, o)
}

func imagine(p *plan.Plan, s *run.State, gone float64, h *history.History, o Options) Answer {
	if o.Limits.Steps == 0 && o.Limits.PerSite == 0 {
		o.Limits.Steps, o.Limits.PerSite = dispatch.Default.Steps, dispatch.Default.PerSite
	}
	n := o.rounds(len(p.Steps))
	bounded := newStage(p, s, gone, o.Limits)
	var free *stage
	if s == nil { // while it goes on nobody asks what no limits would do
		free = newStage(p, s, gone, dispatch.Limits{})
	}
	draw := h.Draw(p, o.Seed)
	all, unbounded := make([]float64, 0, n), make([]float64, 0, n)
	counts := make([]int, len(p.Steps))
	for range n {
		draw.Begin()
		seconds := bounded.durations(draw)
		end, path := bounded.play(seconds)
		all = append(all, end)
		for _, i := range path {
			counts[i]++
		}
		if free != nil {
			end, _ = free.play(seconds)
			unbounded = append(unbounded, end)
		}
		if o.Between != nil {
			o.Between()
		}
	}
	out := Answer{Rounds: n, P50: duration(history.Quantile(all, 0.5)), P90: duration(history.Quantile(all, 0.9)),
		Unbounded: duration(history.Quantile(unbounded, 0.5))}
	for i, c := range counts {
		if c > 0 && p.Steps[i].Seconds > 0 {
			out.Decisive = append(out.Decisive, Decisive{p.Steps[i].ID, float64(c) / float64(n)})
		}
	}
	slices.SortStableFunc(out.Decisive, func(a, b Decisive) int { return cmp.Compare(b.Share, a.Share) })
	out.Decisive = out.Decisive[:min(len(out.Decisive), mostListed)]
	return out
}

func duration(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }

// Makespan is how long a run takes if every step takes as long as the plan expects.
func Makespan(p *plan.Plan, l dispatch.Limits) time.Duration {
	seconds := make([]float64, len(p.Steps))
	for i := range p.Steps {
		seconds[i] = p.Steps[i].Seconds
	}
	return Played(p, l, seconds)
}

// Played is how long a run takes whose steps take the given seconds.
func Played(p *plan.Plan, l dispatch.Limits, seconds []float64) time.Duration {
	end, _ := newStage(p, nil, 0, l).play(seconds)
	return duration(end)
}

// stage plays runs of one plan under some limits.
type stage struct {
	plan  *plan.Plan
	fresh *dispatch.Dispatcher
	// forked is the one that plays, made anew from the fresh one for each run.
	forked *dispatch.Dispatcher
	gone   float64
	// elapsed is for how long a step has been under way already, -1 for one that is not.
	elapsed []float64
	seconds []float64
	by      []int32
	ends    dispatch.Heap[end]
}

func newStage(p *plan.Plan, s *run.State, gone float64, l dispatch.Limits) *stage {
	st := &stage{plan: p, gone: gone, elapsed: make([]float64, len(p.Steps)), seconds: make([]float64, len(p.Steps)), by: make([]int32, len(p.Steps))}
	is := func(of ...run.Status) func(int) bool {
		return func(i int) bool { return s != nil && slices.Contains(of, s.Steps[i].Status) }
	}
	for i := range st.elapsed {
		st.elapsed[i] = -1
		if is(run.UnderWay)(i) {
			st.elapsed[i] = gone - s.Steps[i].Started.Sub(s.Started).Seconds()
		}
	}
	st.fresh = dispatch.New(p, l, is(run.Standing, run.Passed), is(run.Failed, run.Stopped))
	return st
}

func (st *stage) durations(d *history.Drawing) []float64 {
	for i := range st.seconds {
		st.seconds[i] = d.Seconds(i, max(st.elapsed[i], 0))
	}
	return st.seconds
}

// play plays one run with the given durations, and returns when it ended and the steps that decided that, the last
// first. Steps that only a failure calls for are not played: an imagined run goes well.
func (st *stage) play(seconds []float64) (float64, []int) {
	st.forked = st.fresh.Fork(st.forked)
	d := st.forked
	now := st.gone
	last := int32(-1)
	st.ends.Items, st.ends.Before = st.ends.Items[:0], sooner
	for {
		for {
			i, ok := d.Next()
			if !ok {
				break
			}
			st.by[i] = last
			left := seconds[i]
			if st.elapsed[i] >= 0 {
				left -= st.elapsed[i]
			}
			st.ends.Push(end{now + left, int32(i)})
		}
		if st.ends.Len() == 0 {
			break
		}
		e := st.ends.Pop()
		now, last = e.at, e.step
		d.Done(int(e.step))
	}
	var path []int
	for i := last; i >= 0; i = st.by[i] {
		path = append(path, int(i))
	}
	return now, path
}

type end struct {
	at   float64
	step int32
}

// sooner orders the ends of what is under way.
func sooner(a, b end) bool { return a.at < b.at || a.at == b.at && a.step < b.step }
