package place

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/service/templates"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// placing is the view with the demo's drill placed.
func placing(t *testing.T) *View {
	t.Helper()
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	v := New()
	settle(v, v.Update(view.Drafted{Draft: templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, e)}))
	require.NotEmpty(t, v.rows)
	return v
}

// settle runs commands until the view asks for nothing more, and returns the messages meant for others.
func settle(v *View, cmd tea.Cmd) []tea.Msg {
	if cmd == nil {
		return nil
	}
	switch msg := cmd().(type) {
	case tea.BatchMsg:
		var out []tea.Msg
		for _, c := range msg {
			out = append(out, settle(v, c)...)
		}
		return out
	case sited:
		return settle(v, v.Update(msg))
	case nil:
		return nil
	default:
		return []tea.Msg{msg}
	}
}

func press(t *testing.T, v *View, keys ...string) []tea.Msg {
	t.Helper()
	var out []tea.Msg
	for _, k := range keys {
		cmd, used := view.Press(v.Keys(), k)
		require.True(t, used, "the key %s", k)
		out = append(out, settle(v, cmd)...)
	}
	return out
}

func drawn(v *View, w, h int) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, h)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: h}, time.Time{})
	return ansi.Strip(c.String())
}

// pick selects a cell.
func pick(t *testing.T, v *View, title, site string) {
	t.Helper()
	require.True(t, v.Find(title), title)
	for i, s := range v.sites() {
		if s.Name == site {
			v.site = i
		}
	}
	settle(v, v.glance())
}

// at is where the workloads are in what is shown.
func at(v *View) map[string]string {
	out := map[string]string{}
	for _, c := range v.now.Placement.Choices {
		out[c.Workload] = c.Site
	}
	return out
}

// moved are the workloads that are elsewhere than before.
func moved(before, after map[string]string) map[string]string {
	out := map[string]string{}
	for w, s := range after {
		if before[w] != s {
			out[w] = s
		}
	}
	return out
}

func TestTheMatrixAnswersWhereWhyAndWhyNot(t *testing.T) {
	v := placing(t)
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "■ the best, proven")
	assert.Regexp(t, `contacts-host 1 +4 +16 +· sensitive +■ 0\.310 +19 ms +· sensitive`, text)
	assert.Regexp(t, `gauge-node 1 +2 +4▐?.*■ 0\.182`, text)
	assert.Regexp(t, `a site, an hour +0\.182`, text)
	pick(t, v, "contacts-host", "alisio-norte")
	text = drawn(v, 160, 43)
	assert.Contains(t, text, "why  contacts-host 1 at alisio-norte")
	assert.Contains(t, text, "rule sensitive-data-stays-home")
	assert.Contains(t, text, "yes  sensitive data")
	var why []string
	for _, l := range v.Why().Lines {
		why = append(why, l.Text)
	}
	assert.Contains(t, strings.Join(why, "\n"), "rule sensitive-data-stays-home holds here (its data is sensitive, and must stay on our own machines)")
	for w := 60; w < 200; w += 17 {
		for h := 14; h < 60; h += 9 {
			assert.NotPanics(t, func() { drawn(v, w, h) }, "%d × %d", w, h)
		}
	}
}

func TestPinForbidAndUndoMoveNothingElse(t *testing.T) {
	v := placing(t)
	press(t, v, "g", "down", "down", "down", "down", "down", "left", "left", "left", "left", "esc")
	require.Zero(t, v.now.Problem.Weights.Latency, "so that nothing follows what it talks to")
	was := at(v)
	pick(t, v, "forecast-host", "alisio-sur")
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "if it were pinned here")
	assert.Regexp(t, `\+0\.0\d\d cr/h, \+\d+ a month`, text)
	row := v.row().workloads
	press(t, v, "p")
	got := moved(was, at(v))
	assert.Len(t, got, len(row), "only what was pinned moves")
	for _, w := range row {
		assert.Equal(t, "alisio-sur", got[w])
	}
	assert.Contains(t, drawn(v, 160, 43), "pin")
	assert.Contains(t, drawn(v, 160, 43), "not in the plan yet")
	assert.NotEmpty(t, v.Badge(time.Time{}))
	press(t, v, "u")
	assert.Equal(t, was, at(v))
	pick(t, v, "map-host 1", v.row().site)
	pick(t, v, "map-host 1", v.row().site)
	site := v.row().site
	press(t, v, "x")
	assert.NotEqual(t, site, at(v)["map-host-1"], "what is forbidden is left")
	press(t, v, "u", "u")
	assert.Equal(t, was, at(v))
	press(t, v, "u", "u", "u", "u")
	assert.Contains(t, press(t, v, "u")[0].(view.Notice).Text, "nothing was chosen")
}

func TestOneAnswerMovesExactlyWhatItShould(t *testing.T) {
	v := placing(t)
	was := at(v)
	pick(t, v, "contacts-host", "vega")
	press(t, v, "g", "down", "down", "space")
	assert.Equal(t, map[string]string{"contacts-host-1": "alisio-norte"}, moved(was, at(v)), "it is no longer sensitive, and cheaper outside")
	press(t, v, "space")
	assert.Equal(t, was, at(v), "and back")
	assert.Zero(t, v.now.Choices.Count(), "an answer as the template's is no choice")
	press(t, v, "esc")
	pick(t, v, "gauge-node", "presa")
	press(t, v, "tab", "left")
	assert.NotEqual(t, "presa", at(v)["gauge-node-1"])
	assert.Subset(t, []string{"gauge-node-1"}, keysOf(moved(was, at(v))))
}

func keysOf(m map[string]string) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	return out
}

func TestWeightsAndPayment(t *testing.T) {
	v := placing(t)
	before := v.now.Placement.CostPerHour
	press(t, v, "g", "down", "down", "down", "down", "down")
	assert.Contains(t, drawn(v, 160, 43), "latency")
	press(t, v, "right", "right", "right", "right")
	assert.InDelta(t, 40, v.now.Problem.Weights.Latency/0.0005, 1e-6)
	assert.GreaterOrEqual(t, v.now.Placement.CostPerHour, before, "what is near is not cheaper")
	press(t, v, "u", "u", "u", "u", "down", "down", "down", "right")
	assert.Equal(t, estate.Reserved1, v.now.Choices.Payment)
	assert.Less(t, v.now.Placement.CostPerHour, before)
	press(t, v, "left")
	assert.Empty(t, v.now.Choices.Payment)
	assert.Regexp(t, `by tier, in cr an hour\s+`, drawn(v, 160, 60))
	press(t, v, "down", "right")
	assert.Contains(t, drawn(v, 160, 60), "1.943 EUR/h", "2.112 at 0.92")
	press(t, v, "left")
	assert.Contains(t, drawn(v, 160, 60), "2.112 cr/h")
}

func TestTwoAlternativesStandSideBySide(t *testing.T) {
	v := placing(t)
	was := at(v)
	press(t, v, "v")
	pick(t, v, "forecast-host", "alisio-sur")
	press(t, v, "p")
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "beside the alternative")
	assert.Regexp(t, `cost an hour +2\.1\d\d +◇ +2\.1\d\d`, text)
	assert.Contains(t, text, "if the alternative were taken instead")
	now := at(v)
	press(t, v, "s")
	assert.Equal(t, was, at(v))
	press(t, v, "s")
	assert.Equal(t, now, at(v))
	press(t, v, "v")
	assert.NotContains(t, drawn(v, 160, 43), "beside the alternative")
	_, used := view.Press(v.Keys(), "s")
	assert.False(t, used, "there is no alternative")
}

func TestWhatCannotBePlacedIsSaidAndUndone(t *testing.T) {
	v := placing(t)
	was := at(v)
	pick(t, v, "readings-host", "vega")
	press(t, v, "x")
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "no placement with these choices")
	assert.Contains(t, text, "vega: forbidden by hand")
	assert.Contains(t, strings.Join(strings.Fields(strings.ReplaceAll(text, "│", " ")), " "), "vega: forbidden by hand")
	assert.Contains(t, press(t, v, "enter")[0].(view.Notice).Text, "there is no placement to accept")
	assert.Equal(t, "why there is no placement", v.Why().Title)
	var why []string
	for _, l := range v.Why().Lines {
		why = append(why, l.Text)
	}
	assert.Contains(t, strings.Join(why, " "), "without what is pinned or forbidden by hand")
	press(t, v, "u")
	assert.Equal(t, was, at(v))
	assert.Nil(t, v.now.Err)
}

func TestAcceptingPutsTheChoicesIntoThePlan(t *testing.T) {
	v := placing(t)
	pick(t, v, "forecast-host", "alisio-sur")
	press(t, v, "p")
	want := at(v)
	msgs := press(t, v, "enter")
	require.Len(t, msgs, 2)
	accepted := msgs[0].(view.Accepted)
	assert.Contains(t, msgs[1].(view.Notice).Text, "accepted: ")
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	d := templates.NewDraft(v.draft.Template, templates.DraftRequest{Preset: "drill", Choices: accepted.Choices, Like: v.now.Placement}, e)
	require.NoError(t, d.Err)
	for _, r := range d.Plan.Resources {
		if site, ok := want[r.ID]; ok {
			assert.Equal(t, site, r.Site, r.ID)
		}
	}
	settle(v, v.Update(view.Drafted{Draft: d}))
	assert.Empty(t, v.Badge(time.Time{}), "all that was chosen is in the plan")
}

func TestChartsAreExported(t *testing.T) {
	v := placing(t)
	t.Chdir(t.TempDir())
	msg := v.Export()().(view.Notice)
	require.False(t, msg.Bad, msg.Text)
	for _, name := range []string{"flood-watch-capacity.svg", "flood-watch-capacity.pdf", "flood-watch-cost.svg", "flood-watch-cost.pdf"} {
		data, err := os.ReadFile(filepath.Clean(name))
		require.NoError(t, err)
		assert.Greater(t, len(data), 1000, name)
	}
	svg, err := os.ReadFile("flood-watch-cost.svg")
	require.NoError(t, err)
	assert.Contains(t, string(svg), "alisio-norte")
}

func TestNothingToPlaceIsSaid(t *testing.T) {
	v := New()
	assert.Contains(t, drawn(v, 120, 30), "nothing to place yet")
	assert.Nil(t, v.Export())
	assert.Empty(t, v.Actions())
	assert.False(t, v.Find("x"))
	_, used := view.Press(v.Keys(), "p")
	assert.False(t, used)
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	v.Update(view.Drafted{Draft: templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, nil)})
	assert.Contains(t, drawn(v, 120, 30), "there are no sites to place at")
}

func TestADraftWithoutAPlaceIsExplained(t *testing.T) {
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	for i := range e.Sites[1].Zones {
		for k := range e.Sites[1].Zones[i].Hosts {
			e.Sites[1].Zones[i].Hosts[k].Free = estate.Capacity{Cores: 5, MemoryGiB: 20, DiskGiB: 900}
		}
	}
	v := New()
	settle(v, v.Update(view.Drafted{Draft: templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, e)}))
	text := drawn(v, 120, 40)
	assert.Contains(t, text, "there is no placement")
	assert.Contains(t, text, "there is no place for readings-host-1")
	assert.Contains(t, text, "more at vega, in one place")
	assert.Equal(t, "why there is no placement", v.Why().Title)
	_, used := view.Press(v.Keys(), "enter")
	assert.False(t, used)
	settle(v, v.Update(view.Drafted{Draft: templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, mustEstate(t))}))
	assert.Contains(t, drawn(v, 120, 40), "the best, proven", "and it recovers")
}

func mustEstate(t *testing.T) *estate.Estate {
	t.Helper()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	return e
}
