package change_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/golden"
)

// packed is a machine whose disks are filled from a package that is lifted before, with an interface and a script on it, as cores and cut say.
func packed(t *testing.T, cores int, edit func(p *plan.Plan)) *plan.Plan {
	t.Helper()
	p := &plan.Plan{Version: plan.Version, Name: "well", Currency: "cr", Inputs: map[string]any{}, Services: []plan.Service{}, Scripts: map[string]string{"s.sh": "true"}, Sites: []plan.Site{{Name: "vega", Kind: "private", Title: "vega"}}}
	thing := func(id string, kind kinds.Kind, spec plan.Spec) {
		p.Resources = append(p.Resources, plan.Resource{ID: id, Node: id, Title: id, Kind: kind, Site: "vega", Zone: "a", Spec: spec})
	}
	step := func(s plan.Step, after ...string) string {
		s.ID, s.Site, s.Seconds, s.After = s.Op.For(s.Resource, s.Volume), "vega", 10, after
		s.Title = string(s.Op)
		if s.Check.Kind == "" {
			s.Check = plan.Condition{Kind: plan.CheckSite}
		}
		p.Steps = append(p.Steps, s)
		return s.ID
	}
	thing("lan", kinds.Network, plan.NetworkSpec{Label: "lan"})
	thing("depths", kinds.Volume, plan.VolumeSpec{DiskGiB: 1, Label: "depths"})
	thing("well", kinds.Instance, plan.InstanceSpec{Hostname: "well", Cores: cores, MemoryGiB: 1, DiskGiB: 4, Image: "debian-12", Asleep: true})
	thing("nic", kinds.Interface, plan.InterfaceSpec{Instance: "well", Network: "lan"})
	thing("box", kinds.Object, plan.NoSpec{})
	p.Resources = append(p.Resources, plan.Resource{ID: "pump", Node: "pump", Title: "pump", Kind: kinds.Software, Site: "vega", On: "well", StandsOn: []string{"well"}, Spec: plan.SoftwareSpec{}})
	lan := step(plan.Step{Resource: "lan", Op: op.Create})
	box := step(plan.Step{Resource: "box", Op: op.Create, Filling: &plan.Filling{File: "well.ova", SHA256: "00", Bytes: 9}})
	well := step(plan.Step{Resource: "well", Op: op.Create})
	depths := step(plan.Step{Resource: "depths", Op: op.Create})
	attach := step(plan.Step{Resource: "well", Op: op.Attach, Volume: "depths", Location: "/srv"}, well, depths)
	plug := step(plan.Step{Resource: "nic", Op: op.Plug}, well, lan)
	fill := step(plan.Step{Resource: "well", Op: op.Fill, Filling: &plan.Filling{File: "well.ova", SHA256: "00", Bytes: 9, Object: "box", Disks: []string{"well", "depths"}}}, attach, box)
	script := step(plan.Step{Resource: "pump", Op: op.Create, Script: &plan.Script{Path: "s.sh"}, Check: plan.Condition{Kind: plan.CheckExit}}, fill, plug)
	step(plan.Step{Resource: "pump", Op: op.Start, Script: &plan.Script{Path: "s.sh"}, Check: plan.Condition{Kind: plan.CheckExit}}, script)
	if edit != nil {
		edit(p)
	}
	require.NoError(t, plan.Reindexed(p).Arrange())
	return p
}

// TestWhatIsFilledFromAPackageIsAsItWas writes down what is done to a machine whose disks were written from a package: it is built asleep, filled once, and what changes afterwards fills it no more.
func TestWhatIsFilledFromAPackageIsAsItWas(t *testing.T) {
	wanted := packed(t, 1, nil)
	change1 := func(from change.Standing, to *plan.Plan) *plan.Plan {
		t.Helper()
		p, err := change.Compile(from, to, "change")
		require.NoError(t, err)
		return p
	}
	write := func(name string, p *plan.Plan) {
		t.Helper()
		golden.Is(t, "testdata/filled-"+name+".txt", written(p))
	}
	raise := change1(change.Nothing(wanted), wanted)
	write("raise", raise)
	stand, err := change.Done(change.Nothing(wanted), raise)
	require.NoError(t, err)
	assert.Empty(t, change1(stand, wanted).Steps)
	off := change.Rest(wanted, func(r *plan.Resource) bool { return r.ID == "well" })
	write("raise-off", change1(change.Nothing(wanted), off))
	write("off", change1(stand, off))
	write("larger", change1(stand, packed(t, 2, nil)))
	write("another", change1(stand, packed(t, 1, func(p *plan.Plan) {
		plan.Respec(p.Resource("well"), func(s *plan.InstanceSpec) { s.Image = "debian-13" })
	})))
	write("without-volume", change1(stand, packed(t, 1, func(p *plan.Plan) {
		p.Resources = p.Resources[:0:0]
		q := packed(t, 1, nil)
		for _, r := range q.Resources {
			if r.ID != "depths" {
				p.Resources = append(p.Resources, r)
			}
		}
		var steps []plan.Step
		for _, s := range q.Steps {
			if s.Resource == "depths" || s.Volume == "depths" {
				continue
			}
			if s.Op == op.Fill {
				s.Filling.Disks, s.After = []string{"well"}, []string{op.Create.On("well"), op.Create.On("box")}
			}
			steps = append(steps, s)
		}
		p.Steps = steps
	})))
	write("retire", change1(stand, change.Nothing(stand.Plan).Plan))
	for _, d := range []change.Deviation{{Resource: "well", Verb: change.Rebuild}, {Resource: "box", Verb: change.Rebuild}, {Resource: "depths", Verb: change.Rebuild}, {Resource: "well", Verb: change.GiveUp}, {Resource: "box", Verb: change.GiveUp}} {
		p, err := change.Settle(stand, []change.Deviation{d}, "settle")
		require.NoError(t, err)
		write("settle-"+d.Resource+"-"+string(d.Verb), p)
		if d.Resource == "well" && d.Verb == change.Rebuild {
			assert.Equal(t, []string{"depths"}, p.Step(op.Fill.On("well")).Filling.Keep, "what was written on it since is in no package")
		}
	}
	declared, err := change.Declared(wanted, []change.Deviation{{Resource: "well", Verb: change.Accept, Seen: map[string]string{"cores": "4"}}, {Resource: "box", Verb: change.GiveUp}, {Resource: "nobody", Verb: change.GiveUp}})
	require.NoError(t, err)
	assert.Empty(t, declared.Step(op.Fill.On("well")).Filling.Object, "its package is not kept at the site any more")
	assert.Equal(t, "box", wanted.Step(op.Fill.On("well")).Filling.Object)
	given, err := change.Settle(stand, []change.Deviation{{Resource: "box", Verb: change.GiveUp}}, "settle")
	require.NoError(t, err)
	without, err := change.Done(stand, given)
	require.NoError(t, err)
	require.Empty(t, without.Plan.Step(op.Fill.On("well")).Filling.Object)
	left, err := change.Declared(wanted, []change.Deviation{{Resource: "box", Verb: change.GiveUp}})
	require.NoError(t, err)
	assert.Empty(t, change1(without, left).Steps, "the machine has what it was filled with")
	golden.Is(t, "testdata/filled-declared.txt", written(declared)+stands(change.Standing{Plan: declared}))
	golden.Is(t, "testdata/filled-stands.txt", stands(stand))

	// A fill that broke off: whether the disks were written is not known.
	s := run.New(raise)
	s.Apply(run.Event{Seq: 1, Kind: run.RunStarted, At: at})
	for i := range s.Steps {
		st := &s.Steps[i]
		switch st.Op {
		case op.Fill:
			st.Status, st.Started, st.Ended = run.Stopped, at, at
		case op.Boot, op.Plug:
		default:
			if st.Script == nil {
				st.Status, st.Started, st.Ended = run.Standing, at, at
			}
		}
	}
	half, err := change.After(change.Nothing(wanted), s)
	require.NoError(t, err)
	goneOn := change1(half, wanted)
	write("gone-on-with", goneOn)
	assert.Contains(t, goneOn.Step(op.Boot.On("well")).After, op.Fill.On("well"), "it does not start from disks that are being written")
}

// TestWhatIsPutTogetherIsAsItWas writes down what is done beside each other, what was removed and is built again, and what is made one after a move.
func TestWhatIsPutTogetherIsAsItWas(t *testing.T) {
	r := inventory.Record{Class: kinds.Instance, Name: "try", Site: "presa", Attributes: map[string]string{"cores": "2", "memory_gib": "4", "image": "debian-12", "zone": "hall", "cost_per_hour": "0.5"}}
	v := inventory.Record{Class: kinds.Volume, Name: "disk", Site: "vega", Attributes: map[string]string{"disk_gib": "7"}}
	back, err := change.Restore([]inventory.Record{r, v, {Class: kinds.Network, Name: "net", Site: "presa", Attributes: map[string]string{"cidr": "10.0.0.0/24"}}}, "cr")
	require.NoError(t, err)
	golden.Is(t, "testdata/restore-removed.txt", written(back)+stands(change.Standing{Plan: back}))
	other := packed(t, 1, nil)
	other.Purpose, back.Purpose = "raise", "undo"
	both, err := change.Beside(other, back)
	require.NoError(t, err)
	golden.Is(t, "testdata/beside.txt", both.Purpose+"\n"+written(both)+stands(change.Standing{Plan: both}))
	nothing := change.Nothing(other).Plan
	alone, err := change.Beside(nothing, back)
	require.NoError(t, err)
	assert.Equal(t, "undo", alone.Purpose)

	stand := raised(t)
	to, err := migrate.Relocate(stand.Plan, scenarioEstate(t), []migrate.Choice{{Instance: "contacts-host-1", Site: "alisio-sur"}}, nil)
	require.NoError(t, err)
	for _, c := range []struct {
		name string
		m    change.Moving
		adds bool
	}{{"warm", change.Moving{Mode: change.Warm}, true}, {"consolidated", change.Moving{Mode: change.Warm, Copying: plan.Copying{Consolidate: true}}, false}} {
		c.m.Instances = []string{"contacts-host-1"}
		move, whole, err := change.Move(stand, to, c.m, "move")
		require.NoError(t, err)
		there, err := change.Done(stand, move)
		require.NoError(t, err)
		commit, err := change.Compile(there, migrate.WithoutKept(whole, move.Renames), "commit")
		require.NoError(t, err)
		before := len(commit.Steps)
		require.NoError(t, change.Consolidated(commit, move))
		assert.Equal(t, c.adds, len(commit.Steps) > before, c.name)
		golden.Is(t, "testdata/made-one-"+c.name+".txt", written(commit))
		retire, err := change.Compile(there, change.Nothing(there.Plan).Plan, "retire")
		require.NoError(t, err)
		before = len(retire.Steps)
		require.NoError(t, change.Consolidated(retire, move))
		assert.Len(t, retire.Steps, before, "what is removed is not made one")
	}
}
