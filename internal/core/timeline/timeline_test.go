package timeline

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
)

func names(t *Timeline) []string {
	var out []string
	for _, l := range t.Lanes {
		out = append(out, l.Name)
	}
	return out
}

func TestLanesFitTheRoom(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	now := time.Now()
	all := New(s, now, 20)
	assert.Equal(t, []string{"networks", "volumes", "instances"}, names(all)[:3], "in the order in which they begin")
	assert.Contains(t, names(all), "alert-dispatch")
	assert.Contains(t, names(New(s, now, 10)), "alerting", "by service where nodes are too many")
	assert.Equal(t, []string{"sites build", "software", "endpoints"}, names(New(s, now, 4)), "by layer where services are too many")
	assert.InDelta(t, s.Plan.Seconds, all.End.Seconds(), 0.1)
	assert.False(t, all.Begun)
}

func TestBarsOfOneKindMerge(t *testing.T) {
	sec := func(n int) time.Duration { return time.Duration(n) * time.Second }
	got := merge([]Bar{
		{sec(0), sec(4), run.Standing, false}, {sec(2), sec(6), run.Standing, false}, {sec(8), sec(9), run.Standing, false},
		{sec(1), sec(3), run.Standing, true}, {sec(5), sec(7), run.UnderWay, false},
	})
	assert.Equal(t, []Bar{
		{sec(0), sec(6), run.Standing, false}, {sec(8), sec(9), run.Standing, false},
		{sec(5), sec(7), run.UnderWay, false}, {sec(1), sec(3), run.Standing, true},
	}, got, "what must be seen is drawn last")
}

func TestTicksAreRound(t *testing.T) {
	for length, want := range map[time.Duration]time.Duration{8 * time.Second: time.Second, 75 * time.Second: 10 * time.Second,
		9 * time.Minute: time.Minute, 5 * time.Hour: time.Hour, 90 * time.Hour: 12 * time.Hour} {
		assert.Equal(t, want, Tick(length, 10), length)
	}
	assert.Equal(t, 24*time.Hour, Tick(1000*time.Hour, 1))
}
