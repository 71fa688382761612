package app

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/moves"
	"andamio/internal/service/replicas"
)

const (
	logHost = "log-host-1"
	logVol  = "log-vol-1"
	written = "/var/lib/levels/mark"
)

// replicated makes copies at a site like the disks of a deployment, and returns how many bytes were copied.
func replicated(t *testing.T, a *App, id int64, to string) int64 {
	t.Helper()
	o, err := a.Replicating(ctx, id, replicas.Request{Site: to}, time.Now())
	require.NoError(t, err)
	runID := carriedTo(t, a, o, err, run.Standing)
	s, err := a.Replay(ctx, runID)
	require.NoError(t, err)
	bytes := int64(0)
	for _, d := range s.Disks {
		bytes += d.Bytes
	}
	return bytes
}

// alikeCopies holds every copy at a site against the snapshot that it was copied from, byte for byte.
func alikeCopies(t *testing.T, a *App, box *sandbox.Sandbox, id int64, to string) {
	t.Helper()
	d, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	p := d.Stand.Plan
	n := 0
	for i := range p.Resources {
		r := &p.Resources[i]
		if !r.IsCopy() || r.Site != to {
			continue
		}
		set := change.NewestCopy(d.Stand, to)
		at := strings.TrimPrefix(set, change.CopiedPrefix)
		shipped := p.Resource(change.SnapshotID(r.AsVolume().CopyOf, change.ShippedPrefix+at))
		require.NotNil(t, shipped, r.ID)
		was, err := box.DiskDigest(shipped.Site, p.Known[shipped.ID]["site.id"])
		require.NoError(t, err)
		for _, like := range []string{r.ID, change.SnapshotID(r.ID, set)} {
			is, err := box.DiskDigest(to, p.Known[like]["site.id"])
			require.NoError(t, err)
			assert.Equal(t, was, is, like)
		}
		n++
	}
	assert.Equal(t, 2, n)
}

// elsewhere is a site that a workload is not at, where a copy is kept.
func elsewhere(at string) string {
	if at == "tramonta" {
		return "vega"
	}
	return "tramonta"
}

// TestCopiesAreFailedOverToAndBack keeps copies of a log at another site, of what was written since each time, fails over to them with the site gone and its machine
// running on, has that be switched off when the site answers again, and goes back with what was written meanwhile.
func TestCopiesAreFailedOverToAndBack(t *testing.T) {
	t.Parallel()
	a, box := pairedWith(t, 0.01, 0)
	dep, at := theLog(t, a)
	to := elsewhere(at)
	put := func(text string) { on(t, a, dep, logHost, "echo "+text+" > "+written) }
	put("one")
	whole := replicated(t, a, dep, to)
	alikeCopies(t, a, box, dep, to)
	put("two")
	again := replicated(t, a, dep, to)
	alikeCopies(t, a, box, dep, to)
	assert.Less(t, again, whole/2, "of what was written since alone")
	all, err := a.Replicas(ctx, dep)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, []string{logHost, logVol}, all[0].Disks)
	assert.WithinDuration(t, time.Now(), all[0].As, time.Minute)
	sets, err := a.Snapshots(ctx, dep)
	require.NoError(t, err)
	assert.Empty(t, sets, "what belongs to copies is no snapshot to restore to")
	put("lost")

	_, err = a.DraftFailOver(ctx, dep, moves.FailOver{To: "presa"})
	require.ErrorContains(t, err, "no whole copy")
	box.Misbehave(sandbox.Rule{Fault: sandbox.Unavailable, Site: at})
	d, err := a.DraftFailOver(ctx, dep, moves.FailOver{To: to})
	require.NoError(t, err)
	for i := range d.Order.Plan.Steps {
		assert.NotEqual(t, at, d.Order.Plan.Steps[i].Site, "nothing is done at a site that does not answer: %s", d.Order.Plan.Steps[i].ID)
	}
	id, runID, err := a.StartMove(ctx, d, nil)
	require.NoError(t, err)
	ended(t, a, runID)
	m, err := a.Move(ctx, id)
	require.NoError(t, err)
	require.Equal(t, moves.WaveMoved, m.States[0])
	assert.Equal(t, "two", on(t, a, dep, logHost, "cat "+written), "as the copy was")
	serves(t, a)
	assert.ElementsMatch(t, []string{at, to}, active(box, logHost), "nobody could switch it off")
	note, err := a.Fence(ctx, id)
	require.NoError(t, err)
	assert.Contains(t, note, at+" does not answer yet")
	box.Misbehave()
	note, err = a.Fence(ctx, id)
	require.NoError(t, err)
	assert.Contains(t, note, "switches off what is left at "+at)
	require.Eventually(t, func() bool { return len(active(box, logHost)) == 1 }, time.Minute, 5*time.Millisecond)
	assert.Equal(t, []string{to}, active(box, logHost), "never both sides on, once it answers")
	require.Eventually(t, func() bool {
		note, err := a.Fence(ctx, id)
		return err == nil && note == "all that was left is off"
	}, time.Minute, 20*time.Millisecond)
	dues, err := a.store.Dues(ctx)
	require.NoError(t, err)
	for _, x := range dues {
		assert.NotEqual(t, moves.DueFence, x.Kind)
	}

	put("there")
	back, err := a.GoBack(ctx, id, 0)
	require.NoError(t, err)
	ended(t, a, back)
	assert.Equal(t, "there", on(t, a, dep, logHost, "cat "+written), "what was written there came back, and what was lost did not")
	assert.Equal(t, []string{at}, active(box, logHost))
	serves(t, a)
	alikeCopies(t, a, box, dep, to)
	o, err := a.DroppingReplica(ctx, dep, to)
	carriedTo(t, a, o, err, run.Standing)
	all, err = a.Replicas(ctx, dep)
	require.NoError(t, err)
	assert.Empty(t, all)
	_, err = a.DroppingReplica(ctx, dep, to)
	require.ErrorContains(t, err, "no copies are kept at "+to)
	o, err = a.Retiring(ctx, dep)
	carriedTo(t, a, o, err, run.Retired)
	assert.Empty(t, box.Holds())
}

// TestFailingOverByChoice fails over while the site answers: what runs there is off before, and committing takes it away.
func TestFailingOverByChoice(t *testing.T) {
	t.Parallel()
	a, box := paired(t, 0.01)
	dep, at := theLog(t, a)
	to := elsewhere(at)
	on(t, a, dep, logHost, "echo one > "+written)
	replicated(t, a, dep, to)
	replicated(t, a, dep, "alisio-sur")
	all, err := a.Replicas(ctx, dep)
	require.NoError(t, err)
	require.Len(t, all, 2)
	for _, x := range all {
		assert.NotEmpty(t, x.Set, "%s: those at another site are left as they are", x.Site)
		assert.WithinDuration(t, time.Now(), x.As, 2*time.Minute, x.Site)
	}
	d, err := a.DraftFailOver(ctx, dep, moves.FailOver{To: to, What: []string{"log-host"}})
	require.NoError(t, err)
	p := d.Order.Plan
	require.NotNil(t, p.Step(op.Halt.On(change.KeptID(logHost, at))))
	id, runID, err := a.StartMove(ctx, d, nil)
	require.NoError(t, err)
	ended(t, a, runID)
	assert.Equal(t, []string{to}, active(box, logHost))
	serves(t, a)
	assert.Equal(t, "one", on(t, a, dep, logHost, "cat "+written))
	commit, err := a.Commit(ctx, id, 0)
	require.NoError(t, err)
	ended(t, a, commit)
	serves(t, a)
	off, err := a.Powering(ctx, dep, "log-host", false)
	carriedTo(t, a, off, err, run.Standing)
	_, err = a.DraftFailOver(ctx, dep, moves.FailOver{To: "alisio-sur", What: []string{"log-host"}})
	require.ErrorContains(t, err, logHost+" is off")
	_, err = a.DraftFailOver(ctx, dep, moves.FailOver{To: "alisio-sur"})
	require.ErrorContains(t, err, "a machine that is on")
	r, err := a.Retiring(ctx, dep)
	carriedTo(t, a, r, err, run.Retired)
	assert.Empty(t, box.Holds())
}

// TestAFailingOverThatBrokeOffSaysThatBothSidesAreOn fails over with the site gone and names that may not be changed: what is on twice is said until it went on or was gone back
// from.
func TestAFailingOverThatBrokeOffSaysThatBothSidesAreOn(t *testing.T) {
	t.Parallel()
	a, box := pairedWith(t, 0.01, 0)
	dep, at := theLog(t, a)
	to := elsewhere(at)
	replicated(t, a, dep, to)
	z, err := a.workspace.Zone()
	require.NoError(t, err)
	deaf := *z
	deaf.Secret = "bm90IGl0cyBrZXk="
	require.NoError(t, a.workspace.SetZone(deaf))
	box.Misbehave(sandbox.Rule{Fault: sandbox.Unavailable, Site: at})
	d, err := a.DraftFailOver(ctx, dep, moves.FailOver{To: to})
	require.NoError(t, err)
	id, runID, err := a.StartMove(ctx, d, nil)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		r, err := a.Run(ctx, runID)
		return err == nil && r.State == run.Failed
	}, time.Minute, 5*time.Millisecond)
	all, err := a.Waiting(ctx, time.Now())
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, moves.WaveBroken, all[0].State)
	assert.Equal(t, []string{logHost}, all[0].Both)
	assert.ElementsMatch(t, []string{at, to}, active(box, logHost))

	box.Misbehave()
	require.NoError(t, a.workspace.SetZone(*z))
	back, err := a.GoBack(ctx, id, 0)
	require.NoError(t, err)
	ended(t, a, back)
	assert.Equal(t, []string{at}, active(box, logHost))
	all, err = a.Waiting(ctx, time.Now())
	require.NoError(t, err)
	assert.Empty(t, all)
	serves(t, a)
}
