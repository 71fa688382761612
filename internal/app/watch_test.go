package app

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/alarm"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/kinds"
	"andamio/internal/core/measure"
	"andamio/internal/core/react"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/service/watch"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
)

// watching measures a workspace by a clock of its own, 15 seconds later each time.
type watching struct {
	*App
	t   *testing.T
	now time.Time
}

func watchOver(t *testing.T, a *App) *watching {
	return &watching{a, t, time.Now().UTC().Truncate(30 * time.Minute).Add(-time.Hour)}
}

// measures measures so often, and returns the alerts that go on then.
func (w *watching) measures(times int) []alarm.Alert {
	w.t.Helper()
	for range times {
		require.NoError(w.t, w.MeasureAll(ctx, w.now))
		w.now = w.now.Add(watch.Every)
	}
	all, err := w.Alerts(ctx)
	require.NoError(w.t, err)
	return all
}

// thing is a thing that is measured, by its name and kind.
func (w *watching) thing(kind measure.Kind, name string) measure.Thing {
	w.t.Helper()
	all, err := w.Measured(ctx, 0)
	require.NoError(w.t, err)
	i := slices.IndexFunc(all, func(t measure.Thing) bool { return t.Kind == kind && t.Name == name })
	require.GreaterOrEqual(w.t, i, 0, "%s %s", kind, name)
	return all[i]
}

func (w *watching) curve(t measure.Thing, name string, over time.Duration, step time.Duration) (known []measure.Point) {
	w.t.Helper()
	all, err := w.Curve(ctx, t, name, w.now.Add(-over), w.now, step)
	require.NoError(w.t, err)
	return slices.DeleteFunc(all, func(p measure.Point) bool { return p.N == 0 })
}

// TestWhatStandsIsMeasuredAndALossIsOneAlert measures the scenario as it stands, has a machine be deleted by hand, raises it again by the plan that the alert leads to, and holds
// what is said at each step, also by a process that takes over in between.
func TestWhatStandsIsMeasuredAndALossIsOneAlert(t *testing.T) {
	t.Parallel()
	a, _, _, id := raised(t)
	w := watchOver(t, a)
	require.Empty(t, w.measures(3), "all is well")
	all, err := a.Measured(ctx, 0)
	require.NoError(t, err)
	sorts := map[measure.Kind]int{}
	for _, x := range all {
		sorts[x.Kind]++
	}
	assert.Equal(t, map[measure.Kind]int{measure.OfRun: 1, measure.OfSite: 5, measure.OfInstance: 10, measure.OfEndpoint: 16, measure.OfWhole: 9}, sorts)
	mine, err := a.Measured(ctx, id)
	require.NoError(t, err)
	assert.Len(t, mine, 30)
	wholes, err := a.Wholes(ctx, time.Hour, 60, w.now)
	require.NoError(t, err)
	together := wholes[id]
	used := 0.0
	for i := range mine {
		if mine[i].Kind == measure.OfInstance {
			latest, err := a.Figures(ctx, mine[i:i+1], w.now)
			require.NoError(t, err)
			used += latest[mine[i].Key][slices.IndexFunc(latest[mine[i].Key], func(f watch.Figure) bool { return f.Name == measure.CoresUsed })].Value
		}
	}
	assert.InDelta(t, used, together.Line(measure.WholeCores).Now, 0.06, "a deployment uses what its machines use")
	assert.Equal(t, []float64{10, 1}, []float64{together.Line(measure.WholeOn).Now, together.Line(measure.WholeAnswers).Now})
	host := w.thing(measure.OfInstance, "contacts-host")
	assert.Equal(t, []any{"register", "vega", "flood-watch", id}, []any{host.Tier, host.Site, host.Of, host.Deployment})
	latest, err := a.Figures(ctx, []measure.Thing{host}, w.now)
	require.NoError(t, err)
	names := map[string]float64{}
	for _, l := range latest[host.Key] {
		names[l.Name] = l.Value
	}
	for _, name := range []string{measure.On, measure.CoresUsed, measure.CoresHeld, measure.MemoryUsed, measure.DiskUsed, measure.NetSent} {
		assert.Positive(t, names[name], name)
	}
	assert.Len(t, w.curve(w.thing(measure.OfEndpoint, "contacts"), measure.AnswerTime, time.Hour, watch.Every), 3)

	drivers, err := a.Sites()
	require.NoError(t, err)
	_, provider, _ := strings.Cut(host.Key, "/")
	require.NoError(t, drivers["vega"].Delete(ctx, kinds.Instance, provider))
	require.Eventually(t, func() bool {
		_, err := drivers["vega"].Read(ctx, kinds.Instance, provider)
		return site.ClassOf(err) == site.NotFound
	}, 20*time.Second, 20*time.Millisecond)
	open := w.measures(2)
	require.Len(t, open, 1, "one cause is one alert")
	lost := open[0]
	assert.Equal(t, []any{"instance", alarm.Critical, []int64{id}}, []any{lost.Rank, lost.Severity, lost.Deployments})
	assert.Contains(t, lost.Words, "it is not there")
	assert.NotEmpty(t, lost.Alarms)

	b := another(t, a) // another process takes over, and knows what was before
	w.App = b
	open = w.measures(2)
	require.Len(t, open, 1)
	assert.Equal(t, []any{lost.ID, lost.Since}, []any{open[0].ID, open[0].Since})
	assert.Len(t, w.curve(w.thing(measure.OfEndpoint, "contacts"), measure.Answers, time.Hour, watch.Every), 7, "what was measured before is there")

	got, err := b.Acknowledge(ctx, lost.ID, "I am at it", w.now)
	require.NoError(t, err)
	assert.Equal(t, "I am at it", got.Known.Say)
	o, err := b.Helping(ctx, lost.ID)
	require.NoError(t, err)
	assert.Contains(t, o.Plan.Purpose, lost.Resource)
	began, err := b.NewRun(ctx, o)
	require.NoError(t, err)
	open = w.measures(1)
	require.Len(t, open, 1, "while a run works on it nobody says that it is well")
	assert.Equal(t, []any{lost.ID, true}, []any{open[0].ID, open[0].Waits})
	require.NoError(t, b.Work(ctx, began))
	require.Empty(t, w.measures(3))
	over, err := b.AlertsSince(ctx, w.now.Add(-time.Hour), 9)
	require.NoError(t, err)
	require.Len(t, over, 1, "no other was ever opened")
	assert.False(t, over[0].Ended.IsZero())
	story, err := b.Story(ctx, lost)
	require.NoError(t, err)
	require.NotEmpty(t, story.Since)
	assert.Equal(t, began, story.Since[0].Run)
	assert.Contains(t, story.Helps, "build "+lost.Name+" again")
	_, err = b.Acknowledge(ctx, lost.ID, "", w.now)
	assert.Equal(t, fault.Conflict, fault.CodeOf(err), "%v", err)
	_, err = b.Helping(ctx, 99)
	assert.Equal(t, fault.NotFound, fault.CodeOf(err), "%v", err)
}

// TestASiteThatFallsIsOneAlert has a whole site fall and come back, and machines be loaded, switched off as asked for, and watched by thresholds of one's own.
func TestASiteThatFallsIsOneAlert(t *testing.T) {
	t.Parallel()
	a, box, _, id := raised(t)
	w := watchOver(t, a)
	require.Empty(t, w.measures(2))

	require.NoError(t, a.Load(ctx, sites.LoadRequest{Site: "alisio-norte", Name: "map-host-1", Shares: map[string]float64{measure.DiskUsed: 0.97, measure.MemoryUsed: 0.5}, Until: time.Now().Add(time.Hour)}))
	open := w.measures(2)
	require.Len(t, open, 1)
	assert.Equal(t, []any{"map-host 1", alarm.Critical}, []any{open[0].Name, open[0].Severity})
	assert.Contains(t, open[0].Words, "97 %")
	_, err := a.Helping(ctx, open[0].ID)
	assert.Equal(t, fault.Refused, fault.CodeOf(err), "starting it again makes no disk larger: %v", err)
	for name, say := range map[string]func() error{
		"no reason":    func() error { _, err := a.Silence(ctx, open[0].ID, " ", w.now.Add(time.Hour), w.now); return err },
		"in the past":  func() error { _, err := a.Silence(ctx, open[0].ID, "x", w.now.Add(-time.Hour), w.now); return err },
		"for too long": func() error { _, err := a.Silence(ctx, open[0].ID, "x", w.now.AddDate(0, 2, 0), w.now); return err },
	} {
		assert.Equal(t, fault.Invalid, fault.CodeOf(say()), name)
	}
	quiet, err := a.Silence(ctx, open[0].ID, "a larger disk is on its way", w.now.Add(time.Hour), w.now)
	require.NoError(t, err)
	assert.True(t, quiet.Quiet(w.now))
	assert.True(t, w.measures(1)[0].Quiet(w.now), "whoever watches leaves it so")
	quiet, err = a.Unsilence(ctx, open[0].ID)
	require.NoError(t, err)
	assert.Nil(t, quiet.Muted)
	require.NoError(t, a.Load(ctx, sites.LoadRequest{Site: "alisio-norte", Name: "map-host-1", Until: time.Now()}))
	require.Empty(t, w.measures(2))

	o, err := a.Powering(ctx, id, "map", false)
	require.NoError(t, err)
	carriedOut(t, a, o)
	assert.Empty(t, w.measures(3), "what is off as was asked for is no loss")
	o, err = a.Powering(ctx, id, "map", true)
	require.NoError(t, err)
	carriedOut(t, a, o)
	require.Empty(t, w.measures(2))

	box.Misbehave(sandbox.Rule{Fault: sandbox.Unavailable, Site: "vega"})
	open = w.measures(2)
	require.Len(t, open, 1)
	assert.Equal(t, []any{"site", "vega"}, []any{open[0].Rank, open[0].Name})
	assert.Contains(t, open[0].Words, "does not answer")
	last, err := a.LastOfTrail(ctx, 40)
	require.NoError(t, err)
	for _, act := range []guard.Act{guard.SilenceAlert, guard.StandIns} {
		assert.True(t, slices.ContainsFunc(last, func(e Entry) bool { return e.Act == act }), act)
	}
}

func TestAMistakeInThresholdsLeavesNobodyUnwatched(t *testing.T) {
	t.Parallel()
	a, _, _, _ := raised(t)
	w := watchOver(t, a)
	require.Empty(t, w.measures(1))
	_, err := a.SetThresholds(ctx, []byte("version: andamio.thresholds/1\nthresholds: [{ name: x }]"))
	assert.Equal(t, fault.Invalid, fault.CodeOf(err), "%v", err)
	text := []byte("version: andamio.thresholds/1\nthresholds:\n- { name: busy, measure: cores, when: 'thing.tier == \"map\"', critical: { above: 1% } }\n- { name: slow, measure: answer_time, off: true }\n")
	would, err := a.Preview(ctx, text, w.now.Add(-time.Hour), w.now)
	require.NoError(t, err)
	assert.Len(t, would, 2, "both machines of the map")
	assert.True(t, would[0].Until.IsZero())
	f, err := a.SetThresholds(ctx, text)
	require.NoError(t, err)
	assert.Len(t, f.Thresholds, 2)
	all, err := a.Thresholds(ctx)
	require.NoError(t, err)
	assert.Len(t, all.Thresholds, 2+len(alarm.Default().Thresholds))
	assert.Len(t, w.measures(1), 2)
	require.NoError(t, a.workspace.Files().Write(workspace.FileThresholds, []byte("version: 7")))
	_, err = a.Thresholds(ctx)
	assert.Equal(t, fault.Invalid, fault.CodeOf(err), "%v", err)
	assert.Empty(t, w.measures(1), "those that ship count")
}

// TestRowsBecomeCoarserAndOldOnesGo measures for some hours, with a machine of nobody's, and holds that a curve of a day is read from rows by five minutes.
func TestRowsBecomeCoarserAndOldOnesGo(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, pace)
	w := watchOver(t, a)
	w.now = w.now.Truncate(4 * time.Hour).Add(-8 * time.Hour)
	box.Drift(sandbox.DriftRequest{Seed: 1, Count: 1, Sorts: []sandbox.Change{sandbox.Created}})
	for range 6 * 60 {
		w.measures(1)
		w.now = w.now.Add(time.Minute - watch.Every)
	}
	site := w.thing(measure.OfSite, "vega")
	points := w.curve(site, measure.SiteAnswers, 8*time.Hour, 5*time.Minute)
	assert.Len(t, points, 72)
	assert.Equal(t, 1, points[10].N, "it is read from a row by five minutes")
	assert.Equal(t, 5, points[len(points)-2].N, "of the last hours there is none yet")
	w.now = w.now.AddDate(0, 0, 20)
	w.measures(8)
	points, err := a.Curve(ctx, site, measure.SiteAnswers, w.now.AddDate(0, 0, -21), w.now, time.Hour)
	require.NoError(t, err)
	known := slices.DeleteFunc(points, func(p measure.Point) bool { return p.N == 0 })
	assert.NotEmpty(t, known)
	w.now = w.now.AddDate(0, 0, -20)
	assert.Empty(t, w.curve(site, measure.SiteAnswers, 8*time.Hour, watch.Every), "raw rows that old are gone")
	for _, p := range known {
		assert.Equal(t, 1.0, p.Mean)
	}
}

// TestWhatIsWrongIsToldOnce has a service and a letter box hear of an alert: that it began and that it is over, each once.
func TestWhatIsWrongIsToldOnce(t *testing.T) {
	t.Parallel()
	a, _, _, id := raised(t)
	c := newChannel(t)
	box, mail := newPostBox(t)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"channel": "s3cret"}))
	_, err := a.SetHooks(ctx, fmt.Appendf(nil, `
version: andamio.hooks/1
mail: { server: "%s", from: "andamio@ribera.test", plain: true }
hooks:
- { hook: channel, on: [alert.opened, alert.ended, reaction.called], when: 'event.severity == "critical" || event.type == "reaction.called"', call: "%s/in", secret: channel }
- { hook: night, on: [alert.opened], tell: ["night@ribera.test"], say: "Wake up." }
`, mail, c.url))
	require.NoError(t, err)
	w := watchOver(t, a)
	w.now = time.Now().Add(time.Minute)
	require.Empty(t, w.measures(1))
	require.NoError(t, a.Load(ctx, sites.LoadRequest{Site: "alisio-norte", Name: "map-host-1", Shares: map[string]float64{measure.DiskUsed: 0.97}, Until: time.Now().Add(time.Hour)}))
	require.Len(t, w.measures(2), 1)
	told(t, a, w.now)
	told(t, a, w.now.Add(time.Second))
	assert.Equal(t, "alert.opened", strings.TrimSpace(c.types()))
	var body hook.Event
	require.NoError(t, c.heard[0].DataAs(&body))
	assert.Equal(t, []any{int64(1), "critical", id, "instance map-host 1 at alisio-norte", []string{"alisio-norte"}}, []any{body.Alert, body.Severity, body.Deployment, body.Name, body.Sites})
	assert.Contains(t, body.Text, "97 %) · weakens map")
	box.mu.Lock()
	letters := slices.Clone(box.letters)
	box.mu.Unlock()
	require.Len(t, letters, 1)
	assert.Contains(t, letters[0], "instance map-host 1 at alisio-norte has a fault")
	assert.Contains(t, letters[0], "just before, ", "and what was done just before it")
	require.NoError(t, a.Load(ctx, sites.LoadRequest{Site: "alisio-norte", Name: "map-host-1", Until: time.Now()}))
	require.Empty(t, w.measures(2))
	told(t, a, w.now)
	assert.Equal(t, []string{"alert.opened", "alert.ended"}, strings.Fields(c.types()))
	called := react.Kept{Reaction: "what fell", Deployment: id, State: react.State{Called: w.now, CalledFor: "it has disks"}}
	require.NoError(t, a.store.KeepReactionState(ctx, called))
	require.NoError(t, a.store.KeepReactionState(ctx, react.Kept{Reaction: "calm", Deployment: id, State: react.State{Says: "all is well"}}))
	told(t, a, w.now)
	told(t, a, w.now.Add(time.Second))
	assert.Equal(t, []string{"alert.opened", "alert.ended", "reaction.called"}, strings.Fields(c.types()), "once")
	require.NoError(t, c.heard[2].DataAs(&body))
	assert.Equal(t, []any{"flood-watch", "reaction what fell: it has disks", id}, []any{body.Name, body.Text, body.Deployment})
}

// TestWhatWasIsWhatWasSaidThen changes a deployment again and again, notes each time how it is, and holds that it is remembered so; also in the middle of a run.
func TestWhatWasIsWhatWasSaidThen(t *testing.T) {
	t.Parallel()
	before := time.Now()
	a, _, _, id := raised(t)
	type noted struct {
		at    time.Time
		state run.Status
		off   map[string]bool
		runs  int
	}
	note := func(d *deployments.Deployment, at time.Time) noted {
		n := noted{at, d.State(), map[string]bool{}, len(d.Runs)}
		for i := range d.Stand.Plan.Resources {
			n.off[d.Stand.Plan.Resources[i].ID] = d.Stand.Plan.Resources[i].Off
		}
		return n
	}
	var all []noted
	look := func() {
		d, err := a.Deployment(ctx, id)
		require.NoError(t, err)
		all = append(all, note(d, time.Now()))
	}
	look()
	for _, act := range []func() (deployments.Order, error){
		func() (deployments.Order, error) { return a.ChangingInput(ctx, id, "forecast_workers=1") },
		func() (deployments.Order, error) { return a.Powering(ctx, id, "map", false) },
		func() (deployments.Order, error) { return a.ChangingInput(ctx, id, "forecast_workers=4") },
		func() (deployments.Order, error) { return a.Retiring(ctx, id) },
	} {
		o, err := act()
		require.NoError(t, err)
		carriedOut(t, a, o)
		look()
	}
	for i, want := range all {
		past, err := a.AsOf(ctx, want.at)
		require.NoError(t, err)
		require.Len(t, past, 1, "moment %d", i)
		assert.Equal(t, want, note(&past[0].Deployment, want.at), "moment %d", i)
		for k := range past[0].Picture.Resources {
			assert.Equal(t, run.Standing, past[0].Picture.Resources[k].Status, "moment %d", i)
		}
	}
	none, err := a.AsOf(ctx, before)
	require.NoError(t, err)
	assert.Empty(t, none, "there was nothing yet")
	runs, err := a.Runs(ctx)
	require.NoError(t, err)
	first := runs[len(runs)-1]
	middle, err := a.AsOf(ctx, first.Created.Add(first.Ended.Sub(first.Created)/2))
	require.NoError(t, err)
	require.Len(t, middle, 1)
	assert.Equal(t, run.UnderWay, middle[0].State())
	standing := 0
	for i := range middle[0].Picture.Steps {
		if middle[0].Picture.Steps[i].Status == run.Standing {
			standing++
		}
	}
	assert.True(t, standing > 0 && standing < len(middle[0].Picture.Steps), "%d steps were done", standing)
}

// TestWhatWasMeasuredIsOpenMetrics reads what is told of what was measured with another's reader, over HTTP and as a file.
func TestWhatWasMeasuredIsOpenMetrics(t *testing.T) {
	t.Parallel()
	a, _, _, _ := raised(t)
	w := watchOver(t, a)
	w.now = time.Now().Add(-time.Minute)
	require.Empty(t, w.measures(2))
	require.NoError(t, a.Load(ctx, sites.LoadRequest{Site: "alisio-norte", Name: "map-host-1", Shares: map[string]float64{measure.DiskUsed: 0.97}, Until: time.Now().Add(time.Hour)}))
	w.measures(2)
	l, err := a.Listen(ctx, Listening{Address: "127.0.0.1:0"})
	require.NoError(t, err)
	defer l.Close(ctx)
	get := func(token string) *http.Response {
		reach, cancel := context.WithTimeout(ctx, 20*time.Second)
		t.Cleanup(cancel)
		req, err := http.NewRequestWithContext(reach, http.MethodGet, "http://"+l.Address()+"/metrics", nil)
		require.NoError(t, err)
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		return resp
	}
	for _, token := range []string{"", "t0ken"} { // none is kept yet
		refused := get(token)
		refused.Body.Close()
		require.Equal(t, http.StatusUnauthorized, refused.StatusCode)
	}
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"metrics": "t0ken"}))
	wrong := get("other")
	wrong.Body.Close()
	require.Equal(t, http.StatusUnauthorized, wrong.StatusCode)
	resp := get("t0ken")
	defer resp.Body.Close()
	require.Equal(t, http.StatusOK, resp.StatusCode)
	assert.Contains(t, resp.Header.Get("Content-Type"), "application/openmetrics-text; version=1.0.0")
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(string(text), "# EOF\n"))
	meta := regexp.MustCompile(`^# (TYPE|HELP|UNIT) ([a-z_]+) (.+)$`)
	series := regexp.MustCompile(`^([a-z_]+)\{((?:[a-z_]+="(?:[^"\\\n]|\\.)*",?)*)\} [-+.0-9e]+( [.0-9e+]+)?$`) // OpenMetrics 1.0, section "ABNF"
	got := map[string]int{}
	for line := range strings.Lines(strings.TrimSuffix(string(text), "# EOF\n")) {
		line = strings.TrimSuffix(line, "\n")
		if is := meta.FindStringSubmatch(line); is != nil {
			if is[1] == "UNIT" {
				assert.True(t, strings.HasSuffix(is[2], "_"+is[3]), line)
			}
			continue
		}
		is := series.FindStringSubmatch(line)
		require.NotNil(t, is, line)
		got[is[1]]++
		if strings.Contains(is[2], `name="map-host 1"`) {
			assert.Contains(t, is[2], `deployment="flood-watch"`)
			assert.Contains(t, is[2], `tier="map"`)
		}
		if is[1] == "andamio_alert" {
			assert.Contains(t, is[2], `cause="instance map-host 1 at alisio-norte"`)
		}
	}
	assert.Equal(t, []int{10, 10, 16, 5, 1, 1}, []int{got["andamio_cores"], got["andamio_memory_bytes"], got["andamio_answer_time_seconds"], got["andamio_site_answers"], got["andamio_runs"], got["andamio_alert"]})
	other := httptest.NewRecorder()
	req := httptest.NewRequest(http.MethodGet, "/metrics", nil)
	req.RemoteAddr = "192.0.2.7:1"
	a.metrics(other, req)
	assert.Equal(t, http.StatusForbidden, other.Code)
}

// TestWhatIsUsualIsBehindWhatIsMeasured measures a machine for two weeks of hours, and looks what is said to be usual of it, and that curves are drawn with it.
func TestWhatIsUsualIsBehindWhatIsMeasured(t *testing.T) {
	t.Parallel()
	a, _, _, id := raised(t)
	w := watchOver(t, a)
	w.measures(1)
	thing := w.thing(measure.OfInstance, "map-host 1")
	kept, err := a.openMeasures(ctx)
	require.NoError(t, err)
	defer kept.Close()
	head := measure.NewHead(w.now.AddDate(0, 0, -15))
	for at := w.now.AddDate(0, 0, -15); at.Before(w.now.Add(-24 * time.Hour)); at = at.Add(10 * time.Minute) {
		used := 0.4
		if at.Hour() >= 8 && at.Hour() < 18 {
			used = 1.2
		}
		head.Put(thing.ID, measure.CoresUsed, at, used)
		require.NoError(t, kept.KeepRows(ctx, head.Take(at), -1))
	}
	over, err := a.Overview(ctx, id, thing.Resource, 6*time.Hour, 24, w.now)
	require.NoError(t, err)
	for _, o := range over {
		l := o.Line(measure.CoresUsed)
		if o.Key != thing.Key {
			if l != nil {
				assert.Nil(t, l.Usual, "of what is not selected it is not worked out")
			}
			continue
		}
		require.NotNil(t, l)
		require.Len(t, l.Usual, len(l.Points))
		for i, u := range l.Usual {
			want := 0.4
			if h := l.Points[i].At.Hour(); h >= 8 && h < 18 {
				want = 1.2
			}
			require.NotNil(t, u)
			assert.InDelta(t, want, u.Middle, 0.02, "at %s", l.Points[i].At)
		}
	}
	dir := t.TempDir()
	files, err := a.DrawMeasures(ctx, id, time.Hour, dir, w.now)
	require.NoError(t, err)
	require.Equal(t, []string{filepath.Join(dir, "flood-watch-measures.svg"), filepath.Join(dir, "flood-watch-measures.pdf")}, files)
	svg, err := os.ReadFile(files[0])
	require.NoError(t, err)
	assert.Contains(t, string(svg), "map-host 1")
	_, err = a.DrawMeasures(ctx, id, time.Hour, dir, w.now.AddDate(1, 0, 0))
	assert.Equal(t, fault.NotFound, fault.CodeOf(err), "of what was not measured nothing is drawn")
}
