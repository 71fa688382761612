package run_test

import (
	"fmt"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// copies is a run of one instance whose disk is copied.
func copies() *tape {
	p := plan.Reindexed(&plan.Plan{Resources: []plan.Resource{{ID: "log-host-1", Kind: kinds.Instance}},
		Steps: []plan.Step{{ID: "log-host-1/replicate", Resource: "log-host-1", Op: op.Replicate}, {ID: "log-host-1/follow", Resource: "log-host-1", Op: op.Follow, After: []string{"log-host-1/replicate"}}}})
	x := &tape{s: run.New(p)}
	x.play(run.RunStarted, "", 0)
	return x
}

// told plays an event with attributes, given in pairs.
func (x *tape) told(kind run.EventKind, seconds float64, pairs ...any) {
	a := map[string]string{"disk": "log-host-1"}
	for i := 0; i+1 < len(pairs); i += 2 {
		a[pairs[i].(string)] = fmt.Sprint(pairs[i+1])
	}
	x.play(kind, "log-host-1/replicate", seconds, func(e *run.Event) { e.Attributes = a })
}

func TestADiskIsCopiedInRounds(t *testing.T) {
	x := copies()
	x.told(run.Sized, 1, "total", 1000)
	x.told(run.RoundBegun, 2, "round", 1, "total", 1000, "done", 0, "at", 0, "epoch", "e1", "upto", 4)
	d := x.s.Disks["log-host-1"]
	require.NotNil(t, d)
	assert.EqualValues(t, 1000, d.Whole)
	assert.True(t, d.Running)
	assert.Zero(t, d.Rate(), "nothing is known yet")
	assert.Zero(t, d.Base, "nothing is copied whole yet")
	x.told(run.Copied, 4, "bytes", 400, "wire", 100, "done", 400, "at", 500, "took", 2)
	assert.EqualValues(t, []int64{400, 100, 400, 500}, []int64{d.Bytes, d.Wire, d.Done, d.At})
	assert.InDelta(t, 200, d.Speed, 1e-9, "the first says how fast it is")
	assert.InDelta(t, 200, d.Rate(), 1e-9)
	assert.Equal(t, at(4), d.Seen)
	x.told(run.Copied, 5, "bytes", 600, "wire", 60, "done", 1000, "at", 1000, "took", 1)
	assert.EqualValues(t, 1000, d.Bytes)
	assert.EqualValues(t, 160, d.Wire)
	assert.Greater(t, d.Speed, 200.0, "it got faster")
	assert.Less(t, d.Speed, 600.0, "and is not as fast as its last part alone")
	x.told(run.RoundDone, 6, "wire", 160)
	require.Len(t, d.Past, 1)
	assert.Equal(t, run.Round{Round: 1, Began: at(2), At: at(6), Bytes: 1000, Wire: 160}, d.Past[0])
	assert.False(t, d.Running)
	assert.EqualValues(t, 4, d.Base, "all that was written up to then is copied")
	assert.InDelta(t, 250, d.Rate(), 1e-9, "of the round that is over")
	x.told(run.RoundBegun, 8, "round", 2, "total", 50, "upto", 5)
	assert.EqualValues(t, 4, d.Base, "until the next is")
	assert.EqualValues(t, 50, d.Total)
	assert.Zero(t, d.Done)
	x.told(run.Changed, 9, "bytes", 77)
	assert.EqualValues(t, 77, d.Changed)
	assert.Equal(t, at(9), d.ChangedAt)
	assert.Equal(t, "e1", func() string { x.told(run.RoundBegun, 10, "round", 3, "epoch", "e1"); return d.Epoch }())
}

func TestWhatTookNoTimeSaysNothingOfSpeed(t *testing.T) {
	x := copies()
	x.told(run.RoundBegun, 0, "round", 1, "total", 10)
	d := x.s.Disks["log-host-1"]
	for _, took := range []any{0, -1, "soon"} {
		x.told(run.Copied, 1, "bytes", 10, "took", took)
	}
	x.told(run.Copied, 1, "bytes", 0, "took", 5)
	assert.Zero(t, d.Speed)
	assert.EqualValues(t, 30, d.Bytes, "but it was copied")
}

func TestJudgementsFollowOneAnother(t *testing.T) {
	x := copies()
	x.told(run.Judged, 3, "round", 1, "bytes", 100, "changing", 2.5, "bandwidth", 50, "pause", 0.75)
	x.told(run.Judged, 6, "round", 2, "bytes", 10, "changing", 1.5, "bandwidth", 60, "pause", 0.25)
	assert.Equal(t, []run.Judgement{{Round: 1, At: at(3), Bytes: 100, Changing: 2.5, Bandwidth: 50, Pause: 0.75}, {Round: 2, At: at(6), Bytes: 10, Changing: 1.5, Bandwidth: 60, Pause: 0.25}},
		x.s.Judged["log-host-1"])
}

func TestCopyingIsSteered(t *testing.T) {
	x := copies()
	say := func(verb string) run.Control {
		x.play(run.Decided, "log-host-1/follow", 1, func(e *run.Event) { e.Text = verb })
		return x.s.Step("log-host-1/follow").Control
	}
	assert.Equal(t, run.Control{Paused: true}, say(run.Pause))
	assert.Equal(t, run.Control{}, say(run.GoOn))
	assert.Equal(t, run.Control{Limited: true, Limit: 5000}, say(run.LimitTo+"5000"))
	assert.Equal(t, run.Control{Limited: true}, say(run.LimitTo+"0"), "no bound is said too")
	assert.Equal(t, run.Control{Limited: true, Cut: true}, say(run.CutOver))
	before := x.s.Step("log-host-1/follow").Status
	assert.Equal(t, run.Control{Limited: true, Cut: true}, say(run.LimitTo+"much"))
	assert.Equal(t, before, x.s.Step("log-host-1/follow").Status)
	for verb, steers := range map[string]bool{run.CutOver: true, run.Pause: true, run.GoOn: true, run.LimitTo + "1": true, run.LimitTo: false, run.LimitTo + "9223372036854775807": false,
		run.Retry: false, run.Skip: false, "": false, "limitless": false} {
		assert.Equal(t, steers, run.Steers(verb), verb)
	}
}

func TestASnapshotOfCopyingStays(t *testing.T) {
	x := copies()
	x.told(run.RoundBegun, 1, "round", 1, "total", 100)
	x.told(run.Judged, 2, "round", 1)
	snap := x.s.Snapshot()
	x.told(run.Copied, 3, "bytes", 10, "done", 10, "took", 1)
	x.told(run.Judged, 4, "round", 2)
	require.NotNil(t, snap.Disks["log-host-1"])
	assert.Zero(t, snap.Disks["log-host-1"].Done)
	assert.EqualValues(t, 10, x.s.Disks["log-host-1"].Done)
	assert.Len(t, snap.Judged["log-host-1"], 1)
}

// However parts come, what was copied is their sum, and speed stays between the slowest and the fastest part.
func TestSpeedStaysBetweenItsParts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		x := copies()
		x.told(run.RoundBegun, 0, "round", 1, "total", 1<<40)
		sum, low, high, now := int64(0), 1e18, 0.0, 0.0
		for range rapid.IntRange(1, 20).Draw(t, "parts") {
			bytes, took := rapid.Int64Range(1, 1<<30).Draw(t, "bytes"), rapid.Float64Range(0.001, 100).Draw(t, "took")
			now += took
			sum += bytes
			x.told(run.Copied, now, "bytes", bytes, "done", sum, "took", strconv.FormatFloat(took, 'g', -1, 64))
			low, high = min(low, float64(bytes)/took), max(high, float64(bytes)/took)
		}
		d := x.s.Disks["log-host-1"]
		require.Equal(t, sum, d.Bytes)
		require.GreaterOrEqual(t, d.Speed, low*(1-1e-9))
		require.LessOrEqual(t, d.Speed, high*(1+1e-9))
	})
}

// chain is a run of three steps, one after the other, of 10 s each.
func chain(changes ...plan.Change) *tape {
	p := &plan.Plan{}
	for i := range 3 {
		id := fmt.Sprintf("r%d", i)
		r, s := plan.Resource{ID: id, Kind: kinds.Volume}, plan.Step{ID: id + "/create", Resource: id, Op: op.Create, Seconds: 10}
		if i > 0 {
			r.StandsOn, s.After = []string{fmt.Sprintf("r%d", i-1)}, []string{fmt.Sprintf("r%d/create", i-1)}
		}
		if i < len(changes) {
			r.Change = changes[i]
		}
		p.Resources, p.Steps = append(p.Resources, r), append(p.Steps, s)
	}
	return &tape{s: run.New(plan.Reindexed(p))}
}

func bars(x *tape, seconds float64) (string, time.Duration) {
	all, end := x.s.Forecast(at(seconds))
	text := ""
	for _, b := range all {
		text += fmt.Sprintf("%v-%v ", b.From.Seconds(), b.To.Seconds())
	}
	return text, end
}

func TestForecastsOfEveryState(t *testing.T) {
	x := chain()
	text, end := bars(x, 5)
	assert.Equal(t, "0-10 10-20 20-30 ", text, "before it begins")
	assert.Equal(t, 30*time.Second, end)
	x.play(run.RunStarted, "", 0)
	text, _ = bars(x, 4)
	assert.Equal(t, "4-14 14-24 24-34 ", text, "what has not begun begins now")
	x.play(run.StepStarted, "r0/create", 5)
	text, _ = bars(x, 8)
	assert.Equal(t, "5-15 15-25 25-35 ", text)
	text, _ = bars(x, 40)
	assert.Equal(t, "5-40 40-50 50-60 ", text, "what is late ends now at the earliest")
	x.play(run.StepDone, "r0/create", 12)
	x.play(run.StepStarted, "r1/create", 12)
	x.play(run.StepFailed, "r1/create", 14)
	text, end = bars(x, 20)
	assert.Equal(t, "5-12 12-14 0-0 ", text, "what is held has no bar")
	assert.Equal(t, 14*time.Second, end)
	x.play(run.RunEnded, "", 15)
	text, _ = bars(x, 99)
	assert.Equal(t, "5-12 12-14 0-0 ", text, "and when it is over nothing moves")
	lacking := chain()
	lacking.play(run.RunStarted, "", 0)
	lacking.play(run.StepDone, "r0/create", 9)
	text, _ = bars(lacking, 20)
	assert.Equal(t, "9-9 20-30 30-40 ", text, "a journal that lacks a beginning does not stretch the picture")
}

func TestResourcesKnowWhatTheyCarry(t *testing.T) {
	x := chain()
	require.Len(t, x.s.Carries("r0"), 1)
	assert.Equal(t, "r1", x.s.Carries("r0")[0].ID)
	assert.Empty(t, x.s.Carries("r2"))
	assert.Empty(t, x.s.Carries("nothing"))
	assert.Nil(t, x.s.StepsOf("nothing"))
	assert.Nil(t, x.s.Resource("nothing"))
	assert.Zero(t, x.s.Resource("r0").Fraction())
	x.play(run.StepDone, "r0/create", 1)
	assert.Equal(t, 1.0, x.s.Resource("r0").Fraction())
	empty := run.New(plan.Reindexed(&plan.Plan{Resources: []plan.Resource{{ID: "x"}}}))
	assert.Zero(t, empty.Resource("x").Fraction(), "what has no steps has done none")
}

func TestOnlyAPlanThatLeavesNothingRetires(t *testing.T) {
	assert.True(t, chain(plan.Retire, plan.Retire, plan.Retire).s.Retiring())
	assert.False(t, chain(plan.Retire, plan.Keep, plan.Retire).s.Retiring())
	assert.False(t, chain().s.Retiring())
	assert.False(t, run.New(plan.Reindexed(&plan.Plan{})).Retiring())
}

func TestAttributesAreKnownOnceTheyAreLearned(t *testing.T) {
	x := chain()
	_, known := x.s.Attribute("r0", "site.id")
	assert.False(t, known)
	_, known = x.s.Attribute("nothing", "site.id")
	assert.False(t, known)
	x.play(run.Learned, "r0/create", 1, func(e *run.Event) { e.Attributes = map[string]string{"site.id": "v-1", "empty": ""} })
	v, known := x.s.Attribute("r0", "site.id")
	assert.True(t, known)
	assert.Equal(t, "v-1", v)
	_, known = x.s.Attribute("r0", "empty")
	assert.True(t, known, "what is known to be empty is known")
}

func TestTriesRetriesAndDiscardsAreCounted(t *testing.T) {
	x := chain()
	x.play(run.RunStarted, "", 0)
	x.play(run.StepStarted, "r0/create", 1)
	x.play(run.StepAsked, "r0/create", 1, func(e *run.Event) { e.Attributes = map[string]string{"site.id": "v-1"} })
	st := x.s.Step("r0/create")
	assert.Equal(t, "v-1", st.AskedID)
	assert.Equal(t, at(1), st.Started)
	x.play(run.StepRetry, "r0/create", 2, func(e *run.Event) { e.Text = "it was busy" })
	assert.Equal(t, 1, st.Retries)
	assert.Contains(t, st.Log[len(st.Log)-1].Text, "again: it was busy")
	x.play(run.Discarded, "r0/create", 3, func(e *run.Event) { e.Text = "half built" })
	assert.Empty(t, st.AskedID)
	assert.Equal(t, 1, st.Discards)
	assert.Contains(t, st.Log[len(st.Log)-1].Text, "thrown away: half built")
	x.play(run.StepFailed, "r0/create", 4, func(e *run.Event) { e.Text = "no room" })
	assert.Equal(t, 1, st.Tries)
	assert.Equal(t, "no room", st.Error)
	assert.Equal(t, at(4), st.Ended)
	x.play(run.StepStopped, "r1/create", 5, func(e *run.Event) { e.Text = "cancelled" })
	assert.Equal(t, "cancelled", x.s.Step("r1/create").Error)
	assert.Equal(t, at(5), x.s.Step("r1/create").Ended)
	x.play(run.StepPassed, "r2/create", 6, func(e *run.Event) { e.Text = "not needed" })
	assert.Equal(t, at(6), x.s.Step("r2/create").Ended)
	assert.Equal(t, run.Passed, x.s.Step("r2/create").Status)
}

func TestWhatStandsUnsureStandsFailed(t *testing.T) {
	s := run.Stood(chain().s.Plan, map[string]bool{"r1/create": true})
	assert.Equal(t, run.Failed, s.Step("r1/create").Status)
	assert.NotEmpty(t, s.Step("r1/create").Error)
	assert.Equal(t, run.Standing, s.Step("r0/create").Status)
	assert.Equal(t, run.Standing, s.Status)
}

// TestARoundThatBrokeOffGoesOnWhereItWas: what changed is counted since it began, and what it stood still is no time that it
// was copied.
func TestARoundThatBrokeOffGoesOnWhereItWas(t *testing.T) {
	x := copies()
	begun := func(seconds float64, done int, upto any) {
		x.told(run.RoundBegun, seconds, "round", 1, "total", 1000, "done", done, "at", done, "epoch", "e1", "upto", upto)
	}
	begun(0, 0, 4)
	d := x.s.Disks["log-host-1"]
	x.told(run.Copied, 10, "bytes", 400, "done", 400, "at", 400, "took", 10)
	x.told(run.Changed, 10, "bytes", 50)
	assert.InDelta(t, 5, d.Changing(), 1e-9)
	begun(110, 400, 4)
	assert.Equal(t, at(0), d.Began)
	assert.InDelta(t, 40, d.Rate(), 1e-9, "as fast as before")
	assert.InDelta(t, 5, d.Changing(), 1e-9)
	x.told(run.Copied, 120, "bytes", 400, "done", 800, "at", 800, "took", 10)
	assert.InDelta(t, 40, d.Rate(), 1e-9)
	x.told(run.Changed, 120, "bytes", 600)
	assert.InDelta(t, 5, d.Changing(), 1e-9, "it went on changing while it was not copied")
	begun(220, 800, 4)
	x.told(run.Copied, 225, "bytes", 200, "done", 1000, "at", 1000, "took", 5)
	x.told(run.RoundDone, 225)
	assert.Equal(t, run.Round{Round: 1, Began: at(0), At: at(225), Bytes: 1000, Idle: 200 * time.Second}, d.Past[0])
	assert.InDelta(t, 40, d.Rate(), 1e-9)

	x.told(run.RoundBegun, 230, "round", 2, "total", 90, "epoch", "e1", "upto", 5)
	assert.Equal(t, at(230), d.Began)
	assert.Zero(t, d.Changing(), "of the next round nothing is known")
	assert.Zero(t, d.Idle)
	x.told(run.Changed, 230, "bytes", 9)
	assert.Zero(t, d.Changing(), "nor is it in no time")
}

// TestWhatBeginsAnewIsAnotherRound: another mark, another epoch, or a mark that is none.
func TestWhatBeginsAnewIsAnotherRound(t *testing.T) {
	for name, c := range map[string]struct {
		epoch             string
		first, then, done int
		anew              bool
		idle              time.Duration
	}{
		"the same":           {"e1", 4, 4, 300, false, 10 * time.Second},
		"from the beginning": {"e1", 4, 4, 0, false, 20 * time.Second},
		"another mark":       {"e1", 4, 5, 0, true, 0},
		"another epoch":      {"e2", 4, 4, 0, true, 0},
		"nothing is noted":   {"e1", 0, 0, 300, true, 0},
	} {
		x := copies()
		x.told(run.RoundBegun, 0, "round", 1, "total", 1000, "epoch", "e1", "upto", c.first)
		x.told(run.Copied, 10, "bytes", 300, "done", 300, "at", 300, "took", 10)
		x.told(run.RoundBegun, 20, "round", 1, "total", 1000, "done", c.done, "at", c.done, "epoch", c.epoch, "upto", c.then)
		d := x.s.Disks["log-host-1"]
		assert.Equal(t, c.anew, d.Began.Equal(at(20)), name)
		assert.Equal(t, c.idle, d.Idle, name)
	}
}

// TestWhatIsToldTwiceCountsOnce: whoever follows a journal may be given again what was read before.
func TestWhatIsToldTwiceCountsOnce(t *testing.T) {
	x := copies()
	x.told(run.RoundBegun, 0, "round", 1, "total", 1000, "epoch", "e1", "upto", 4)
	copied := run.Event{Seq: x.seq + 1, At: at(5), Kind: run.Copied, Resource: "log-host-1", Attributes: map[string]string{"disk": "log-host-1", "bytes": "400", "wire": "100"}}
	decided := run.Event{Seq: x.seq + 2, At: at(6), Kind: run.Decided, Step: "log-host-1/follow", Text: run.Pause}
	earlier := run.Event{Seq: x.seq, At: at(9), Kind: run.Copied, Resource: "log-host-1", Attributes: map[string]string{"disk": "log-host-1", "bytes": "1"}}
	for _, e := range []run.Event{copied, decided, copied, decided, earlier} {
		x.s.Apply(e)
	}
	d, follow := x.s.Disks["log-host-1"], x.s.Step("log-host-1/follow")
	assert.EqualValues(t, []int64{400, 100}, []int64{d.Bytes, d.Wire})
	assert.Equal(t, []run.Line{{At: at(6), Text: "decided: " + run.Pause}}, follow.Log)
	assert.Equal(t, at(6), x.s.LastAt)
}
