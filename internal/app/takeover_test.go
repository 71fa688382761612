package app

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/run"
	"andamio/internal/service/moves"
	"andamio/internal/service/reconcile"
	"andamio/internal/site"
)

// byHand makes a machine with a volume and a network past us, and returns it.
func byHand(t *testing.T, a *App) site.Resource {
	t.Helper()
	sites, err := a.Sites()
	require.NoError(t, err)
	vega := sites["vega"]
	made := func(r site.Request) site.Resource {
		got, err := vega.Create(ctx, r)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			got, err = vega.Read(ctx, r.Kind, got.ID)
			return err == nil && got.State == site.Active
		}, time.Minute, 5*time.Millisecond, r.Name)
		return got
	}
	vm := made(site.Request{Kind: kinds.Instance, Name: "well", Cores: 1, MemoryGiB: 1, DiskGiB: 2, Image: "debian-12"})
	volume := made(site.Request{Kind: kinds.Volume, Name: "depths", DiskGiB: 1})
	network := made(site.Request{Kind: kinds.Network, Name: "hand", CIDR: "10.77.0.0/24"})
	made(site.Request{Kind: kinds.Attachment, Name: "depths in well", Source: vm.ID, Target: volume.ID, Location: "/srv/depths"})
	made(site.Request{Kind: kinds.Interface, Name: "well eth0", Source: vm.ID, Target: network.ID, Ports: []int{9100}})
	return vm
}

// TestWhatNobodyDeployedIsOperated: a machine that somebody made past us is found, taken over with what belongs to it, stopped, started, moved and
// brought back, and let go; then it is nobody's again.
func TestWhatNobodyDeployedIsOperated(t *testing.T) {
	t.Parallel()
	a, box := paired(t, 0.01)
	vm := byHand(t, a)
	unmanaged := len(surveyedAll(t, a).Findings)
	require.NotZero(t, unmanaged)
	for _, w := range []struct{ record, says string }{{"nobody", "no survey has seen"}, {"depths", "no survey has seen"}} {
		_, err := a.TakingOver(ctx, reconcile.TakeOverRequest{Records: []string{w.record}})
		require.ErrorContains(t, err, w.says)
	}
	take, err := a.TakingOver(ctx, reconcile.TakeOverRequest{Records: []string{"vega/" + vm.ID}})
	require.NoError(t, err)

	draft, err := a.DraftTaken(ctx, take, moves.Request{What: []string{"well"}, To: "tramonta"})
	require.NoError(t, err)
	assert.NotEmpty(t, draft.Order.Plan.Steps, "how it would be moved is known before it is anybody's")
	all, err := a.Deployments(ctx)
	require.NoError(t, err)
	before := len(all)

	s := carriedOut(t, a, take)
	require.Equal(t, run.Standing, s.Status, explainRun(s))
	all, err = a.Deployments(ctx)
	require.NoError(t, err)
	require.Len(t, all, before+1)
	runs, err := a.store.Runs(ctx)
	require.NoError(t, err)
	dep := runs[0].Deployment
	assert.Empty(t, surveyedAll(t, a).Findings, "it is declared, and as it is declared")
	_, err = a.TakingOver(ctx, reconcile.TakeOverRequest{Records: []string{vm.ID}})
	assert.Equal(t, fault.Conflict, fault.CodeOf(err), "it is a deployment's already")
	for _, on := range []bool{false, true} {
		o, err := a.Powering(ctx, dep, "", on)
		require.NoError(t, err)
		carriedOut(t, a, o)
	}
	assert.Equal(t, []string{"vega"}, active(box, "well"))

	_, _, err = a.StartMove(ctx, draft, nil)
	require.ErrorContains(t, err, "taken over first", "that draft was of what was nobody's")
	draft, err = a.DraftMove(ctx, dep, moves.Request{What: []string{"well"}, To: "tramonta", AtOnce: true})
	require.NoError(t, err)
	id, runID, err := a.StartMove(ctx, draft, nil)
	require.NoError(t, err)
	ended(t, a, runID)
	assert.Equal(t, []string{"tramonta"}, active(box, "well"))
	back, err := a.GoBack(ctx, id, 0)
	require.NoError(t, err)
	ended(t, a, back)
	assert.Equal(t, []string{"vega"}, active(box, "well"))
	assert.Empty(t, surveyedAll(t, a).Findings)

	forget, err := a.LettingGo(ctx, dep)
	require.NoError(t, err)
	carriedOut(t, a, forget)
	assert.Equal(t, []string{"vega"}, active(box, "well"), "it runs on")
	d, err := a.Deployment(ctx, dep)
	require.NoError(t, err)
	assert.True(t, d.Stand.Empty())
	_, err = a.LettingGo(ctx, dep)
	require.ErrorContains(t, err, "nothing stands")
}
