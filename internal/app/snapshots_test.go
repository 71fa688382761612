package app

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/shells"
	"andamio/internal/service/snapshots"
	"andamio/internal/service/templates"
)

// carried makes a run of an order and works on it to its end, which must be that all stands.
func carried(t *testing.T, a *App, o deployments.Order, err error) *run.State {
	t.Helper()
	s, err := a.Replay(ctx, carriedTo(t, a, o, err, run.Standing))
	require.NoError(t, err)
	return s
}

// on runs a command on an instance and returns what it prints.
func on(t *testing.T, a *App, deployment int64, instance, command string) string {
	t.Helper()
	h, err := a.FindHost(ctx, fmt.Sprintf("%d/%s", deployment, instance))
	require.NoError(t, err)
	var out strings.Builder
	code, err := a.Command(ctx, h, command, nil, &out, io.Discard)
	require.NoError(t, err)
	require.Zero(t, code, "%s: %s", command, out.String())
	return strings.TrimSpace(out.String())
}

// TestWhatDisksHeldIsRestored keeps what a register holds, changes it, restores it, goes back on that, restores it beside, and drops what was kept.
func TestWhatDisksHeldIsRestored(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	first := worked(t, a, draft(t, a, nil))
	r, err := a.Run(ctx, first)
	require.NoError(t, err)
	id := r.Deployment
	const host, mark = "contacts-host-1", "/var/lib/contacts/mark"
	on(t, a, id, host, "echo first > "+mark)
	o, err := a.Taking(ctx, id, snapshots.TakeRequest{Name: "one", Of: []string{"register"}}, time.Now())
	s := carried(t, a, o, err)
	assert.Len(t, s.Steps, 2)
	_, err = a.Taking(ctx, id, snapshots.TakeRequest{Name: "one"}, time.Now())
	require.ErrorContains(t, err, "has a snapshot one already")
	_, err = a.Taking(ctx, id, snapshots.TakeRequest{Name: "Not so"}, time.Now())
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	_, err = a.Taking(ctx, id, snapshots.TakeRequest{Of: []string{"registrar"}}, time.Now())
	require.ErrorContains(t, err, `no instance, volume or tier "registrar"`)
	_, err = a.RollingBack(ctx, lastOfRuns(t, a, id))
	require.ErrorContains(t, err, "andamio snapshot drop flood-watch one takes it away")

	on(t, a, id, host, "echo second > "+mark)
	o, err = a.Restoring(ctx, id, snapshots.RestoreRequest{Set: "one"}, time.Now())
	require.NoError(t, err)
	assert.Empty(t, o.Plan.Losses(), "what is there now is kept before")
	s = carried(t, a, o, err)
	assert.Equal(t, "first", on(t, a, id, host, "cat "+mark))
	for i := range s.Steps {
		assert.NotContains(t, s.Steps[i].Resource, "map", "nothing else is touched")
	}
	all, err := a.Snapshots(ctx, id)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []any{"one", "", true, true}, []any{all[0].Name, all[0].Parent, all[0].Whole, all[0].Head})
	assert.Equal(t, []any{"one", true, false}, []any{all[1].Parent, all[1].Barrier, all[1].Head})
	assert.Positive(t, all[0].Held)
	assert.Positive(t, all[0].PerHour)
	d, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	back, err := a.RollingBack(ctx, d.Last().ID)
	carried(t, a, back, err)
	assert.Equal(t, "second", on(t, a, id, host, "cat "+mark), "the inverse of restoring")

	beside, err := a.Beside(ctx, id, "one", "rehearsal")
	carried(t, a, beside, err)
	twin, err := a.Taken(ctx, "rehearsal")
	require.NoError(t, err)
	require.NotNil(t, twin)
	assert.Equal(t, "first", on(t, a, twin.ID, host, "cat "+mark), "the volume holds it")
	assert.Equal(t, "second", on(t, a, id, host, "cat "+mark), "and this one was not touched")
	again, err := a.Changed(ctx, twin.ID, wantedOf(t, a, twin.ID), "again")
	require.NoError(t, err)
	assert.Empty(t, again.Plan.Steps, "nothing is restored twice")
	_, err = a.Beside(ctx, id, "two", "other")
	require.ErrorContains(t, err, `no snapshot "two"`)

	lost, err := a.Restoring(ctx, id, snapshots.RestoreRequest{Set: "one", Of: []string{"contacts-vol-1"}, Discard: true}, time.Now())
	require.NoError(t, err)
	assert.Contains(t, plan.Losing(lost.Plan), "What was written to contacts-vol-1 since one goes")
	carried(t, a, lost, err)
	assert.Equal(t, "first", on(t, a, id, host, "cat "+mark))
	drop, err := a.DroppingSnapshot(ctx, id, "one")
	require.NoError(t, err)
	assert.Contains(t, plan.Losing(drop.Plan), "The snapshot one of contacts-")
	carried(t, a, drop, err)
	_, err = a.Restoring(ctx, id, snapshots.RestoreRequest{Set: "one"}, time.Now())
	require.ErrorContains(t, err, `no snapshot "one"`)
	retire, err := a.Retiring(ctx, id)
	require.NoError(t, err)
	assert.Contains(t, plan.Losing(retire.Plan), "before-", "what is kept goes too")
	carriedTo(t, a, retire, err, run.Retired)
	sites, err := a.Sites()
	require.NoError(t, err)
	for name, at := range sites {
		left, err := at.List(ctx, kinds.Snapshot)
		require.NoError(t, err)
		assert.Empty(t, left, name)
	}
}

func wantedOf(t *testing.T, a *App, id int64) *plan.Plan {
	t.Helper()
	_, p, err := a.DesignOf(ctx, id)
	require.NoError(t, err)
	return p
}

// TestRestoredDisksHoldWhatWasKept keeps and restores all disks of every example with its machines off, and compares each with its snapshot.
func TestRestoredDisksHoldWhatWasKept(t *testing.T) {
	t.Parallel()
	entries, err := os.ReadDir("../../examples")
	require.NoError(t, err)
	for _, e := range entries {
		if _, err := os.Stat("../../examples/" + e.Name() + "/template.yaml"); err != nil {
			continue
		}
		t.Run(e.Name(), func(t *testing.T) {
			t.Parallel()
			a, box := aWorkspace(t, pace)
			at, err := a.Estate(ctx)
			require.NoError(t, err)
			d := templates.NewDraft(example(t, e.Name()), templates.DraftRequest{}, at)
			if d.Plan == nil {
				t.Logf("%s needs inputs", e.Name())
				return
			}
			r, err := a.Run(ctx, worked(t, a, d))
			require.NoError(t, err)
			restoredAlike(t, a, box, r.Deployment)
		})
	}
}

func restoredAlike(t *testing.T, a *App, box *sandbox.Sandbox, id int64) {
	t.Helper()
	o, err := a.Taking(ctx, id, snapshots.TakeRequest{Name: "kept", Barrier: id%2 == 0}, time.Now())
	carried(t, a, o, err)
	off, err := a.Powering(ctx, id, "", false)
	carried(t, a, off, err)
	back, err := a.Restoring(ctx, id, snapshots.RestoreRequest{Set: "kept", Discard: true}, time.Now())
	carried(t, a, back, err)
	d, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	compared := 0
	for i := range d.Stand.Plan.Resources {
		r := &d.Stand.Plan.Resources[i]
		if r.Kind != kinds.Snapshot {
			continue
		}
		kept, err := box.DiskDigest(r.Site, d.Stand.Plan.Known[r.ID]["site.id"])
		require.NoError(t, err)
		disk, err := box.DiskDigest(r.Site, d.Stand.Plan.Known[r.AsSnapshot().Of]["site.id"])
		require.NoError(t, err)
		assert.Equal(t, kept, disk, r.ID)
		compared++
	}
	assert.Positive(t, compared)
	start, err := a.Powering(ctx, id, "", true)
	carried(t, a, start, err)
}

// TestNothingIsKeptThatWhatItNeedsHasNot has a writer number what it writes, at the register first and at what stands on it after, while snapshots are
// taken: what is restored never has a number at the one that the other has not. With a barrier both have the same, or the register one more.
func TestNothingIsKeptThatWhatItNeedsHasNot(t *testing.T) {
	t.Parallel()
	tries := 4
	if n, err := strconv.Atoi(os.Getenv("ANDAMIO_GROUP_TRIES")); err == nil {
		tries = n
	}
	a, _ := aWorkspace(t, 0.003)
	r, err := a.Run(ctx, worked(t, a, draft(t, a, nil)))
	require.NoError(t, err)
	const deep, high, file = "contacts-host-1", "dispatch-host-1", "/opt/number"
	for try := range tries {
		barrier := try%2 == 1
		// What is on is looked up once, since a machine that stands still is said to be off meanwhile.
		low, err := a.FindHost(ctx, deep)
		require.NoError(t, err)
		top, err := a.FindHost(ctx, high)
		require.NoError(t, err)
		write := func(n int) {
			for _, h := range []shells.Host{low, top} {
				_, err := a.Command(ctx, h, fmt.Sprintf("echo %d > %s", n, file), nil, io.Discard, io.Discard)
				assert.NoError(t, err)
			}
		}
		// Both begin with the same number, higher than any before: what the last try restored counts for nothing.
		first := 1_000_000 * (try + 1)
		write(first)
		done := make(chan bool)
		var group sync.WaitGroup
		group.Go(func() {
			for n := first + 1; ; n++ {
				select {
				case <-done:
					return
				default:
					write(n)
				}
			}
		})
		o, err := a.Taking(ctx, r.Deployment, snapshots.TakeRequest{Name: fmt.Sprintf("try-%d", try), Of: []string{deep, high}, Barrier: barrier}, time.Now())
		carried(t, a, o, err)
		close(done)
		group.Wait()
		back, err := a.Restoring(ctx, r.Deployment, snapshots.RestoreRequest{Set: fmt.Sprintf("try-%d", try), Discard: true}, time.Now())
		carried(t, a, back, err)
		number := func(instance string) int {
			n, err := strconv.Atoi(on(t, a, r.Deployment, instance, "cat "+file+" || echo 0"))
			require.NoError(t, err)
			return n
		}
		was, over := number(deep), number(high)
		assert.GreaterOrEqual(t, over, first, "try %d: what was written in this try", try)
		assert.LessOrEqual(t, over, was, "try %d, barrier %v", try, barrier)
		if barrier {
			assert.LessOrEqual(t, was-over, 1, "try %d: both are of one moment", try)
		}
		drop, err := a.DroppingSnapshot(ctx, r.Deployment, fmt.Sprintf("try-%d", try))
		carried(t, a, drop, err)
	}
}

// TestHalfASnapshotIsNone has a site lose its way while a set is taken: it is no snapshot to restore to, and the next change takes it away.
func TestHalfASnapshotIsNone(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	r, err := a.Run(ctx, worked(t, a, draft(t, a, nil)))
	require.NoError(t, err)
	o, err := a.Taking(ctx, r.Deployment, snapshots.TakeRequest{Name: "half", Of: []string{"register"}}, time.Now())
	require.NoError(t, err)
	for i := range o.Plan.Steps { // the second stands on the first, which is of a disk that is not there
		if s := &o.Plan.Steps[i]; s.Resource == change.SnapshotID("contacts-vol-1", "half") {
			plan.Respec(o.Plan.Resource(s.Resource), func(x *plan.SnapshotSpec) { x.Of = "no-such-disk" })
		}
	}
	id, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	_ = a.Work(ctx, id)
	x, err := a.Run(ctx, id)
	require.NoError(t, err)
	require.Equal(t, run.Failed, x.State)
	all, err := a.Snapshots(ctx, r.Deployment)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.False(t, all[0].Whole)
	_, err = a.Restoring(ctx, r.Deployment, snapshots.RestoreRequest{Set: "half"}, time.Now())
	require.ErrorContains(t, err, "no whole snapshot")
	heal, err := a.Changed(ctx, r.Deployment, wantedOf(t, a, r.Deployment), "heal")
	carried(t, a, heal, err)
	all, err = a.Snapshots(ctx, r.Deployment)
	require.NoError(t, err)
	assert.Empty(t, all)
}

func lastOfRuns(t *testing.T, a *App, id int64) int64 {
	t.Helper()
	d, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	return d.Last().ID
}

// TestWhatAnsweredStaysKnown looks what is known of endpoints after a run that touched nothing of them, and after one that switched their machines off.
func TestWhatAnsweredStaysKnown(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	answers := func() (n int) {
		d, err := a.Deployment(ctx, id)
		require.NoError(t, err)
		s, err := a.Picture(ctx, d)
		require.NoError(t, err)
		for i := range s.Resources {
			if s.Resources[i].Answer.Text != "" {
				n++
			}
		}
		return n
	}
	before := answers()
	require.Positive(t, before)
	o, err := a.Taking(ctx, id, snapshots.TakeRequest{Of: []string{"register"}}, time.Now())
	carried(t, a, o, err)
	assert.Equal(t, before, answers(), "a run that asks nobody forgets nothing")
	off, err := a.Powering(ctx, id, "", false)
	carried(t, a, off, err)
	assert.Zero(t, answers(), "what is off answers no more")
}

// TestARestoreThatNeverBeganIsTakenBack has keeping what is there now fail, so that nothing is restored: rolling the run back switches on what it switched off.
func TestARestoreThatNeverBeganIsTakenBack(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	o, err := a.Taking(ctx, id, snapshots.TakeRequest{Name: "one", Of: []string{"register"}}, time.Now())
	carried(t, a, o, err)
	o, err = a.Restoring(ctx, id, snapshots.RestoreRequest{Set: "one"}, time.Now())
	require.NoError(t, err)
	for i := range o.Plan.Resources {
		if r := &o.Plan.Resources[i]; r.Kind == kinds.Snapshot && r.Change == plan.Build {
			plan.Respec(r, func(x *plan.SnapshotSpec) { x.Of = "no-such-disk" })
		}
	}
	runID, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	_ = a.Work(ctx, runID)
	r, err := a.Run(ctx, runID)
	require.NoError(t, err)
	require.Equal(t, run.Failed, r.State)
	_, off := powerOf(t, a, id)
	require.Equal(t, 1, off)
	back, err := a.RollingBack(ctx, runID)
	carried(t, a, back, err)
	_, off = powerOf(t, a, id)
	assert.Zero(t, off)
	sets, err := a.Snapshots(ctx, id)
	require.NoError(t, err)
	require.Len(t, sets, 1, "the half of it that there was is gone")
	assert.Equal(t, "one", sets[0].Name)
}

// TestASnapshotEnds has snapshots be dropped in their time, and not before; one that somebody dropped ends no more.
func TestASnapshotEnds(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	now := time.Now()
	take := func(name string) {
		o, err := a.Taking(ctx, id, snapshots.TakeRequest{Name: name, Of: []string{"register"}}, now)
		carried(t, a, o, err)
	}
	names := func() (out []string) {
		all, err := a.Snapshots(ctx, id)
		require.NoError(t, err)
		for _, s := range all {
			out = append(out, s.Name)
		}
		return out
	}
	take("before-the-flood")
	take("after")
	take("later")
	end := func(set string, in time.Duration) error {
		_, err := a.EndSnapshot(ctx, id, set, now.Add(in), now)
		return err
	}
	assert.Equal(t, fault.NotFound, fault.CodeOf(end("never", time.Hour)))
	assert.Equal(t, fault.Invalid, fault.CodeOf(end("after", -time.Hour)))
	require.NoError(t, end("before-the-flood", 2*time.Hour))
	require.NoError(t, end("after", time.Hour))
	require.NoError(t, end("later", time.Hour))
	terms, err := a.EndSnapshot(ctx, id, "later", time.Time{}, now)
	require.NoError(t, err)
	assert.Len(t, terms.Sets, 2)

	_, err = a.Due(ctx, promise.DueDrop, id, now.Add(30*time.Minute))
	require.NoError(t, err)
	assert.Equal(t, []string{"before-the-flood", "after", "later"}, names(), "their time is not over")
	note, err := a.Due(ctx, promise.DueDrop, id, now.Add(time.Hour))
	require.NoError(t, err)
	assert.Contains(t, note, "dropped after")
	assert.Equal(t, []string{"before-the-flood", "later"}, names())
	kept, err := a.PromisesOf(ctx, id, now)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.WithinDuration(t, now.Add(2*time.Hour), kept[0].Next, time.Second)

	o, err := a.DroppingSnapshot(ctx, id, "before-the-flood")
	carried(t, a, o, err)
	note, err = a.Due(ctx, promise.DueDrop, id, now.Add(2*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, "it was dropped before", note)
	kept, err = a.PromisesOf(ctx, id, now)
	require.NoError(t, err)
	assert.Empty(t, kept, "nothing has an end any more")
	note, err = a.Due(ctx, promise.DueDrop, id, now.Add(3*time.Hour))
	require.NoError(t, err)
	assert.Contains(t, note, "nothing has an end")
	savedDaily(t, a, id, now)
	_, err = a.Due(ctx, promise.DueSave, id, now.Add(time.Minute))
	require.NoError(t, err)
	all := names()
	assert.ErrorContains(t, end(all[len(all)-1], time.Hour), "taken by rule")
}
