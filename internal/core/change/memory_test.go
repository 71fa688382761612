package change_test

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
)

// remembered is the scenario with a set x that keeps the memory of the register's machine.
func remembered(t *testing.T) change.Standing {
	t.Helper()
	p := plantest.Plan(t, "drill")
	raised, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	raised.Plan.Known["contacts-host-1"] = map[string]string{"site.id": "m-1"}
	taken, err := change.Snapshot(raised, change.Snapping{Set: "x", Disks: []string{"contacts-vol-1"}, Memory: true, Cost: func(string, float64) money.Amount { return 1000 }}, "snapshot")
	require.NoError(t, err)
	require.NoError(t, taken.Check())
	for _, id := range []string{"contacts-host-1.x", "contacts-vol-1.x", "contacts-host-1.memory.x"} {
		require.NotNil(t, taken.Resource(id), "with memory all disks of a machine are kept")
		assert.True(t, comesAfter(taken, op.Create.On(id), op.Suspend.On("contacts-host-1")) && comesAfter(taken, op.Boot.On("contacts-host-1"), op.Create.On(id)), id)
		assert.Equal(t, 3, taken.Resource(id).AsSnapshot().Parts)
		assert.Equal(t, money.Amount(1000), taken.Resource(id).CostPerHour)
	}
	assert.InDelta(t, p.Resource("contacts-host-1").AsInstance().MemoryGiB, taken.Resource("contacts-host-1.memory.x").DiskGiB(), 0)
	assert.False(t, slices.ContainsFunc(taken.Steps, func(s plan.Step) bool { return s.Script != nil }), "what software has not written is in its memory")
	kept, err := change.Done(raised, taken)
	require.NoError(t, err)
	assert.True(t, change.KeepsMemory(kept, "x"))
	assert.False(t, change.KeepsMemory(kept, "y"))
	return kept
}

// TestMachinesGoOnFromMemory holds in which order disks and memory are had back, that no script is run for it, and that what stands after is what stood before.
func TestMachinesGoOnFromMemory(t *testing.T) {
	kept := remembered(t)
	p, err := change.Recalled(kept, change.Restoring{Set: "x", Before: &change.Snapping{Set: "before"}}, "restore")
	require.NoError(t, err)
	require.NoError(t, p.Check())
	order := []string{op.Suspend.On("contacts-host-1"), op.Create.On("contacts-host-1.memory.before"), op.Halt.On("contacts-host-1"), op.Restore.On("contacts-vol-1"), op.Recall.On("contacts-host-1")}
	for i := range order[1:] {
		assert.True(t, comesAfter(p, order[i+1], order[i]), order[i+1])
	}
	looks := 0
	for i := range p.Steps {
		s := &p.Steps[i]
		assert.Nil(t, s.Script, s.ID)
		if s.Op == op.Check || s.Op == op.Answer {
			looks++
			assert.True(t, comesAfter(p, s.ID, op.Recall.On("contacts-host-1")), "it is looked whether it serves")
		}
	}
	assert.NotZero(t, looks)
	after, err := change.Done(kept, p)
	require.NoError(t, err)
	assert.False(t, after.Plan.Resource("contacts-host-1").Off)
	stood := func(s change.Standing) map[string]bool {
		out := map[string]bool{}
		for i := range s.Plan.Steps {
			if st := &s.Plan.Steps[i]; s.Plan.Resource(st.Resource).Kind != kinds.Snapshot {
				out[st.ID] = true
			}
		}
		return out
	}
	assert.Equal(t, stood(kept), stood(after))
	again, err := change.Recalled(after, change.Restoring{Set: "before"}, "restore")
	require.NoError(t, err, "and back")
	require.NoError(t, again.Check())
}

// TestWhatCannotGoOnFromMemoryIsSaid asks for what cannot be, each with its reason and with what can.
func TestWhatCannotGoOnFromMemoryIsSaid(t *testing.T) {
	kept := remembered(t)
	const host, only = "contacts-host-1", "restore disks only"
	spec := func(f func(*plan.SnapshotSpec)) func(*change.Standing) {
		return func(s *change.Standing) { plan.Respec(s.Plan.Resource(host+".memory.x"), f) }
	}
	for _, c := range []struct {
		name  string
		alter func(s *change.Standing)
		r     change.Restoring
		says  []string
	}{
		{"another set", func(*change.Standing) {}, change.Restoring{Set: "y"}, []string{`no whole snapshot "y"`}},
		{"one disk of two", func(*change.Standing) {}, change.Restoring{Set: "x", Disks: []string{"contacts-vol-1"}}, []string{"without all of its disks", "disks only"}},
		{"off", func(s *change.Standing) { s.Plan.Resource(host).Off = true }, change.Restoring{Set: "x"}, []string{host + " is off", "switch it on first", only}},
		{"maybe off", func(s *change.Standing) { s.Unsure = map[string]bool{op.Halt.On(host): true} }, change.Restoring{Set: "x"}, []string{"not known", only}},
		{"maybe not started", func(s *change.Standing) { s.Unsure = map[string]bool{op.Start.On("contacts-1"): true} }, change.Restoring{Set: "x"}, []string{"not known", only}},
		{"built anew", func(s *change.Standing) { s.Plan.Known[host] = map[string]string{"site.id": "m-2"} }, change.Restoring{Set: "x"}, []string{"is another by now", only}},
		{"other cores", func(s *change.Standing) {
			plan.Respec(s.Plan.Resource(host), func(v *plan.InstanceSpec) { v.Cores++ })
		}, change.Restoring{Set: "x"}, []string{"is another by now", only}},
		{"other memory", func(s *change.Standing) {
			plan.Respec(s.Plan.Resource(host), func(v *plan.InstanceSpec) { v.MemoryGiB *= 2 })
		}, change.Restoring{Set: "x"}, []string{"is another by now", only}},
		{"other software", func(s *change.Standing) { s.Plan.Scripts[s.Plan.Step(op.Start.On("contacts-1")).Script.Path] += "\n" }, change.Restoring{Set: "x"}, []string{"is another by now", only}},
		{"restored since", func(s *change.Standing) {
			s.Plan.Known[host] = map[string]string{"site.id": "m-1", change.AttrRestored: "y", change.AttrRestoredAt: "2026-11-30T10:00:00Z"}
		}, change.Restoring{Set: "x"}, nil},
		{"taken before", func(*change.Standing) {}, change.Restoring{Set: "x", Before: &change.Snapping{Set: "x"}}, []string{"already"}},
		{"another's spec", spec(func(v *plan.SnapshotSpec) { v.Holds = nil }), change.Restoring{Set: "x"}, []string{"is another by now"}},
	} {
		s := kept
		q := *kept.Plan
		q.Resources, q.Known, q.Scripts = slices.Clone(q.Resources), maps.Clone(q.Known), maps.Clone(q.Scripts)
		s.Plan = plan.Reindexed(&q)
		c.alter(&s)
		s.Plan = plan.Reindexed(s.Plan)
		_, err := change.Recalled(s, c.r, "restore")
		if c.says == nil {
			assert.NoError(t, err, c.name)
		}
		for _, says := range c.says {
			assert.ErrorContains(t, err, says, c.name)
		}
	}
}

// TestWhatWasOffHasNoMemory takes two machines of which one is off: it stays off when the other goes on, and has to be off for that.
func TestWhatWasOffHasNoMemory(t *testing.T) {
	p := plantest.Plan(t, "drill")
	const host, other = "contacts-host-1", "dispatch-host-1"
	does := func(from change.Standing, next *plan.Plan, err error) change.Standing {
		t.Helper()
		require.NoError(t, err)
		out, err := change.Done(from, next)
		require.NoError(t, err)
		return out
	}
	power := func(from change.Standing, off bool) change.Standing {
		next, err := change.Compile(from, change.Rest(p, func(r *plan.Resource) bool { return off && r.ID == host }), "power")
		return does(from, next, err)
	}
	stopped := power(does(change.Nothing(p), p, nil), true)
	taken, err := change.Snapshot(stopped, change.Snapping{Set: "z", Disks: []string{host, other}, Memory: true}, "snapshot")
	stopped = does(stopped, taken, err)
	assert.Nil(t, stopped.Plan.Resource(change.MemoryID(host, "z")), "what is off has nothing in memory")
	back, err := change.Recalled(stopped, change.Restoring{Set: "z"}, "restore")
	require.NoError(t, err)
	assert.NotNil(t, back.Step(op.Recall.On(other)))
	assert.Nil(t, back.Step(op.Recall.On(host)))
	_, err = change.Recalled(stopped, change.Restoring{Set: "z", Disks: []string{host, "contacts-vol-1"}}, "restore")
	require.ErrorContains(t, err, "keeps no memory of these")
	_, err = change.Recalled(power(stopped, false), change.Restoring{Set: "z"}, "restore")
	require.ErrorContains(t, err, host+" was off when z was taken, and is on: switch it off first")
}
