package operate

import (
	"context"
	"slices"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/health"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/promises"
	"andamio/internal/store"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// standing is the view on the scenario as it stands, and on a deployment that is retired.
func standing(t *testing.T) *View {
	t.Helper()
	v := New(context.Background(), nil)
	p := plantest.Plan(t, "drill")
	stands, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	require.NoError(t, stands.Plan.Arrange())
	last := store.Run{ID: 3, Deployment: 1, State: run.Standing, Created: noon.Add(-2 * time.Hour), Ended: noon.Add(-time.Hour)}
	old := store.Run{ID: 2, Deployment: 2, Purpose: "retire lab", State: run.Standing, Created: noon.Add(-9 * time.Hour), Ended: noon.Add(-8 * time.Hour)}
	v.take(gathered{all: []deployments.Deployment{
		{Deployment: store.Deployment{ID: 1, Name: "flood-watch"}, Runs: []store.Run{last}, Stand: stands},
		{Deployment: store.Deployment{ID: 2, Name: "lab"}, Runs: []store.Run{old}, Stand: change.Nothing(p)},
	}, states: map[int64]*run.State{1: run.Stood(stands.Plan, nil), 2: run.Stood(change.Nothing(p).Plan, nil)}})
	return v
}

func draw(v *View, w, h int) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, h)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: h}, noon)
	return ansi.Strip(c.String())
}

func TestDeploymentsStandByTier(t *testing.T) {
	v := standing(t)
	text := draw(v, 160, 43)
	assert.Regexp(t, `▐ ■ flood-watch\s+standing\s+run 3 raised it · 1h00m ago\s+4.22 so far · 2.112 cr/h`, text)
	assert.Regexp(t, `■ forecasting\s+11 of 11 stand\s+none asked · none asked\s+1.154 cr/h`, text)
	assert.Regexp(t, `▁ lab\s+retired\s+run 2 retire lab`, text)
	view.Press(v.Keys(), "down")
	assert.Equal(t, "gauge-intake-1", v.elevation.Selected, "a tier selects its first software")
	small := draw(v, 80, 20)
	assert.Regexp(t, `■ gauge\s+4 of 4 stand`, small)
	assert.Contains(t, draw(New(context.Background(), nil), 100, 30), "nothing stands yet")
}

// TestWhatIsSaidShows takes in what sites and endpoints say: what is gone, silent, off or half done is told apart.
func TestWhatIsSaidShows(t *testing.T) {
	v := standing(t)
	v.Update(looked{id: 1, now: deployments.Readings{At: noon, Sites: map[string]run.Reading{
		"contacts-host-1": {Text: "it is not there", At: noon}, "readings-host-1": {Text: "active", Good: true, At: noon}},
		Answers: map[string]run.Reading{"river-map-1.app_endpoint": {Text: "refused · http", At: noon}, "forecast-1": {Text: "open · tcp", Good: true, At: noon}},
		Failed:  map[string]string{"presa": "timed out"}}})
	text := draw(v, 160, 43)
	assert.Regexp(t, `✕ flood-watch\s+2 not well`, text)
	assert.Regexp(t, `✕ register\s+contacts-host gone wro…\s+0 of 1 active`, text)
	assert.Regexp(t, `✕ map\s+river-map 1 http silent`, text)
	assert.Contains(t, text, "presa did not answer: timed out")
	assert.Equal(t, "1", v.Badge(noon))
	assert.True(t, v.Find("contacts-host"))
	assert.Contains(t, draw(v, 160, 43), "vega says: it is not there")
	why := v.Why()
	assert.Equal(t, "why contacts-host", why.Title)

	s := v.states[1]
	s.Resource("map-host-1").Off = true
	assert.Equal(t, "switched off", v.condition(s.Resource("river-map-1")).Word)
	assert.Equal(t, "serving", v.condition(s.Resource("forecast-1")).Word)
	v.states[1] = run.Stood(s.Plan, map[string]bool{"readings-1/start": true})
	assert.Equal(t, "half done", v.condition(v.states[1].Resource("readings-1")).Word)
}

func TestComingOnScreenIsNoticedSoon(t *testing.T) {
	v := &View{}
	assert.Equal(t, noticeWithin, v.pause(), "nobody sees it, and it asks nothing")
	v.drawn = time.Now()
	assert.Equal(t, lookEvery, v.pause(), "sites are not asked all the time")
	v.drawn = time.Now().Add(-lookEvery)
	assert.Equal(t, noticeWithin, v.pause(), "another view is there by now")
}

func TestActsFitWhatIsSelected(t *testing.T) {
	v := standing(t)
	var names []string
	for _, a := range v.Actions() {
		names = append(names, a.Name)
	}
	assert.Equal(t, []string{"open a shell", "stop flood-watch", "start flood-watch", "change an input", "update from the template",
		"take a snapshot of flood-watch", "take one of a single moment", "keep a copy at another site", "clone flood-watch", "make a template of flood-watch", "retire flood-watch"}, names)
	view.Press(v.Keys(), "down")
	view.Press(v.Keys(), "down")
	assert.Equal(t, "stop forecasting", v.Actions()[1].Name)
	assert.Regexp(t, "^scale (readings|forecast)-host$", v.Actions()[5].Name)
	assert.Equal(t, "that is no number of instances", v.Actions()[5].Wrong("many"))
	for range 20 {
		view.Press(v.Keys(), "down")
	}
	assert.Equal(t, "lab", v.selected().Name)
	assert.Nil(t, v.Actions(), "nothing can be done to what is gone")
}

func TestKeysMoveAndOpen(t *testing.T) {
	v := standing(t)
	_ = draw(v, 160, 43)
	view.Press(v.Keys(), "tab")
	assert.True(t, v.inElevation)
	before := v.elevation.Selected
	view.Press(v.Keys(), "right")
	assert.NotEqual(t, before, v.elevation.Selected)
	view.Press(v.Keys(), "esc")
	assert.False(t, v.inElevation)
	cmd, used := view.Press(v.Keys(), "enter")
	require.True(t, used)
	assert.NotNil(t, cmd)
	v.elevation.Selected = "app-lan@vega"
	cmd, _ = view.Press(v.Keys(), "o")
	assert.Contains(t, cmd().(view.Notice).Text, "runs on no instance")
	assert.False(t, v.Typing(), "without a shell keys are the view's")
	_, used = view.Press(v.Keys(), "q")
	assert.False(t, used)
	for _, k := range v.Keys() {
		assert.NotEmpty(t, k.Help().Desc)
		assert.NotEmpty(t, k.Says)
	}
}

func TestTiersWithoutServicesGoByTheirNodes(t *testing.T) {
	d := &deployments.Deployment{Stand: change.Standing{Plan: &plan.Plan{Resources: []plan.Resource{
		{ID: "a-1", Node: "a", Kind: kinds.Software}, {ID: "b-1", Node: "b", Kind: kinds.Instance}, {ID: "c-1", Node: "c", Kind: kinds.Software}}}}}
	assert.Equal(t, []string{"a", "b", "c"}, health.Tiers(d.Stand.Plan), "an instance with nothing on it is one by itself")
}

// TestWhatRisesIsUnderWay looks at a first run while it goes on: nothing of it is gone, or not well.
func TestWhatRisesIsUnderWay(t *testing.T) {
	p := plantest.Plan(t, "drill")
	s := run.New(p)
	s.Apply(run.Event{Seq: 1, Kind: run.RunStarted, At: noon})
	s.Apply(run.Event{Seq: 2, Kind: run.StepStarted, Step: "app-lan@vega/create", Resource: "app-lan@vega", At: noon})
	s.Apply(run.Event{Seq: 3, Kind: run.SiteSays, Resource: "app-lan@vega", Text: "building", At: noon})
	v := New(context.Background(), nil)
	goes := store.Run{ID: 1, Deployment: 1, State: run.UnderWay, Created: noon.Add(-time.Minute), Beat: noon}
	v.take(gathered{all: []deployments.Deployment{{Deployment: store.Deployment{ID: 1, Name: "flood-watch"}, Runs: []store.Run{goes}, Stand: change.Nothing(p)}},
		states: map[int64]*run.State{1: s}})
	text := draw(v, 160, 43)
	assert.Regexp(t, `◩ flood-watch\s+under way`, text)
	assert.NotContains(t, text, "gone")
	assert.NotContains(t, text, "not well")
	assert.Empty(t, v.Badge(noon))
	assert.Equal(t, "under way", v.condition(s.Resource("app-lan@vega")).Word)
	assert.Equal(t, "planned", v.condition(s.Resource("contacts-1")).Word)
	v.Update(looked{id: 1, now: deployments.Readings{At: noon, Sites: map[string]run.Reading{"contacts-host-1": {Text: "it is not there", At: noon}}}})
	assert.Empty(t, v.Badge(noon), "what a site has not yet is no fault while it is built")
	s.Apply(run.Event{Seq: 4, Kind: run.StepFailed, Step: "app-lan@vega/create", Resource: "app-lan@vega", Text: "refused", At: noon})
	assert.Equal(t, "1", v.Badge(noon), "a failure is one at once")
}

// TestWhatIsKeptAndPromisedIsShown has snapshots of a deployment, one of them not whole, and promises: kept, broken, and an end that is near.
func TestWhatIsKeptAndPromisedIsShown(t *testing.T) {
	v := standing(t)
	d := &v.all[0]
	for set, parts := range map[string]int{"old": 1, "half": 2} {
		p, err := change.Snapshot(d.Stand, change.Snapping{Set: set, Disks: []string{"contacts-vol-1"}}, "snapshot")
		require.NoError(t, err)
		plan.Respec(p.Resource("contacts-vol-1."+set), func(s *plan.SnapshotSpec) { s.Parts = parts })
		d.Stand, err = change.Done(d.Stand, p)
		require.NoError(t, err)
		d.Stand.Plan.Known["contacts-vol-1."+set] = map[string]string{change.AttrTaken: noon.Add(-time.Hour).Format(time.RFC3339), change.AttrHeld: "3145728"}
	}
	require.NoError(t, d.Stand.Plan.Arrange())
	at := func(h int, s promise.State) promise.Mark {
		return promise.Mark{At: noon.Add(time.Duration(h) * time.Hour), State: s}
	}
	lease := promise.Promise{Deployment: 1, Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: noon.Add(72 * time.Hour), By: 24 * time.Hour, Times: 1}}
	saved := promise.Promise{Deployment: 1, Kind: promise.Saved}
	v.Update(recalled{all: []promises.Kept{
		{Promise: lease, Words: lease.Words()},
		{Promise: saved, Words: "saved every day 02:00, 7 kept", Does: promise.DueSave, Next: noon.Add(2 * time.Hour), Proof: promise.Proof{Last: noon.Add(-time.Hour), Marks: []promise.Mark{at(-3, promise.Kept), at(-2, promise.Late), at(-1, promise.Broken)}}},
		{Promise: promise.Promise{Deployment: 9, Kind: promise.Saved}, Words: "of another"},
	}})
	text := draw(v, 160, 60)
	assert.Regexp(t, `■ old +3 MiB +1h00m`, text)
	assert.Regexp(t, `✕ half +3 MiB +not whole`, text)
	assert.Regexp(t, `‖ ends 26 Nov 2026 12:00 +3d left`, text)
	assert.Regexp(t, `✕ saved every day 02:00, 7 kept`, text)
	assert.Regexp(t, `■◩✕ +broken  next in 2h00m`, text)
	assert.NotContains(t, text, "of another")
	assert.NotContains(t, text, ", snapshot old", "what was kept is no plank")
	var why []string
	for _, l := range v.Why().Lines {
		why = append(why, l.Text)
	}
	assert.Subset(t, why, []string{"  old: 3 MiB, 1h00m ago", "  half: 3 MiB, not whole", "  saved every day 02:00, 7 kept: broken, save in 2h00m"}, "w says it where there is no room beside")
	var names []string
	for _, a := range v.Actions() {
		names = append(names, a.Name)
		switch a.Name {
		case "drop a snapshot":
			assert.Contains(t, a.Wrong("x"), "there are half, old")
			assert.Empty(t, a.Wrong("old "))
		case "restore beside":
			assert.Contains(t, a.Wrong("x y"), "no such snapshot")
			assert.Contains(t, a.Wrong("old"), "then the name")
			assert.Empty(t, a.Wrong("old copy"))
		}
	}
	assert.Subset(t, names, []string{"restore another snapshot", "restore beside", "drop a snapshot", "extend the lease of flood-watch"})
	assert.NotContains(t, names, "restore half", "what is not whole is not restored")
	for says, of := range map[string]promises.LevelState{"has to be levee": {Level: "sandbag", Required: "levee", Rule: "registers", Below: true}, "dam, changed since": {Level: "dam", Outdated: true}, "dam": {Level: "dam"}} {
		of.Deployment = 1
		v.Update(recalled{levels: levels{names: []string{"sandbag", "levee", "dam"}, states: []promises.LevelState{of}}, all: []promises.Kept{{Promise: saved, Words: "saved"}}})
		assert.Regexp(t, `promised +`+says, draw(v, 160, 60))
		var acts []string
		for _, a := range v.Actions() {
			acts = append(acts, a.Name)
			if a.Name == "give it a service level" {
				assert.Contains(t, a.Wrong("moat"), "there are sandbag, levee, dam")
				assert.Empty(t, a.Wrong(" dam"))
			}
		}
		assert.Contains(t, acts, "give it a service level")
		assert.Contains(t, acts, "take its service level away")
		assert.Equal(t, of.Below, slices.Contains(acts, "give it the service level levee"))
		assert.Equal(t, of.Outdated, slices.Contains(acts, "give it the service level dam again"))
	}
	for left, says := range map[time.Duration]string{-time.Hour: "over, kept 23h more", 3 * time.Hour: "3h left", 20 * 24 * time.Hour: "20d left"} {
		k := promises.Kept{Promise: promise.Promise{Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: noon.Add(left), Grace: 24 * time.Hour}}}
		_, word := how(&k, noon)
		assert.Equal(t, says, word)
	}
}
