package govern

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/decide"
	"andamio/internal/core/guard"
	"andamio/internal/core/ledger"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/quota"
	"andamio/internal/core/run"
	"andamio/internal/service/accounts"
	"andamio/internal/service/deployments"
	"andamio/internal/service/offers"
	"andamio/internal/service/quotas"
	"andamio/internal/service/requests"
	"andamio/internal/store"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func ago(d time.Duration) time.Time { return noon.Add(-d) }

func drawn(v *View, w, h int) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, h)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: h}, noon)
	return ansi.Strip(c.String())
}

func request(id int64, name string, state store.RequestState, stages ...requests.Reached) requests.View {
	v := requests.View{Request: requests.Request{ID: id, Person: "teo", Owner: guard.Owner{Team: "forecasting"}, State: state, Created: ago(time.Hour)}}
	v.Name, v.Title, v.Asked, v.PerHour, v.Currency = name, "Forecast workers", ago(time.Hour), money.Of(0.4), "cr"
	v.Stages = append([]requests.Reached{{Stage: requests.StageAsked, At: ago(time.Hour)}}, stages...)
	last := v.Stages[len(v.Stages)-1]
	v.Stage, v.Since = last.Stage, last.At
	return v
}

func waits(id int64, name string, mine bool) requests.View {
	v := request(id, name, store.RequestWaiting)
	v.Decision = decide.Decision{Then: decide.Ask, Rule: "storm", Need: 1, Say: "Lia decides what a storm is."}
	v.Waits, v.Mine, v.Why = "lia", mine, "it rains"
	return v
}

func use(account string, m quota.Measure, most, used, held, paused float64) quotas.Use {
	return quotas.Use{Use: quota.Use{Account: account, Measure: m, Most: m.Amount(most), Used: m.Amount(used), Held: m.Amount(held), Paused: m.Amount(paused)}}
}

// some is the view with requests of every fate.
func some(t *testing.T) *View {
	v := New(t.Context(), nil)
	spent := use("forecasting#2026-11", quota.PerMonth, 1200, 900, 100, 0)
	spent.Forecast = &quota.Forecast{AtEnd: quota.PerMonth.Amount(1500), RunsOut: time.Date(2026, 11, 27, 12, 0, 0, 0, time.Local)}
	v.Update(looked{uses: []quotas.Use{use("forecasting", quota.Cores, 48, 20, 8, 0), use("forecasting", quota.Instances, 10, 4, 1, 0), spent, use("map", quota.Cores, 4, 6, 0, 0)}, all: []requests.View{
		request(1, "served", store.RequestBuilt, requests.Reached{Stage: requests.StageApproved, At: ago(50 * time.Minute), Rule: "small", Text: "It is small."}, requests.Reached{Stage: requests.StageBuilding, At: ago(50 * time.Minute)}, requests.Reached{Stage: requests.StageServing, At: ago(48 * time.Minute)}),
		request(2, "refused", store.RequestRefused, requests.Reached{Stage: requests.StageRefused, At: ago(time.Minute), Rule: "quota map", Text: "too many"}),
		waits(3, "others", false), waits(4, "mine", true),
		request(5, "rising", store.RequestBuilt, requests.Reached{Stage: requests.StageApproved, At: ago(time.Minute), By: guard.Actor{Name: "lia"}, Text: "go on"}, requests.Reached{Stage: requests.StageBuilding, At: ago(30 * time.Second)}),
	}})
	return v
}

func TestWhatWaitsForYouComesFirst(t *testing.T) {
	v := some(t)
	text := drawn(v, 160, 47)
	var order []string
	for i := range v.all {
		order = append(order, v.all[i].Name)
	}
	assert.Equal(t, []string{"mine", "others", "rising", "served", "refused"}, order)
	assert.Equal(t, "1", v.Badge(noon))
	assert.Contains(t, text, "1 request waits for you, 1 waits for others   at this pace forecasting runs out on 27 November")
	assert.Regexp(t, `mine +teo +■──‖ waits 1h00m for you`, text)
	assert.Regexp(t, `others +teo +■──‖ waits 1h00m for lia`, text)
	assert.Regexp(t, `served +teo +■─ 10m ─+■─ 0s ─+■─ 2m ─+■──■ serving for 48m`, text)
	assert.Regexp(t, `rising +teo +.*◩ building, 30s`, text)
	assert.Regexp(t, `refused +teo +■──✕ refused by the quota map`, text)
	assert.Regexp(t, `forecasting +█+░+ 28 of 48 cores +█+░+ 1000 of 1200 this month`, text, "the fullest measure, and the money")
	assert.Regexp(t, `map +█+ 6 of 4 cores`, text)
}

func TestNothingIsClaimedBeforeItIsKnown(t *testing.T) {
	v := New(t.Context(), nil)
	assert.Equal(t, 2, strings.Count(drawn(v, 100, 30), "looking"))
	assert.Nil(t, v.Update(view.Runs{}))
	v.Update(looked{})
	text := drawn(v, 160, 30)
	assert.Contains(t, text, "nothing was asked for")
	assert.Contains(t, text, "andamio quota set FILE")
	assert.Empty(t, v.Badge(noon))
	assert.Nil(t, v.Actions())
	assert.Contains(t, v.Why().Lines[0].Text, "andamio offer publish")
	assert.False(t, v.Find("x"))
	assert.Len(t, v.Keys(), 3)
	cmd := v.Update(looked{err: errors.New("the file is broken")})
	assert.Equal(t, view.Notice{Text: "the file is broken", Bad: true}, cmd())
}

// TestKeysAreThoseThatHelp goes through the requests: only what can be done to the selected one is offered.
func TestLongNamesKeepTheirEnds(t *testing.T) {
	assert.Equal(t, []string{"map-1", "public…-map-17", "abcd"}, []string{middled("map-1", 14), middled("public-map-map-17", 14), middled("abcd", 3)})
}

func TestKeysAreThoseThatHelp(t *testing.T) {
	v := some(t)
	words := func() string {
		var out []string
		for _, k := range v.Keys() {
			out = append(out, k.Help().Desc)
		}
		return strings.Join(out, ", ")
	}
	acts := func() string {
		var out []string
		for _, a := range v.Actions() {
			out = append(out, a.Name)
		}
		return strings.Join(out, ", ")
	}
	assert.Equal(t, "request, approve, refuse, say, account, rules", words())
	assert.Equal(t, "approve request 4, mine, refuse request 4, mine, withdraw, say something of request 4", acts())
	cmd, _ := view.Press(v.Keys(), "y")
	assert.Equal(t, "it is built at once", cmd().(view.Confirm).Act.Effect)
	cmd, _ = view.Press(v.Keys(), "n")
	asked := cmd().(view.Prompt).Act
	assert.Equal(t, "say something", asked.Wrong("  "))
	assert.Empty(t, asked.Wrong("no storm"))
	view.Press(v.Keys(), "down")
	assert.Equal(t, "request, say, account, rules", words())
	v.all[2].Run = 9
	view.Press(v.Keys(), "down")
	assert.Equal(t, "request, its run, say, account, rules", words())
	cmd, _ = view.Press(v.Keys(), "enter")
	batch := cmd().(tea.BatchMsg)
	assert.Equal(t, []tea.Msg{view.OpenRun{ID: 9}, view.Goto{Digit: "4"}}, []tea.Msg{batch[0](), batch[1]()})
	v.all[2].State = store.RequestPriced
	assert.Contains(t, acts(), "accept the price")
	assert.True(t, v.Find("MINE"))
	assert.Equal(t, "mine", v.selected().Name)
	drawn(v, 160, 47)
	for y, i := range v.rows {
		if i == 3 {
			v.Click(5, y)
		}
	}
	assert.Equal(t, "served", v.selected().Name)
	v.Wheel(9)
	assert.Equal(t, "refused", v.selected().Name)
	assert.Contains(t, fmt.Sprint(v.Why().Lines), "quota map")
	v.Update(looked{all: []requests.View{waits(2, "refused", false), waits(8, "new", true)}})
	assert.Equal(t, "refused", v.selected().Name, "what is selected stays so, wherever it is")
}

// TestTheEffectIsBesideTheRequest shows what a yes would do, with what it takes too much of.
func TestTheEffectIsBesideTheRequest(t *testing.T) {
	v := some(t)
	over := quota.Use{Account: "forecasting", Measure: quota.Cores, Most: 48, Used: 40, Held: 16}
	q := &offers.Quote{Size: offers.Size{Instances: 2, Cores: 16, MemoryGiB: 32}, PerHour: money.Of(0.7), PerMonth: money.Of(511), Currency: "cr", Seconds: 90}
	v.Update(worked{of: 4, effect: &requests.Effect{Quote: q, Dearer: true, Left: []quota.Use{over}}, thread: []requests.Event{{At: ago(time.Hour), By: guard.Actor{Name: "teo"}, Stage: requests.StageAsked, Text: "it rains"},
		{At: ago(time.Hour), Rule: "storm", Stage: requests.StageWaiting, Text: "Lia decides"}, {At: ago(time.Minute), By: guard.Actor{Name: "ana"}, Text: "look at the gauges"}}})
	text := drawn(v, 160, 47)
	for _, want := range []string{"teo · forecasting · request 4", "it rains", "2 instances, 16 cores, 32 GiB memory", "0.700 cr/h, 511.00 a month", "after about 1m30s", "forecasting  -8 cores",
		"Lia decides what a storm is.", "1h00m ago teo asked: it rains", "1m ago ana look at the gauges"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "rule storm waiting", "why it asks is said once")
	assert.Contains(t, v.approval(v.selected()).Effect, "0.700 cr/h")
	v.Update(worked{of: 99, effect: &requests.Effect{Quote: &offers.Quote{Cannot: "no room"}}})
	assert.NotContains(t, drawn(v, 160, 47), "no room", "what is of another request is not taken for it")
	v.Update(worked{of: 4, effect: &requests.Effect{Quote: &offers.Quote{Cannot: "no site has room"}}})
	assert.Contains(t, drawn(v, 160, 47), "no site has room")
	cmd := v.Update(worked{err: errors.New("it is gone")})
	require.NotNil(t, cmd)
	assert.Equal(t, view.Notice{Text: "it is gone", Bad: true}, cmd())
}

// TestItFitsEverywhere draws it at every size from small to large, with a hundred requests and quotas.
func TestItFitsEverywhere(t *testing.T) {
	v := some(t)
	for i := range int64(100) {
		v.all = append(v.all, waits(100+i, fmt.Sprintf("request-with-a-long-name-%d", i), i%2 == 0))
		v.uses = append(v.uses, use(fmt.Sprintf("team-%d", i), quota.DiskGiB, 100, float64(i), 0, 3))
	}
	for _, size := range [][2]int{{20, 6}, {80, 24}, {119, 30}, {120, 30}, {160, 47}, {300, 90}} {
		for _, at := range []int{0, 50, len(v.all) - 1} {
			v.at = at
			text := drawn(v, size[0], size[1])
			if size[1] >= 24 {
				assert.Contains(t, text, v.selected().Name[:4], "%v", size)
				assert.Contains(t, text, "more; andamio quota lists all")
			}
		}
	}
}

func TestWhatWasDoneIsLookedAtAnew(t *testing.T) {
	v := some(t)
	v.Update(worked{of: 4, thread: []requests.Event{{Text: "before"}}})
	require.EqualValues(t, 4, v.of)
	v.Update(acted{})
	assert.Zero(t, v.of, "a yes changes what a yes would do")
}

// paid is an account of the month until noon of the 23rd, by what is asked for, of so many lines.
func paid(v *View, lines int) *accounts.Account {
	q := v.book.query(noon)
	q.To = noon
	var all []ledger.Entry
	for i := range lines {
		c := ledger.Charge{Deployment: 1, Resource: fmt.Sprint(i), Kind: "instance", Site: "vega", PerHour: money.Of(0.1), From: q.From.AddDate(0, 0, i)}
		all = append(all, ledger.Entry{Charge: c, Name: fmt.Sprintf("deployment-%d", i), Owner: guard.Owner{Team: fmt.Sprintf("team-%d", i)}})
	}
	return &accounts.Account{Account: ledger.Sum(all, q, "cr", nil)}
}

// TestTheAccountIsBelowTheRequests draws the account of the month, of few lines and of many, and where there is room for one thing alone.
func TestTheAccountIsBelowTheRequests(t *testing.T) {
	v := some(t)
	v.now = noon
	assert.Contains(t, drawn(v, 160, 47), "it is being worked out")
	v.Update(accounted{n: v.book.n, of: paid(v, 2)})
	text := drawn(v, 160, 47)
	assert.Contains(t, text, "by team   105.60 cr in November, 141.60 by its end as it is")
	assert.Regexp(t, `█ team-0 54\.00   ▓ team-1 51\.60   ░ expected`, text)
	assert.Regexp(t, `1 +6 +11 +16 +21 +now +26 `, text)
	assert.Less(t, strings.Index(text, "refused by the quota map"), strings.Index(text, "by team"), "requests are above it")
	v.Update(accounted{n: v.book.n, of: paid(v, 9)})
	assert.Regexp(t, `team-4 +█ others +░ expected`, drawn(v, 160, 47), "what is beyond six is one")

	small := drawn(v, 80, 24)
	assert.NotContains(t, small, "by its end")
	view.Press(v.Keys(), "tab")
	small = drawn(v, 80, 24)
	assert.Contains(t, small, "by its end")
	assert.NotContains(t, small, "asked ")
	var words []string
	for _, k := range v.Keys() {
		words = append(words, k.Help().Desc)
	}
	assert.Equal(t, []string{"by", "month", "requests"}, words)
	view.Press(v.Keys(), "right")
	assert.Contains(t, drawn(v, 160, 47), "by application")
	view.Press(v.Keys(), "left")
	view.Press(v.Keys(), "left")
	assert.Contains(t, drawn(v, 160, 47), "by size", "it goes round")
	view.Press(v.Keys(), "{")
	v.Update(accounted{n: v.book.n, of: paid(v, 0)})
	assert.Contains(t, drawn(v, 160, 47), "nothing stood in October 2026 that you may see")
	view.Press(v.Keys(), "}")
	view.Press(v.Keys(), "}")
	v.Update(accounted{n: v.book.n, err: errors.New("the rates are of another unit")})
	assert.Contains(t, drawn(v, 160, 47), "the rates are of another unit")
	v.Update(accounted{n: v.book.n + 1, of: paid(v, 2)})
	assert.Contains(t, drawn(v, 160, 47), "the rates are of another unit", "what was not asked for now is not shown")
}

// TestWhatOneHasIsBesideIt selects a request that serves: how it is, what it costs and has cost, and what whoever asked may do to it.
func TestWhatOneHasIsBesideIt(t *testing.T) {
	v := some(t)
	for v.selected().Name != "served" {
		view.Press(v.Keys(), "down")
	}
	v.selected().Run = 7
	v.Update(worked{of: v.selected().ID, have: &requests.Having{Status: run.Standing, Word: "serving", PerHour: money.Of(0.056), Cost: money.Of(4.2), Currency: "cr", Turns: []requests.Turn{requests.Stop, requests.GiveBack}}})
	text := drawn(v, 160, 47)
	for _, want := range []string{`how it is +■ serving`, `costs +0\.056 cr/h`, `so far +4\.20 cr`, `a  you may +stop, give back`} {
		assert.Regexp(t, want, text)
	}
	var names []string
	for _, a := range v.Actions() {
		names = append(names, a.Name)
	}
	assert.Equal(t, []string{"stop", "give back", "say something of request 1"}, names)
	v.selected().Off = true
	assert.Contains(t, drawn(v, 160, 47), "switched off")
	v.have.Hidden = true
	assert.NotContains(t, drawn(v, 160, 47), "so far")
	assert.Equal(t, "2 steps, about 1m; what is on vol goes (20 GiB)", turned(deployments.Order{Plan: &plan.Plan{Seconds: 60,
		Resources: []plan.Resource{{ID: "vol", Kind: "volume", Spec: plan.VolumeSpec{DiskGiB: 20}, Change: plan.Retire}},
		Steps:     []plan.Step{{ID: "vol/remove", Resource: "vol", Op: "remove"}, {ID: "x/halt", Resource: "vol", Op: "halt"}}}}))
	view.Press(v.Keys(), "up")
	assert.NotContains(t, drawn(v, 160, 47), "you may", "that is of another")
}

// TestRulesAreToldWithWhatTheyDecided lists rules as a note.
func TestRulesAreToldWithWhatTheyDecided(t *testing.T) {
	n := ruled([]requests.RuleUse{{Rule: decide.Rule{Name: "small", When: "price.per_hour < 0.3", Then: decide.Approve, Say: "It is small."}, Approved: 4}, {Rule: decide.Rule{Name: "storm", Then: decide.Ask, Ask: []string{"lia"}, Say: "Lia decides."}}})
	var lines []string
	for _, l := range n.Lines {
		lines = append(lines, l.Text)
	}
	assert.Equal(t, []string{"small  approves", "  It is small.", "  price.per_hour < 0.3", "  approved 4 in 30 days", "", "storm  asks lia", "  Lia decides.", "  every request that is left", "  decided nothing in 30 days", ""}, lines)
	assert.Contains(t, ruled(nil).Lines[0].Text, "There are none")
}
