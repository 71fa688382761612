package sites

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/usage"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
	"andamio/internal/site/driver"
	"andamio/internal/site/drivers"
	"andamio/internal/tui/part"
	"andamio/internal/tui/tuitest"
	"andamio/internal/tui/view"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func shown(t *testing.T) *View {
	t.Helper()
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	e.Sites[1].Seen = now.Add(-3 * time.Minute)
	v := New(t.Context(), nil)
	v.Update(view.Drafted{Draft: templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, e)})
	return v
}

func drawn(v *View, w, h int) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, h)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: h}, now)
	return ansi.Strip(c.String())
}

func TestEachSiteIsAStripWithWhatIsLeft(t *testing.T) {
	v := shown(t)
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "5 sites   508 of 1168 cores")
	assert.Regexp(t, `this plan \d+ cores, \d+ GiB memory`, text)
	assert.Regexp(t, `b · b-1 +█+░* 3\d of 32 +\+\d+ +any size`, text)
	assert.Contains(t, text, "seen 3m ago")
	assert.Contains(t, text, "from a file")
	assert.Regexp(t, `vega +private +■ has room`, text)
	assert.Contains(t, text, "59 of 61 VLANs")
	assert.Contains(t, text, "from 0.100 (s) · 0.068 1y · 0.045 3y")
	view.Press(v.Keys(), "right")
	assert.Regexp(t, `GiB memory ←→`, drawn(v, 160, 43))
	view.Press(v.Keys(), "left")
	view.Press(v.Keys(), "left")
	assert.Regexp(t, `GiB disk ←→`, drawn(v, 160, 43))
	for w := 60; w < 200; w += 17 {
		for h := 14; h < 60; h += 9 {
			assert.NotPanics(t, func() { drawn(v, w, h) }, "%d × %d", w, h)
		}
	}
}

func TestTheSelectedSiteIsToldInFull(t *testing.T) {
	v := shown(t)
	require.True(t, v.Find("tramonta"))
	text := drawn(v, 80, 22)
	for _, word := range []string{" used ", " free ", " cores ←→ "} {
		assert.Contains(t, text, word, "what the bars say is not cut")
	}
	assert.Contains(t, text, "▐ tramonta", "the selected one is scrolled to")
	text = drawn(v, 160, 43)
	assert.Regexp(t, `alisio-norte +27\.0 ms +0\.012`, text)
	var why []string
	for _, l := range v.Why().Lines {
		why = append(why, l.Text)
	}
	all := strings.Join(why, "\n")
	assert.Contains(t, all, "reserved-3y 0.0450")
	assert.Contains(t, all, "dispatch-host")
	assert.Contains(t, all, "debian-12-t")
	v.Find("vega")
	assert.Equal(t, "  should match [a-z][a-z0-9-]{1,38}; one would be gauge-node-1", v.Why().Lines[len(v.Why().Lines)-1].Text)
	v.Find("tramonta")
	view.Press(v.Keys(), "up")
	v.Wheel(9)
	assert.Equal(t, 4, v.at)
	v.Click(3, v.spots[0].y)
	assert.Equal(t, v.spots[0].site, v.at)
	assert.False(t, v.Find("moon"))
}

func TestWithoutSitesNothingIsClaimed(t *testing.T) {
	v := New(t.Context(), nil)
	assert.Contains(t, drawn(v, 120, 30), "no site is connected yet")
	assert.Nil(t, v.Export())
	assert.Equal(t, "sites", v.Why().Title)
}

// speaking has there be the usual driver, and others, until the test ends.
func speaking(t *testing.T, others ...*driver.Driver) {
	t.Helper()
	was := drivers.All
	t.Cleanup(func() { drivers.All = was })
	drivers.All = append(slices.Clone(was[:1]), others...)
}

// guided is the way to a new site, in a workspace without any.
func guided(t *testing.T) *View {
	t.Helper()
	a, err := app.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = a.Close() })
	v := New(t.Context(), a)
	view.Press(v.Keys(), "n")
	require.True(t, v.Typing())
	return v
}

func keyed(v *View, keys ...string) {
	for _, k := range keys {
		v.Type(tuitest.Key(k))
	}
}

func pasted(v *View, text string) { v.Type(tea.PasteMsg{Content: text}) }

func TestAnswersArePastedAndChecked(t *testing.T) {
	speaking(t)
	v := guided(t)
	assert.Contains(t, drawn(v, 160, 43), "what sort of site is it?")
	keyed(v, "down", "enter")
	assert.Equal(t, estate.Edge, v.path.connection().Kind)
	pasted(v, "Azud One")
	assert.Contains(t, drawn(v, 160, 43), "a name is of small letters")
	keyed(v, "enter")
	assert.Contains(t, drawn(v, 160, 43), "what does the site call itself", "what is wrong is not taken")
	keyed(v, "ctrl+u")
	pasted(v, "azud")
	keyed(v, "left", "left", "x", "backspace", "enter")
	assert.Equal(t, "azud", v.path.connection().Site)
	pasted(v, "azud.ribera.test")
	assert.Contains(t, drawn(v, 160, 43), "that is https://azud.ribera.test:8443")
	keyed(v, "enter")
	pasted(v, "pin of-no-key")
	assert.Contains(t, drawn(v, 160, 43), "a pin is the SHA-256")
	keyed(v, "enter")
	assert.Contains(t, drawn(v, 160, 43), "how is it known to be the right one", "what is wrong is not taken")
	keyed(v, "ctrl+u", "enter", "enter")
	pasted(v, "tok-0123456789\n")
	text := drawn(v, 160, 43)
	assert.NotContains(t, text, "tok-0123")
	assert.Equal(t, "tok-0123456789", credential(v.path), "the end of the line belongs to the paste, not to the credential")
	assert.Equal(t, []string{"kept back"}, []string{v.answered(index(v.path, "driver.credential"))})
	keyed(v, "esc", "esc", "esc")
	assert.Contains(t, drawn(v, 160, 43), "azud.ribera.test", "what was answered is still there")
	keyed(v, "esc", "esc", "esc")
	assert.False(t, v.Typing(), "and it is left")
}

func index(p *path, id string) int {
	return slices.IndexFunc(p.steps, func(x step) bool { return x.id == id })
}

func credential(p *path) string {
	c := p.connection()
	return c.Credential()
}

func TestRegionsAreTakenInAndOut(t *testing.T) {
	speaking(t)
	v := guided(t)
	p := v.path
	p.at, p.trying = index(p, "driver.credential"), true
	v.Update(triedPath{p: p, t: &sites.Tested{Title: "Azud", Access: site.Access{Account: "ops", Regions: []string{"a", "b"}}}})
	assert.Contains(t, drawn(v, 160, 43), "which regions are surveyed?")
	assert.Empty(t, p.connection().Regions, "all")
	keyed(v, "down", "space")
	assert.Equal(t, []string{"a"}, p.connection().Regions)
	keyed(v, "up", "space")
	assert.Contains(t, drawn(v, 160, 43), "one region at least")
	keyed(v, "enter")
	assert.Equal(t, stepRegions, *p.step())
	keyed(v, "space", "enter", "enter")
	assert.Equal(t, stepSchedule, *p.step())
	keyed(v, "down")
	assert.Equal(t, "FREQ=HOURLY;INTERVAL=6", p.connection().Schedule)
	keyed(v, "enter")
	assert.Regexp(t, `schedule +every six hours`, drawn(v, 160, 43))
	for _, k := range v.Keys() {
		assert.NotEmpty(t, k.Says)
	}
}

func TestATryThatFailsIsSaid(t *testing.T) {
	speaking(t)
	v := guided(t)
	v.path.at = index(v.path, "driver.credential")
	v.path.ask()
	v.Update(triedPath{p: v.path, err: errors.New("azud does not take the credential")})
	assert.Contains(t, drawn(v, 160, 43), "azud does not take the credential")
	keyed(v, "x")
	assert.NotContains(t, drawn(v, 160, 43), "does not take", "another credential is another try")
	v.Update(triedPath{p: newPath(), t: &sites.Tested{}})
	assert.Equal(t, "driver.credential", v.path.step().id, "what was tried on a way that was left is of no matter")
	v.path.trying = true
	keyed(v, "x", "enter")
	assert.NotNil(t, v.path)
	keyed(v, "esc")
	assert.Nil(t, v.path, "a try can be left")
}

func TestWhatIsFoundIsSelected(t *testing.T) {
	v := shown(t)
	v.Update(view.Show{Thing: reconcile.Thing{Kind: reconcile.ASite, ID: "tramonta"}})
	assert.Equal(t, "tramonta", v.loads[v.at].Site.Name)
	v.Update(view.Show{Thing: reconcile.Thing{Kind: reconcile.ARun, ID: "vega"}})
	assert.Equal(t, "tramonta", v.loads[v.at].Site.Name, "what is of another sort is another view's")
}

// TestWhatIsAskedDependsOnWhatTheSiteSpeaks goes the way with a second driver there: it is asked for, and asks its own
// questions.
func TestWhatIsAskedDependsOnWhatTheSiteSpeaks(t *testing.T) {
	speaking(t, &driver.Driver{Name: "semaphore", About: "masts with arms", Address: "mast", Credential: "flag",
		Questions: []driver.Question{{Word: "mast", Text: "on which mast?", About: "By its number.", Fields: []driver.Field{{Name: "mast", Needed: true}}},
			{Word: "flag", Text: "with which flag?", About: "It is not shown.", Fields: []driver.Field{{Name: "flag", Needed: true, Secret: true}}}}})
	v := guided(t)
	keyed(v, "enter")
	pasted(v, "azud")
	keyed(v, "enter")
	assert.Contains(t, drawn(v, 160, 43), "what does it speak?")
	assert.Contains(t, drawn(v, 160, 43), "address", "of the usual driver, until another is chosen")
	keyed(v, "down", "enter")
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "on which mast?")
	assert.NotContains(t, text, "trust")
	keyed(v, "enter")
	assert.Contains(t, drawn(v, 160, 43), "on which mast?", "it is needed")
	pasted(v, "7")
	keyed(v, "enter", "enter")
	assert.Contains(t, drawn(v, 160, 43), "with which flag?")
	pasted(v, "red-and-white")
	assert.NotContains(t, drawn(v, 160, 43), "red-and")
	c := v.path.connection()
	assert.Equal(t, "semaphore", c.Driver)
	assert.Equal(t, workspace.Values{"mast": "7"}, c.Settings)
	assert.Equal(t, workspace.Values{"flag": "red-and-white"}, c.Secrets)
	assert.Equal(t, "7", v.answered(index(v.path, "driver.mast")))
	assert.True(t, v.path.tries(), "after what is secret the connection is tried")
}

func TestWhatSleepsIsSaidToBeWhose(t *testing.T) {
	v := shown(t)
	room := v.loads[1].Rooms[0]
	takes := estate.Capacity{Cores: 3, MemoryGiB: 6}
	var claims []usage.Claim
	for i, of := range []string{"flood-watch", "flood-watch", "night-run", "", "five", "six"} {
		claims = append(claims, usage.Claim{Site: "vega", Zone: room.Zone, Host: room.Host, Deployment: int64(len(of)), Of: of, Thing: fmt.Sprint(i), Takes: takes})
	}
	claims = append(claims, usage.Claim{Site: "vega", Zone: room.Zone, Host: room.Host, Of: "new", Takes: estate.Capacity{Cores: 2}, Held: true})
	wakes := map[string]time.Time{"11": now.Add(19 * time.Hour), "9 Asia/Tokyo": now.Add(9 * time.Hour), "9 Europe/Madrid": now.Add(17 * time.Hour)}
	v.Update(lookedUp{claims: claims, wakes: wakes, connections: []workspace.Connection{{Site: "presa", TimeZone: "Asia/Tokyo"}, {Site: "vega", TimeZone: "Europe/Madrid"}}})
	require.True(t, v.Find("vega"))
	text := drawn(v, 160, 47)
	assert.Contains(t, text, "18 cores paused   2 cores held")
	assert.Contains(t, text, "flood-watch sleeps until Tue 07:00: 6 cores, 12 GiB")
	assert.Contains(t, text, "night-run sleeps until Tue 05:00", "by the clock of the site, since it follows the sun")
	assert.Contains(t, text, "another team's sleeps: 3 cores, 6 GiB")
	assert.Contains(t, text, "and 1 deployment more")
	v.Update(lookedUp{})
	assert.NotContains(t, drawn(v, 160, 47), "cores paused")
}

// A site of the standard alone tells of no regions, no sizes, and nothing of its credential: what is not told is not counted.
func TestWhatASiteDoesNotTellIsNotCounted(t *testing.T) {
	speaking(t)
	v := guided(t)
	p := v.path
	p.at, p.trying = index(p, "driver.credential"), true
	v.Update(triedPath{p: p, t: &sites.Tested{Kind: estate.Private, Zones: 1}})
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "private · 1 zone · any size")
	assert.Contains(t, text, "what it may do is not told")
	assert.Contains(t, text, "all of it is surveyed")
	for _, k := range v.Keys() {
		assert.NotContains(t, k.Says, "in or out", "there is nothing to take")
	}
}
