package app

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/promise"
	"andamio/internal/sandbox"
	"andamio/internal/service/snapshots"
	"andamio/internal/service/templates"
)

// TestDisksAreCopiedWhereNoSnapshotsAreKept takes, restores, goes back, raises beside and drops at a site that has no snapshots of its own: machines stand still for the copies, the
// inventory agrees, and nothing of it is promised by rule.
func TestDisksAreCopiedWhereNoSnapshotsAreKept(t *testing.T) {
	t.Parallel()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	vega := e.Site("vega")
	vega.Features = append(slices.DeleteFunc(vega.Features, func(f string) bool { return f == "snapshots" }), sandbox.FeatureNoSnapshots)
	a, box := connected(t, e, 0.003)
	id := ofScenario(t, a)
	const host, mark = "contacts-host-1", "/var/lib/contacts/mark"
	on(t, a, id, host, "echo first > "+mark)
	digest := func(disk string) string {
		d, err := a.Deployment(ctx, id)
		require.NoError(t, err)
		out, err := box.DiskDigest("vega", d.Stand.Plan.Known[disk]["site.id"])
		require.NoError(t, err)
		return out
	}
	o, err := a.Taking(ctx, id, snapshots.TakeRequest{Name: "one", Of: []string{"register"}}, time.Now())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(o.Plan.Notes, "\n"), "disks at vega are copied")
	assert.NotNil(t, o.Plan.Step(op.Suspend.On(host)), "its machine stands still, whether or not that was asked for")
	carried(t, a, o, err)
	all, err := a.Snapshots(ctx, id)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.True(t, all[0].Whole && all[0].Barrier)
	assert.Positive(t, all[0].Held)
	assert.False(t, all[0].Taken.IsZero())
	was := digest(change.SnapshotID("contacts-vol-1", "one"))

	on(t, a, id, host, "echo second > "+mark+"; echo more > "+mark+".more")
	o, err = a.Restoring(ctx, id, snapshots.RestoreRequest{Set: "one"}, time.Now())
	carried(t, a, o, err)
	assert.Equal(t, "first", on(t, a, id, host, "cat "+mark))
	assert.NotContains(t, on(t, a, id, host, "ls /var/lib/contacts"), "more", "what came after is gone")
	assert.Equal(t, was, digest(change.SnapshotID("contacts-vol-1", "one")), "it stays as it was")
	back, err := a.RollingBack(ctx, lastOfRuns(t, a, id))
	carried(t, a, back, err)
	assert.Equal(t, "second", on(t, a, id, host, "cat "+mark))
	beside, err := a.Beside(ctx, id, "one", "twin")
	carried(t, a, beside, err)
	twin, err := a.Taken(ctx, "twin")
	require.NoError(t, err)
	assert.Equal(t, "first", on(t, a, twin.ID, host, "cat "+mark))

	_, errs := a.SurveyAll(ctx, false, nil)
	require.NoError(t, errors.Join(errs...))
	inv, err := a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Empty(t, inv.Findings, "copies are snapshots to the inventory too")
	_, err = a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Saved, Saved: &promise.SavedTerms{Keep: 3, Of: []string{"register"},
		When: promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: time.Now().Truncate(time.Minute)}}}, time.Now())
	assert.Equal(t, fault.Refused, fault.CodeOf(err), "%v", err)
	assert.ErrorContains(t, err, "that is done by hand alone")

	gone, err := a.DroppingSnapshot(ctx, id, "one")
	carried(t, a, gone, err)
	all, err = a.Snapshots(ctx, id)
	require.NoError(t, err)
	for _, s := range all {
		assert.True(t, strings.HasPrefix(s.Name, "before-"), s.Name)
	}
}
