package elevation

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
)

func titles(c Cell) []string {
	var out []string
	for _, p := range c.Planks {
		out = append(out, p.Title)
	}
	return out
}

func TestPlanksStandAtTheirSiteAndLevel(t *testing.T) {
	pic := New(run.New(plantest.Plan(t, "drill")), BySite, false)
	require.Len(t, pic.Bays, 5)
	assert.Equal(t, Bay{"presa", "edge"}, pic.Bays[0])
	assert.Equal(t, []string{"gauge-lan", "gauge-spool"}, titles(pic.Cells[0][0]))
	assert.Equal(t, []string{"gauge-node"}, titles(pic.Cells[1][0]), "interfaces are part of their instance's plank")
	assert.Equal(t, []string{"forecast 1", "forecast 2", "forecast 3"}, titles(pic.Cells[3][2]))
	assert.Equal(t, []int{5, 4, 2, 3, 1, 1, 1}, pic.Rows())
	level, bay, index, ok := pic.Find("forecast-2")
	assert.Equal(t, []any{3, 2, 1, true}, []any{level, bay, index, ok})
	_, _, _, ok = pic.Find("nobody")
	assert.False(t, ok)
}

func TestGroupsCountTheirInstances(t *testing.T) {
	s := run.New(plantest.Plan(t, "storm-season"))
	for _, e := range []run.EventKind{run.StepStarted, run.StepDone} {
		s.Apply(run.Event{Kind: e, Step: "forecast-host-3/create", Resource: "forecast-host-3"})
		s.Apply(run.Event{Kind: e, Step: "forecast-port-3/plug", Resource: "forecast-port-3"})
	}
	pic := New(s, BySite, true)
	cell := pic.Cells[1][2]
	assert.Equal(t, []string{"forecast-host ×24", "map-host ×3"}, titles(cell))
	group := cell.Planks[0]
	assert.Len(t, group.IDs, 24)
	assert.Equal(t, map[run.Status]int{run.Planned: 23, run.Standing: 1}, group.Counts)
	assert.Equal(t, run.UnderWay, group.Status, "one of many standing is under way")
	assert.InDelta(t, 1.0/24, group.Fraction, 1e-9)
	assert.True(t, group.Has("forecast-host-24"))
}

func TestBaysByService(t *testing.T) {
	pic := New(run.New(plantest.Plan(t, "drill")), ByService, true)
	var names []string
	for _, b := range pic.Bays {
		names = append(names, b.Name)
	}
	assert.Equal(t, []string{"gauge", "forecasting", "register", "alerting", "map"}, names)
}

func TestTheWorstStatusOfAGroupShows(t *testing.T) {
	for _, c := range []struct{ a, b, want run.Status }{
		{run.Standing, run.Standing, run.Standing}, {run.Standing, run.Planned, run.UnderWay}, {run.Failed, run.Standing, run.Failed},
		{run.Held, run.Planned, run.Held}, {run.UnderWay, run.Held, run.UnderWay}, {run.Stopped, run.UnderWay, run.Stopped},
	} {
		assert.Equal(t, c.want, join(c.a, c.b), "%s and %s", c.a, c.b)
		assert.Equal(t, c.want, join(c.b, c.a), "%s and %s", c.b, c.a)
	}
}
