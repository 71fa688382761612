package migrate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

func TestWavesAreLaidIntoWindows(t *testing.T) {
	saturday := time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC)
	windows := []plan.Window{{From: saturday, To: saturday.Add(6 * time.Hour)}, {From: saturday.Add(7 * 24 * time.Hour), To: saturday.Add(7*24*time.Hour + 6*time.Hour)}}
	hour := func(n float64) Wave { return Wave{Seconds: n * 3600} }
	at := func(h float64) time.Time { return saturday.Add(time.Duration(h * float64(time.Hour))) }
	week := 7 * 24.0
	for name, c := range map[string]struct {
		waves   []Wave
		windows []plan.Window
		want    []Slot
	}{
		"two in one window, one in the next": {[]Wave{hour(2), hour(3), hour(2)}, windows, []Slot{{at(0), at(2), true}, {at(2), at(5), true}, {at(week), at(week + 2), true}}},
		"no windows":                         {[]Wave{hour(1), hour(1)}, nil, []Slot{{at(-1), at(0), true}, {at(0), at(1), true}}},
		"longer than a window":               {[]Wave{{Seconds: 8 * 3600, TooLong: true}}, windows, []Slot{{at(0), at(week + 2), true}}},
		"no room left":                       {[]Wave{hour(6), hour(6), hour(1)}, windows, []Slot{{at(0), at(6), true}, {at(week), at(week + 6), true}, {}}},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, Schedule(c.waves, c.windows, at(-1))) })
	}
}

// moving is the state of a move of one workload with two disks, whose plan stops it for 8 s.
func moving() *run.State {
	disks := []plan.DiskCopy{{From: "h@a", To: "h"}, {From: "v@a", To: "v"}}
	terms := func() *plan.Copying { return &plan.Copying{From: "a", Disks: disks} }
	p := plan.Reindexed(&plan.Plan{Sites: []plan.Site{{Name: "a"}, {Name: "b"}}, Resources: []plan.Resource{{ID: "h", Kind: kinds.Instance, Site: "b"}, {ID: "h@a", Kind: kinds.Instance, Site: "a"},
		{ID: "v", Kind: kinds.Volume, Site: "b"}, {ID: "v@a", Kind: kinds.Volume, Site: "a"}},
		Steps: []plan.Step{{ID: "h/create", Resource: "h", Op: op.Create, Seconds: 3}, {ID: "h/replicate", Resource: "h", Op: op.Replicate, Copying: terms(), Seconds: 10, Start: 3},
			{ID: "h/follow", Resource: "h", Op: op.Follow, Copying: terms(), Seconds: 2, Start: 13}, {ID: "h@a/halt", Resource: "h@a", Op: op.Halt, Seconds: 2, Start: 15},
			{ID: "h/finish", Resource: "h", Op: op.Finish, Copying: terms(), Seconds: 1, Start: 17}, {ID: "h/boot", Resource: "h", Op: op.Boot, Seconds: 5, Start: 18},
			{ID: "h/carry", Resource: "h", Op: op.Carry, Start: 23}}})
	return run.New(p)
}

func TestHowLongAMoveGoesOnYet(t *testing.T) {
	s := moving()
	assert.Equal(t, 8.0, Down(s.Plan))
	assert.Equal(t, 10.0, DownWith(s.Plan, "h", 3), "a last round of 3 s instead of 1")
	began := time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC)
	at := func(seconds float64) time.Time { return began.Add(time.Duration(seconds * float64(time.Second))) }
	seq := int64(0)
	say := func(seconds float64, kind run.EventKind, step string, attributes ...string) {
		seq++
		e := run.Event{Seq: seq, At: at(seconds), Kind: kind, Step: step, Attributes: map[string]string{}}
		if r := s.Step(step); r != nil {
			e.Resource = r.Resource
		}
		for i := 0; i < len(attributes); i += 2 {
			e.Attributes[attributes[i]] = attributes[i+1]
		}
		s.Apply(e)
	}
	rest := func(seconds float64) Rest {
		t.Helper()
		got, known := RestOf(s, "h", Load{Mode: change.Warm, Size: 1 << 40}, at(seconds))
		require.True(t, known)
		return got
	}
	say(0, run.RunStarted, "")
	say(0, run.StepStarted, "h/create")
	_, known := RestOf(s, "h", Load{}, at(1))
	assert.False(t, known, "nothing was copied yet")
	say(3, run.StepDone, "h/create")
	say(3, run.StepStarted, "h/replicate")
	say(3, run.Sized, "h/replicate", "disk", "h", "total", "1000")
	say(3, run.Sized, "h/replicate", "disk", "v", "total", "3000")
	say(3, run.RoundBegun, "h/replicate", "disk", "h", "round", "1", "total", "1000")
	say(5, run.Copied, "h/replicate", "disk", "h", "done", "500", "bytes", "500")
	assert.Equal(t, Rest{14 * time.Second, 8 * time.Second}, rest(5), "3,500 of 4,000 bytes are left at 250 a second")
	assert.Equal(t, 13*time.Second, rest(6).Copy, "a second later, though nothing was told since")
	say(7, run.RoundDone, "h/replicate", "disk", "h")
	say(7, run.RoundBegun, "h/replicate", "disk", "v", "round", "1", "total", "3000")
	say(7, run.RoundDone, "h/replicate", "disk", "v")
	say(7, run.StepDone, "h/replicate")
	say(7, run.StepStarted, "h/follow")
	say(8, run.StepDone, "h/follow")
	say(8, run.StepStarted, "h@a/halt")
	assert.Equal(t, Rest{0, 7 * time.Second}, rest(9))
	say(10, run.StepDone, "h@a/halt")
	say(10, run.StepStarted, "h/finish")
	say(10, run.RoundBegun, "h/finish", "disk", "h", "round", "2", "total", "900")
	say(11, run.Copied, "h/finish", "disk", "h", "done", "300", "bytes", "300")
	assert.Equal(t, Rest{0, 7 * time.Second}, rest(11), "600 bytes at 300 a second, and 5 s to start")
	say(13, run.StepDone, "h/finish")
	say(13, run.StepStarted, "h/boot")
	say(18, run.StepDone, "h/boot")
	say(18, run.StepStarted, "h/carry")
	say(18, run.StepDone, "h/carry")
	assert.Zero(t, rest(19).Whole())
}
