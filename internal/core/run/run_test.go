package run_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/elevation"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
	"andamio/internal/core/timeline"
)

var start = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func at(seconds float64) time.Time { return start.Add(time.Duration(seconds * float64(time.Second))) }

// tape numbers and applies events.
type tape struct {
	s      *run.State
	seq    int64
	played []run.Event
}

func (x *tape) play(kind run.EventKind, step string, seconds float64, change ...func(*run.Event)) {
	x.seq++
	e := run.Event{Seq: x.seq, At: at(seconds), Kind: kind, Step: step}
	if st := x.s.Step(step); st != nil {
		e.Resource = st.Resource
	}
	for _, c := range change {
		c(&e)
	}
	x.played = append(x.played, e)
	x.s.Apply(e)
}

func begun(t testing.TB) *tape {
	x := &tape{s: run.New(plantest.Plan(t, "drill"))}
	x.play(run.RunStarted, "", 0)
	return x
}

func TestStepsMoveTheirResource(t *testing.T) {
	x := begun(t)
	assert.Equal(t, run.UnderWay, x.s.Status)
	host := x.s.Resource("readings-host-1")
	x.play(run.StepStarted, "readings-host-1/create", 1)
	assert.Equal(t, run.UnderWay, host.Status)
	x.play(run.StepAsked, "readings-host-1/create", 2, func(e *run.Event) { e.Attributes = map[string]string{"site.id": "c-7"} })
	x.play(run.SiteSays, "readings-host-1/create", 3, func(e *run.Event) { e.Text = "building" })
	assert.Equal(t, run.Reading{Text: "building", At: at(3)}, host.SiteSaid, "accepted is not ready")
	x.play(run.StepDone, "readings-host-1/create", 9)
	assert.Equal(t, run.UnderWay, host.Status, "the volume is not attached yet")
	x.play(run.StepStarted, "readings-host-1/attach:readings-vol-1", 9)
	x.play(run.StepDone, "readings-host-1/attach:readings-vol-1", 11)
	assert.Equal(t, run.Standing, host.Status)
	assert.Equal(t, 2, x.s.Done)
	id, ok := x.s.Attribute("readings-host-1", "site.id")
	assert.True(t, ok)
	assert.Equal(t, "c-7", id)
	_, ok = x.s.Attribute("readings-host-1", "colour")
	assert.False(t, ok)
}

func TestAFailureHoldsWhatStandsOnIt(t *testing.T) {
	x := begun(t)
	x.play(run.StepStarted, "contacts-1/create", 1)
	x.play(run.StepFailed, "contacts-1/create", 2, func(e *run.Event) { e.Text = "exited with 4" })
	assert.Equal(t, run.Failed, x.s.Resource("contacts-1").Status)
	assert.Equal(t, "exited with 4", x.s.Step("contacts-1/create").Error)
	assert.Equal(t, run.Held, x.s.Step("contacts-1/start").Status)
	assert.Equal(t, run.Held, x.s.Step("river-map-1.app_endpoint/answer").Status, "held through others")
	assert.Equal(t, run.Planned, x.s.Step("readings-1/create").Status, "independent steps go on")
	x.play(run.RunEnded, "", 9, func(e *run.Event) { e.Text = "1 step failed" })
	assert.Equal(t, run.Failed, x.s.Status)
	assert.True(t, x.s.Over())
}

func TestACancelIsNoFailure(t *testing.T) {
	x := begun(t)
	x.play(run.StepStarted, "contacts-1/create", 1)
	x.play(run.StepStopped, "contacts-1/create", 2, func(e *run.Event) { e.Text = "interrupted" })
	x.play(run.RunEnded, "", 3)
	assert.Equal(t, run.Stopped, x.s.Status)
	assert.Zero(t, x.s.Failures)
}

func TestEventsApplyOnce(t *testing.T) {
	x := begun(t)
	e := run.Event{Seq: 2, At: at(1), Kind: run.StepDone, Step: "contacts-vol-1/create", Resource: "contacts-vol-1"}
	x.s.Apply(e)
	x.s.Apply(e)
	assert.Equal(t, 1, x.s.Done)
	x.s.Apply(run.Event{Seq: 3, Kind: run.StepDone, Step: "nobody/create"})
	x.s.Apply(run.Event{Seq: 4, Kind: run.SiteSays, Resource: "nobody"})
	assert.Equal(t, 1, x.s.Done, "what the plan does not have changes nothing")
}

func TestLogsAreBounded(t *testing.T) {
	x := begun(t)
	for i := range 2000 {
		x.play(run.Logged, "contacts-1/create", 1, func(e *run.Event) { e.Text = fmt.Sprint(i) })
	}
	log := x.s.Step("contacts-1/create").Log
	assert.LessOrEqual(t, len(log), 400)
	assert.Equal(t, "1999", log[len(log)-1].Text)
}

func TestForecastFollowsThePlanAndWhatHappened(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	_, end := s.Forecast(start)
	assert.InDelta(t, s.Plan.Seconds, end.Seconds(), 0.1, "before it begins, the plan's own duration")

	x := begun(t)
	_, end = x.s.Forecast(at(5))
	assert.InDelta(t, s.Plan.Seconds+5, end.Seconds(), 0.1, "nothing begun for 5 s delays everything by 5 s")

	x.play(run.StepStarted, "readings-host-1/create", 0)
	bars, end := x.s.Forecast(at(100))
	assert.Greater(t, end.Seconds(), 100.0)
	for i := range x.s.Steps {
		if x.s.Steps[i].ID == "readings-host-1/create" {
			assert.Equal(t, run.Bar{From: 0, To: 100 * time.Second}, bars[i], "a late step ends now at the earliest")
		}
	}
}

func TestSnapshotStays(t *testing.T) {
	x := begun(t)
	snap := x.s.Snapshot()
	x.play(run.StepDone, "contacts-vol-1/create", 4)
	assert.Equal(t, run.Planned, snap.Step("contacts-vol-1/create").Status)
	assert.Equal(t, run.Standing, x.s.Step("contacts-vol-1/create").Status)
}

// TestAnyJournalKeepsTheCountsTrue plays random events and checks that what a state counts is what its steps say, and
// that elevation and timeline can be drawn of it.
func TestAnyJournalKeepsTheCountsTrue(t *testing.T) {
	p := plantest.Plan(t, "drill")
	kinds := []run.EventKind{run.StepStarted, run.StepDone, run.StepFailed, run.StepStopped, run.StepRetry, run.Logged, run.SiteSays, run.Answered, run.Learned}
	rapid.Check(t, func(t *rapid.T) {
		x := &tape{s: run.New(p)}
		x.play(run.RunStarted, "", 0)
		for i := range rapid.IntRange(0, 150).Draw(t, "events") {
			x.play(rapid.SampledFrom(kinds).Draw(t, "kind"), rapid.SampledFrom(p.Steps).Draw(t, "step").ID, float64(i))
		}
		done, failed := 0, 0
		for i := range x.s.Steps {
			switch x.s.Steps[i].Status {
			case run.Standing:
				done++
			case run.Failed:
				failed++
			}
		}
		if done != x.s.Done || failed != x.s.Failures {
			t.Fatalf("counts %d done, %d failed; steps say %d, %d", x.s.Done, x.s.Failures, done, failed)
		}
		drawable(t, x.s)
	})
}

func drawable(t *rapid.T, s *run.State) {
	planks := 0
	for _, r := range s.Resources {
		if r.PartOf == "" {
			planks++
		}
	}
	for _, group := range []bool{false, true} {
		pic := elevation.New(s, elevation.BySite, group)
		ids := 0
		for _, cells := range pic.Cells {
			for _, c := range cells {
				for _, p := range c.Planks {
					ids += len(p.IDs)
					if p.Fraction < 0 || p.Fraction > 1.0001 {
						t.Fatalf("%s is %v done", p.Title, p.Fraction)
					}
				}
			}
		}
		if ids != planks {
			t.Fatalf("%d of %d planks are drawn", ids, planks)
		}
	}
	line := timeline.New(s, at(500), 9)
	if len(line.Lanes) > 9 {
		t.Fatalf("%d lanes", len(line.Lanes))
	}
}

// TestWhatHasNoStepsGoesWithWhatItRanOn retires the scenario, whose software has no scripts that take it back.
func TestWhatHasNoStepsGoesWithWhatItRanOn(t *testing.T) {
	p := plantest.Plan(t, "drill")
	stands, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	back, err := change.Compile(stands, change.Nothing(p).Plan, "retire")
	assert.NoError(t, err)
	s := run.New(back)
	assert.True(t, s.Retiring())
	for i := range s.Steps {
		s.Apply(run.Event{Seq: int64(i + 1), Kind: run.StepDone, Step: s.Steps[i].ID})
	}
	for i := range s.Resources {
		assert.Equal(t, run.Retired, s.Resources[i].Status, s.Resources[i].ID)
	}
}

func TestDecisionsOpenWhatFailed(t *testing.T) {
	x := begun(t)
	x.play(run.StepStarted, "contacts-1/create", 1)
	x.play(run.StepFailed, "contacts-1/create", 2)
	x.play(run.Decided, "readings-1/create", 3, func(e *run.Event) { e.Text = run.Skip })
	assert.Equal(t, run.Planned, x.s.Step("readings-1/create").Status, "what has not failed is not decided")
	x.play(run.RunEnded, "", 4)
	x.play(run.RunResumed, "", 5)
	assert.False(t, x.s.Over())
	assert.Equal(t, run.Failed, x.s.Step("contacts-1/create").Status, "a resume decides nothing")
	assert.Equal(t, run.Held, x.s.Step("contacts-1/start").Status)
	x.play(run.Decided, "contacts-1/create", 6, func(e *run.Event) { e.Text = run.Retry })
	assert.Equal(t, run.Planned, x.s.Step("contacts-1/create").Status)
	assert.Equal(t, run.Planned, x.s.Step("contacts-1/start").Status, "nothing is held any more")
	x.play(run.StepFailed, "contacts-1/create", 7)
	x.play(run.Decided, "contacts-1/create", 8, func(e *run.Event) { e.Text = run.Skip })
	assert.True(t, x.s.Step("contacts-1/create").Skipped)
	assert.Equal(t, 2, x.s.Step("contacts-1/create").Tries)
	assert.Zero(t, x.s.Failures)
}

func TestStagesAreReachedOneByOne(t *testing.T) {
	x := begun(t)
	assert.Equal(t, run.NotBegun, x.s.Stage("contacts-host-1"))
	x.play(run.StepAsked, "contacts-host-1/create", 1, func(e *run.Event) { e.Attributes = map[string]string{"site.id": "c"} })
	assert.Equal(t, run.Accepted, x.s.Stage("contacts-host-1"))
	x.play(run.StepDone, "contacts-host-1/create", 2)
	assert.Equal(t, run.Ready, x.s.Stage("contacts-host-1"))
	for i, op := range []string{"create", "configure", "start"} {
		x.play(run.StepDone, "contacts-1/"+op, float64(3+i))
	}
	assert.Equal(t, run.Configured, x.s.Stage("contacts-1"))
	x.play(run.StepDone, "contacts-1/check:store", 9)
	assert.Equal(t, run.Serving, x.s.Stage("contacts-1"))
	assert.Equal(t, run.NotBegun, x.s.Stage("nobody"))
}
