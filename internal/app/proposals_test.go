package app

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/store"
)

// confirmed confirms a proposal in a workspace of its own process, works its run to the end and returns it.
func confirmed(t *testing.T, a *App, id int64) int64 {
	t.Helper()
	out, err := a.Confirm(ctx, id)
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, out.Run))
	ended(t, a, out.Run)
	return out.Run
}

// TestWhatOneProposesAnotherConfirms raises, scales and retires by proposals, made and confirmed through two openings of the
// workspace.
func TestWhatOneProposesAnotherConfirms(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, 0.003)
	ana, eva := a.As(Actor{Name: "ana", Way: ByCommand}), another(t, a).As(Actor{Name: "eva", Way: ByScreen})
	raise, err := ana.Propose(ctx, deployments.Order{Plan: draft(t, ana, nil).Plan}, time.Hour)
	require.NoError(t, err)
	runs, err := a.store.Runs(ctx)
	require.NoError(t, err)
	assert.Empty(t, runs, "nothing is done by it")
	assert.Empty(t, box.Holds())
	assert.Equal(t, Actor{Name: "ana", Way: ByCommand}, raise.By)
	assert.Equal(t, "raise flood-watch", raise.Purpose)
	first := confirmed(t, eva, raise.ID)
	_, err = eva.Confirm(ctx, raise.ID)
	require.ErrorContains(t, err, "was confirmed already: it is run 1")
	r, err := a.store.Run(ctx, first)
	require.NoError(t, err)
	o, err := ana.Retiring(ctx, r.Deployment)
	require.NoError(t, err)
	retire, err := ana.Propose(ctx, o, time.Hour)
	require.NoError(t, err)
	_, again, err := eva.Proposed(ctx, retire.ID)
	require.NoError(t, err)
	want, err := o.Plan.Write()
	require.NoError(t, err)
	got, err := again.Plan.Write()
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got), "what is confirmed is what was proposed, to the byte")
	confirmed(t, eva, retire.ID)
	assert.Empty(t, box.Holds())
	assert.Equal(t, []string{"ana by command proposed a plan of flood-watch: retire flood-watch", "eva by screen confirmed proposal 2", "eva by screen began run 2: retire flood-watch"},
		trailWords(t, a, 3))
}

// TestAProposalWhoseGroundHasChangedIsRefused has something come between proposing and confirming, in every way.
func TestAProposalWhoseGroundHasChangedIsRefused(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := worked(t, a, draft(t, a, nil))
	r, err := a.store.Run(ctx, id)
	require.NoError(t, err)
	o, err := a.Retiring(ctx, r.Deployment)
	require.NoError(t, err)
	propose := func(holds time.Duration) int64 {
		t.Helper()
		p, err := a.Propose(ctx, o, holds)
		require.NoError(t, err)
		return p.ID
	}
	for _, holds := range []time.Duration{0, -time.Hour} {
		_, err := a.Propose(ctx, o, holds)
		require.ErrorContains(t, err, "holds for some time")
	}
	_, err = a.Confirm(ctx, 99)
	require.ErrorIs(t, err, store.ErrNotFound)
	late := propose(time.Nanosecond)
	_, err = a.Confirm(ctx, late)
	require.ErrorContains(t, err, "have it worked out anew")
	back := propose(time.Hour)
	require.NoError(t, a.Withdraw(ctx, back))
	require.ErrorContains(t, a.Withdraw(ctx, back), "is not open any more")
	_, err = a.Confirm(ctx, back)
	require.ErrorContains(t, err, "was withdrawn")
	open, moved := propose(time.Hour), propose(time.Hour)
	off, err := a.As(Actor{Name: "eva", Way: ByScreen}).Powering(ctx, r.Deployment, "", false)
	require.NoError(t, err)
	next, err := a.As(Actor{Name: "eva", Way: ByScreen}).NewRun(ctx, off)
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, next))
	_, err = a.Confirm(ctx, open)
	require.ErrorContains(t, err, "run 2 (stop, by eva) came after it")
	_, _, err = a.Proposed(ctx, moved)
	require.ErrorContains(t, err, "came after it")
	all, err := a.Proposals(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 4)
	taken, err := a.Propose(ctx, deployments.Order{Plan: draft(t, a, nil).Plan}, time.Hour)
	require.NoError(t, err)
	_, err = a.Confirm(ctx, taken.ID)
	require.Error(t, err, "another of the name stands")
	p, err := a.store.Proposal(ctx, taken.ID)
	require.NoError(t, err)
	assert.Equal(t, store.ProposalOpen, p.State, "what failed can be tried again")
	runs, err := a.store.Runs(ctx)
	require.NoError(t, err)
	assert.Len(t, runs, 2, "and nothing was begun")
}

// TestOfManyWhoConfirmOneDoes confirms one proposal, and two proposals of one deployment, by several at once.
func TestOfManyWhoConfirmOneDoes(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := worked(t, a, draft(t, a, nil))
	r, err := a.store.Run(ctx, id)
	require.NoError(t, err)
	o, err := a.Powering(ctx, r.Deployment, "", false)
	require.NoError(t, err)
	var proposals [2]*runs.Proposal
	for i := range proposals {
		proposals[i], err = a.Propose(ctx, o, time.Hour)
		require.NoError(t, err)
	}
	var mu sync.Mutex
	var began []int64
	var group sync.WaitGroup
	for i := range 6 {
		x, err := Open(ctx, a.workspace.Dir, Idle())
		require.NoError(t, err)
		t.Cleanup(func() { x.Close() })
		group.Go(func() {
			out, err := x.Confirm(ctx, proposals[i%2].ID)
			t.Log(out, err)
			if err == nil {
				mu.Lock()
				began = append(began, out.Run)
				mu.Unlock()
			}
		})
	}
	group.Wait()
	assert.LessOrEqual(t, len(began), 1, "of proposals with one ground, one is carried out")
	runs, err := a.store.RunsOf(ctx, r.Deployment)
	require.NoError(t, err)
	assert.Len(t, runs, 1+len(began))
	for _, r := range runs[1:] {
		assert.Equal(t, run.Planned, r.State)
	}
	v, err := a.VerifyTrail(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, v.Wrong)
}
