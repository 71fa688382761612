package alarm

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/measure"
)

// TestAWholeIsOverBecauseOfWhatItIsMadeOf holds that what belongs together is a cause by itself only where nothing of it is over by the same.
func TestAWholeIsOverBecauseOfWhatItIsMadeOf(t *testing.T) {
	t.Parallel()
	g := NewGraph([]Node{
		{ID: "host h", Rank: Host, Name: "h", Site: "s"},
		{ID: "a", Rank: Instance, Name: "a", Site: "s", On: []string{"host h"}}, {ID: "b", Rank: Instance, Name: "b", Site: "s", On: []string{"host h"}},
		{ID: "a http", Rank: Endpoint, Name: "a http", On: []string{"a"}}, {ID: "b http", Rank: Endpoint, Name: "b http", On: []string{"b"}},
		{ID: "whole d1", Rank: Whole, Name: "all of river", Deployment: 1, Holds: []string{"a", "b", "a http", "b http"}},
	})
	over := func(thing, name string, s Severity) Alarm {
		return Alarm{Thing: thing, Threshold: name, Measure: name, Severity: s, Since: noon}
	}
	answers, slowest, cores := over("whole d1", measure.WholeAnswers, Critical), over("whole d1", measure.WholeSlowest, Warning), over("whole d1", measure.WholeCores, Warning)
	for _, x := range []struct {
		say    string
		alarms []Alarm
		causes []string
	}{
		{"alone it is what is wrong", []Alarm{cores}, []string{"whole d1"}},
		{"by the same measure of one", []Alarm{cores, over("a", measure.CoresUsed, Critical)}, []string{"a"}},
		{"another measure of one says nothing of it", []Alarm{cores, over("a", measure.DiskUsed, Warning)}, []string{"whole d1", "a"}},
		{"what does not answer", []Alarm{answers, over("a http", measure.Answers, Critical)}, []string{"a http"}},
		{"what does not answer since its machine is off", []Alarm{answers, over("a http", measure.Answers, Critical), over("a", measure.On, Critical)}, []string{"a"}},
		{"what does not answer since all of a host is off", []Alarm{answers, over("a http", measure.Answers, Critical), over("a", measure.On, Critical), over("b", measure.On, Critical), over("b http", measure.Answers, Critical)}, []string{"host h"}},
		{"the slowest", []Alarm{slowest, over("b http", measure.AnswerTime, Warning)}, []string{"b http"}},
		{"the worse of two", []Alarm{slowest, over("a http", measure.AnswerTime, Warning), over("b http", measure.AnswerTime, Critical)}, []string{"b http", "a http"}},
	} {
		found := Find(g, x.alarms)
		var causes []string
		for _, c := range found {
			causes = append(causes, c.Node.ID)
		}
		assert.Equal(t, x.causes, causes, x.say)
	}
	var b Book
	opened := b.Step(g, Find(g, []Alarm{cores}), noon).Opened
	require.Len(t, opened, 1)
	assert.Equal(t, []any{"all of river", int64(1)}, []any{opened[0].Title(), opened[0].Deployment})

	b = Book{}
	b.Step(g, Find(g, []Alarm{answers}), noon)
	step := b.Step(g, Find(g, []Alarm{answers, over("a http", measure.Answers, Critical)}), noon)
	assert.Empty(t, append(step.Opened, step.Ended...), "it is the alert that it was")
	assert.Equal(t, "a http", b.Open[0].Cause, "a part is what is wrong, though the whole was over first")
	b.Step(g, Find(g, []Alarm{answers}), noon)
	assert.Equal(t, "a http", b.Open[0].Cause)
	assert.Len(t, b.Step(g, nil, noon).Ended, 1)
}
