package app

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// example opens one of the examples that ship beside the program.
func example(t *testing.T, name string) *templates.Template {
	t.Helper()
	tmpl, err := templates.OpenTemplate(ctx, source.Place{Path: filepath.Join("../../examples", name)})
	require.NoError(t, err)
	require.Empty(t, tmpl.Diagnostics, tmpl.Diagnostics.Error())
	return tmpl
}

// raise runs an example on stand-ins to its end, and returns its state and the order in which steps were done.
func raise(t *testing.T, name string, w templates.DraftRequest) (*run.State, []string) {
	t.Helper()
	a, _ := aWorkspace(t, pace)
	e, err := a.Estate(ctx)
	require.NoError(t, err)
	d := templates.NewDraft(example(t, name), w, e)
	require.Zero(t, d.Diagnostics.Errors(), d.Diagnostics.Error())
	require.NoError(t, d.Err)
	id := worked(t, a, d)
	var order []string
	for b := range a.Watch(ctx, id, 0) {
		require.NoError(t, b.Err)
		for _, ev := range b.Events {
			if ev.Kind == run.StepDone {
				order = append(order, ev.Step)
			}
		}
	}
	state, err := a.Replay(ctx, id)
	require.NoError(t, err)
	return state, order
}

// worked runs a draft's plan to its end, and returns the run's number.
func worked(t *testing.T, a *App, d *templates.Draft) int64 {
	t.Helper()
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan})
	require.NoError(t, err)
	_ = a.Work(ctx, id)
	return id
}

// explainRun says of a run that did not stand which steps failed, and what they printed.
func explainRun(s *run.State) string {
	text := string(s.Status) + ": " + s.Text + "\n"
	for _, st := range s.Steps {
		if st.Status == run.Failed || st.Status == run.UnderWay {
			text += string(st.Status) + " " + st.ID + ": " + st.Error + "\n"
			for _, l := range st.Log {
				text += "    " + l.Text + "\n"
			}
		}
	}
	return text
}

// follows checks that steps were done in an order, other steps in between.
func follows(t *testing.T, order []string, steps ...string) {
	t.Helper()
	at := 0
	for _, s := range order {
		if at < len(steps) && s == steps[at] {
			at++
		}
	}
	assert.Equal(t, len(steps), at, "%v not in this order in %v", steps[min(at, len(steps)-1):], order)
}

func TestThreeLevelsOfSubstitutionServe(t *testing.T) {
	t.Parallel()
	state, order := raise(t, "gauge-chain", templates.DraftRequest{})
	require.Equal(t, run.Standing, state.Status, explainRun(state))
	assert.NotNil(t, state.Resource("warnings.store.base.machine-1"), "a part of a part of a part")
	follows(t, order, "warnings.store.base.machine-1/create", "warnings.store.base.machine-1/attach:warnings.store.base.disk-1",
		"warnings.store.lines-1/create", "warnings.store.lines-1/start", "warnings.store.lines-1/check:store", "warnings.sender-1/start",
		"warnings.sender-1/check:warn", "page-1/start", "page-1.page/answer")
	follows(t, order, "gauge-1/check:levels", "warnings.sender-1/start")
	assert.Contains(t, state.Resource("page-1.page").Answer.Text, "warning: level 3.40 m (first line)", "a page made of a real answer of a real answer")
	assert.Regexp(t, `^http://127\.[0-9.]+:\d+/warning$`, state.Outputs["warnings_url"])
}

func TestRelationshipsWorkOnBothEnds(t *testing.T) {
	t.Parallel()
	state, order := raise(t, "relay-tiers", templates.DraftRequest{})
	require.Equal(t, run.Standing, state.Status, explainRun(state))
	for _, relay := range []string{"relay-1", "relay-2"} {
		follows(t, order, "store-1/create", "store-1/connect:store.pre_configure_target."+relay, "store-1/configure",
			"store-1/connect:store.post_configure_target."+relay, "store-1/start", "store-1/check:store",
			relay+"/connect:store.pre_configure_source", relay+"/configure", relay+"/connect:store.post_configure_source",
			relay+"/start", relay+"/check:relay", relay+"/connect:store.add_target", "store-1/connect:store.add_source."+relay)
	}
	assert.Equal(t, "high water, 2 relays", state.Outputs["motto"], "the store was configured after both relays were let in")
	assert.Equal(t, "key-of-relay-1-2", state.Outputs["first_key"], "put out on one end, taken on the other")
	second := state.Resource("relay-2")
	assert.Equal(t, "key-of-relay-2-2", second.Attributes["key"], "each pair for itself")
	for i, want := range []string{"relay-1", "relay-2", "relay-1"} {
		page := state.Resource([]string{"page-1.page", "page-2.page", "page-3.page"}[i])
		assert.Contains(t, page.Answer.Text, "high water, 2 relays with key-of-"+want)
	}
	noted := state.Step("store-1/connect:store.add_source.relay-2").Log
	require.NotEmpty(t, noted)
	assert.Equal(t, "noted relay-2 on store-host-1", noted[0].Text, "the target's operation runs on the target")
}

func TestAnImperativeWorkflowServes(t *testing.T) {
	t.Parallel()
	state, order := raise(t, "by-hand", templates.DraftRequest{})
	require.Equal(t, run.Standing, state.Status, explainRun(state))
	assert.Equal(t, "deploy", state.Plan.Workflow)
	follows(t, order, "siren-1/require:deploy", "lan@vega/create", "mast-1/create", "port-1/plug", "mast-1/attach:tape-1", "siren-1/create",
		"siren-1/settle:configuring.1", "siren-1/configure", "siren-1/call:Drill.whisper.2", "siren-1/start", "siren-1/check:horn", "siren-1.horn/answer")
	assert.Equal(t, "quiet-7", state.Outputs["serial"], "the activity's input wins over the operation's")
	assert.Equal(t, run.Passed, state.Step("siren-1/call:Drill.shout.3").Status, "its filter asks for a loud serial")
	assert.Equal(t, run.Passed, state.Step("siren-1/settle:silent.4").Status, "nothing failed")
}

func TestAWorkflowHasAnAnswerToFailure(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../../examples/by-hand")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "scripts/configure.sh"), []byte("echo no volume; exit 3\n"), 0o644))
	a, _ := aWorkspace(t, pace)
	tmpl, err := templates.OpenTemplate(ctx, source.Place{Path: dir})
	require.NoError(t, err)
	e, err := a.Estate(ctx)
	require.NoError(t, err)
	d := templates.NewDraft(tmpl, templates.DraftRequest{}, e)
	require.NoError(t, d.Err)
	id := worked(t, a, d)
	state, err := a.Replay(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Failed, state.Status)
	assert.Equal(t, run.Standing, state.Step("siren-1/settle:silent.4").Status, "the failure called for it")
	assert.Equal(t, "silent", state.Resource("siren-1").Attributes["state"])
	assert.Equal(t, run.Held, state.Step("siren-1/start").Status)
}

func TestFunctionsAreWorkedOutWhenTheyCanBe(t *testing.T) {
	t.Parallel()
	state, _ := raise(t, "words", templates.DraftRequest{})
	require.Equal(t, run.Standing, state.Status, explainRun(state))
	assert.Equal(t, "station,level 42 read twice a day", state.Outputs["checked"], "files, an output of another operation, a library beside the script")
	assert.Equal(t, "42", state.Outputs["sum"])
	assert.Equal(t, "127", state.Outputs["first"])
	assert.Contains(t, state.Resource("bulletin-1.page").Answer.Text, `dam - weir - bridge|1.4|127|["host"]|3|the dam ho`)
	page := state.Step("bulletin-1/start").Script
	for _, in := range page.Inputs {
		if in.Name == "ALL" {
			assert.Equal(t, "‹join of [a, ‹checked of bulletin-1›, x-y], ,›", in.Value.String(), "carried to the step that needs it")
		}
	}
}

// standingSites is a workspace connected to stand-ins of the sites of an example's own estate.
func standingSites(t *testing.T, name string) *App {
	t.Helper()
	data, err := os.ReadFile(filepath.Join("../../examples", name, "estate.json"))
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	a, _ := connected(t, e, pace)
	return a
}

func TestWhatStandsIsTaken(t *testing.T) {
	t.Parallel()
	a := standingSites(t, "borrowed")
	e, err := a.Estate(ctx)
	require.NoError(t, err)
	d := templates.NewDraft(example(t, "borrowed"), templates.DraftRequest{}, e)
	require.Zero(t, d.Diagnostics.Errors(), d.Diagnostics.Error())
	require.NoError(t, d.Err)
	id := worked(t, a, d)
	state, err := a.Replay(ctx, id)
	require.NoError(t, err)
	require.Equal(t, run.Standing, state.Status, explainRun(state))
	assert.Equal(t, "10.9.4.0/24", state.Outputs["network"], "the one network that the filter leaves")
	assert.Equal(t, "vega-lan-office", state.Resource("office-lan@vega").Attributes["site.id"])
	assert.Nil(t, state.Step("office-lan@vega/create"), "nothing is created")
	assert.Equal(t, "large-host-1", state.Resource("recorder-1").On, "found by its filter")
	assert.Equal(t, "small-host-1", state.Resource("reader-1").On)
	assert.Equal(t, "tape of levels", state.Step("reader-1/start").Log[0].Text)
	bare := templates.NewDraft(example(t, "borrowed"), templates.DraftRequest{}, &estate.Estate{Version: estate.Version, Currency: "cr"})
	assert.Contains(t, bare.Diagnostics.Error(), "nothing stands that office-lan could be")
}
