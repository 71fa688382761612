package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/snapshots"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// aQuietLog is the level log with scripts that keep it still while snapshots are taken, and that write down that they did.
func aQuietLog(t *testing.T, change func(text string) string) *templates.Template {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../../examples/level-log")))
	text, err := os.ReadFile(filepath.Join(dir, "template.yaml"))
	require.NoError(t, err)
	with := strings.Replace(string(text), "    capabilities:\n      page:", "    interfaces: { Snapshot: { type: andamio.interfaces.Snapshot } }\n    capabilities:\n      page:", 1)
	with = change(with + "        Snapshot:\n          quiesce: { implementation: scripts/quiesce.sh, inputs: { WORD: quiet } }\n          resume: { implementation: scripts/resume.sh, inputs: { WORD: goes on } }\n")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "template.yaml"), []byte(with), 0o600))
	for _, name := range []string{"quiesce", "resume"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "scripts", name+".sh"), []byte("#!/bin/sh\nset -e\necho \"$WORD\" > "+written+"\n"), 0o600))
	}
	tmpl, err := templates.OpenTemplate(ctx, source.Place{Path: dir})
	require.NoError(t, err)
	return tmpl
}

// TestWhatIsKeptStillGoesOn takes snapshots of what has scripts for it: what is kept was written out, it goes on then, and also when a snapshot cannot be taken.
func TestWhatIsKeptStillGoesOn(t *testing.T) {
	t.Parallel()
	a, box := paired(t, 0.01)
	tmpl := aQuietLog(t, func(text string) string { return text })
	require.Zero(t, tmpl.Diagnostics.Errors(), tmpl.Diagnostics)
	e, err := a.Estate(ctx)
	require.NoError(t, err)
	d := templates.NewDraft(tmpl, templates.DraftRequest{}, e)
	require.NotNil(t, d.Plan, "%v %v", d.Err, d.Diagnostics)
	r, err := a.Run(ctx, worked(t, a, d))
	require.NoError(t, err)
	id := r.Deployment
	for _, barrier := range []bool{false, true} {
		set := map[bool]string{false: "one", true: "two"}[barrier]
		o, err := a.Taking(ctx, id, snapshots.TakeRequest{Name: set, Barrier: barrier}, time.Now())
		runID := carriedTo(t, a, o, err, run.Standing)
		s, err := a.Replay(ctx, runID)
		require.NoError(t, err)
		assert.Equal(t, run.Standing, s.Step("level-log-1/do:quiesce").Status)
		assert.Equal(t, run.Passed, s.Step("level-log-1/do:resume-all-the-same").Status)
		assert.Equal(t, "goes on", on(t, a, id, logHost, "cat "+written))
		serves(t, a)
	}
	o, err := a.Restoring(ctx, id, snapshots.RestoreRequest{Set: "one"}, time.Now())
	carriedTo(t, a, o, err, run.Standing)
	assert.Equal(t, "quiet", on(t, a, id, logHost, "cat "+written), "what is kept is what was written out")

	box.Misbehave(sandbox.Rule{Fault: sandbox.Refuse, Call: "create"})
	o, err = a.Taking(ctx, id, snapshots.TakeRequest{Name: "three"}, time.Now())
	require.NoError(t, err)
	runID, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	_ = a.Work(ctx, runID)
	s, err := a.Replay(ctx, runID)
	require.NoError(t, err)
	assert.Equal(t, run.Standing, s.Step("level-log-1/do:resume-all-the-same").Status, explainRun(s))
	assert.Equal(t, "goes on", on(t, a, id, logHost, "cat "+written), "nothing keeps still that serves")
	box.Misbehave()
	r2, err := a.Retiring(ctx, id)
	carriedTo(t, a, r2, err, run.Retired)
	assert.Empty(t, box.Holds())
}

// TestWhatIsQuiescedIsResumed refuses a template that says how software is kept still and not how it goes on.
func TestWhatIsQuiescedIsResumed(t *testing.T) {
	t.Parallel()
	tmpl := aQuietLog(t, func(text string) string {
		head, _, _ := strings.Cut(text, "          resume:")
		return head
	})
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	d := templates.NewDraft(tmpl, templates.DraftRequest{}, e)
	require.Error(t, d.Err)
	assert.ErrorContains(t, d.Err, "needs a script for quiesce and one for resume")
}
