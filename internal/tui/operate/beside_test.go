package operate

import (
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/measure"
	"andamio/internal/service/watch"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// TestCurvesStandSideBySide marks curves of several things, sees them beside each other, and takes marks off again.
func TestCurvesStandSideBySide(t *testing.T) {
	v := watching(t)
	for i := range v.watched.of[1] {
		o := &v.watched.of[1][i]
		o.Key = "key of " + o.Name
	}
	draw(v, 160, 47)
	assert.NotContains(t, keysOf(v), "space", "there is nothing to be marked in the picture")
	view.Press(v.Keys(), "m")
	draw(v, 160, 47)
	cmd, _ := view.Press(v.Keys(), "v")
	require.NotNil(t, cmd)
	assert.Contains(t, cmd().(view.Notice).Text, "nothing is marked")
	view.Press(v.Keys(), "space")
	view.Press(v.Keys(), "right")
	view.Press(v.Keys(), "space")
	view.Press(v.Keys(), "space")
	assert.Equal(t, []watch.Pick{{Thing: "key of map-host 1", Measure: measure.CoresUsed}}, v.beside.picks, "a mark is taken off as it was made")
	assert.Regexp(t, `█ +25 %`, draw(v, 160, 47), "what is marked is seen to be")
	v.beside.picks = append(v.beside.picks, watch.Pick{Thing: "gone", Measure: measure.On}, watch.Pick{Thing: "key of river-map 1 http", Measure: measure.AnswerTime}, watch.Pick{Thing: "key of map-host 1", Measure: measure.Load})
	view.Press(v.Keys(), "v")
	assert.Contains(t, draw(v, 160, 47), "reading what is marked")
	of := v.watched.of[1]
	v.Update(picked{picks: v.beside.picks[:1], of: of[:1]})
	assert.Contains(t, draw(v, 160, 47), "reading what is marked", "what was read of other marks is not shown")
	v.Update(picked{picks: v.beside.picks, of: []watch.Overview{of[0], {}, of[2], of[0]}, names: []string{"the night"}})
	for _, size := range [][2]int{{160, 47}, {230, 60}} {
		text := draw(v, size[0], size[1])
		assert.Regexp(t, `side by side +the last 15 minutes +- \+`, text)
		assert.Regexp(t, `map-host 1 +cores in use · alisio-norte.*0.5 of 2 \(25 %\)`, text)
		assert.Contains(t, text, "gone is not known any more")
		assert.Regexp(t, `river-map 1 http +time to answer`, text)
		assert.Contains(t, text, "it was not measured in that time")
	}
	assert.NotPanics(t, func() { draw(v, 80, 24); draw(v, 40, 12) })
	assert.Contains(t, draw(v, 80, 24), "have no room here")
	var names []string
	for _, act := range v.Actions() {
		names = append(names, act.Name)
		if act.Ask == "a name" {
			assert.NotEmpty(t, act.Wrong("../x"))
			assert.Empty(t, act.Wrong(" the evening "))
		}
	}
	assert.Subset(t, names, []string{"keep the marked curves (4)", "see the night"})
	v.beside.name = "the night"
	assert.Contains(t, draw(v, 160, 47), "the night")
	v.beside.picks = make([]watch.Pick, watch.MostPicks)
	view.Press(v.Keys(), "v")
	cmd, _ = view.Press(v.Keys(), "space")
	assert.Contains(t, cmd().(view.Notice).Text, "as many as stand beside each other")
	view.Press(v.Keys(), "m")
	assert.False(t, v.beside.shown)
}

func keysOf(v *View) (out []string) {
	for _, k := range v.Keys() {
		out = append(out, k.Help().Key)
	}
	return out
}

// TestAWholeIsNotSaidTwice holds that the heading of a curve of a whole leaves out what its name says.
func TestAWholeIsNotSaidTwice(t *testing.T) {
	v := watching(t)
	drawn := func(o watch.Overview) string {
		c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), 80, 10)
		v.drawPick(c, part.Rect{W: 80, H: 10}, watch.Pick{Measure: measure.WholeCores}, &o)
		return ansi.Strip(c.String())
	}
	whole := watch.Overview{Thing: measure.Thing{Kind: measure.OfWhole, Name: "all of river", Of: "river"}, Lines: []watch.Line{line(measure.WholeCores, 1, 4)}}
	assert.Regexp(t, `all of river  cores in use +1 of 4 \(25 %\)`, drawn(whole))
	whole.Name, whole.Tier = "all of map", "map"
	assert.Regexp(t, `all of map  cores in use · river +1 of 4`, drawn(whole))
}
