package today

import (
	"errors"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/decide"
	"andamio/internal/core/health"
	"andamio/internal/core/hook"
	"andamio/internal/core/measure"
	"andamio/internal/core/money"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/core/tosca"
	"andamio/internal/service/promises"
	"andamio/internal/service/requests"
	"andamio/internal/service/runs"
	"andamio/internal/service/templates"
	"andamio/internal/service/watch"
	"andamio/internal/store"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func ago(d time.Duration) time.Time { return now.Add(-d) }

// seen is the view with runs, as it was drawn.
func seen(t *testing.T, w int, runs ...store.Run) (*View, string) {
	t.Helper()
	v := New(nil)
	v.Update(view.Runs{Runs: runs})
	return v, drawn(v, w)
}

func drawn(v *View, w int) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, 36)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: 36}, now)
	return ansi.Strip(c.String())
}

func going(id int64) store.Run {
	return store.Run{ID: id, Deployment: 1, Name: "basin", Preset: "drill", State: run.UnderWay, Created: ago(time.Minute), Beat: ago(time.Second), Steps: 8}
}

func ended(id int64, name string, state run.Status) store.Run {
	return store.Run{ID: id, Deployment: int64(len(name)), Name: name, State: state, Created: ago(time.Hour), Ended: ago(50 * time.Minute), Beat: ago(50 * time.Minute), Steps: 8, CostPerHour: money.Of(1.25), Currency: "cr"}
}

func TestNothingIsSaidToBeWaitingWhenNothingIs(t *testing.T) {
	v, text := seen(t, 140)
	assert.Contains(t, text, "nothing needs you")
	assert.Empty(t, v.Badge(now))
	assert.Nil(t, v.Actions())
	assert.Nil(t, v.Export())
	cmd, used := view.Press(v.Keys(), "enter")
	assert.True(t, used)
	assert.Nil(t, cmd, "there is nowhere to go")
	assert.Contains(t, drawn(New(nil), 140), "looking", "before the runs are known, nothing is claimed")
}

func TestRunsAreListedByHowTheyAre(t *testing.T) {
	v, text := seen(t, 140, ended(3, "a", run.Standing), going(2), ended(1, "bb", run.Standing), ended(4, "bb", run.Standing))
	assert.Regexp(t, `(?s)under way.*basin run 2.*standing.*a run 3.*bb run 4.*earlier.*bb run 1`, text)
	assert.Contains(t, text, "1 run under way · what stands costs 2.500 cr/h")
	assert.Regexp(t, `a run 3.*1\.250 cr/h`, text)
	assert.Equal(t, []int64{2, 3, 4}, []int64{v.listed()[0].ID, v.listed()[1].ID, v.listed()[2].ID}, "the keys go in the order that is seen")
}

// went is what a command asks for, whatever it is batched with.
func went(t *testing.T, cmd tea.Cmd) []tea.Msg {
	t.Helper()
	require.NotNil(t, cmd)
	msg := cmd()
	batch, many := msg.(tea.BatchMsg)
	if !many {
		return []tea.Msg{msg}
	}
	var out []tea.Msg
	for _, c := range batch {
		out = append(out, c())
	}
	return out
}

func TestEnterGoesThere(t *testing.T) {
	v, _ := seen(t, 140, ended(5, "lab", run.Failed), going(4))
	cmd, _ := view.Press(v.Keys(), "enter")
	assert.Equal(t, []tea.Msg{view.OpenRun{ID: 5}, view.Goto{Digit: "4"}}, went(t, cmd), "the failed run is first in the queue")
	view.Press(v.Keys(), "down")
	cmd, _ = view.Press(v.Keys(), "enter")
	assert.Equal(t, []tea.Msg{view.OpenRun{ID: 4}, view.Goto{Digit: "4"}}, went(t, cmd), "then come the runs")
	for range 9 {
		view.Press(v.Keys(), "down")
	}
	view.Press(v.Keys(), "up")
	v.Wheel(-9)
	assert.Zero(t, v.at)
	_, used := view.Press(v.Keys(), "x")
	assert.False(t, used)
	assert.Equal(t, "1", v.Badge(now))
}

func TestTheMouseSelectsThenOpens(t *testing.T) {
	v, _ := seen(t, 140, ended(5, "lab", run.Failed), going(4))
	row := -1
	for y, i := range v.rows {
		if i == 1 {
			row = y
		}
	}
	require.Positive(t, row)
	assert.Nil(t, v.Click(5, row), "the first click selects")
	assert.NotNil(t, v.Click(5, row), "the second opens")
	assert.Nil(t, v.Click(5, 35))
}

func TestTemplatesReachTheQueue(t *testing.T) {
	v, _ := seen(t, 140)
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	bad := &templates.Draft{Template: tmpl, Diagnostics: tosca.Diagnostics{{Severity: tosca.Mistake, Message: "there is no node"}}}
	v.Update(view.Drafted{Draft: bad})
	assert.Contains(t, drawn(v, 140), "flood-watch has 1 mistake ")
	assert.Contains(t, v.Why().Lines[1].Text, "there is no node")
	assert.Equal(t, "1", v.Badge(now))
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	v.Update(view.Drafted{Draft: templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, e)})
	text := drawn(v, 140)
	assert.Contains(t, text, "flood-watch is ready to build")
	assert.Empty(t, v.Badge(now), "what could be begun needs nobody")
	cmd, _ := view.Press(v.Keys(), "enter")
	assert.Contains(t, went(t, cmd), tea.Msg(view.Goto{Digit: "4"}))
	require.Len(t, v.Actions(), 1)
	assert.True(t, v.Find("READY"))
	assert.False(t, v.Find("submarine"))
	v.Update(view.Runs{Runs: []store.Run{ended(1, "flood-watch", run.Standing)}})
	assert.NotContains(t, drawn(v, 140), "ready to build", "it stands already")
}

func TestAWorkerThatFellSilentComesFirst(t *testing.T) {
	lost := going(9)
	lost.Beat = ago(time.Minute)
	v, text := seen(t, 140, ended(10, "lab", run.Failed), lost)
	assert.Regexp(t, `(?s)basin run 9 has lost its worker.*lab run 10 failed`, text)
	assert.Contains(t, text, "worker silent")
	assert.Contains(t, v.Why().Lines[1].Text, "This one has not for 1m")
	for w := 20; w < 150; w += 13 {
		assert.NotPanics(t, func() { drawn(v, w) })
	}
}

// TestWhatWasDoneIsSaid draws the trail: what failed is said once, and what there is no room for is not.
func TestWhatWasDoneIsSaid(t *testing.T) {
	v := New(nil)
	by := app.Actor{Name: "ana", Way: app.ByScreen}
	v.Update(done{last: []app.Entry{
		{Seq: 4, At: now, Actor: by, Act: "remove-site", On: "vega", Failed: "something stands there"}, {Seq: 3, At: now, Actor: by, Act: "remove-site", On: "vega"},
		{Seq: 2, At: now.Add(-time.Hour), Actor: by.By(app.BySchedule), Act: "survey-site", On: "presa"}, {Seq: 1, At: now.Add(-time.Hour), Actor: by, Act: "begin-run", On: "run 1", Note: "raise level-log"}}})
	text := drawn(v, 160)
	assert.Regexp(t, `what was done[\s\S]*now\s+ana by screen\s+removed vega, which failed: something stands there\s*\n.*ana by schedule\s+surveyed presa\s*\n.*1h.*ana by screen\s+began run 1: raise level-log\s*\n\s+andamio log tells`, text)
	assert.Equal(t, 1, strings.Count(text, "removed vega"))
	many := func(way app.Way, sites ...string) (out []app.Entry) {
		for _, s := range sites {
			out = append(out, app.Entry{At: now, Actor: by.By(way), Act: "survey-site", On: s})
		}
		return out
	}
	v.Update(done{last: append(append(many(app.ByScreen, "presa", "vega"), many(app.BySchedule, "tramonta", "vega")...), app.Entry{At: now, Actor: by, Act: "survey-site", On: "azud", Failed: "silent"})})
	assert.Regexp(t, `by screen +surveyed presa, vega *\n.*by schedule +surveyed tramonta, vega *\n.*surveyed azud, which failed: silent`, drawn(v, 160), "what is alike is told together")
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), 160, 8)
	v.Draw(c, part.Rect{W: 160, H: 8}, now)
	assert.NotContains(t, ansi.Strip(c.String()), "what was done")
	assert.NotNil(t, v.Update(done{err: errors.New("x")}))
}

// TestWhatWasProposedWaitsForSomebody has a proposal in the queue, with who proposed it and until when it holds.
func TestWhatWasProposedWaitsForSomebody(t *testing.T) {
	v := New(nil)
	v.Update(view.Runs{})
	v.Update(done{proposals: []runs.Proposal{{ID: 3, Purpose: "retire level-log", By: app.Actor{Name: "ana", Way: app.ByCommand}, Created: ago(time.Hour), Until: now.Add(time.Hour)}}})
	text := drawn(v, 160)
	assert.Contains(t, text, "1 thing waits for you")
	assert.Regexp(t, `retire level-log +nothing is done before somebody confirms it; it holds until +enter look at it, confirm it or withdraw it`, text)
	assert.Contains(t, text, "proposal 3, by ana, 1h00m ago")
	assert.Equal(t, "1", v.Badge(now))
	assert.Contains(t, v.Why().Lines[1].Text, "kept it for another to confirm")
	v.Update(done{addresses: []promise.AddressLease{{Site: "vega", Value: "10.0.0.9", For: "the old recorder", Until: now.Add(50 * time.Hour)}, {Site: "vega", Value: "vlan 7", For: "the lab", Until: now.AddDate(0, 1, 0)}}})
	text = drawn(v, 160)
	assert.Contains(t, text, "1 thing waits for you")
	assert.Regexp(t, `10.0.0.9 at vega ends in 2d2h +it is free again then`, text)
	assert.Contains(t, text, "leased for the old recorder")
	assert.Contains(t, text, "extend its lease")
	asked, is := v.extendAddress(&v.addresses[0])().(view.Prompt)
	require.True(t, is)
	assert.Empty(t, asked.Act.Wrong("30d"))
	assert.Contains(t, asked.Act.Wrong("soon"), "no span of time")
	assert.Contains(t, asked.Act.Wrong("0h"), "no span of time")
	v.Update(done{})
	assert.Contains(t, drawn(v, 160), "nothing needs you")
}

// TestWhatIsAskedOfMeIsInTheQueue has requests that wait for whoever looks, one of them longer than usual, and one for another; and events
// that a hook could not tell.
func TestWhatIsAskedOfMeIsInTheQueue(t *testing.T) {
	v, _ := seen(t, 140)
	ask := func(id int64, mine bool, next time.Time) requests.View {
		r := requests.View{Request: requests.Request{ID: id, Person: "teo", Created: ago(2 * time.Hour)}, Mine: mine, Next: next, Waits: "lia"}
		r.Title, r.Name, r.Decision = "Forecast workers", "workers-1", decide.Decision{Say: "Lia decides what a storm is."}
		return r
	}
	told := func(id int64, state store.DeliveryState, age time.Duration) store.Delivery {
		return store.Delivery{ID: id, Hook: "channel", State: state, At: ago(age), Note: "it says 403 Forbidden", Event: hook.Event{Type: hook.RunStands, Name: "basin"}}
	}
	v.Update(done{requests: []requests.View{ask(7, true, time.Time{}), ask(8, false, time.Time{}), ask(9, true, ago(time.Hour))},
		deliveries: []store.Delivery{told(5, store.DeliveryFailed, time.Hour), told(4, store.DeliverySent, time.Hour), told(3, store.DeliveryUnsure, 2*time.Hour), told(2, store.DeliveryFailed, 30*24*time.Hour)}})
	text := drawn(v, 160)
	assert.Equal(t, "3", v.Badge(now))
	assert.Equal(t, 2, strings.Count(text, "teo asks for Forecast workers"), "what waits for another is another's")
	assert.Less(t, strings.Index(text, "request 9"), strings.Index(text, "request 7"), "the late one first")
	assert.Contains(t, text, "later than usual: Lia decides")
	assert.Contains(t, text, "the hook channel did not tell 2 events")
	assert.Contains(t, text, "andamio hook again 5")
	cmd, _ := view.Press(v.Keys(), "enter")
	require.NotNil(t, cmd)
	assert.Equal(t, view.Goto{Digit: "8"}, cmd())
}

// TestBrokenPromisesAndEndsAreInTheQueue has a promise that was broken when it was due last, one that was kept, an end that is near and one that is far.
func TestBrokenPromisesAndEndsAreInTheQueue(t *testing.T) {
	v := New(nil)
	v.Update(view.Runs{})
	kept := func(last promise.State) promises.Kept {
		return promises.Kept{Name: "flood-watch", Words: "saved every day 02:00, 7 kept", Promise: promise.Promise{Deployment: 1, Kind: promise.Saved},
			Proof: promise.Proof{Kept: 3, Broken: 1, Last: ago(26 * time.Hour), Marks: []promise.Mark{{At: ago(2 * time.Hour), State: last, Note: "vega: no room"}}}}
	}
	ends := func(in time.Duration, times int) promises.Kept {
		p := promise.Promise{Deployment: 2, Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: now.Add(in), Grace: 48 * time.Hour, By: 24 * time.Hour, Times: times}}
		return promises.Kept{Name: "trial", Words: p.Words(), Promise: p}
	}
	v.Update(done{promised: []promises.Kept{kept(promise.Broken), kept(promise.Kept), ends(26*time.Hour, 1), ends(-time.Hour, 0), ends(30*24*time.Hour, 1)}})
	text := drawn(v, 160)
	assert.Contains(t, text, "3 things wait for you")
	assert.Regexp(t, `flood-watch: a promise is broken +vega: no room`, text)
	assert.Contains(t, text, "kept last")
	assert.Regexp(t, `trial ends in 1d2h`, text)
	assert.Contains(t, text, "extend it by 1d")
	assert.Contains(t, text, "trial has ended")
	assert.Contains(t, text, "set another end")
	stuck := ends(-time.Hour, 0)
	stuck.Proof.Marks = []promise.Mark{{At: ago(time.Hour), State: promise.Broken, Note: "ana may not do that"}}
	v.Update(done{promised: []promises.Kept{stuck}})
	assert.Regexp(t, `trial: a promise is broken +ana may not do that`, drawn(v, 160), "what has ended and cannot be switched off needs somebody")
	v.Update(done{levels: []promises.LevelState{{Name: "register", Level: "sandbag", Required: "levee", Rule: "registers", Say: "A register is kept every night.", Below: true}, {Name: "map", Level: "dam", Outdated: true}, {Name: "well", Level: "dam"}}})
	text = drawn(v, 160)
	assert.Contains(t, text, "2 things wait for you")
	assert.Regexp(t, `register: less than levee +A register is kept every night.`, text)
	assert.Contains(t, text, "map: dam was changed")
	assert.NotContains(t, text, "well")
	v.Update(done{})
	assert.Contains(t, drawn(v, 160), "nothing needs you")
}

// TestWhatDeploymentsUseStandsBesideTheirCost holds the strip of the last hour, and that there is none where nothing was measured, or no room.
func TestWhatDeploymentsUseStandsBesideTheirCost(t *testing.T) {
	stands := going(3)
	stands.State, stands.Ended, stands.Currency = run.Standing, ago(time.Minute), "cr"
	v, _ := seen(t, 160, stands)
	v.Update(view.Health{All: []health.Deployment{{ID: 1, Status: run.Standing, Word: "standing", Currency: "cr"}}})
	assert.NotContains(t, drawn(v, 160), usedHead)
	cores := watch.Line{Name: measure.WholeCores, Now: 3, Limit: 4}
	for i := range usedCells {
		cores.Points = append(cores.Points, measure.Point{Mean: 4 * float64(i+1) / usedCells, N: i % 2})
	}
	v.Update(done{wholes: map[int64]watch.Overview{1: {Lines: []watch.Line{cores}}, 2: {}}})
	text := drawn(v, 160)
	assert.Contains(t, text, usedHead)
	assert.Regexp(t, `basin run 3 .* cr/h +▁ ▂ ▂ ▃ ▄ ▅ ▆ ▆ ▇ █ 75 %`, text)
	assert.NotRegexp(t, `[▂▃▄]`, drawn(v, 80))
}
