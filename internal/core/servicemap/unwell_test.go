package servicemap_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/alarm"
	"andamio/internal/core/servicemap"
)

// TestWhatAlertsAreOfIsShownWhereItIs has alerts of every sort of thing, and looks which nodes of the map are in trouble, and why.
func TestWhatAlertsAreOfIsShownWhereItIs(t *testing.T) {
	m := sample()
	of := func(cause string, s alarm.Severity, alarms ...alarm.Alarm) alarm.Alert {
		return alarm.Alert{ID: 7, Cause: cause, Rank: "instance", Name: "2", Severity: s, Words: "it is off", Alarms: alarms}
	}
	words := func(a ...alarm.Alert) map[string]string {
		out := map[string]string{}
		for id, x := range m.Troubles(a) {
			out[id] = x.Severity.String() + " " + x.Words
			if x.Cause {
				out[id] += " (cause)"
			}
		}
		return out
	}
	hit := of("instance vega/2", alarm.Critical, alarm.Alarm{Thing: "instance vega/2", Severity: alarm.Critical, Words: "off"}, alarm.Alarm{Thing: "endpoint d1/b-1.front.page", Severity: alarm.Warning, Words: "slow"},
		alarm.Alarm{Thing: "endpoint d9/nobody", Severity: alarm.Critical, Words: "of another"})
	hit.Down, hit.Weakened = []string{"service b"}, []string{"service a", "a service that is in no map"}
	assert.Equal(t, map[string]string{"instance r/2": "critical it is off (cause)", "part d1/b-1": "warning slow", "service b": "critical taken down by instance 2", "service a": "warning weakened by instance 2"}, words(hit))
	for cause, id := range map[string]string{"site vega": "site vega", "host vega/z/h1": "host vega/z/h1", "part d1/a-2": "part d1/a-2", "endpoint d1/a-2": "part d1/a-2"} {
		assert.Equal(t, map[string]string{id: "warning it is off (cause)"}, words(of(cause, alarm.Warning)), cause)
	}
	for _, cause := range []string{"andamio", "", "instance vega/none", "host vega/z/none", "endpoint ", "zone vega/z"} {
		assert.Empty(t, words(of(cause, alarm.Critical)), cause)
	}
	worse := of("instance vega/2", alarm.Warning)
	assert.Equal(t, "critical it is off (cause)", words(worse, of("instance vega/2", alarm.Critical), worse)["instance r/2"], "the worst counts")
	assert.Empty(t, servicemap.New(servicemap.Input{}).Troubles([]alarm.Alert{hit}))
}
