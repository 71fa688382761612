package rehearse_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/history"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/run"
)

// chain makes a plan of n steps in a row, each of the given seconds, beside which others run.
func chain(t testing.TB, seconds ...float64) *plan.Plan {
	p := &plan.Plan{Version: plan.Version, Name: "chain", Sites: []plan.Site{{Name: "vega"}}}
	for i, s := range seconds {
		id := fmt.Sprint("r", i)
		step := plan.Step{ID: id + "/create", Resource: id, Op: op.Create, Site: "vega", Seconds: s}
		if i > 0 {
			step.After = []string{p.Steps[i-1].ID}
		}
		p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: kinds.Network, Site: "vega"})
		p.Steps = append(p.Steps, step)
	}
	require.NoError(t, p.Arrange())
	return p
}

func TestWithoutChanceItTakesTheCriticalPath(t *testing.T) {
	p := plantest.Plan(t, "drill")
	assert.InDelta(t, p.Seconds, rehearse.Makespan(p, dispatch.Limits{}).Seconds(), 0.01)
	one := rehearse.Makespan(p, dispatch.Limits{Steps: 1})
	sum := 0.0
	for i := range p.Steps {
		sum += p.Steps[i].Seconds
	}
	assert.InDelta(t, sum, one.Seconds(), 0.01, "one at a time takes the sum")
}

func TestTheAnswerIsOrderedRepeatableAndNamesWhatDecides(t *testing.T) {
	p := plantest.Plan(t, "drill")
	a := rehearse.Plan(p, nil, rehearse.Options{Seed: 3})
	assert.Equal(t, a, rehearse.Plan(p, nil, rehearse.Options{Seed: 3}), "the same seed gives the same answer")
	assert.Less(t, a.P50, a.P90)
	assert.LessOrEqual(t, a.Unbounded, a.P50)
	require.NotEmpty(t, a.Decisive)
	assert.Greater(t, a.Decisive[0].Share, 0.2)
	tight := rehearse.Plan(p, nil, rehearse.Options{Seed: 3, Limits: dispatch.Limits{Steps: 3}})
	assert.Greater(t, tight.P50, a.P50*3/2, "limits show")
}

func TestWhatHappenedNarrowsWhatIsExpected(t *testing.T) {
	p := chain(t, 10, 10, 10)
	wide := rehearse.Plan(p, nil, rehearse.Options{})
	var samples []history.Sample
	for i := range 60 {
		samples = append(samples, history.Sample{Key: history.Key(p, &p.Steps[0]), Run: int64(i % 20), Seconds: 20 * (1 + 0.01*float64(i%5))})
	}
	h := history.New(samples)
	known := rehearse.Plan(p, h, rehearse.Options{})
	assert.InDelta(t, 61, known.P50.Seconds(), 4, "three of 20 s each, as it was, not as the plan thought")
	assert.Less(t, float64(known.P90)/float64(known.P50), float64(wide.P90)/float64(wide.P50))
	require.NoError(t, h.Apply(p))
	assert.InDelta(t, 20.4, p.Steps[0].Seconds, 0.3)
	assert.InDelta(t, 61, p.Seconds, 1)
}

func TestTheRestOfARunKnowsWhatIsDone(t *testing.T) {
	p := chain(t, 10, 10, 10)
	start := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	s := run.New(p)
	s.Apply(run.Event{Seq: 1, Kind: run.RunStarted, At: start})
	s.Apply(run.Event{Seq: 2, Kind: run.StepStarted, Step: "r0/create", At: start})
	s.Apply(run.Event{Seq: 3, Kind: run.StepDone, Step: "r0/create", At: start.Add(40 * time.Second)})
	s.Apply(run.Event{Seq: 4, Kind: run.StepStarted, Step: "r1/create", At: start.Add(40 * time.Second)})
	a := rehearse.Rest(s, start.Add(45*time.Second), nil, rehearse.Options{})
	assert.Greater(t, a.P50, 55*time.Second)
	assert.Less(t, a.P50, 68*time.Second)
	late := rehearse.Rest(s, start.Add(90*time.Second), nil, rehearse.Options{})
	assert.Greater(t, late.P50, 99*time.Second, "a step that is late ends now at the earliest")
}

// truth is how a made-up world really is: each kind of step has a median and a spread, each site a good or bad day.
type truth struct {
	r       *rand.Rand
	median  map[string]float64
	sigma   map[string]float64
	siteDay float64
}

func (w *truth) durations(p *plan.Plan) []float64 {
	day := map[string]float64{}
	out := make([]float64, len(p.Steps))
	for i := range p.Steps {
		s := &p.Steps[i]
		if _, ok := day[s.Site]; !ok {
			day[s.Site] = w.siteDay * w.r.NormFloat64()
		}
		key := history.Key(p, s)
		if w.median[key] == 0 {
			w.median[key] = max(s.Seconds, 0.05) * math.Exp(0.35*w.r.NormFloat64())
			w.sigma[key] = 0.1 + 0.35*w.r.Float64()
		}
		if s.Seconds > 0 {
			out[i] = w.median[key] * math.Exp(day[s.Site]+w.sigma[key]*w.r.NormFloat64())
		}
	}
	return out
}

// TestNineInTenRunsStayUnderTheirP90 makes up 40 worlds, lets each be learned from a few runs, rehearses, and runs five
// times more: 200 runs in all.
func TestNineInTenRunsStayUnderTheirP90(t *testing.T) {
	p := plantest.Plan(t, "drill")
	under, all := 0, 0
	for seed := range uint64(40) {
		w := &truth{r: rand.New(rand.NewPCG(seed, 5)), median: map[string]float64{}, sigma: map[string]float64{}, siteDay: 0.1}
		var samples []history.Sample
		for past := range 3 + seed%10 {
			for i, x := range w.durations(p) {
				samples = append(samples, history.Sample{Key: history.Key(p, &p.Steps[i]), Run: int64(past), Seconds: x})
			}
		}
		a := rehearse.Plan(p, history.New(samples), rehearse.Options{Seed: seed, Rounds: 250})
		for range 5 {
			all++
			if rehearse.Played(p, dispatch.Default, w.durations(p)) <= a.P90 {
				under++
			}
		}
	}
	share := float64(under) / float64(all)
	t.Logf("%d of %d runs stayed under the P90 that was rehearsed: %.1f %%", under, all, 100*share)
	assert.GreaterOrEqual(t, share, 0.85)
	assert.LessOrEqual(t, share, 0.95)
}

func TestWhoeverImaginesMayGiveWayBetweenRoundsAndHearsTheSame(t *testing.T) {
	p := chain(t, 10, 20)
	calls := 0
	want := rehearse.Plan(p, nil, rehearse.Options{Rounds: 7})
	assert.Equal(t, want, rehearse.Plan(p, nil, rehearse.Options{Rounds: 7, Between: func() { calls++ }}))
	assert.Equal(t, 7, calls)
}
