package sites

import (
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func shown(t *testing.T) *View {
	t.Helper()
	tmpl, err := app.DemoTemplate()
	require.NoError(t, err)
	e, err := app.DemoEstate()
	require.NoError(t, err)
	e.Sites[1].Seen = now.Add(-3 * time.Minute)
	v := New(t.Context(), nil)
	v.Update(view.Drafted{Draft: app.NewDraft(tmpl, app.Wish{Preset: "drill"}, e)})
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
