package migrate

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

var begin = time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)

// copying is the move of two disks that is told of by seconds since it began.
type copying struct {
	s   *run.State
	seq int64
}

func twoDisks() *copying {
	disks := []plan.DiskCopy{{From: "old-a", To: "a"}, {From: "old-b", To: "b"}}
	p := plan.Reindexed(&plan.Plan{Resources: []plan.Resource{{ID: "host", Kind: kinds.Instance}}, Steps: []plan.Step{{ID: "host/finish", Resource: "host", Op: op.Finish, Copying: &plan.Copying{Disks: disks}}}})
	return &copying{s: run.New(p)}
}

func (c *copying) tell(kind run.EventKind, disk string, seconds float64, pairs ...any) {
	c.seq++
	a := map[string]string{"disk": disk}
	for i := 0; i+1 < len(pairs); i += 2 {
		a[pairs[i].(string)] = fmt.Sprint(pairs[i+1])
	}
	c.s.Apply(run.Event{Seq: c.seq, At: begin.Add(time.Duration(seconds * float64(time.Second))), Kind: kind, Resource: "host", Attributes: a})
}

func (c *copying) begun(disk string, seconds float64, round, total, done, upto int) {
	c.tell(run.RoundBegun, disk, seconds, "round", round, "total", total, "done", done, "at", done, "epoch", "e1", "upto", upto)
}

// TestWhatAMoveTellsOfItself follows the copies of two disks: the first breaks off and goes on, the second comes after it.
func TestWhatAMoveTellsOfItself(t *testing.T) {
	c := twoDisks()
	is := func(want measure, name string) {
		got := measured(c.s, "host")
		for of, pair := range map[string][2]float64{"bandwidth": {want.bandwidth, got.bandwidth}, "rate": {want.rate, got.rate}, "since": {want.since, got.since}, "left": {float64(want.left), float64(got.left)}} {
			assert.InDelta(t, pair[0], pair[1], 1e-6, "%s: %s", name, of)
		}
		assert.Equal(t, [2]bool{want.follows, want.judged}, [2]bool{got.follows, got.judged}, name)
	}
	c.tell(run.Sized, "a", 0, "total", 1000)
	c.tell(run.Sized, "b", 0, "total", 500)
	is(measure{left: 1500}, "nothing was begun")
	c.begun("a", 0, 1, 1000, 0, 4)
	c.tell(run.Copied, "a", 10, "bytes", 400, "done", 400, "at", 400)
	is(measure{left: 1100, bandwidth: 40, since: 10}, "copied in part")
	c.tell(run.Changed, "a", 10, "bytes", 20)
	c.begun("a", 60, 1, 1000, 400, 4)
	is(measure{left: 1100, bandwidth: 40, rate: 2, since: 60}, "broke off, and goes on")
	c.tell(run.Copied, "a", 65, "bytes", 200, "done", 600, "at", 600, "took", 4)
	is(measure{left: 900, bandwidth: 50, rate: 2, since: 65}, "what got through of late counts")
	c.tell(run.Copied, "a", 75, "bytes", 400, "done", 1000, "at", 1000)
	c.tell(run.RoundDone, "a", 75)
	is(measure{left: 500, bandwidth: 40, rate: 2, since: 75}, "one is copied")
	c.begun("b", 75, 1, 500, 0, 4)
	c.tell(run.Copied, "b", 85, "bytes", 500, "done", 500, "at", 500)
	is(measure{left: 0, bandwidth: 1500. / 35, rate: 2, since: 85}, "both together")
	c.tell(run.RoundDone, "b", 85)
	c.begun("a", 86, 2, 170, 0, 5)
	is(measure{left: 170, bandwidth: 1500. / 35, since: 85, follows: true}, "a round that follows")
	c.tell(run.Judged, "", 90, "round", 2, "changing", 3, "bandwidth", 0)
	is(measure{left: 170, bandwidth: 1500. / 35, rate: 3, since: 85, follows: true, judged: true}, "judged, but nothing got through")
	c.tell(run.Judged, "", 95, "round", 3, "changing", 4, "bandwidth", 60)
	is(measure{left: 170, bandwidth: 60, rate: 4, since: 85, follows: true, judged: true}, "judged")
}

// TestTheCurveOfAMoveThatBrokeOffIsWhole: what was copied before is not forgotten.
func TestTheCurveOfAMoveThatBrokeOffIsWhole(t *testing.T) {
	c := twoDisks()
	c.begun("a", 0, 1, 1000, 0, 4)
	c.tell(run.Copied, "a", 10, "bytes", 400, "done", 400, "at", 400)
	c.begun("a", 60, 1, 1000, 400, 4)
	curve := CurveOf(c.s, "host", Load{Used: 1000, Size: 1000, Bandwidth: 40}, begin.Add(70*time.Second))
	assert.Equal(t, 70*time.Second, curve.Now)
	assert.Equal(t, Stretch{To: 70 * time.Second, Left: 1000, Then: 600}, curve.Stretches[0])
}

func TestTheScaleOfACurveIsInWholePowersOfTen(t *testing.T) {
	for name, c := range map[string]struct {
		left      []float64
		low, high float64
	}{
		"nothing":           {nil, 10, 1e3},
		"less than it says": {[]float64{5}, 10, 1e3},
		"one":               {[]float64{5e9}, 1e8, 1e10},
		"a power":           {[]float64{1e9}, 1e7, 1e9},
		"far apart":         {[]float64{2e9, 3e4, 7e5}, 1e4, 1e10},
		"close":             {[]float64{2e9, 3e9}, 1e8, 1e10},
	} {
		var curve Curve
		for _, n := range c.left {
			curve.Stretches = append(curve.Stretches, Stretch{Left: n})
		}
		low, high := curve.Scale()
		assert.InDelta(t, c.low, low, 1e-6, name)
		assert.InDelta(t, c.high, high, 1e-6, name)
	}
}

// TestWhoServesWhom: through software, between the instances asked for, each said once.
func TestWhoServesWhom(t *testing.T) {
	software := func(id, on string, needs ...string) plan.Resource {
		return plan.Resource{ID: id, Kind: kinds.Software, On: on, StandsOn: needs}
	}
	p := plan.Reindexed(&plan.Plan{Resources: []plan.Resource{{ID: "web", Kind: kinds.Instance}, {ID: "db", Kind: kinds.Instance}, {ID: "queue", Kind: kinds.Instance},
		software("app", "web", "web", "tools", "gone", "tables", "broker"), software("pages", "web", "tables"), software("tools", "web"), software("tables", "db"), software("broker", "queue")}})
	assert.Equal(t, map[string][]string{"web": {"db"}}, Needs(p, []string{"web", "db"}))
	assert.Equal(t, map[string][]string{"web": {"db", "queue"}}, Needs(p, []string{"web", "db", "queue"}))
	assert.Empty(t, Needs(p, []string{"web"}))
	assert.Empty(t, Needs(p, nil))
}
