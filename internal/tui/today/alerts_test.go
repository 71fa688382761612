package today

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/alarm"
	"andamio/internal/core/health"
	"andamio/internal/core/measure"
	"andamio/internal/core/run"
	"andamio/internal/tui/view"
)

// TestWhatIsWrongComesFirst holds that an alert is before what else is wrong, once, with what would help against it, and that what was silenced is not told.
func TestWhatIsWrongComesFirst(t *testing.T) {
	lost := alarm.Alert{ID: 7, Cause: "instance vega/1", Rank: "instance", Name: "contacts-host", Site: "vega", Deployment: 1, Resource: "contacts-host-1", Deployments: []int64{1}, Severity: alarm.Critical,
		Words: "vega says: it is not there", Since: ago(13 * time.Minute), Down: []string{"register"},
		Alarms: []alarm.Alarm{{Thing: "instance vega/1", Kind: measure.OfInstance, Name: "contacts-host", Threshold: "switched off", Shipped: true, Line: 16, Measure: measure.On, Severity: alarm.Critical, Words: "it is not there"},
			{Thing: "endpoint d1/contacts", Kind: measure.OfEndpoint, Name: "contacts", Threshold: "own", Line: 3, Words: "refused"}}}
	slow := alarm.Alert{ID: 8, Cause: "site dam", Rank: "site", Name: "dam", Severity: alarm.Warning, Words: "time to answer 7 s", Since: ago(time.Hour), Known: &alarm.Said{By: "eva"}}
	quiet := alarm.Alert{ID: 9, Rank: "site", Name: "hall", Severity: alarm.Critical, Words: "x", Since: ago(time.Hour), Muted: &alarm.Said{Until: now.Add(time.Hour)}}
	host := alarm.Alert{ID: 10, Cause: "host vega/a", Rank: "host", Name: "a-2", Site: "vega", Deployments: []int64{2}, Inferred: true, Severity: alarm.Critical, Words: "all fails", Since: ago(time.Hour)}
	v, _ := seen(t, 160, ended(3, "x", run.Failed))
	v.Update(done{alerts: []alarm.Alert{lost, host, slow, quiet}})
	v.Update(view.Health{All: []health.Deployment{{ID: 1, Name: "flood-watch", Status: run.Failed, Worst: "contacts-host gone wrong"}, {ID: 5, Name: "lab", Status: run.Failed, Worst: "y"}}})
	text := drawn(v, 160)
	assert.Regexp(t, `(?s)instance contacts-host at vega.*host a-2 at vega.*x run 3 failed.*site dam`, text)
	assert.Regexp(t, `vega says: it is not there · takes down register`, text)
	assert.Contains(t, text, "a: build contacts-host again")
	assert.Contains(t, text, "eva sees to it")
	assert.NotContains(t, text, "site hall")
	assert.NotContains(t, text, "flood-watch is not well", "the alert says so")
	assert.Contains(t, text, "lab is not well")
	assert.Equal(t, "5", v.Badge(now))
	var names []string
	for _, a := range v.Actions() {
		names = append(names, a.Name)
	}
	assert.Equal(t, []string{"look at it; a: build contacts-host again", "build contacts-host again", "see to instance contacts-host at vega", "silence instance contacts-host at vega"}, names)
	why := ""
	for _, l := range v.Why().Lines {
		why += l.Text + "\n"
	}
	assert.Contains(t, why, "instance contacts-host: it is not there (switched off, shipped)")
	assert.Contains(t, why, "endpoint contacts: refused (own, thresholds.yaml:3)")
	shown := func() any { return v.open(v.queue())() }
	require.IsType(t, view.Show{}, shown())
	assert.Equal(t, "contacts-host-1", shown().(view.Show).Thing.ID)
	twin := lost // of another deployment, by the same name
	twin.ID, twin.Deployment, twin.Deployments, twin.Known, twin.Alarms = 11, 6, []int64{6}, &alarm.Said{By: "eva"}, []alarm.Alarm{{Thing: "instance vega/1", Measure: measure.DiskUsed}}
	v.Update(done{alerts: []alarm.Alert{lost, twin, host}})
	drawn(v, 160)
	view.Press(v.Keys(), "down")
	require.Len(t, v.Actions(), 2, "it is known by its number, and not by its name")
	assert.Equal(t, "silence instance contacts-host at vega", v.Actions()[1].Name)
	view.Press(v.Keys(), "down")
	assert.Equal(t, int64(2), shown().(view.Show).Thing.Deployment)
	assert.Len(t, v.Actions(), 3, "nothing can be planned against the loss of a host")
}
