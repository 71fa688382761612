package change_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
)

// comesAfter reports that a step comes after another, through others.
func comesAfter(p *plan.Plan, id, other string) bool {
	s := p.Step(id)
	return slices.ContainsFunc(s.After, func(a string) bool { return a == other || comesAfter(p, a, other) })
}

// TestWhatStandsHighestIsTakenFirst takes snapshots of the scenario as it was raised, and after each of two tiers was switched off and on by itself: what a
// dispatcher depends on is taken after it, whichever was started last.
func TestWhatStandsHighestIsTakenFirst(t *testing.T) {
	p := plantest.Plan(t, "drill")
	stands, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	look := func(when string) {
		taken, err := change.Snapshot(stands, change.Snapping{Set: "x", Disks: []string{"contacts-host-1", "dispatch-host-1"}}, "snapshot")
		require.NoError(t, err)
		require.NoError(t, taken.Check())
		high, deep := op.Create.On("dispatch-host-1.x"), op.Create.On("contacts-host-1.x")
		assert.True(t, comesAfter(taken, deep, high), when)
		assert.True(t, comesAfter(taken, op.Create.On("contacts-vol-1.x"), high), when)
		still, err := change.Snapshot(stands, change.Snapping{Set: "x", Disks: []string{"contacts-host-1", "dispatch-host-1"}, Barrier: true}, "snapshot")
		require.NoError(t, err)
		for _, machine := range []string{"contacts-host-1", "dispatch-host-1"} {
			assert.True(t, comesAfter(still, deep, op.Suspend.On(machine)) && comesAfter(still, high, op.Suspend.On(machine)), "%s: all stand still first", when)
			assert.True(t, comesAfter(still, op.Boot.On(machine), deep) && comesAfter(still, op.Boot.On(machine), high), "%s: until all is taken", when)
		}
	}
	look("raised")
	for _, tier := range []string{"dispatch-host", "contacts-host"} {
		for _, off := range []bool{true, false} {
			turned, err := change.Compile(stands, change.Rest(p, func(r *plan.Resource) bool { return off && r.Node == tier }), "power")
			require.NoError(t, err)
			require.NotEmpty(t, turned.Steps)
			stands, err = change.Done(stands, turned)
			require.NoError(t, err)
		}
		look(tier + " was off and on")
	}
}

// TestWhatCannotBeRestoredIsSaid asks for snapshots and restores that cannot be, each with its reason.
func TestWhatCannotBeRestoredIsSaid(t *testing.T) {
	p := plantest.Plan(t, "drill")
	stands, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	for _, c := range []struct{ of, says string }{{"nobody", "is no instance and no volume"}, {"contacts-1", "is no instance and no volume"}} {
		_, err := change.Snapshot(stands, change.Snapping{Set: "x", Disks: []string{c.of}}, "snapshot")
		assert.ErrorContains(t, err, c.says)
	}
	unsure := stands
	unsure.Unsure = map[string]bool{op.Create.On("contacts-vol-1"): true}
	_, err = change.Snapshot(unsure, change.Snapping{Set: "x", Disks: []string{"contacts-vol-1"}}, "snapshot")
	require.ErrorContains(t, err, "whether contacts-vol-1 is whole is not known")
	taken, err := change.Snapshot(stands, change.Snapping{Set: "x", Disks: []string{"contacts-host-1"}}, "snapshot")
	require.NoError(t, err)
	kept, err := change.Done(stands, taken)
	require.NoError(t, err)
	_, err = change.Snapshot(kept, change.Snapping{Set: "x", Disks: []string{"contacts-vol-1"}}, "snapshot")
	require.ErrorContains(t, err, "there is a snapshot x of contacts-vol-1 already")
	for _, c := range []struct {
		alter func(s *change.Standing)
		r     change.Restoring
		says  string
	}{
		{func(*change.Standing) {}, change.Restoring{Set: "y"}, `no whole snapshot "y"`},
		{func(*change.Standing) {}, change.Restoring{Set: "x", Disks: []string{"readings-vol-1"}}, "keeps nothing of readings-vol-1"},
		{func(*change.Standing) {}, change.Restoring{Set: "x", Before: &change.Snapping{Set: "x"}}, "already"},
		{func(s *change.Standing) { s.Plan.Resource("contacts-vol-1").Site = "presa" }, change.Restoring{Set: "x"}, "contacts-vol-1 is at presa by now"},
		{func(s *change.Standing) {
			plan.Respec(s.Plan.Resource("contacts-vol-1"), func(v *plan.VolumeSpec) { v.DiskGiB = 1 })
		}, change.Restoring{Set: "x"}, "smaller than what was kept"},
		{func(s *change.Standing) { s.Unsure = map[string]bool{op.Create.On("contacts-vol-1.x"): true} }, change.Restoring{Set: "x"}, "no whole snapshot"},
		{func(s *change.Standing) {
			plan.Respec(s.Plan.Resource("contacts-host-1.x"), func(v *plan.SnapshotSpec) { v.Holds = map[string]string{"gone-1": "as it was"} })
		}, change.Restoring{Set: "x"}, "gone-1 was on contacts-host-1 then and is not any more"},
	} {
		s := kept
		q := *kept.Plan
		q.Resources = slices.Clone(q.Resources)
		s.Plan = plan.Reindexed(&q)
		c.alter(&s)
		_, err := change.Restored(s, p, c.r, "restore")
		assert.ErrorContains(t, err, c.says)
	}
	_, err = change.Dropped(kept, "y", "drop")
	require.ErrorContains(t, err, `no snapshot "y"`)
	gone, err := change.Dropped(kept, "x", "drop")
	require.NoError(t, err)
	assert.Len(t, gone.Losses(), 2)
	after, err := change.Done(kept, gone)
	require.NoError(t, err)
	assert.False(t, slices.ContainsFunc(after.Plan.Resources, func(r plan.Resource) bool { return r.Kind == kinds.Snapshot }))
}
