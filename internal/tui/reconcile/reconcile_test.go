package reconcile

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/alarm"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/servicemap"
	"andamio/internal/service/reconcile"
	"andamio/internal/store"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func host(id string, pairs ...string) inventory.Record {
	r := inventory.Record{ID: "vega/" + id, Class: kinds.Instance, Name: id, Site: "vega", Region: "a", Provider: id, Seen: now}
	for i := 0; i < len(pairs); i += 2 {
		r.Set(pairs[i], pairs[i+1])
	}
	return r
}

// compare is what a reconciliation of some records gives, as the view takes it.
func compare(d, r, o inventory.Records) compared {
	report := inventory.Reconcile(inventory.Input{Declared: d, Recorded: r, Observed: o, Now: now})
	inv := &reconcile.Inventory{Currency: "cr", Report: report, DeclaredRecords: d, RecordedRecords: r, ObservedRecords: o, At: now,
		Coverage: []store.Covered{{Site: "vega", Region: "a", Seen: now.Add(-time.Minute), Tried: now}, {Site: "presa", Region: "dam", Error: "it was silent"}}}
	return compared{inv: inv, m: servicemap.New(servicemap.Input{Records: r})}
}

// sample is the view of five findings.
func sample(t *testing.T) *View {
	t.Helper()
	v := New(context.Background(), nil)
	v.Update(compare(inventory.Records{host("store", "cores", "4", "service", "readings")},
		inventory.Records{host("store", "cores", "4", "service", "readings"), host("gone", "service", "map"), host("tag-1", "tag.owner", "maps"), host("tag-2", "tag.owner", "maps")},
		inventory.Records{host("store", "cores", "2"), host("tag-1", "tag.owner", "alerts"), host("tag-2", "tag.owner", "alerts"), host("try\x1b[31m-1", "cost_per_hour", "0.44")}))
	require.Len(t, v.inv.Findings, 5)
	return v
}

func drawn(v *View, w, h int, ascii bool) string {
	c := part.NewCanvas(part.NewLook(false, ascii, colorprofile.TrueColor), w, h)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: h}, now)
	return ansi.Strip(c.String())
}

func press(v *View, keys ...string) {
	for _, k := range keys {
		_, _ = view.Press(v.Keys(), k)
	}
}

// selectName selects the finding on a thing.
func selectName(t *testing.T, v *View, name string) {
	t.Helper()
	for i, r := range v.rows {
		if r.finding >= 0 && v.inv.Findings[r.finding].Name == name {
			v.at = i
			return
		}
	}
	require.Fail(t, "no finding", name)
}

func TestFindingsStandBesideWhatTheyAreAbout(t *testing.T) {
	v := sample(t)
	text := drawn(v, 160, 43, false)
	assert.Contains(t, text, "4 records   5 findings")
	assert.Contains(t, text, "0.440 cr/h nobody asked for · 2 services endangered")
	assert.Contains(t, text, "✕ presa not whole")
	assert.Regexp(t, `▾ missing\s+━+\s+1`, text)
	assert.Equal(t, "gone", v.finding().Name, "what endangers a service is selected first")
	selectName(t, v, "store")
	text = drawn(v, 160, 43, false)
	assert.Regexp(t, `cores\s+4\s+4\s+2`, text, "three sources side by side")
	assert.Contains(t, text, "correct the site")
	assert.Contains(t, text, "suggested")
	assert.Contains(t, text, "certain · the provider id agrees")
	assert.NotContains(t, text, "\x1b")
	assert.Contains(t, text, "try-1", "names from outside are made printable")
}

func TestEveryWidthAndASCIIDrawAll(t *testing.T) {
	v := sample(t)
	for _, size := range [][2]int{{80, 20}, {110, 30}, {160, 43}, {240, 60}} {
		for i := range v.rows {
			v.at = i
			text := drawn(v, size[0], size[1], false)
			for _, line := range strings.Split(text, "\n") {
				assert.LessOrEqual(t, part.Width(line), size[0])
			}
			assert.Contains(t, text, "5 findings")
		}
	}
	for _, r := range drawn(v, 160, 43, true) {
		assert.Less(t, r, rune(0x80), "%q", r)
	}
}

func TestMarksAreChoicesForOneForAllAlikeAndForASort(t *testing.T) {
	v := sample(t)
	selectName(t, v, "tag-1")
	press(v, "space")
	assert.Equal(t, map[string]inventory.Way{idOf(v, "tag-1"): inventory.CorrectRecord}, v.chosen, "the suggested way")
	selectName(t, v, "tag-1")
	press(v, "S", "*")
	assert.Equal(t, inventory.CorrectSite, v.chosen[idOf(v, "tag-2")], "all alike as the selected one")
	assert.Len(t, v.chosen, 2)
	assert.Contains(t, drawn(v, 160, 43, false), "2 marked   correct the site 2")
	press(v, "esc")
	assert.Empty(t, v.chosen)
	for i, r := range v.rows {
		if r.finding < 0 && r.group == inventory.Changed {
			v.at = i
		}
	}
	press(v, "R")
	assert.Len(t, v.chosen, 2, "what cannot be settled so is left out")
	press(v, "space")
	assert.Len(t, v.chosen, 3)
	press(v, "left")
	assert.True(t, v.folded[inventory.Changed])
	assert.NotContains(t, drawn(v, 160, 43, false), "◆ tag-1")
	cmd, used := view.Press(v.Keys(), "T")
	require.True(t, used)
	assert.Contains(t, cmd().(view.Notice).Text, "cannot be settled by: retire")
}

func idOf(v *View, name string) string {
	for i := range v.inv.Findings {
		if v.inv.Findings[i].Name == name {
			return v.inv.Findings[i].ID
		}
	}
	return ""
}

// TestMarksOutliveASurvey takes a new comparison: marks stay on what is still found, and the selection too.
func TestMarksOutliveASurvey(t *testing.T) {
	v := sample(t)
	selectName(t, v, "store")
	press(v, "S")
	selectName(t, v, "gone")
	press(v, "space")
	require.Len(t, v.chosen, 2)
	selectName(t, v, "store")
	v.Update(compare(nil, inventory.Records{host("store", "cores", "4"), host("tag-9", "tag.a", "b")}, inventory.Records{host("store", "cores", "2"), host("tag-9", "tag.a", "c")}))
	assert.Empty(t, v.chosen, "declared no more: these are other findings")
	assert.NotNil(t, v.finding())
}

func TestReasonsHaveAnEnd(t *testing.T) {
	for text, want := range map[string][3]string{"mine": {"mine", "", ""}, "mine until 2027-01-31": {"mine", "2027-01-31", ""},
		" ": {"", "", "a reason is needed"}, "x until soon": {"x", "", "a day is written as"}} {
		reason, until, wrong := reasonOf(text)
		assert.Equal(t, want[0], reason)
		if want[1] != "" {
			assert.Equal(t, want[1], until.Format("2006-01-02"))
		}
		assert.Contains(t, wrong, want[2])
	}
	v := sample(t)
	selectName(t, v, "store")
	cmd, _ := view.Press(v.Keys(), "I")
	asked, is := cmd().(view.Prompt)
	require.True(t, is)
	assert.NotEmpty(t, asked.Act.Wrong(" "))
	assert.Empty(t, asked.Act.Wrong("it is being replaced until 2027-01-31"))
}

func TestNothingToFindIsSaid(t *testing.T) {
	v := New(context.Background(), nil)
	assert.Contains(t, drawn(v, 120, 30, false), "comparing what is declared")
	v.Update(compare(nil, inventory.Records{host("a")}, inventory.Records{host("a")}))
	text := drawn(v, 120, 30, false)
	assert.Contains(t, text, "declared, recorded and observed agree")
	assert.Contains(t, text, "instance")
	assert.Empty(t, v.Badge(now))
	v.Update(compared{err: fmt.Errorf("the database is locked")})
	assert.NotNil(t, v.inv, "what was known stays on screen")
}

func TestTheMapLightsWhatHangsTogether(t *testing.T) {
	v := sample(t)
	press(v, "m")
	text := drawn(v, 160, 43, false)
	assert.Contains(t, text, "what serves what")
	assert.Contains(t, text, "instances 4")
	press(v, "right")
	assert.Equal(t, servicemap.Sites, v.world.layer, "they are at no host that is known")
	text = drawn(v, 160, 43, false)
	assert.Contains(t, text, "← store", "what needs it")
	press(v, "x")
	assert.Contains(t, drawn(v, 160, 43, false), "✕ store", "what would be lost")
	acts := v.Actions()
	require.Len(t, acts, 1)
	assert.Contains(t, acts[0].Effect, "store", "a site's instances are moved all at once")
	assert.Contains(t, v.world.instances(), "store")
	assert.True(t, v.Find("tag-2"))
	assert.Equal(t, "tag-2", v.world.selected().Name)
	assert.Equal(t, []string{"tag-2"}, v.world.instances(), "an instance is moved alone")
	assert.Contains(t, v.Why().Title, "tag-2")
	press(v, "esc")
	assert.False(t, v.world.open)
}

// TestTheMapIsShownAsItWas goes back in the map and forth again, and looks what was wrong then.
func TestTheMapIsShownAsItWas(t *testing.T) {
	v := sample(t)
	press(v, "m")
	text := drawn(v, 160, 43, false)
	assert.Contains(t, text, "all is well as far as it is measured")
	store := v.world.m.On(servicemap.Instances)[1]
	require.Equal(t, "store", store.Name)
	store.Missing = true
	assert.Contains(t, drawn(v, 160, 43, false), "1 thing missing when it was surveyed last: store; nothing that is measured is wrong")
	store.Missing = false
	wrong := map[string]servicemap.Trouble{store.ID: {Severity: alarm.Critical, Words: "it is off", Cause: true}, "site vega": {Severity: alarm.Warning, Words: "slow"}}
	v.Update(troubled{m: v.world.m, troubles: wrong})
	text = drawn(v, 160, 43, false)
	assert.Contains(t, text, "2 of 5 not well · store: it is off")
	assert.Contains(t, text, "✕ store")
	assert.Contains(t, text, "◐ vega")

	press(v, "{")
	require.False(t, v.world.past.IsZero())
	was := v.world.past
	v.Update(troubled{m: servicemap.New(servicemap.Input{Records: inventory.Records{host("store")}}), troubles: wrong, err: nil})
	assert.Contains(t, drawn(v, 160, 43, false), "instances 4", "what was read of another moment is not shown")
	v.Update(troubled{at: was, m: servicemap.New(servicemap.Input{Records: inventory.Records{host("store")}}), recent: []alarm.Alert{{Since: was.Add(-time.Hour)}}, runs: []time.Time{was.Add(-2 * time.Hour)}})
	for _, size := range [][2]int{{160, 43}, {80, 22}} {
		text = drawn(v, size[0], size[1], false)
		assert.Contains(t, text, "as it was at "+was.Local().Format("15:04:05"))
		assert.Contains(t, text, "esc now")
		assert.Contains(t, text, "all was well as far as it was measured")
		assert.Contains(t, text, "instances 1")
		assert.Regexp(t, "│.*✕", text, "a run and an alert on the line of time")
	}
	press(v, "{", "+", "{")
	assert.Equal(t, 20*time.Minute, was.Sub(v.world.past), "five minutes, and then fifteen")
	press(v, "-", "}")
	assert.Equal(t, 15*time.Minute, was.Sub(v.world.past))
	v.Update(compare(nil, inventory.Records{host("store"), host("gone")}, nil))
	assert.Contains(t, drawn(v, 160, 43, false), "instances 1", "what is found meanwhile does not take its place")
	press(v, "esc")
	assert.True(t, v.world.past.IsZero())
	assert.True(t, v.world.open, "it is the map still")
	press(v, "{")
	press(v, "m")
	assert.False(t, v.world.open)
}

func TestTheMouseSelectsAndMarks(t *testing.T) {
	v := sample(t)
	drawn(v, 160, 43, false)
	for y, i := range v.spots {
		if v.rows[i].finding >= 0 && v.inv.Findings[v.rows[i].finding].Name == "store" {
			v.Click(3, y)
			assert.Equal(t, "store", v.finding().Name)
			v.Click(3, y)
		}
	}
	assert.Len(t, v.chosen, 1)
	v.Wheel(100)
	assert.Equal(t, len(v.rows)-1, v.at)
}

func TestWhySpellsOutTheEvidence(t *testing.T) {
	v := New(context.Background(), nil)
	r := host("a", "mac", "02:aa", "hostname", "store-1", "cores", "4")
	o := host("b", "mac", "02:aa", "hostname", "store-1", "cores", "8")
	v.Update(compare(nil, inventory.Records{r}, inventory.Records{o}))
	require.NotNil(t, v.finding())
	var text string
	for _, l := range v.Why().Lines {
		text += l.Text + "\n"
	}
	assert.Contains(t, text, "each bit doubles the odds")
	assert.Regexp(t, `mac\s+\+\d+\.\d bits`, text)
	assert.NotEmpty(t, v.Actions())
	var _ tea.Cmd = v.Export()
}
