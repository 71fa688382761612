package app

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/core/tosca"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/shells"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// raised is the scenario standing on stand-ins, with its template.
func raised(t *testing.T) (*App, *sandbox.Sandbox, *templates.Draft, int64) {
	t.Helper()
	a, box := aWorkspace(t, pace)
	d := draft(t, a, nil)
	id := worked(t, a, d)
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	require.Equal(t, run.Standing, s.Status, explainRun(s))
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	return a, box, d, r.Deployment
}

// carriedOut runs an order to its end.
func carriedOut(t *testing.T, a *App, o deployments.Order) *run.State {
	t.Helper()
	id, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	err = a.Work(ctx, id)
	s, errReplay := a.Replay(ctx, id)
	require.NoError(t, errReplay)
	require.NoError(t, err, explainRun(s))
	return s
}

func given(t *testing.T, name, text string) tosca.Inputs {
	t.Helper()
	v, diags := tosca.ParseInput(name, text)
	require.Empty(t, diags)
	return tosca.Inputs{name: v}
}

func changes(p *plan.Plan) map[string]plan.Change {
	out := map[string]plan.Change{}
	for _, r := range p.Resources {
		if r.Change != plan.Keep {
			out[r.ID] = r.Change
		}
	}
	return out
}

// allGood asks every endpoint that is to answer.
func allGood(t *testing.T, s *run.State) {
	t.Helper()
	for _, e := range deployments.Ask(ctx, s) {
		assert.True(t, e.Good, "%s: %s", e.Resource, e.Said)
	}
}

// TestADeploymentLivesItsLife scales, rolls back, stops, starts, clones and retires the scenario on real stand-ins.
func TestADeploymentLivesItsLife(t *testing.T) {
	t.Parallel()
	a, box, d, id := raised(t)
	before := len(box.Holds())

	// One worker more: only what belongs to it is built, and everything else is kept.
	more, err := a.Redraft(ctx, id, d.Template, templates.DraftRequest{Preset: "drill", Inputs: given(t, "forecast_workers", "4")})
	require.NoError(t, err)
	require.NoError(t, more.Err)
	o, err := a.Changed(ctx, id, more.Plan, "more workers")
	require.NoError(t, err)
	for r, c := range changes(o.Plan) {
		assert.True(t, c == plan.Build && strings.HasPrefix(r, "forecast-") || c == plan.Amend, "%s: %s %v", r, c, o.Plan.Resource(r).Reasons)
	}
	assert.Equal(t, plan.Build, o.Plan.Resource("forecast-host-4").Change)
	s := carriedOut(t, a, o)
	allGood(t, s)
	assert.Equal(t, before+2, len(box.Holds()), "an instance and its interface")

	same, err := a.Redraft(ctx, id, d.Template, templates.DraftRequest{Preset: "drill", Inputs: given(t, "forecast_workers", "4")})
	require.NoError(t, err)
	o, err = a.Changed(ctx, id, same.Plan, "the same")
	require.NoError(t, err)
	assert.Empty(t, o.Plan.Steps, "%v", changes(o.Plan))

	// Back again, by the inverse of the last run.
	runs, err := a.store.RunsOf(ctx, id)
	require.NoError(t, err)
	o, err = a.RollingBack(ctx, runs[1].ID)
	require.NoError(t, err)
	assert.Equal(t, plan.Retire, o.Plan.Resource("forecast-host-4").Change)
	carriedOut(t, a, o)
	assert.Equal(t, before, len(box.Holds()))

	// Off and on.
	o, err = a.Powering(ctx, id, "forecasting", false)
	require.NoError(t, err)
	assert.Equal(t, "stop forecasting", o.Plan.Purpose)
	carriedOut(t, a, o)
	dep, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	assert.True(t, dep.Stand.Plan.Resource("forecast-host-1").Off)
	assert.False(t, dep.Stand.Plan.Resource("contacts-host-1").Off)
	o, err = a.Powering(ctx, id, "forecasting", true)
	require.NoError(t, err)
	s = carriedOut(t, a, o)
	allGood(t, s)
	_, err = a.Powering(ctx, id, "nothing", true)
	assert.ErrorContains(t, err, `no instance of a tier "nothing"; there are alerting`)

	clone, err := a.Cloning(ctx, id, "flood-watch-two")
	require.NoError(t, err, "it is placed anew: the dam has no room for two")
	allGood(t, carriedOut(t, a, clone))
	_, err = a.Cloning(ctx, id, "flood-watch-two")
	assert.ErrorContains(t, err, "flood-watch-two stands already")
	_, err = a.Cloning(ctx, id, "Bad Name!")
	assert.ErrorContains(t, err, "cannot be a deployment's name")
	_, err = a.NewRun(ctx, clone)
	assert.ErrorContains(t, err, "flood-watch-two stands already")
	second, err := a.Taken(ctx, "flood-watch-two")
	require.NoError(t, err)
	_, unchanged, err := a.Updating(ctx, second.ID, templates.Place{}, templates.DraftRequest{})
	require.NoError(t, err)
	assert.Empty(t, unchanged.Plan.Steps, "nothing is otherwise of a fresh clone")
	o, err = a.Retiring(ctx, second.ID)
	require.NoError(t, err)
	carriedOut(t, a, o)

	o, err = a.Retiring(ctx, id)
	require.NoError(t, err)
	s = carriedOut(t, a, o)
	assert.Equal(t, "everything is gone", s.Text)
	assert.Empty(t, box.Holds())
	held, err := a.store.Reservations(ctx)
	require.NoError(t, err)
	assert.Empty(t, held)
	dep, err = a.Deployment(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Retired, dep.State())
	_, err = a.Retiring(ctx, id)
	assert.ErrorContains(t, err, "nothing stands of deployment 1")
}

// TestAnInstanceIsGivenAnotherSizeInPlace changes the size of a host that software runs on.
func TestAnInstanceIsGivenAnotherSizeInPlace(t *testing.T) {
	t.Parallel()
	a, _, d, id := raised(t)
	bigger, err := a.Redraft(ctx, id, d.Template, templates.DraftRequest{Preset: "drill", Inputs: given(t, "store_memory", "20 GiB")})
	require.NoError(t, err)
	require.NoError(t, bigger.Err)
	o, err := a.Changed(ctx, id, bigger.Plan, "more memory")
	require.NoError(t, err)
	assert.Equal(t, plan.Amend, o.Plan.Resource("readings-host-1").Change, "%v", o.Plan.Resource("readings-host-1").Reasons)
	assert.Equal(t, plan.Keep, o.Plan.Resource("contacts-host-1").Change)
	s := carriedOut(t, a, o)
	allGood(t, s)
	dep, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, 20.0, dep.Stand.Plan.Resource("readings-host-1").AsInstance().MemoryGiB)
}

// numbered is a text in which no two parts are alike.
func numbered(lines int) string {
	var out strings.Builder
	for i := range lines {
		fmt.Fprintln(&out, "level", i)
	}
	return out.String()
}

func TestShellsAndFiles(t *testing.T) {
	t.Parallel()
	a, _, _, _ := raised(t)
	h, err := a.FindHost(ctx, "contacts-host")
	require.NoError(t, err)
	var out, errOut bytes.Buffer
	code, err := a.Command(ctx, h, "echo on $(hostname); exit 3", nil, &out, &errOut)
	require.NoError(t, err)
	assert.Equal(t, 3, code)
	assert.Contains(t, out.String(), "on ")
	_, err = a.FindHost(ctx, "nobody")
	assert.ErrorContains(t, err, "there are contacts-host-1, dispatch-host-1")

	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in/deep"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in/deep/a.txt"), []byte(numbered(100_000)), 0o644))
	last := shells.Copied{}
	n, err := a.Copy(ctx, filepath.Join(dir, "in"), "contacts-host:/srv/notes", func(c shells.Copied) { last = c })
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Equal(t, int64(len(numbered(100_000))), last.Done)
	assert.Equal(t, last.Whole, last.Done)
	_, err = a.Copy(ctx, "contacts-host-1:/srv/notes", filepath.Join(dir, "out"), func(shells.Copied) {})
	require.NoError(t, err)
	back, err := os.ReadFile(filepath.Join(dir, "out/deep/a.txt"))
	require.NoError(t, err)
	assert.Equal(t, numbered(100_000), string(back), "byte for byte")
	_, err = a.Copy(ctx, "contacts-host:/nowhere", dir, func(shells.Copied) {})
	assert.ErrorContains(t, err, "/nowhere")
	_, err = a.Copy(ctx, "a", "b", func(shells.Copied) {})
	assert.ErrorContains(t, err, "one of the two is on an instance")
}

func TestAFailedStepIsRetriedOrSkippedAndTheRunGoesOn(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, pace)
	d := draft(t, a, nil)
	box.Misbehave(sandbox.Rule{Fault: sandbox.Refuse, Call: "create", Term: "storage", Site: "presa", Times: 1})
	id := worked(t, a, d)
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	require.Equal(t, run.Failed, s.Status)
	assert.Contains(t, s.Step("gauge-spool-1/create").Error, "not allowed here")
	assert.Equal(t, run.Standing, s.Resource("contacts-1").Status, "independent branches went on")
	assert.ErrorContains(t, a.Decide(ctx, id, "contacts-1/create", run.Retry), "has not failed")
	assert.ErrorContains(t, a.Decide(ctx, id, "gauge-spool-1/create", "dance"), "retry or skip")
	require.NoError(t, a.Decide(ctx, id, "gauge-spool-1/create", run.Retry))
	for b := range a.Watch(ctx, id, s.LastSeq) {
		require.NoError(t, b.Err)
	}
	require.Eventually(t, func() bool {
		r, err := a.Run(ctx, id)
		return err == nil && r.State == run.Standing
	}, 20e9, 50e6)
	s, err = a.Replay(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, 1, s.Step("gauge-spool-1/create").Tries)
	assert.ErrorContains(t, a.Resume(ctx, id), "everything stands")
}

// TestATemplateOfWhatStandsRaisesItsLike makes a template of the scenario as it stands, and raises that.
func TestATemplateOfWhatStandsRaisesItsLike(t *testing.T) {
	t.Parallel()
	a, box, d, id := raised(t)
	dir := filepath.Join(t.TempDir(), "captured")
	files, err := a.Capture(ctx, id, dir)
	require.NoError(t, err)
	assert.Contains(t, files, "template.yaml")
	assert.Contains(t, files, "scripts/store-create.sh")
	_, err = a.Capture(ctx, id, dir)
	assert.ErrorContains(t, err, "is not empty")
	text, err := os.ReadFile(filepath.Join(dir, "template.yaml"))
	require.NoError(t, err)
	assert.NotContains(t, string(text), "127.", "no address of what stands is in it")

	o, err := a.Retiring(ctx, id)
	require.NoError(t, err)
	carriedOut(t, a, o)
	tmpl, err := templates.OpenTemplate(ctx, source.Place{Path: dir})
	require.NoError(t, err)
	require.Zero(t, tmpl.Diagnostics.Errors(), tmpl.Diagnostics.Error())
	e, err := a.Estate(ctx)
	require.NoError(t, err)
	again := templates.NewDraft(tmpl, templates.DraftRequest{}, e)
	require.Zero(t, again.Diagnostics.Errors(), again.Diagnostics.Error())
	require.NoError(t, again.Err)
	for _, kind := range []kinds.Kind{kinds.Instance, kinds.Volume, kinds.Software, kinds.Endpoint} {
		assert.Equal(t, count(d.Plan, kind), count(again.Plan, kind), kind)
	}
	run2 := worked(t, a, again)
	s, err := a.Replay(ctx, run2)
	require.NoError(t, err)
	require.Equal(t, run.Standing, s.Status, explainRun(s))
	allGood(t, s)
	_ = box
}

func count(p *plan.Plan, kind kinds.Kind) (n int) {
	for i := range p.Resources {
		if p.Resources[i].Kind == kind {
			n++
		}
	}
	return n
}

// TestNoticesThatComeTwiceLateOrInDisorderDoNoHarm raises and retires the scenario while every notice is sent twice, and
// late.
func TestNoticesThatComeTwiceLateOrInDisorderDoNoHarm(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, pace)
	box.Misbehave(sandbox.Rule{Fault: sandbox.Twice}, sandbox.Rule{Fault: sandbox.Shuffled, Share: 0.5})
	id := worked(t, a, draft(t, a, nil))
	declares(t, a, box, id)
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	require.Equal(t, run.Standing, r.State)
	o, err := a.Retiring(ctx, r.Deployment)
	require.NoError(t, err)
	carriedOut(t, a, o)
	assert.Empty(t, box.Holds())
}

func TestTwoWorkersAndTwoRuns(t *testing.T) {
	t.Parallel()
	a, _, d, id := raised(t)
	o, err := a.Powering(ctx, id, "", false)
	require.NoError(t, err)
	first, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	second, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	begun := make(chan error, 1)
	go func() { begun <- a.Work(ctx, first) }()
	require.Eventually(t, func() bool { r, err := a.Run(ctx, first); return err == nil && r.State == run.UnderWay }, 2*time.Minute, time.Millisecond)
	assert.ErrorContains(t, a.Work(ctx, second), "under way")
	assert.ErrorContains(t, a.Work(ctx, first), "goes on as ")
	_, err = a.Changed(ctx, id, d.Plan, "again")
	assert.ErrorContains(t, err, "is under way")
	require.NoError(t, <-begun)
}

// TestAnInputIsChangedAndTheDeploymentGoesOn lets a run fail for good, changes an input, and goes on from what stands.
func TestAnInputIsChangedAndTheDeploymentGoesOn(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, pace)
	box.Misbehave(sandbox.Rule{Fault: sandbox.Refuse, Call: "create", Term: "storage", Site: "presa", Times: 1})
	d := draft(t, a, nil)
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan, Template: "../../examples/flood-watch"})
	require.NoError(t, err)
	require.Error(t, a.Work(ctx, id))
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	o, err := a.ChangingInput(ctx, r.Deployment, "forecast_workers=2")
	require.NoError(t, err)
	assert.Equal(t, plan.Retire, o.Plan.Resource("forecast-host-3").Change)
	assert.Equal(t, plan.Keep, o.Plan.Resource("contacts-host-1").Change, "%v", o.Plan.Resource("contacts-host-1").Reasons)
	s := carriedOut(t, a, o)
	allGood(t, s)
	_, err = a.ChangingInput(ctx, r.Deployment, "forecast_workers=99")
	assert.ErrorContains(t, err, "1 to 32")
	assert.ErrorContains(t, a.Resume(ctx, id), "go on with that one", "the older run is overtaken")

	dep, err := a.Deployment(ctx, r.Deployment)
	require.NoError(t, err)
	assert.Empty(t, dep.Stand.Unsure)
	same, err := a.Changed(ctx, r.Deployment, change.Rest(dep.Stand.Plan, func(*plan.Resource) bool { return false }), "the same")
	require.NoError(t, err)
	assert.Empty(t, same.Plan.Steps)
}
