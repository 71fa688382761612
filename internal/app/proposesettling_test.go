package app

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/inventory"
	"andamio/internal/sandbox"
	"andamio/internal/service/moves"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/runs"
	"andamio/internal/store"
)

// TestAMoveThatOneProposesAnotherBegins proposes two moves of one workload: one is begun, and the other has no ground any more.
func TestAMoveThatOneProposesAnotherBegins(t *testing.T) {
	t.Parallel()
	a, box := paired(t, 0.01)
	dep, at := theLog(t, a)
	to := []string{"vega", "tramonta"}
	to = slices.DeleteFunc(to, func(s string) bool { return s == at })
	ana := a.As(Actor{Name: "ana", Way: ByCommand})
	propose := func(site string) *runs.Proposal {
		d, err := a.DraftMove(ctx, dep, moves.Request{What: []string{"log-host"}, To: site, Mode: change.Warm, AtOnce: true})
		require.NoError(t, err)
		p, err := ana.ProposeMove(ctx, d, time.Hour)
		require.NoError(t, err)
		return p
	}
	first, second := propose(to[0]), propose(to[0])
	open, err := a.OpenProposals(ctx)
	require.NoError(t, err)
	assert.Len(t, open, 2)
	began, err := a.Moves(ctx)
	require.NoError(t, err)
	assert.Empty(t, began, "nothing is begun by proposing")
	out, err := a.Confirm(ctx, first.ID)
	require.NoError(t, err)
	ended(t, a, out.Run)
	serves(t, a)
	assert.Equal(t, []string{to[0]}, active(box, "log-host-1"))
	began, err = a.Moves(ctx)
	require.NoError(t, err)
	require.Len(t, began, 1)
	assert.Equal(t, []moves.WaveState{moves.WaveMoved}, began[0].States)
	_, err = a.Confirm(ctx, second.ID)
	require.ErrorContains(t, err, "has changed since proposal")
	assert.Equal(t, fault.Conflict, fault.CodeOf(err))
	commit, err := a.Commit(ctx, began[0].ID, 0)
	require.NoError(t, err)
	ended(t, a, commit)
	serves(t, a)
}

// TestASettlingThatOneProposesAnotherDoes proposes to settle what was changed by hand, twice: what was settled is settled no more.
func TestASettlingThatOneProposesAnotherDoes(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	require.NotEmpty(t, box.Drift(sandbox.DriftRequest{Seed: 3, Count: 2, Sorts: []sandbox.Change{sandbox.Created}}))
	inv := surveyedAll(t, a)
	var choices []reconcile.Choice
	for _, f := range inv.Findings {
		choices = append(choices, reconcile.Choice{Finding: f, Way: inventory.Adopt})
	}
	require.NotEmpty(t, choices)
	propose := func() *runs.Proposal {
		s, err := a.Settling(ctx, inv, choices, "", time.Time{})
		require.NoError(t, err)
		p, err := a.As(Actor{Name: "ana", Way: ByScreen}).ProposeSettling(ctx, s, time.Hour)
		require.NoError(t, err)
		return p
	}
	first, second := propose(), propose()
	assert.True(t, first.Settles())
	left, err := a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Len(t, left.Findings, len(choices), "nothing is settled by proposing")
	would, err := a.ProposedSettling(ctx, first.ID)
	require.NoError(t, err)
	assert.Len(t, would.Items, len(choices))
	out, err := a.Confirm(ctx, first.ID)
	require.NoError(t, err)
	assert.NotZero(t, out.Act)
	left, err = a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Empty(t, left.Findings)
	_, err = a.Confirm(ctx, first.ID)
	require.ErrorContains(t, err, "was confirmed already: it is act")
	_, err = a.Confirm(ctx, second.ID)
	require.ErrorContains(t, err, "by now there is nothing to settle so")
	assert.Equal(t, fault.Conflict, fault.CodeOf(err))
	_, err = a.Undo(ctx, out.Act)
	require.NoError(t, err, "it is undone as any other")
	_, err = a.ProposeSettling(ctx, would, 0)
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	kept, err := a.store.Proposal(ctx, first.ID)
	require.NoError(t, err)
	assert.Equal(t, store.ProposalConfirmed, kept.State)
}
