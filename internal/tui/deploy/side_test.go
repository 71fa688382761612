package deploy

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/change"
	"andamio/internal/core/elevation"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/store"
	"andamio/internal/tui/view"
)

var started = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// tape is a view on a run of the drill, with events applied as a test says.
type tape struct {
	*View
	seq int64
}

func taped(t *testing.T) *tape {
	x := &tape{View: shown(run.New(plantest.Plan(t, "drill")))}
	x.play(run.RunStarted, "", 0, "")
	return x
}

func (x *tape) play(kind run.EventKind, step string, seconds float64, text string, good ...bool) {
	x.seq++
	e := run.Event{Seq: x.seq, At: started.Add(time.Duration(seconds * float64(time.Second))), Kind: kind, Step: step, Text: text, Good: len(good) > 0}
	if st := x.state.Step(step); st != nil {
		e.Resource = st.Resource
	}
	x.state.Apply(e)
}

// panel is the side panel of a resource at a moment, without colours.
func (x *tape) panel(resource string, seconds float64) string {
	x.elevation.Selected = resource
	return ansi.Strip(draw(x.View, 160, 43, started.Add(time.Duration(seconds*float64(time.Second)))))
}

func TestThreeReadingsNeverSayMoreThanIsKnown(t *testing.T) {
	x := taped(t)
	id := "contacts-1"
	text := x.panel(id, 1)
	assert.Regexp(t, `we\s+planned`, text)
	assert.Regexp(t, `site\s+nothing yet`, text)
	assert.Regexp(t, `endpoint\s+not asked yet`, text)

	x.play(run.SiteSays, "contacts-host-1/create", 2, "accepted")
	x.play(run.StepStarted, "contacts-host-1/create", 1, "")
	text = x.panel("contacts-host-1", 5)
	assert.Regexp(t, `we\s+waiting for active\s+4s`, text)
	assert.Regexp(t, `site\s+accepted\s+3s ago`, text)
	assert.Regexp(t, `endpoint\s+has none`, text)

	x.play(run.SiteSays, "contacts-host-1/create", 6, "active", true)
	x.play(run.StepDone, "contacts-host-1/create", 6, "")
	assert.Regexp(t, `we\s+part done, next waits`, x.panel("contacts-host-1", 7), "its disk and network are not attached")
	assert.Regexp(t, `site\s+active\s+1s ago`, x.panel(id, 7), "software shows the site's word for its instance")

	for _, s := range []string{"create", "configure", "start"} {
		x.play(run.StepStarted, id+"/"+s, 8, "")
		x.play(run.StepDone, id+"/"+s, 9, "")
	}
	x.play(run.StepStarted, id+"/check:store", 9, "")
	x.play(run.Answered, id+"/check:store", 10, "refused · tcp 127.0.0.1:5432")
	text = x.panel(id, 11)
	assert.Regexp(t, `we\s+check tcp 5432 under way\s+2s`, text, "started is not serving")
	assert.Regexp(t, `endpoint\s+refused · tcp`, text)
	x.play(run.Answered, id+"/check:store", 12, "open · tcp 127.0.0.1:5432", true)
	x.play(run.StepDone, id+"/check:store", 12, "")
	text = x.panel(id, 14)
	assert.Regexp(t, `we\s+serving\s+2s ago`, text)
	assert.Regexp(t, `endpoint\s+open · tcp`, text)
	assert.Regexp(t, `contacts\s+open`, text, "its plank says so too")
}

func TestThePanelListsStepsLogAndNeighbours(t *testing.T) {
	x := taped(t)
	x.play(run.StepStarted, "readings-1/create", 1, "")
	for i := range 60 {
		x.play(run.Logged, "readings-1/create", 2, "line "+string(rune('a'+i%26)))
	}
	text := x.panel("readings-1", 4)
	assert.Regexp(t, `stands on ↧ ▱ readings-host`, text)
	assert.Regexp(t, `carries   ↥ ▱ gauge-intake`, text)
	assert.Regexp(t, `◩ create critical\s+3\.0s of ~5\.0s`, text)
	assert.Regexp(t, `▱ check tcp 5433 critical\s+~0\.5s`, text)
	assert.Contains(t, text, "line h", "the last lines of the log")
	assert.NotContains(t, text, "\x1b")
	x.play(run.StepRetry, "readings-1/create", 3, "vega: transient")
	assert.Contains(t, x.panel("readings-1", 4), "again: vega: transient")
}

// TestWhoIsWaitedForIsSaid has a step wait for a worker: the plank, the panel and the line above say so, and nobody says how long that takes.
func TestWhoIsWaitedForIsSaid(t *testing.T) {
	x := taped(t)
	x.play(run.RunStarted, "", 0, "")
	x.play(run.StepStarted, "readings-1/create", 1, "")
	x.play(run.StepAwaits, "readings-1/create", 2, "no worker of the pool dam is there")
	assert.Regexp(t, `we +waiting for a worker`, x.panel("readings-1", 4))
	assert.Contains(t, x.panel("readings-1", 4), "no worker of the pool dam is")
	assert.Contains(t, x.timeText(), "gone · 1 awaits a worker")
	assert.Contains(t, ansi.Strip(draw(x.View, 80, 20, started.Add(4*time.Second))), "1 awaits a worker", "whole on a small screen, too")
	assert.Contains(t, x.underWay(x.state.Resource("readings-1"))[0], "no worker there")
	st := x.state.Step("readings-1/create")
	st.Awaits = "" // as when one is there
	assert.Contains(t, x.timeText(), "to go")
	assert.NotContains(t, x.panel("readings-1", 4), "waiting for a worker")
}

func TestFailuresStandAtTheFoot(t *testing.T) {
	x := taped(t)
	for _, id := range []string{"contacts-1/create", "gauge-node-1/create", "map-host-1/create"} {
		x.play(run.StepStarted, id, 1, "")
		x.play(run.StepFailed, id, 2, "there is no room for 4 cores in zone a, and none elsewhere either")
	}
	text := x.panel("app-lan@vega", 4)
	assert.Contains(t, text, "waits for you: 1 of 3")
	assert.Regexp(t, `r retry  s skip  a more  n next`, text)
	view.Press(x.Keys(), "n")
	assert.Equal(t, x.state.Plan.Plank(x.chosenStep().Resource), x.elevation.Selected, "the next one is selected")
	assert.Equal(t, "retry "+x.chosenStep().ID, x.Actions()[0].Name)
	assert.Equal(t, "skip "+x.chosenStep().ID, x.Actions()[1].Name)
	x.runs = []store.Run{{ID: 7, Left: true}}
	assert.Empty(t, x.waiting(), "what a person has settled waits for nobody")
	x.runs = nil
	assert.Contains(t, text, "✕ gauge-node-1/create")
	assert.Contains(t, text, "there is no room for 4 cores")
	assert.Equal(t, "3", x.Badge(started))
	assert.Regexp(t, `we\s+failed at create`, x.panel("gauge-node-1", 4))
	why := noteText(x.Why())
	assert.Contains(t, why, "create instance failed: there is no room")
	assert.Contains(t, why, "elsewhere")
}

func TestCostCountsWhatTheSitesHold(t *testing.T) {
	x := taped(t)
	assert.Contains(t, x.panel("readings-vol-1", 1), "0.000 cr/h now · 2.112 when all stands")
	x.state.Apply(run.Event{Seq: 99, Kind: run.StepAsked, Step: "readings-vol-1/create", Attributes: map[string]string{"site.id": "v-1"}})
	assert.Contains(t, x.panel("readings-vol-1", 1), "0.200 cr/h now")
}

func noteText(n view.Note) string {
	var lines []string
	for _, l := range n.Lines {
		lines = append(lines, l.Text)
	}
	return strings.Join(lines, "\n")
}

func TestWhyExplainsPlaceAndState(t *testing.T) {
	x := taped(t)
	x.elevation.Selected = "forecast-1"
	why := noteText(x.Why())
	for _, want := range []string{"why at alisio-norte, zone 1", "it runs on forecast-host 1", "rule varying-load-goes-elastic holds here (its load varies, and only an elastic site grows with it)",
		"the cheapest of the", "presa          rule varying-load-goes-elastic: its load varies", "create waits for forecast-host-1/create (planned), forecast-port-1/plug (planned)", "by the plan it may be 2s late without delaying the whole"} {
		assert.Contains(t, why, want)
	}
	x.elevation.Selected = "map-server-1"
	assert.Contains(t, noteText(x.Why()), "late without delaying the whole")
	x.play(run.StepDone, "app-lan@vega/create", 3, "")
	x.elevation.Selected = "app-lan@vega"
	assert.Contains(t, noteText(x.Why()), "every step of it is done, and each was checked: vega says active")
	x.elevation.Selected = "nobody"
	assert.Contains(t, noteText(x.Why()), "nothing is selected")
	assert.Contains(t, noteText((&View{}).Why()), "nothing is selected")
}

func TestTheSelectionFollowsTheWork(t *testing.T) {
	x := taped(t)
	x.follow = true
	x.play(run.StepStarted, "app-lan@vega/create", 1, "")
	x.followUp()
	assert.Equal(t, "app-lan@vega", x.elevation.Selected)
	x.play(run.StepStarted, "contacts-vol-1/create", 1, "")
	x.play(run.StepDone, "app-lan@vega/create", 2, "")
	x.followUp()
	assert.Equal(t, "contacts-vol-1", x.elevation.Selected, "what stands is left for what is under way")
	view.Press(x.Keys(), "down")
	assert.False(t, x.follow, "until the user selects")
	view.Press(x.Keys(), "f")
	assert.True(t, x.follow)
	for i := range x.state.Steps {
		x.play(run.StepDone, x.state.Steps[i].ID, 3, "")
	}
	x.play(run.RunEnded, "", 4, "everything stands", true)
	x.followUp()
	assert.Equal(t, "river-map-2.app_endpoint", x.elevation.Selected, "in the end, what it was all for")
	assert.Regexp(t, `we\s+serving`, x.panel(x.elevation.Selected, 5))
	assert.Contains(t, x.panel(x.elevation.Selected, 5), "took 4s")
}

func TestKeysOfTheView(t *testing.T) {
	x := taped(t)
	for _, k := range []string{"z", "b", "t", "enter", "esc", "h", "j", "k", "l", "[", "]"} {
		_, used := view.Press(x.Keys(), k)
		assert.True(t, used, k)
	}
	_, used := view.Press(x.Keys(), "q")
	assert.False(t, used, "what the view does not know is the frame's")
	_, used = view.Press(x.Keys(), "esc")
	assert.False(t, used)
	assert.Equal(t, elevation.ByService, x.elevation.By)
	assert.True(t, x.Find("RIVER-map 2"))
	assert.Equal(t, "river-map-2", x.elevation.Selected)
	assert.False(t, x.Find("submarine"))
	x.Wheel(1)
	assert.NotEmpty(t, x.Keys())
	assert.False(t, (&View{}).Find("x"))
}

func TestActsFitTheState(t *testing.T) {
	x := taped(t)
	acts := x.Actions()
	require.Len(t, acts, 1)
	assert.Equal(t, "cancel run 7", acts[0].Name)
	assert.Equal(t, "flood-watch", acts[0].Type, "the name must be typed")
	x.play(run.RunEnded, "", 4, "")
	x.runs = []store.Run{{ID: 7, Deployment: 1, State: run.Stopped}}
	var names []string
	for _, a := range x.Actions() {
		names = append(names, a.Name)
	}
	assert.Equal(t, []string{"go on with run 7", "roll back run 7", "change an input and go on", "plan again"}, names)
	assert.Equal(t, view.Goto{Digit: "2"}, x.Actions()[3].Do()())
	assert.Nil(t, (&View{}).Actions())
	assert.Nil(t, (&View{}).Export())
}

func TestASilentWorkerIsNotShownAsWorking(t *testing.T) {
	x := taped(t)
	x.watch = make(chan runs.Batch)
	hear := func(b runs.Batch) tea.Cmd { return x.Update(heard{x.runID, b, true}) }
	assert.NotNil(t, hear(runs.Batch{Silent: true}), "it is listened to all the same")
	text := x.panel("app-lan@vega", 4)
	assert.Contains(t, text, "its worker is silent")
	assert.NotContains(t, text, "to go")
	assert.NotNil(t, hear(runs.Batch{}))
	assert.NotContains(t, x.panel("app-lan@vega", 4), "its worker is silent", "it was heard of again")
	assert.Nil(t, hear(runs.Batch{Last: true}))
}

func TestOtherRunsAreOpened(t *testing.T) {
	x := taped(t)
	x.runs = []store.Run{{ID: 8}, {ID: 7}, {ID: 6}}
	said := func(cmd tea.Cmd) any { return cmd() }
	x.runID = 8
	assert.IsType(t, view.Notice{}, said(x.otherRun("]")), "there is no newer one")
}

func TestNothingToShow(t *testing.T) {
	v := New(context.Background(), nil) // drawing needs no services
	text := ansi.Strip(draw(v, 100, 30, started))
	assert.Contains(t, text, "nothing is being built")

}

func TestTheLogOfAllStepsIsSearched(t *testing.T) {
	x := taped(t)
	x.play(run.Logged, "readings-1/create", 2, "replay journal 1 of 3")
	x.play(run.Logged, "contacts-1/create", 1, "lay out the register")
	for i := range 60 {
		x.play(run.Logged, "gauge-intake-1/create", 3, fmt.Sprintf("level %d", i))
	}
	view.Press(x.Keys(), "L")
	text := x.panel("app-lan@vega", 5)
	assert.Contains(t, text, "log of all steps   62 lines")
	assert.Contains(t, text, "level 59", "the last ones")
	assert.NotContains(t, text, "lay out")
	assert.True(t, x.Find("lay out"))
	text = x.panel("app-lan@vega", 5)
	assert.Contains(t, text, `log: lines with "lay out"   1 lines`)
	assert.Regexp(t, `contacts-1/create\s+lay out the register`, text)
	view.Press(x.Keys(), "esc")
	assert.Contains(t, x.panel("app-lan@vega", 5), "log of all steps")
	for range 100 {
		view.Press(x.Keys(), "pgup")
	}
	assert.Contains(t, x.panel("app-lan@vega", 5), "lay out", "the first ones")
	view.Press(x.Keys(), "esc")
	assert.NotContains(t, x.panel("app-lan@vega", 5), "log of all steps")
}

func TestAChangeIsShownBeforeItIsRun(t *testing.T) {
	p := plantest.Plan(t, "drill")
	stands, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	back, err := change.Compile(stands, change.Nothing(p).Plan, "retire flood-watch")
	require.NoError(t, err)
	v := New(context.Background(), nil)
	v.consider(view.OpenOrder{Order: deployments.Order{Plan: back, Deployment: 1}})
	v.answer = rehearse.Answer{P50: 20 * time.Second, P90: 31 * time.Second, Decisive: []rehearse.Decisive{{Step: "contacts-1/stop", Share: 0.4}}}
	text := ansi.Strip(draw(v, 160, 43, started))
	assert.Contains(t, text, "retire flood-watch")
	assert.Contains(t, text, "47 retire")
	assert.Contains(t, text, "about 20s  (9 in 10: under 31s)")
	assert.Contains(t, text, "40 %  contacts-1/stop")
	assert.Regexp(t, `contacts-host\s+retire`, text, "planks say what becomes of them")
	assert.Equal(t, "flood-watch", v.mustType(), "what takes something away asks for the name")
	assert.Contains(t, v.effect(), "retire flood-watch: 47 retire, in")
	assert.Regexp(t, `What is on \S+ goes \(\d+ GiB, of \S+\)`, v.effect(), "whose data goes is said")
	assert.Contains(t, v.effect(), "So does what is on 9 more disks")
}

// TestAPlanIsProposedOrConfirmed shows a plan that was worked out now, and one that somebody proposed.
func TestAPlanIsProposedOrConfirmed(t *testing.T) {
	v := New(context.Background(), nil)
	names := func() []string {
		var out []string
		for _, a := range v.Actions() {
			out = append(out, a.Name)
		}
		return out
	}
	order := deployments.Order{Plan: plantest.Plan(t, "drill")}
	v.consider(view.OpenOrder{Order: order})
	assert.Equal(t, []string{"run this plan", "propose it", "back to the design"}, names())
	assert.Contains(t, ansi.Strip(draw(v, 160, 43, started)), "not begun")
	v.consider(view.OpenOrder{Order: order, Proposal: &runs.Proposal{ID: 3, By: app.Actor{Name: "ana"}}})
	assert.Equal(t, []string{"confirm proposal 3", "withdraw proposal 3", "back to the design"}, names())
	assert.Contains(t, ansi.Strip(draw(v, 160, 43, started)), "proposed by ana")
	v.consider(view.OpenOrder{Order: order})
	assert.Contains(t, ansi.Strip(draw(v, 160, 43, started)), "not begun", "and what is worked out after it is nobody's proposal")
}
