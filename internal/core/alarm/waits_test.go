package alarm

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/measure"
)

// TestAnAlertWaitsForARun holds that what a run works on is neither over nor another alert: what came of it is seen after it.
func TestAnAlertWaitsForARun(t *testing.T) {
	g := NewGraph([]Node{{ID: "instance s/1", Rank: Instance, Name: "one", Site: "s", Deployment: 1}, {ID: "instance s/2", Rank: Instance, Name: "two", Site: "s", Deployment: 2}})
	over := []Alarm{{Thing: "instance s/1", Kind: measure.OfInstance, Name: "one", Threshold: "on", Measure: measure.On, Severity: Critical, Since: noon, Words: "it is off"}}
	works := true
	b := Book{Waits: func(thing string) bool { return works && thing == "instance s/1" }}
	at := noon
	step := func(alarms []Alarm) Changes { at = at.Add(15 * time.Second); return b.Step(g, Find(g, alarms), at) }
	require.Len(t, step(over).Opened, 1)
	c := step(nil)
	require.Len(t, c.Changed, 1)
	assert.True(t, c.Changed[0].Waits)
	assert.Zero(t, c.Changed[0].Ended)
	assert.Equal(t, Changes{}, step(nil), "nothing is said of it again")
	works = false
	c = step(over)
	require.Len(t, c.Changed, 1, "it did not help: it is the same one still")
	assert.Equal(t, []any{int64(1), false}, []any{c.Changed[0].ID, c.Changed[0].Waits})
	works = true
	step(nil)
	works = false
	c = step(nil)
	require.Len(t, c.Ended, 1)
	assert.False(t, c.Ended[0].Waits)
	assert.Empty(t, b.Open)
	works = true
	other := over[0]
	other.Thing = "instance s/2"
	require.Len(t, step([]Alarm{other}).Opened, 1)
	assert.Len(t, step(nil).Ended, 1, "what nobody works on is over when it is")
}

// TestWhatIsNotKnownYetIsPending holds that of a thing that rested it is not known how it is until it was read, and was not over for a moment.
func TestWhatIsNotKnownYetIsPending(t *testing.T) {
	f, err := Read([]byte("version: andamio.thresholds/1\nthresholds: [{ name: x, measure: cores, critical: { above: 2, for: 1m } }]"))
	require.NoError(t, err)
	thing := &measure.Thing{Key: "instance s/1", Kind: measure.OfInstance}
	of, err := f.For(thing)
	require.NoError(t, err)
	var p Panel
	assert.False(t, p.Pending(thing.Key), "of nothing nothing is waited for")
	at := noon
	step := func(rests bool, r Reading) bool {
		at = at.Add(15 * time.Second)
		p.Step(thing, of, func(string) Reading { return r }, rests, at)
		return p.Pending(thing.Key)
	}
	assert.True(t, step(true, Reading{}))
	assert.True(t, step(false, Reading{}))
	assert.True(t, step(false, Reading{Has: true, Value: 3}))
	assert.False(t, step(false, Reading{Has: true, Value: 1}))
}
