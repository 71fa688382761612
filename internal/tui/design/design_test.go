package design

import (
	"context"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
	"andamio/internal/service/templates"
	"andamio/internal/tui/part"
	"andamio/internal/tui/tuitest"
	"andamio/internal/tui/view"
)

// drafting is the view on the scenario, with files changed, drafted for the scenario's estate.
func drafting(t *testing.T, change func(text string) string) *View {
	t.Helper()
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	if change != nil {
		files := fstest.MapFS{"template.yaml": {Data: []byte(change(string(tmpl.Sources["template.yaml"])))}, "types.yaml": {Data: tmpl.Sources["types.yaml"]}}
		for name, data := range tmpl.Artifacts {
			files[name] = &fstest.MapFile{Data: data}
		}
		for _, p := range []string{"drill", "storm-season"} {
			files["presets/"+p+".yaml"] = &fstest.MapFile{Data: []byte("forecast_workers: 3\n")}
		}
		tmpl, err = templates.ReadTemplate(files, "flood-watch", "template.yaml")
		require.NoError(t, err)
	}
	v := New(context.Background(), nil, nil) // drafts are given, so services are not needed
	v.template, v.file, v.preset = tmpl, "template.yaml", 1
	v.draft = draftOf(t, v)
	v.settle()
	return v
}

func draftOf(t *testing.T, v *View) *templates.Draft {
	t.Helper()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	return templates.NewDraft(v.template, v.wish(), e)
}

func drawn(v *View, w, h int) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, h)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: h}, time.Time{})
	return ansi.Strip(c.String())
}

func TestSourceAndElevationSelectEachOther(t *testing.T) {
	v := drafting(t, nil)
	require.True(t, v.Find("readings-host:"))
	assert.Equal(t, "readings-host-1", v.pic.Selected)
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "readings-host:")
	for _, want := range []string{"attaches to   readings-vol", "placed        vega", "because       rule readings-on-own-disks holds here", "cost          0.429 cr/h",
		"1  create instance", "2  attach readings-vol · after readings-vol"} {
		assert.Contains(t, text, want)
	}
	v.focus = panePicture
	view.Press(v.Keys(), "up")
	assert.Equal(t, "readings-1", v.pic.Selected, "one level up")
	assert.Contains(t, drawn(v, 160, 43), "Every level ever measured")
	line := v.line
	view.Press(v.Keys(), "right")
	assert.NotEqual(t, line, v.line, "the source goes with the selection")
}

func TestInputsShowTheirRulesAndMistakes(t *testing.T) {
	v := drafting(t, nil)
	text := drawn(v, 160, 43)
	assert.Regexp(t, `forecast_workers\s+3\s+integer 1 to 32`, text)
	assert.Regexp(t, `store_memory\s+16 GiB\s+size ≥ 4 GiB`, text)
	assert.Regexp(t, `register_key\s+secret, given to`, text)
	v.focus = paneInputs
	pickInput(t, v, "register_key")
	view.Press(v.Keys(), "enter")
	assert.Nil(t, v.edit, "a secret is not typed here")
	pickInput(t, v, "store_memory")
	view.Press(v.Keys(), "enter")
	require.NotNil(t, v.edit)
	assert.Equal(t, "16 GiB", v.edit.Text())
	assert.True(t, v.Typing())
	for _, k := range []string{"ctrl+u", "2", "space", "G", "x", "backspace", "B", "left"} {
		v.Type(tuitest.Key(k))
	}
	assert.Equal(t, "2 GB", v.edit.Text())
	assert.Contains(t, drawn(v, 160, 43), "2 G▏B")
	v.edit = nil
	v.changed["store_memory"] = v.template.Presets[0].Inputs["forecast_workers"]
	v.draft = draftOf(t, v)
	v.settle()
	text = drawn(v, 160, 43)
	assert.Regexp(t, `store_memory\s+3\s+✕\s+3 has no unit`, text)
	assert.Contains(t, text, "1 mistake to settle first")
	assert.Contains(t, text, "drill, 1 changed")
}

// pickInput selects an input by its name.
func pickInput(t *testing.T, v *View, name string) {
	t.Helper()
	for i, row := range v.inputRows() {
		if row.input != nil && row.input.Name == name {
			v.input = i
			return
		}
	}
	require.Fail(t, "the input is not shown", name)
}

func TestMistakesAreVisitedInTurn(t *testing.T) {
	v := drafting(t, func(text string) string {
		return strings.NewReplacer("host: gauge-node", "host: gauge-noed", "num_cpus: 8, mem_size", "num_cpus: 8, mem_sise").Replace(text)
	})
	require.Len(t, v.draft.Diagnostics, 2)
	assert.Equal(t, "2", v.Badge(time.Time{}))
	view.Press(v.Keys(), "f")
	first := v.line
	assert.Contains(t, drawn(v, 160, 43), `there is no node template "gauge-noed"`)
	view.Press(v.Keys(), "f")
	assert.Greater(t, v.line, first)
	assert.Contains(t, drawn(v, 160, 43), `has no property "mem_sise"`)
	view.Press(v.Keys(), "f")
	assert.Equal(t, first, v.line, "round again")
	assert.Contains(t, v.noPlan()[0], "2 mistakes to settle first")
	told := v.toPlan()().(view.Notice)
	assert.True(t, told.Bad)
	assert.Nil(t, v.Export())
}

func TestWhatCannotBePlacedIsExplained(t *testing.T) {
	v := drafting(t, func(text string) string { return strings.Replace(text, "num_cpus: 8,", "num_cpus: 800,", 1) })
	require.Error(t, v.draft.Err)
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "there is no place for readings-host-1")
	assert.Contains(t, text, "vega: full: at most 21 cores")
	assert.Equal(t, "why there is no plan", v.Why().Title)
}

func TestWhyNamesTheOtherSites(t *testing.T) {
	v := drafting(t, nil)
	v.Find("contacts:")
	var lines []string
	for _, l := range v.Why().Lines {
		lines = append(lines, l.Text)
	}
	why := strings.Join(lines, "\n")
	assert.Contains(t, why, "rule sensitive-data-stays-home holds here (its data is sensitive, and must stay on our own machines)")
	assert.Contains(t, why, "alisio-norte   rule sensitive-data-stays-home: its data is sensitive")
}

func TestNarrowTerminalsShowOnePane(t *testing.T) {
	v := drafting(t, nil)
	assert.Contains(t, drawn(v, 80, 20), "tosca_definitions_version")
	view.Press(v.Keys(), "tab")
	text := drawn(v, 80, 20)
	assert.NotContains(t, text, "tosca_definitions_version")
	assert.Contains(t, text, "forecast_workers")
	view.Press(v.Keys(), "tab")
	assert.Contains(t, drawn(v, 80, 20), "what it would build")
	view.Press(v.Keys(), "shift+tab")
	assert.Equal(t, paneInputs, v.focus)
	for w := 10; w < 170; w += 9 {
		assert.NotPanics(t, func() { drawn(v, w, w/4) })
	}
}

func TestYAMLIsDrawnWhole(t *testing.T) {
	for _, line := range []string{"key: value", "a: { b: [ c, d ] } # why", "# all", "  - x: \"#1\"", "url: http://x:80/", "\tq", "", "x # a # b", "get: { get_input: y }"} {
		c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), 40, 1)
		drawYAML(c, 0, 0, line)
		assert.Equal(t, strings.ReplaceAll(line, "\t", "  "), strings.TrimRight(ansi.Strip(c.String()), " "), "nothing is lost or added")
	}
}

func TestClicksMoveTheFocus(t *testing.T) {
	v := drafting(t, nil)
	text := drawn(v, 160, 43)
	for y, line := range strings.Split(text, "\n") {
		if strings.Contains(line, "dispatchers") && strings.Contains(line, "integer 1 to 4") {
			v.Click(4, y)
		}
	}
	assert.Equal(t, paneInputs, v.focus)
	require.NotNil(t, v.selected())
	assert.Equal(t, "dispatchers", v.selected().Name)
	v.Click(8, 6)
	assert.Equal(t, paneSource, v.focus)
	v.Wheel(1)
	assert.Positive(t, v.line)
	assert.NotEmpty(t, v.Keys())
	assert.Len(t, v.Actions(), 7)
	var cmd tea.Cmd
	cmd, used := view.Press(v.Keys(), "z")
	assert.True(t, used)
	assert.NotNil(t, cmd)
}

// chained is the view on the example of substitution.
func chained(t *testing.T) *View {
	t.Helper()
	tmpl, err := templates.OpenTemplate(context.Background(), templates.Place{Path: "../../../examples/gauge-chain"})
	require.NoError(t, err)
	v := New(context.Background(), nil, nil)
	v.template, v.file = tmpl, "template.yaml"
	v.draft = draftOf(t, v)
	v.settle()
	return v
}

func TestTheOutlineShowsTiersAndParts(t *testing.T) {
	v := chained(t)
	view.Press(v.Keys(), "o")
	text := drawn(v, 160, 43)
	for _, want := range []string{"warnings  5 nodes", "template warnings stands for it", "template store-host stands for it", "BlockStorage · vega", "3 substituted nodes"} {
		assert.Contains(t, text, want)
	}
	for range 7 {
		view.Press(v.Keys(), "down")
	}
	assert.Equal(t, "warnings.store.base.machine", v.node)
	assert.Equal(t, "warnings.store.base.machine-1", v.pic.Selected, "the elevation goes with it")
	assert.Equal(t, "store-host.yaml", v.file)
	view.Press(v.Keys(), "enter")
	assert.False(t, v.outline)
	assert.Contains(t, drawn(v, 160, 43), "type: tosca.nodes.Compute", "its source, in its own file")
	view.Press(v.Keys(), "n")
	assert.NotEqual(t, "store-host.yaml", v.file)
}

func TestChangesAreLit(t *testing.T) {
	v := drafting(t, nil)
	v.changed["map_fronts"], _ = tosca.ParseInput("map_fronts", "3")
	now := draftOf(t, v)
	v.compare(now)
	v.draft = now
	v.settle()
	assert.Equal(t, "build", v.pic.Marks["map-host-3"])
	assert.Empty(t, v.pic.Marks["readings-1"], "what is kept is not lit")
	text := drawn(v, 200, 60)
	assert.Regexp(t, `the last change: \d+ build`, text)
	assert.Regexp(t, `map-host 3\s+build`, text)
	v.compare(now)
	assert.Empty(t, v.changesLine(), "nothing changed since")
}

func TestInputsAreCheckedWhileTheyAreTyped(t *testing.T) {
	v := drafting(t, nil)
	v.focus = paneInputs
	pickInput(t, v, "forecast_workers")
	view.Press(v.Keys(), "enter")
	v.Type(tuitest.Key("ctrl+u"))
	v.Type(tea.PasteMsg{Content: "99"})
	text := drawn(v, 160, 43)
	assert.Regexp(t, `99▏\s+✕ is 99`, text)
	assert.Contains(t, text, "✕ forecast_workers is 99, and must be: 1 to 32")
	v.Type(tuitest.Key("esc"))
	hidden := drawn(v, 160, 43)
	assert.NotContains(t, hidden, "worker_cores   ")
	view.Press(v.Keys(), "m")
	assert.Regexp(t, `worker_cores\s+4`, drawn(v, 160, 43))
	for range 20 {
		view.Press(v.Keys(), "down")
	}
	require.NotNil(t, v.selected(), "headings and notes are passed over")
	for range 20 {
		view.Press(v.Keys(), "up")
	}
	require.NotNil(t, v.selected())
}

func TestDiagnosticsSayWhereToReadOn(t *testing.T) {
	v := drafting(t, func(text string) string { return strings.Replace(text, "host: gauge-node", "host: gauge-noed", 1) })
	view.Press(v.Keys(), "f")
	assert.Regexp(t, `see line \d+ · andamio explain unknown-node`, drawn(v, 160, 43))
}

func TestARoughPictureStandsBesideMistakes(t *testing.T) {
	v := drafting(t, func(text string) string { return strings.Replace(text, "host: gauge-node", "host: gauge-noed", 1) })
	require.Nil(t, v.state)
	text := drawn(v, 160, 47)
	assert.Regexp(t, `✕ gauge-intake`, text, "the node with the mistake")
	assert.Regexp(t, `▱ readings-host`, text)
	rough := v.rough()
	assert.Equal(t, "forecasting", rough.Resource("readings").Service)
	assert.Less(t, rough.Resource("readings-host").Level, rough.Resource("readings").Level)
	circle := drafting(t, func(text string) string {
		return strings.Replace(text, "    gauge-node:\n      type: tosca.nodes.Compute\n", "    gauge-node:\n      type: tosca.nodes.Compute\n      metadata: { a: b }\n", 1) + "\n"
	})
	assert.NotPanics(t, func() { circle.rough() })
}

func TestNarrowTerminalsShowTheOutline(t *testing.T) {
	v := chained(t)
	view.Press(v.Keys(), "o")
	text := drawn(v, 80, 22)
	assert.Contains(t, text, "outline   inputs   elevation")
	assert.Contains(t, text, "template kept-store stands for it")
	view.Press(v.Keys(), "tab")
	text = drawn(v, 80, 22)
	assert.Regexp(t, `warn_port\s+8443\s+PortDef`, text)
	assert.Contains(t, text, "infrastructure")
	view.Press(v.Keys(), "tab")
	text = drawn(v, 80, 22)
	assert.Contains(t, text, "warnings.store.lines")
	for _, line := range strings.Split(text, "\n") {
		assert.LessOrEqual(t, ansi.StringWidth(line), 80, line)
	}
}

func TestTheMousePicksInTheOutline(t *testing.T) {
	v := chained(t)
	view.Press(v.Keys(), "o")
	for y, line := range strings.Split(drawn(v, 160, 43), "\n") {
		if strings.Contains(line, "BlockStorage") {
			v.Click(12, y)
		}
	}
	assert.Equal(t, "warnings.store.base.disk", v.node)
	assert.Equal(t, "warnings.store.base.disk-1", v.pic.Selected)
	v.Wheel(1)
	assert.NotEqual(t, "warnings.store.base.disk", v.node)
	assert.True(t, v.Find("gauge-h"))
	assert.Equal(t, "gauge-host", v.node)
	assert.False(t, v.Find("nothing of the kind"))
	for range 40 {
		view.Press(v.Keys(), "down")
	}
	assert.Equal(t, "page", v.node, "the last one")
	for range 40 {
		view.Press(v.Keys(), "up")
	}
	assert.Equal(t, "warnings", v.node, "the first one, not the tier above it")
}

func TestSelectingAPartShowsItsFile(t *testing.T) {
	v := chained(t)
	v.focus = panePicture
	v.pic.Selected = "warnings.sender-1"
	v.showSource()
	assert.Equal(t, "warnings.yaml", v.file)
	assert.Contains(t, v.lines()[v.line], "sender:")
	v.file, v.line = "store-host.yaml", len(v.lines())
	v.file = "store-host.yaml"
	v.line = len(v.lines()) - 1
	v.selectLine()
	assert.Equal(t, "warnings.store.base.machine-1", v.pic.Selected, "and the line its plank")
	v.file, v.line = "template.yaml", 0
	assert.True(t, v.Find("directives: [ substitute ]"))
	assert.Contains(t, v.pic.Selected, "warnings.", "the line of a substituted node leads to a part of it")
}

func TestAnOutlineIsThereWithMistakesToo(t *testing.T) {
	v := drafting(t, func(text string) string { return strings.Replace(text, "host: gauge-node", "host: gauge-noed", 1) })
	view.Press(v.Keys(), "o")
	text := drawn(v, 160, 43)
	assert.Regexp(t, `✕ gauge-intake\s+Intake`, text)
	assert.Regexp(t, `  gauge-node\s+Compute`, text)
}

func TestActsAskForNames(t *testing.T) {
	v := drafting(t, nil)
	v.changed["forecast_workers"], _ = tosca.ParseInput("forecast_workers", "7")
	acts := v.Actions()
	save, copying := acts[3], acts[4]
	assert.Equal(t, "name of the preset", save.Ask)
	assert.NotEmpty(t, save.Wrong("No Spaces"))
	assert.Empty(t, save.Wrong("high-water"))
	told := save.Answer("high-water")().(view.Notice)
	assert.True(t, told.Bad, "the demo is no folder on disk")
	assert.Contains(t, told.Text, "copy the template under a new name first")
	assert.Equal(t, "name of the copy", copying.Ask)
	v.Update(saved{"storm-season", "written"})
	assert.Empty(t, v.changed)
	v.take(loaded{template: v.template})
	assert.Equal(t, "storm-season", v.presetName(), "the saved preset is the one chosen")
}

// TestAnotherNameIsPlannedBesideWhatStands gives the deployment to be a name of its own.
func TestAnotherNameIsPlannedBesideWhatStands(t *testing.T) {
	v := drafting(t, nil)
	cmd, used := view.Press(v.Keys(), "N")
	assert.True(t, used)
	ask := cmd().(view.Prompt).Act
	assert.Contains(t, ask.Wrong("Bad Name!"), "cannot be a deployment's name")
	assert.Empty(t, ask.Wrong("flood-lab"))
	ask.Answer("flood-lab")
	assert.Equal(t, "flood-lab", v.wish().Name)
	assert.Contains(t, drawn(v, 160, 43), "as flood-lab")
	ask.Answer(v.template.Name)
	assert.Empty(t, v.wish().Name, "the template's own takes it back")
}

func TestEmptyingAnInputTakesItBack(t *testing.T) {
	v := drafting(t, nil)
	v.focus = paneInputs
	pickInput(t, v, "forecast_workers")
	in := v.selected()
	v.change(in, "9")
	assert.Equal(t, "9", v.inputText(in))
	v.change(in, "")
	assert.Equal(t, "3", v.inputText(in), "the preset's again")
	v.change(in, "[ 1, 2 ]")
	assert.Equal(t, "[ 1, 2 ]", v.inputText(in), "a list is shown as it is written")
	assert.Contains(t, v.wrong(in), "is an integer, and this is a list")
}
