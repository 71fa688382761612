package operate

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/guard"
	"andamio/internal/core/measure"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/watch"
	"andamio/internal/tui/view"
)

// TestThePastIsShownAndNothingIsDoneInIt goes back, is shown how it was, and comes back.
func TestThePastIsShownAndNothingIsDoneInIt(t *testing.T) {
	v := watching(t)
	draw(v, 160, 47)
	view.Press(v.Keys(), "{")
	at := noon.Add(-15 * time.Second)
	require.Equal(t, at, v.past)
	was := v.all[0]
	was.Runs = append(was.Runs[:0:0], was.Runs...)
	lost := anAlert()
	msg := recalledPast{at: at, all: []deployments.Past{{Deployment: was, Picture: run.Stood(was.Stand.Plan, nil)}}, looked: map[int64]deployments.Readings{1: {At: at, Sites: map[string]run.Reading{
		"map-host-1": {Text: "it was not on", At: at}}, Answers: map[string]run.Reading{}}}, of: v.watched.of, alerts: []alarm.Alert{lost}, recent: []alarm.Alert{lost}}
	stale := msg
	stale.at = at.Add(-time.Hour)
	v.Update(stale) // somebody went on meanwhile
	require.Len(t, v.all, 2)
	v.Update(msg)
	text := draw(v, 160, 47)
	assert.Regexp(t, `as it was at \d\d:59:45 +\S+ ago · from the journal and what was measured · nothing can be done in the past +\{ back  \} forth  esc now`, text)
	assert.Regexp(t, `✕ critical +instance map-host 1 at alisio-norte +since \d\d:47 · 12m`, text, "as old as it was then")
	assert.Regexp(t, `✕ map +map-host 1 gone wrong`, text)
	assert.NotContains(t, text, "retire lab", "what was not there yet is not")
	assert.Regexp(t, `─+✕─+.*▐`, text, "where on the line of time that is")
	assert.Contains(t, fmt.Sprint(v.Why().Lines), "nothing, by nobody")
	before := msg
	before.done = []app.Entry{{At: at.Add(-time.Minute), Actor: guard.Actor{Name: "ines", Way: guard.Command}, Act: guard.SetThresholds, On: "2 thresholds"}}
	v.Update(before)
	assert.Regexp(t, `what was done in the hour before.*:58:45  ines.*set the thresholds 2 thresholds`, fmt.Sprint(v.Why().Lines))
	assert.Empty(t, v.Actions())
	assert.IsType(t, view.Notice{}, v.shellHere()())
	v.Update(looked{id: 1, now: deployments.Readings{At: noon, Sites: map[string]run.Reading{"map-host-1": {Text: "active", Good: true, At: noon}}}})
	v.Update(measured{id: 1})
	v.Update(view.Runs{})
	assert.Regexp(t, `✕ map +map-host 1 gone wrong`, draw(v, 160, 47), "what is said now does not change what was")
	view.Press(v.Keys(), "{")
	assert.Equal(t, at.Add(-15*time.Second), v.past)
	v.watched.span = 4
	view.Press(v.Keys(), "{")
	assert.Equal(t, at.Add(-15*time.Second-2*time.Hour), v.past)
	assert.NotPanics(t, func() { draw(v, 80, 24); draw(v, 40, 12) })
	assert.Contains(t, draw(v, 80, 24), "as it was at")
	view.Press(v.Keys(), "esc")
	assert.True(t, v.past.IsZero())
	view.Press(v.Keys(), "}")
	assert.True(t, v.past.IsZero(), "what is to come is not known")
	v = watching(t)
	draw(v, 160, 47)
	view.Press(v.Keys(), "{")
	view.Press(v.Keys(), "}")
	assert.True(t, v.past.IsZero())
}

// TestWhatIsReadOfAMomentIsOfThatMoment holds that measures of another deployment are added to what was, and that what was read of another moment is not.
func TestWhatIsReadOfAMomentIsOfThatMoment(t *testing.T) {
	v := standing(t)
	v.past, v.watched.of = noon.Add(-time.Hour), map[int64][]watch.Overview{}
	of := []watch.Overview{{Thing: measure.Thing{Name: "map-host 1"}}}
	v.Update(measuredPast{id: 7, at: noon, of: of})
	assert.Empty(t, v.watched.of)
	v.Update(measuredPast{id: 7, at: v.past, of: of})
	assert.Equal(t, of, v.watched.of[7])
	assert.NotNil(t, v.Update(measuredPast{id: 8, at: v.past, err: errors.New("no")}), "it is said")
}
