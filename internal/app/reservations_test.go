package app

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
)

func TestWhatAPlanTakesIsHeldByItsRun(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.05)
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	before, err := a.Estate(ctx)
	require.NoError(t, err)
	free, all := before.Site("vega").Addresses()
	d := templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, before)
	require.NoError(t, d.Err)
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan})
	require.NoError(t, err)
	_, err = a.NewRun(ctx, deployments.Order{Plan: d.Plan})
	assert.ErrorContains(t, err, "flood-watch stands already")
	other := *d.Plan
	other.Name = "another"
	_, err = a.NewRun(ctx, deployments.Order{Plan: &other})
	assert.ErrorContains(t, err, "is held by run 1")
	runs, err := a.store.Runs(ctx)
	require.NoError(t, err)
	assert.Len(t, runs, 1, "what could not begin is forgotten")
	after, err := a.Estate(ctx)
	require.NoError(t, err)
	now, still := after.Site("vega").Addresses()
	assert.Equal(t, all, still)
	assert.Equal(t, free-3, now, "readings, contacts and a dispatcher have one each")
	again := templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, after)
	require.NoError(t, again.Err, "another plan is given others")
	n, err := a.Release(ctx, id)
	require.NoError(t, err)
	assert.Positive(t, n)
	given, err := a.Estate(ctx)
	require.NoError(t, err)
	back, _ := given.Site("vega").Addresses()
	assert.Equal(t, free, back)
}

func TestChoicesAreValues(t *testing.T) {
	t.Parallel()
	var none templates.Choices
	one := none.Pinned([]string{"a", "b"}, "vega")
	assert.Zero(t, none.Count())
	assert.Equal(t, 2, one.Count())
	assert.Zero(t, one.Pinned([]string{"a", "b"}, "vega").Count(), "pinned again lets go")
	assert.Equal(t, "presa", one.Pinned([]string{"a"}, "presa").Pins["a"].Site)
	assert.Equal(t, "vega", one.Pins["a"].Site)
	no := none.Forbidden([]string{"a"}, "vega").Forbidden([]string{"a"}, "presa")
	assert.Equal(t, 2, no.Count())
	assert.Equal(t, []string{"presa"}, no.Forbidden([]string{"a"}, "vega").Forbids["a"])
	yes := none.Answered("n", "q", true, false)
	assert.True(t, yes.Answers["n"]["q"])
	assert.Zero(t, yes.Answered("n", "q", false, true).Count())
	yes.Payment, yes.Weights = estate.Reserved1, &placement.Usual
	assert.Equal(t, 3, yes.Count())
}

func TestAWorkspaceHasItsOwnRules(t *testing.T) {
	t.Parallel()
	w := workspace.New(t.TempDir())
	f, err := w.Rules()
	require.NoError(t, err)
	assert.Len(t, f.Questions, 4)
	require.NoError(t, w.Write(workspace.FileRules, []byte("version: andamio.rules/1\nrules: []\n")))
	f, err = w.Rules()
	require.NoError(t, err)
	assert.Empty(t, f.Rules)
	require.NoError(t, w.Write(workspace.FileRules, []byte("version: andamio.rules/1\nrules: [{name: x}]\n")))
	_, err = w.Rules()
	assert.ErrorContains(t, err, "rules.yaml: rules[0]")
}
