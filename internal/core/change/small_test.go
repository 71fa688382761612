package change_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
)

// raised is the scenario as it stands.
func raised(t *testing.T) change.Standing {
	t.Helper()
	p := plantest.Plan(t, "drill")
	s, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	return s
}

// stepsBut are the steps of a plan, but those of some operations.
func stepsBut(p *plan.Plan, ops ...op.Op) (out []string) {
	for i := range p.Steps {
		if !slices.Contains(ops, p.Steps[i].Op) {
			out = append(out, p.Steps[i].ID)
		}
	}
	return out
}

// TestVolumesAreBounded bounds the volumes that are there, as they are not bounded yet, and nothing else.
func TestVolumesAreBounded(t *testing.T) {
	s := raised(t)
	volumes := 0
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		if r.Kind == kinds.Volume {
			volumes++
			s.Plan.Known[r.ID] = map[string]string{"site.id": "v-" + r.ID}
		}
	}
	require.Greater(t, volumes, 1)
	s.Plan.Known["gauge-spool-1"] = nil // which is not there
	for _, c := range []struct {
		l      change.Limiting
		title  string
		io, mb string
	}{
		{change.Limiting{PerSecond: 500, MiBPerSecond: 2.5}, "bound it to 500 reads and writes and 2.5 MiB a second", "500", "2.5"},
		{change.Limiting{PerSecond: 1}, "bound it to 1 reads and writes a second", "1", ""},
		{change.Limiting{MiBPerSecond: 20}, "bound it to 20 MiB a second", "", "20"},
		{change.Limiting{MiBPerSecond: 0.5}, "bound it to 0.5 MiB a second", "", "0.5"},
		{change.Limiting{PerSecond: 1, MiBPerSecond: 1}, "bound it to 1 reads and writes and 1 MiB a second", "1", "1"},
		{change.Limiting{}, "bound it no more", "", ""},
	} {
		for i := range s.Plan.Resources { // as they are bounded otherwise
			if id := s.Plan.Resources[i].ID; s.Plan.Known[id]["site.id"] != "" && s.Plan.Resources[i].Kind == kinds.Volume {
				s.Plan.Known[id][plan.AttrLimited] = plan.Limited("v-"+id, 7, 7)
			}
		}
		p, err := change.Limit(s, c.l, "bound")
		require.NoError(t, err)
		require.NoError(t, p.Check())
		assert.Empty(t, stepsBut(p, op.Mend))
		assert.Len(t, p.Steps, volumes-1)
		for i := range p.Steps {
			x := &p.Steps[i]
			assert.Equal(t, c.title, x.Title)
			assert.Equal(t, map[string]string{plan.MendIOPerSecond: c.io, plan.MendIOMiB: c.mb}, x.Mends)
			r := p.Resource(x.Resource)
			assert.Equal(t, plan.Amend, r.Change)
			assert.Equal(t, []string{c.title}, r.Reasons)
			s.Plan.Known[r.ID][plan.AttrLimited] = plan.Limited("v-"+r.ID, c.l.PerSecond, c.l.MiBPerSecond)
		}
		for i := range p.Resources {
			if r := &p.Resources[i]; r.Kind != kinds.Volume || r.ID == "gauge-spool-1" {
				assert.Equal(t, plan.Keep, r.Change, r.ID)
			}
		}
		assert.Empty(t, c.l.Unlimited(s), "they are bounded so")
		again, err := change.Limit(s, c.l, "bound")
		require.NoError(t, err)
		assert.Empty(t, again.Steps)
	}
}

// TestWhatIsLetGoStays forgets each thing with all of its steps, at no site.
func TestWhatIsLetGoStays(t *testing.T) {
	s := raised(t)
	p, err := change.LetGo(s, "let go")
	require.NoError(t, err)
	require.NoError(t, p.Check())
	assert.Equal(t, "let go", p.Purpose)
	assert.Empty(t, stepsBut(p, op.Clear))
	assert.Len(t, p.Steps, len(s.Plan.Resources))
	for i := range p.Steps {
		x := &p.Steps[i]
		for k := range s.Plan.Steps {
			was := &s.Plan.Steps[k]
			assert.Equal(t, was.Resource == x.Resource, slices.Contains(x.Drops, was.ID), "%s drops %s", x.ID, was.ID)
		}
		assert.Equal(t, plan.Retire, p.Resource(x.Resource).Change)
	}
	assert.NotEqual(t, plan.Retire, s.Plan.Resources[0].Change, "what stood is as it was")
	gone, err := change.Done(s, p)
	require.NoError(t, err)
	assert.Empty(t, gone.Plan.Resources)
	assert.False(t, change.Found(p))
	p.Steps[0].Finds = "thing-7"
	assert.True(t, change.Found(p))
}

// TestNothingIsChanged keeps all that stands, and does nothing.
func TestNothingIsChanged(t *testing.T) {
	s := raised(t)
	p, err := change.Unchanged(s, "look")
	require.NoError(t, err)
	assert.Empty(t, p.Steps)
	assert.Equal(t, "look", p.Purpose)
	for i := range p.Resources {
		assert.Equal(t, plan.Keep, p.Resources[i].Change)
	}
	assert.Len(t, p.Resources, len(s.Plan.Resources))
}

// TestWhatWasLeftBehindIsSwitchedOff fences what a move left on at a site, with what runs on it, and nothing that is off, elsewhere, or was not left behind.
func TestWhatWasLeftBehindIsSwitchedOff(t *testing.T) {
	s := raised(t)
	left := func(id, at string, off, suspended bool) {
		r := *s.Plan.Resource(id)
		r.ID, r.Site, r.Off, r.Suspended = id+"@"+at, at, off, suspended
		s.Plan.Resources = append(s.Plan.Resources, r)
		plan.Reindexed(s.Plan)
	}
	left("contacts-host-1", "presa", false, false)
	left("map-host-1", "presa", true, false)
	left("map-host-2", "presa", true, true)
	left("readings-host-1", "tramonta", false, false)
	p, err := change.Fence(s, "presa", "fence")
	require.NoError(t, err)
	assert.Empty(t, stepsBut(p, op.Halt))
	var halted []string
	for i := range p.Steps {
		halted = append(halted, p.Steps[i].Resource)
		r := p.Resource(p.Steps[i].Resource)
		assert.True(t, r.Off)
		assert.Equal(t, []string{"it serves elsewhere by now"}, r.Reasons)
		assert.Equal(t, plan.Amend, r.Change)
	}
	slices.Sort(halted)
	assert.Equal(t, []string{"contacts-host-1@presa", "map-host-2@presa"}, halted, "one that sleeps may wake")
	for i := range p.Resources {
		if r := &p.Resources[i]; !slices.Contains(halted, r.ID) {
			assert.Equal(t, plan.Keep, r.Change, r.ID)
		}
	}
	none, err := change.Fence(s, "vega", "fence")
	require.NoError(t, err)
	assert.Empty(t, none.Steps, "what stands there was not left behind")
}

// TestCopiesAreDropped takes the copies at a site away, what was kept of them first, and what was shipped for them with the last; those at other sites stay.
func TestCopiesAreDropped(t *testing.T) {
	s := raised(t)
	copied := func(at, set string) {
		p, err := change.Replicate(s, change.Replicating{At: set, Site: at, Disks: []string{"contacts-vol-1", "contacts-host-1"}}, "replicate")
		require.NoError(t, err)
		s, err = change.Done(s, p)
		require.NoError(t, err)
	}
	_, err := change.Unreplicated(s, "presa", "drop")
	require.ErrorContains(t, err, "no copies are kept at presa")
	copied("presa", "t1")
	copied("tramonta", "t2")
	at := func(site string) (copies, snapshots, shipped []string) {
		for i := range s.Plan.Resources {
			r := &s.Plan.Resources[i]
			switch {
			case r.IsCopy() && r.Site == site:
				copies = append(copies, r.ID)
			case r.Kind == kinds.Snapshot && r.Site == site && strings.HasPrefix(r.AsSnapshot().Set, change.CopiedPrefix):
				snapshots = append(snapshots, r.ID)
			case r.Kind == kinds.Snapshot && strings.HasPrefix(r.AsSnapshot().Set, change.ShippedPrefix):
				shipped = append(shipped, r.ID)
			}
		}
		return copies, snapshots, shipped
	}
	drops := func(site string, withShipped bool) {
		t.Helper()
		copies, snapshots, shipped := at(site)
		require.Len(t, copies, 2)
		require.Len(t, snapshots, 2)
		p, err := change.Unreplicated(s, site, "drop")
		require.NoError(t, err)
		require.NoError(t, p.Check())
		assert.Empty(t, stepsBut(p, op.Remove))
		want := append(slices.Clone(copies), snapshots...)
		if withShipped {
			want = append(want, shipped...)
		}
		var gone []string
		for i := range p.Steps {
			gone = append(gone, p.Steps[i].Resource)
			assert.Equal(t, []string{op.Create.On(p.Steps[i].Resource)}, p.Steps[i].Drops)
		}
		assert.ElementsMatch(t, want, gone)
		for _, c := range copies {
			for _, x := range snapshots {
				assert.True(t, comesAfter(p, op.Remove.On(c), op.Remove.On(x)), "%s after %s", c, x)
			}
		}
		assert.Less(t, p.CostPerHour, s.Plan.CostPerHour+1)
		s, err = change.Done(s, p)
		require.NoError(t, err)
		left, _, _ := at(site)
		assert.Empty(t, left)
	}
	drops("presa", false)
	copies, snapshots, _ := at("tramonta")
	assert.Len(t, copies, 2)
	assert.Len(t, snapshots, 2)
	drops("tramonta", true)
	_, _, shipped := at("tramonta")
	assert.Empty(t, shipped)
}

// TestLayersAreMadeOne adds to what commits a move that the layers of disks which were kept apart are made one, of those that stay.
func TestLayersAreMadeOne(t *testing.T) {
	s := raised(t)
	keep := func() *plan.Plan {
		p, err := change.Unchanged(s, "commit")
		require.NoError(t, err)
		return p
	}
	disks := []plan.DiskCopy{{From: "contacts-vol-1", To: "contacts-vol-1"}}
	move := keep()
	add := func(r string, o op.Op, c *plan.Copying) {
		move.Steps = append(move.Steps, plan.Step{ID: o.On(r), Resource: r, Op: o, Copying: c})
	}
	add("contacts-host-1", op.Replicate, &plan.Copying{Disks: disks})
	add("contacts-host-1", op.Finish, &plan.Copying{Disks: disks})
	add("map-host-1", op.Replicate, &plan.Copying{})
	add("map-host-1", op.Finish, &plan.Copying{Consolidate: true}) // was made one with the move
	add("map-host-2", op.Finish, &plan.Copying{})                  // had no rounds
	add("readings-host-1", op.Replicate, &plan.Copying{})
	add("readings-host-1", op.Finish, &plan.Copying{}) // goes with the commit
	add("lake-host-1", op.Replicate, &plan.Copying{})
	add("lake-host-1", op.Finish, &plan.Copying{}) // is not there any more
	plan.Reindexed(move)
	commit := keep()
	commit.Steps = append(commit.Steps, plan.Step{ID: op.Remove.On("readings-host-1"), Resource: "readings-host-1", Op: op.Remove, Site: "vega", Check: plan.Condition{Kind: plan.CheckSite}})
	require.NoError(t, change.Consolidated(commit, move))
	assert.Equal(t, []string{op.Consolidate.On("contacts-host-1")}, stepsBut(commit, op.Remove))
	x := commit.Step(op.Consolidate.On("contacts-host-1"))
	assert.Equal(t, &plan.Copying{From: commit.Resource("contacts-host-1").Site, Disks: disks}, x.Copying)
	assert.Equal(t, commit.Resource("contacts-host-1").Site, x.Site)
}
