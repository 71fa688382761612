package operate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/service/watch"
	"andamio/internal/tui/view"
)

// line is a measure of the last 15 minutes that was the same all the time, but for its last points.
func line(name string, value, limit float64, last ...float64) watch.Line {
	l := watch.Line{Name: name, Limit: limit, At: noon.Add(-15 * time.Second), Now: value}
	for i := range 120 {
		v := value
		if k := i - (120 - len(last)); k >= 0 {
			v, l.Now = last[k], last[k]
		}
		l.Points = append(l.Points, measure.Point{At: noon.Add(-time.Hour + time.Duration(i)*30*time.Second), Min: v, Mean: v, Max: v, N: 1})
	}
	return l
}

// watching is the view with what was measured of two machines and an endpoint, and alerts.
func watching(t *testing.T, alerts ...alarm.Alert) *View {
	t.Helper()
	v := standing(t)
	v.watched.chosen = true
	v.watched.of, v.watched.asked = map[int64][]watch.Overview{}, map[int64]time.Time{1: noon}
	host := measure.Thing{Kind: measure.OfInstance, Name: "map-host 1", Resource: "map-host-1", Site: "alisio-norte", Deployment: 1, Tier: "map"}
	other := measure.Thing{Kind: measure.OfInstance, Name: "contacts-host", Resource: "contacts-host-1", Site: "vega", Deployment: 1, Tier: "register"}
	end := measure.Thing{Kind: measure.OfEndpoint, Name: "river-map 1 http", Resource: "river-map-1.app_endpoint", Site: "alisio-norte", Deployment: 1, Tier: "map"}
	stale := line(measure.CoresUsed, 1, 4)
	stale.At = noon.Add(-20 * time.Minute)
	v.Update(measured{id: 1, of: []watch.Overview{
		{Thing: host, Lines: []watch.Line{line(measure.CoresUsed, 0.5, 2), line(measure.MemoryUsed, 2<<30, 8<<30), line(measure.DiskUsed, 8<<30, 20<<30, 19.5*(1<<30), 19.5*(1<<30))}},
		{Thing: other, Lines: []watch.Line{stale}},
		{Thing: end, Lines: []watch.Line{line(measure.Answers, 1, 0, 0, 0), line(measure.AnswerTime, 0.004, 0)}},
	}, alerts: alerts, recent: alerts})
	return v
}

func anAlert() alarm.Alert {
	return alarm.Alert{ID: 4, Cause: "instance alisio-norte/i-7", Rank: "instance", Name: "map-host 1", Site: "alisio-norte", Deployment: 1, Resource: "map-host-1", Deployments: []int64{1}, Severity: alarm.Critical,
		Words: "alisio-norte says: it is not there", Since: noon.Add(-13 * time.Minute), Weakened: []string{"map"}, Below: 1, Alarms: []alarm.Alarm{{Thing: "instance alisio-norte/i-7", Measure: measure.On, Severity: alarm.Critical}, {Thing: "e"}}}
}

func TestWhatIsSelectedHasItsMeasuresBesideIt(t *testing.T) {
	v := watching(t)
	require.True(t, v.Find("river-map 1 http"))
	text := draw(v, 160, 47)
	assert.Regexp(t, `measures +the last 15 minutes`, text)
	assert.Regexp(t, `answers +no`, text)
	assert.Regexp(t, `time to answer +4\.0 ms`, text)
	assert.Regexp(t, `cores in use +0\.5 +25 %`, text)
	assert.Regexp(t, `disk in use +19\.5 GiB +98 %`, text)
	assert.NotContains(t, text, "nobody sees to it")
	require.True(t, v.Find("contacts-host"))
	assert.Regexp(t, `cores in use +1 · 20m ago`, draw(v, 160, 47), "what was known last has its age")
}

func TestWhatIsWrongStandsAboveThePicture(t *testing.T) {
	a := anAlert()
	v := watching(t, a, alarm.Alert{ID: 5, Rank: "host", Name: "h", Site: "vega", Deployments: []int64{1}, Severity: alarm.Warning, Since: noon, Words: "slow"}, alarm.Alert{ID: 6, Deployments: []int64{9}})
	text := draw(v, 160, 47)
	assert.Regexp(t, `✕ critical +instance map-host 1 at alisio-norte +since \d\d:47 · 13m(00s)? ago`, text)
	assert.Contains(t, text, "alisio-norte says: it is not there")
	assert.Regexp(t, `weakens map · 1 alarm silent below it +nobody sees to it · 1 more`, text)
	small := draw(v, 80, 24)
	assert.Contains(t, small, "instance map-host 1 at alisio-norte", "also where there is little room")
	var names []string
	for _, act := range v.Actions() {
		names = append(names, act.Name)
	}
	assert.Subset(t, names, []string{"build map-host 1 again", "see to instance map-host 1 at alisio-norte", "silence instance map-host 1 at alisio-norte", "silence host h at vega"})
	assert.NotContains(t, names, "silence  ")
	a.Known = &alarm.Said{By: "ana"}
	assert.Contains(t, draw(watching(t, a), 160, 47), "ana sees to it")
	a.Muted = &alarm.Said{By: "eva", Until: noon.Add(time.Hour), Say: "planned"}
	v = watching(t, a)
	assert.Contains(t, draw(v, 160, 47), "silenced by eva until")
	assert.Equal(t, "be told of instance map-host 1 at alisio-norte again", v.Actions()[1].Name)
}

func TestCurvesTakeThePlaceOfThePicture(t *testing.T) {
	v := watching(t, anAlert())
	draw(v, 160, 47)
	view.Press(v.Keys(), "m")
	text := draw(v, 160, 47)
	assert.Regexp(t, `measures +the last 15 minutes +- \+`, text)
	assert.Regexp(t, `▐ *map-host 1 alisio-norte +25 % +▂+.* +25 % +▂+.* 98 % +▃+`, text)
	assert.Regexp(t, `river-map 1 http alisi\S* +no +█+▁ +4\.0 ms`, text)
	assert.Regexp(t, `map-host 1 +cores in use · alisio-norte`, text)
	assert.Regexp(t, `[⠁-⣿]{20}`, text, "what is selected is drawn large")
	assert.Regexp(t, `─+✕─+`, text, "with what went wrong")
	view.Press(v.Keys(), "right")
	view.Press(v.Keys(), "right")
	view.Press(v.Keys(), "right")
	assert.Regexp(t, `map-host 1 +sent · alisio-norte`, draw(v, 160, 47))
	assert.Contains(t, draw(v, 160, 47), "it was not measured in that time")
	view.Press(v.Keys(), "down")
	assert.Equal(t, "contacts-host-1", v.elevation.Selected, "beside is what is selected")
	view.Press(v.Keys(), "+")
	assert.Contains(t, draw(v, 160, 47), "the last hour")
	view.Press(v.Keys(), "-")
	view.Press(v.Keys(), "-")
	assert.Contains(t, draw(v, 160, 47), "the last 15 minutes")
	for _, size := range [][2]int{{80, 24}, {100, 30}, {400, 120}, {30, 10}} {
		assert.NotPanics(t, func() { draw(v, size[0], size[1]) })
	}
	view.Press(v.Keys(), "m")
	assert.NotContains(t, draw(v, 160, 47), "- +")
	v = watching(t)
	v.watched.of = nil
	draw(v, 160, 47)
	view.Press(v.Keys(), "m")
	assert.Contains(t, draw(v, 160, 47), "nothing was measured of it in that time")
}

func TestSilenceIsForAWhileAndForAReason(t *testing.T) {
	long, why, err := silenceOf(" 4h the disk is on its way ")
	require.NoError(t, err)
	assert.Equal(t, 4*time.Hour, long)
	assert.Equal(t, "the disk is on its way", why)
	for _, text := range []string{"", "4h", "4h  ", "soon it is over", "0h x"} {
		_, _, err := silenceOf(text)
		assert.Error(t, err, text)
	}
}
