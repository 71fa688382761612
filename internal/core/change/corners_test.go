package change_test

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/golden"
)

// otherwise is what stands, with its plan as somebody makes it.
func otherwise(s change.Standing, as func(s *change.Standing)) change.Standing {
	q := *s.Plan
	q.Resources, q.Known, q.Scripts, q.Steps = slices.Clone(q.Resources), maps.Clone(q.Known), maps.Clone(q.Scripts), slices.Clone(q.Steps)
	s.Plan, s.Unsure = plan.Reindexed(&q), maps.Clone(s.Unsure)
	if s.Unsure == nil {
		s.Unsure = map[string]bool{}
	}
	as(&s)
	s.Plan = plan.Reindexed(s.Plan)
	return s
}

// TestWhatIsAcceptedIsDeclared takes over each thing that can be seen of a resource, in what stands and in what is wanted from then on, and lets be what is no number.
func TestWhatIsAcceptedIsDeclared(t *testing.T) {
	stand := raised(t)
	const host, volume, port = "contacts-host-1", "contacts-vol-1", "contacts-port-1"
	for _, c := range []struct {
		resource, name, seen, want string
		is                         func(r *plan.Resource, known map[string]string) any
	}{
		{host, "cores", "2", "2", func(r *plan.Resource, _ map[string]string) any { return r.AsInstance().Cores }},
		{host, "cores", "many", "4", func(r *plan.Resource, _ map[string]string) any { return r.AsInstance().Cores }},
		{host, "memory_gib", "8.5", "8.5", func(r *plan.Resource, _ map[string]string) any { return r.AsInstance().MemoryGiB }},
		{host, "disk_gib", "40", "40", func(r *plan.Resource, _ map[string]string) any { return r.AsInstance().DiskGiB }},
		{volume, "disk_gib", "100", "100", func(r *plan.Resource, _ map[string]string) any { return r.AsVolume().DiskGiB }},
		{volume, "disk_gib", "large", "80", func(r *plan.Resource, _ map[string]string) any { return r.AsVolume().DiskGiB }},
		{host, "size", "c8-32", "c8-32", func(r *plan.Resource, _ map[string]string) any { return r.AsInstance().Size }},
		{host, "zone", "south", "south", func(r *plan.Resource, _ map[string]string) any { return r.Zone }},
		{port, "inside_address", "10.20.5.9", "10.20.5.9", func(r *plan.Resource, _ map[string]string) any { return r.AsInterface().Address }},
		{port, "address", "127.8.0.9", "127.8.0.9", func(_ *plan.Resource, known map[string]string) any { return known["address"] }},
		{port, "mac", "02:00:5e:00:53:09", "02:00:5e:00:53:09", func(_ *plan.Resource, known map[string]string) any { return known["mac"] }},
		{host, "provider_id", "vega-9", "vega-9", func(_ *plan.Resource, known map[string]string) any { return known["site.id"] }},
		{host, "colour", "green", "4", func(r *plan.Resource, _ map[string]string) any { return r.AsInstance().Cores }},
	} {
		d := []change.Deviation{{Resource: c.resource, Verb: change.Accept, Seen: map[string]string{c.name: c.seen}}}
		p, err := change.Settle(stand, d, "settle")
		require.NoError(t, err, c.name)
		now, err := change.Done(stand, p)
		require.NoError(t, err, c.name)
		got := fmt.Sprint(c.is(now.Plan.Resource(c.resource), p.Known[c.resource]))
		assert.Equal(t, c.want, got, "%s of %s stands as", c.name, c.resource)
		assert.Equal(t, []string{op.Accept.On(c.resource)}, stepsBut(p), "%s: nothing is changed for that", c.name)
		wanted, err := change.Declared(stand.Plan, d)
		require.NoError(t, err, c.name)
		if c.name != "address" && c.name != "mac" && c.name != "provider_id" {
			assert.Equal(t, c.want, fmt.Sprint(c.is(wanted.Resource(c.resource), nil)), "%s of %s is wanted as", c.name, c.resource)
		}
		assert.Equal(t, "4", fmt.Sprint(stand.Plan.Resource(host).AsInstance().Cores), "what stood stays as it was")
	}
	moved, err := change.Declared(stand.Plan, []change.Deviation{{Resource: volume, Verb: change.Accept, Seen: map[string]string{"site": "presa", "disk_gib": "90"}}})
	require.NoError(t, err)
	assert.Equal(t, "presa", moved.Resource(volume).Site)
	assert.Equal(t, "90 GiB", moved.Resource(volume).Detail)
	none, err := change.Declared(nil, []change.Deviation{{Resource: volume, Verb: change.Accept}})
	require.NoError(t, err)
	assert.Nil(t, none, "nothing is wanted")
	same, err := change.Declared(stand.Plan, []change.Deviation{{Resource: "lake", Verb: change.GiveUp}, {Resource: volume, Verb: change.Rebuild}})
	require.NoError(t, err)
	assert.Len(t, same.Resources, len(stand.Plan.Resources))
}

// TestWhatIsGivenUpIsDeclaredNoMore takes out of a design what is given up, and what hangs on it, and has the rest come after what that came after.
func TestWhatIsGivenUpIsDeclaredNoMore(t *testing.T) {
	stand := raised(t)
	for _, id := range []string{"contacts-vol-1", "contacts-host-1", "contacts-lan@vega", "contacts-1"} {
		require.NotNil(t, stand.Plan.Resource(id), id)
		p, err := change.Declared(stand.Plan, []change.Deviation{{Resource: id, Verb: change.GiveUp}})
		require.NoError(t, err, id)
		assert.Nil(t, p.Resource(id))
		assert.NotNil(t, stand.Plan.Resource(id), "what stood stays as it was")
		text := ""
		for i := range p.Resources {
			text += fmt.Sprintln(p.Resources[i].ID, p.Resources[i].StandsOn)
		}
		for i := range p.Steps {
			text += writtenStep(&p.Steps[i])
			for _, a := range p.Steps[i].After {
				assert.NotNil(t, p.Step(a), "%s comes after %s", p.Steps[i].ID, a)
			}
		}
		golden.Is(t, "testdata/without-"+id+".txt", text)
	}
}

// relocated is the register at another site in a design.
func relocatedTo(t *testing.T, of *plan.Plan, site string) *plan.Plan {
	t.Helper()
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	out, err := migrate.Relocate(of, e, []migrate.Choice{{Instance: "contacts-host-1", Site: site}}, nil)
	require.NoError(t, err)
	return out
}

// TestWhatCannotBeMovedIsSaid refuses moves of what is no instance, stays, is off, or is not known to be whole, and failing over to what is not kept, or was kept larger than it is to be.
func TestWhatCannotBeMovedIsSaid(t *testing.T) {
	stand := raised(t)
	const host = "contacts-host-1"
	to := relocatedTo(t, stand.Plan, "alisio-sur")
	copies, err := change.Replicate(stand, change.Replicating{At: "t1", Site: "alisio-sur", Disks: []string{host, "contacts-vol-1"}}, "replicate")
	require.NoError(t, err)
	copied, err := change.Done(stand, copies)
	require.NoError(t, err)
	set := change.NewestCopy(copied, "alisio-sur")
	require.NotEmpty(t, set)
	for name, c := range map[string]struct {
		from change.Standing
		to   *plan.Plan
		m    change.Moving
		why  string
	}{
		"no instance":    {stand, to, change.Moving{Instances: []string{"contacts-vol-1"}, Mode: change.Cold}, `"contacts-vol-1" is no instance that stands`},
		"none":           {stand, to, change.Moving{Instances: []string{"lake"}, Mode: change.Cold}, `"lake" is no instance that stands`},
		"it stays":       {stand, stand.Plan, change.Moving{Instances: []string{host}, Mode: change.Cold}, host + " is to stay at vega: there is nothing to move"},
		"it is off":      {otherwise(stand, func(s *change.Standing) { s.Plan.Resource(host).Off = true }), to, change.Moving{Instances: []string{host}, Mode: change.Warm}, host + " is off; start it, or retire it here and build it there"},
		"is it whole":    {otherwise(stand, func(s *change.Standing) { s.Unsure[op.Create.On(host)] = true }), to, change.Moving{Instances: []string{host}, Mode: change.Warm}, "whether " + host + " is whole is not known: mend its deployment first"},
		"no copies":      {stand, to, change.Moving{Instances: []string{host}, Mode: change.FromCopy, Set: set}, fmt.Sprintf("there is no whole copy %q", set)},
		"none of a disk": {copied, relocatedTo(t, copied.Plan, "alisio-norte"), change.Moving{Instances: []string{host}, Mode: change.FromCopy, Set: set}, "alisio-norte keeps no copy of"},
		"smaller": {copied, func() *plan.Plan {
			x := relocatedTo(t, copied.Plan, "alisio-sur")
			plan.Respec(x.Resource("contacts-vol-1"), func(v *plan.VolumeSpec) { v.DiskGiB = 70 })
			return x
		}(), change.Moving{Instances: []string{host}, Mode: change.FromCopy, Set: set}, "contacts-vol-1 is smaller by now than what was kept of it"},
	} {
		_, _, err := change.Move(c.from, c.to, c.m, "move")
		assert.ErrorContains(t, err, c.why, name)
	}
}

// TestCopiesBecomeWhatTheirDisksAre makes a copy larger that has become too small, makes one anew of which it is not known whether it is whole, counts what they cost, and names sites that the plan had nothing at.
func TestCopiesBecomeWhatTheirDisksAre(t *testing.T) {
	stand := raised(t)
	const disk, id = "contacts-vol-1", "contacts-vol-1~azud"
	cost := func(site string, gib float64) money.Amount {
		return money.Of(map[string]float64{"azud": 0.001, "vega": 0.002}[site] * gib)
	}
	r := change.Replicating{At: "t1", Site: "azud", Disks: []string{disk}, Cost: cost}
	p, err := change.Replicate(stand, r, "replicate")
	require.NoError(t, err)
	assert.Equal(t, money.Of(0.08), p.Resource(id).CostPerHour)
	assert.Equal(t, money.Of(0.16), p.Resource(change.SnapshotID(disk, "ship-t1")).CostPerHour)
	assert.Equal(t, money.Of(0.08), p.Resource(change.SnapshotID(id, "copy-t1")).CostPerHour)
	assert.Equal(t, stand.Plan.CostPerHour+money.Of(0.08+0.16+0.08), p.CostPerHour)
	assert.Equal(t, "azud", p.Sites[len(p.Sites)-1].Name)
	copied, err := change.Done(stand, p)
	require.NoError(t, err)
	r.At = "t2"
	larger := otherwise(copied, func(s *change.Standing) {
		plan.Respec(s.Plan.Resource(disk), func(v *plan.VolumeSpec) { v.DiskGiB = 120 })
	})
	p, err = change.Replicate(larger, r, "replicate")
	require.NoError(t, err)
	grown := p.Step(op.Alter.On(id))
	require.NotNil(t, grown)
	assert.Equal(t, "make it as large as "+disk, grown.Title)
	assert.InDelta(t, 2.0, grown.Seconds, 0)
	assert.Equal(t, "azud", grown.Site)
	assert.InDelta(t, 120.0, p.Resource(id).DiskGiB(), 0)
	assert.Equal(t, "120 GiB", p.Resource(id).Detail)
	assert.Equal(t, []string{disk + " has grown"}, p.Resource(id).Reasons)
	assert.True(t, comesAfter(p, op.Renew.On(id), grown.ID))
	unsure := otherwise(copied, func(s *change.Standing) { s.Unsure[op.Create.On(id)] = true })
	p, err = change.Replicate(unsure, r, "replicate")
	require.NoError(t, err)
	made := p.Step(op.Create.On(id))
	require.NotNil(t, made)
	assert.True(t, comesAfter(p, op.Renew.On(id), made.ID))
	assert.Equal(t, []string{"whether it is whole is not known"}, p.Resource(id).Reasons)
	_, err = change.Replicate(stand, change.Replicating{At: "t1", Site: "vega", Disks: []string{disk}}, "replicate")
	require.ErrorContains(t, err, "all of it is at vega already")
	_, err = change.Replicate(stand, change.Replicating{At: "t1", Site: "azud", Disks: []string{"lake"}}, "replicate")
	require.ErrorContains(t, err, "lake")
}

// TestSetsAreNamedByTheirTime names sets by when they are taken, apart from those that are there, and reads that time again.
func TestSetsAreNamedByTheirTime(t *testing.T) {
	stand := raised(t)
	at := time.Date(2026, 12, 1, 6, 30, 59, 0, time.FixedZone("there", 3600))
	to := at.UTC().Truncate(time.Minute)
	has := func(sets ...string) change.Standing {
		return otherwise(stand, func(s *change.Standing) {
			for _, set := range sets {
				s.Plan.Resources = append(s.Plan.Resources, plan.Resource{ID: "x." + set, Kind: "snapshot", Spec: plan.SnapshotSpec{Set: set}})
			}
		})
	}
	assert.Equal(t, "before-20261201-0530", change.SetName(stand, "before-", at))
	assert.Equal(t, "before-20261201-0530-2", change.SetName(has("before-20261201-0530"), "before-", at))
	assert.Equal(t, "before-20261201-0530-3", change.SetName(has("before-20261201-0530", "before-20261201-0530-2"), "before-", at))
	assert.Equal(t, "before-20261201-0530", change.SetName(has("after-20261201-0530"), "before-", at))
	assert.Equal(t, "20261201-0530", change.Moment(stand, at))
	for _, prefix := range []string{change.ShippedPrefix, change.CopiedPrefix} {
		assert.Equal(t, "20261201-0530-2", change.Moment(has(prefix+"20261201-0530"), at))
		assert.Equal(t, to, change.MomentOf(prefix+"20261201-0530"))
		assert.Equal(t, to, change.MomentOf(prefix+"20261201-0530-2"))
	}
	assert.Equal(t, to, change.MomentOf("20261201-0530"))
	for _, other := range []string{"", "spring", "2026", "copy-spring"} {
		assert.True(t, change.MomentOf(other).IsZero(), other)
	}
}

// TestWhatCameAfterWhatIsLeftOutComesAfterWhatThatCameAfter leaves out steps in the middle of an order, of one that is wanted and of one that stands.
func TestWhatCameAfterWhatIsLeftOutComesAfterWhatThatCameAfter(t *testing.T) {
	stand := raised(t)
	for name, of := range map[string]*plan.Plan{"wanted": plantest.Plan(t, "drill"), "standing": stand.Plan} {
		p := *of
		p.Steps = change.Without(of.Steps, func(s *plan.Step) bool { return s.Op == op.Configure || s.Op == op.Attach })
		require.NoError(t, plan.Reindexed(&p).Arrange(), name)
		assert.True(t, comesAfter(&p, op.Start.On("contacts-1"), op.Create.On("contacts-1")), name)
		assert.True(t, comesAfter(&p, op.Create.On("contacts-1"), op.Create.On("contacts-vol-1")), name)
		whole := p
		whole.Steps = slices.Clone(p.Steps)
		for i := range whole.Steps {
			if s := &whole.Steps[i]; s.Whole != nil {
				s.After = s.Whole
			}
			for _, a := range whole.Steps[i].After {
				assert.NotNil(t, p.Step(a), "%s: %s comes after %s", name, whole.Steps[i].ID, a)
			}
		}
		require.NoError(t, plan.Reindexed(&whole).Arrange(), name)
		assert.True(t, comesAfter(&whole, op.Start.On("contacts-1"), op.Create.On("contacts-1")), name)
		assert.NotEmpty(t, of.Step(op.Configure.On("contacts-1")), "what is left out is left out of what is made of it alone")
	}
}

// TestWhatIsMadeSmallerLeavesRoom has what is built at a site, or made larger there, wait for what is made smaller there, and not for what is elsewhere.
func TestWhatIsMadeSmallerLeavesRoom(t *testing.T) {
	storm, drill := plantest.Plan(t, "storm-season"), plantest.Plan(t, "drill")
	stand, err := change.Done(change.Nothing(storm), storm)
	require.NoError(t, err)
	p, err := change.Compile(stand, drill, "calm")
	require.NoError(t, err)
	smaller := op.Alter.On("forecast-host-1")
	require.NotNil(t, p.Step(smaller))
	require.Less(t, drill.Resource("forecast-host-1").AsInstance().Cores, storm.Resource("forecast-host-1").AsInstance().Cores)
	assert.Contains(t, p.Step(op.Create.On("map-host-1")).After, smaller)
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Site != "alisio-norte" {
			assert.NotContains(t, s.After, smaller, s.ID)
		}
	}
	for name, cores := range map[string]int{"both smaller": -1, "one larger": 1} {
		stand := otherwise(raised(t), func(s *change.Standing) {
			plan.Respec(s.Plan.Resource("contacts-host-1"), func(v *plan.InstanceSpec) { v.Cores++ })
			plan.Respec(s.Plan.Resource("readings-host-1"), func(v *plan.InstanceSpec) { v.Cores -= cores })
		})
		p, err := change.Compile(stand, plantest.Plan(t, "drill"), "change")
		require.NoError(t, err, name)
		waits := slices.Contains(p.Step(op.Alter.On("readings-host-1")).After, op.Alter.On("contacts-host-1"))
		assert.Equal(t, cores > 0, waits, name)
		assert.NotContains(t, p.Step(op.Alter.On("contacts-host-1")).After, op.Alter.On("readings-host-1"), name)
	}
}

// TestActionsAreDoneWithEveryChange does what a template has be called or told at each change, after what it waits for, and not where nothing changes.
func TestActionsAreDoneWithEveryChange(t *testing.T) {
	told := func(cores int) *plan.Plan {
		p := *plantest.Plan(t, "drill")
		p.Resources, p.Steps = slices.Clone(p.Resources), slices.Clone(p.Steps)
		p.Resources = append(p.Resources, plan.Resource{ID: "tell", Node: "tell", Title: "tell", Kind: kinds.Action, Site: "vega", Spec: plan.NoSpec{}})
		p.Steps = append(p.Steps, plan.Step{ID: op.Act.On("tell"), Resource: "tell", Op: op.Act, Site: "vega", Title: "tell who warns", Seconds: 1, After: []string{op.Create.On("contacts-host-1"), op.Create.On("readings-host-1")},
			Action: &plan.Action{Kind: "message", URL: plan.Expr{Literal: "http://127.0.0.1:9/"}}, Check: plan.Condition{Kind: plan.CheckNone}})
		out := plan.Reindexed(&p)
		plan.Respec(out.Resource("contacts-host-1"), func(v *plan.InstanceSpec) { v.Cores = cores })
		require.NoError(t, out.Arrange())
		return out
	}
	stand, err := change.Done(change.Nothing(told(4)), told(4))
	require.NoError(t, err)
	p, err := change.Compile(stand, told(4), "nothing")
	require.NoError(t, err)
	assert.Empty(t, p.Steps)
	assert.Equal(t, plan.Keep, p.Resource("tell").Change)
	p, err = change.Compile(stand, told(8), "larger")
	require.NoError(t, err)
	require.NotNil(t, p.Step(op.Act.On("tell")))
	assert.Equal(t, plan.Build, p.Resource("tell").Change)
	assert.Equal(t, []string{"it is done with every change"}, p.Resource("tell").Reasons)
}

// TestEachDifferenceOfASpecificationIsSaid changes one thing at a time of what a site is asked for: what can be changed as it stands is, whatever else is built anew, and each is said with what it was and is to be.
func TestEachDifferenceOfASpecificationIsSaid(t *testing.T) {
	stand := raised(t)
	instance := func(f func(*plan.InstanceSpec)) func(*plan.Resource) {
		return func(r *plan.Resource) { plan.Respec(r, f) }
	}
	network := func(f func(*plan.NetworkSpec)) func(*plan.Resource) {
		return func(r *plan.Resource) { plan.Respec(r, f) }
	}
	iface := func(f func(*plan.InterfaceSpec)) func(*plan.Resource) {
		return func(r *plan.Resource) { plan.Respec(r, f) }
	}
	volume := func(f func(*plan.VolumeSpec)) func(*plan.Resource) {
		return func(r *plan.Resource) { plan.Respec(r, f) }
	}
	const host, disk, lan, port = "contacts-host-1", "contacts-vol-1", "contacts-lan@vega", "contacts-port-1"
	for _, c := range []struct {
		id     string
		as     func(r *plan.Resource)
		is     plan.Change
		reason string
	}{
		{host, func(r *plan.Resource) { r.Zone = "b" }, plan.Rebuild, "zone a → b"},
		{host, func(r *plan.Resource) { r.Host = "h9" }, plan.Rebuild, "host a-1 → h9"},
		{host, instance(func(v *plan.InstanceSpec) { v.Hostname = "register" }), plan.Rebuild, "host name contacts-host-1 → register"},
		{host, instance(func(v *plan.InstanceSpec) { v.Image = "debian-13" }), plan.Rebuild, "image debian-12 → debian-13"},
		{host, instance(func(v *plan.InstanceSpec) { v.Appliance = "balancer" }), plan.Rebuild, "service of the site's own none → balancer"},
		{host, instance(func(v *plan.InstanceSpec) { v.Size = "c4-16" }), plan.Amend, "size none → c4-16"},
		{host, instance(func(v *plan.InstanceSpec) { v.Cores = 8 }), plan.Amend, "cores 4 → 8"},
		{host, instance(func(v *plan.InstanceSpec) { v.Cores = 2 }), plan.Amend, "cores 4 → 2"},
		{host, instance(func(v *plan.InstanceSpec) { v.MemoryGiB = 32 }), plan.Amend, "memory GiB 16 → 32"},
		{host, instance(func(v *plan.InstanceSpec) { v.DiskGiB = 40 }), plan.Amend, "disk GiB 20 → 40"},
		{host, instance(func(v *plan.InstanceSpec) { v.DiskGiB = 10 }), plan.Rebuild, "disk GiB 20 → 10"},
		{disk, func(r *plan.Resource) { r.Zone = "b" }, plan.Rebuild, "zone a → b"},
		{disk, volume(func(v *plan.VolumeSpec) { v.DiskGiB = 100 }), plan.Amend, "size GiB 80 → 100"},
		{disk, volume(func(v *plan.VolumeSpec) { v.DiskGiB = 60 }), plan.Rebuild, "size GiB 80 → 60"},
		{lan, network(func(v *plan.NetworkSpec) { v.Label = "register-lan" }), plan.Rebuild, "name contacts-lan → register-lan"},
		{lan, network(func(v *plan.NetworkSpec) { v.CIDR = "10.20.6.0/24" }), plan.Rebuild, "addresses 10.20.5.0/24 → 10.20.6.0/24"},
		{lan, network(func(v *plan.NetworkSpec) { v.VLAN = "299" }), plan.Rebuild, "VLAN 203 → 299"},
		{lan, network(func(v *plan.NetworkSpec) { v.Existing = "house" }), plan.Rebuild, "standing network none → house"},
		{port, iface(func(v *plan.InterfaceSpec) { v.Network = "app-lan@vega" }), plan.Rebuild, "network contacts-lan@vega → app-lan@vega"},
		{port, iface(func(v *plan.InterfaceSpec) { v.Instance = "readings-host-1" }), plan.Rebuild, "instance contacts-host-1 → readings-host-1"},
		{port, iface(func(v *plan.InterfaceSpec) { v.Address = "10.20.5.7" }), plan.Rebuild, "address 10.20.5.1 → 10.20.5.7"},
		{port, iface(func(v *plan.InterfaceSpec) { v.Ports = []int{5432, 5433} }), plan.Rebuild, "ports [5432] → [5432 5433]"},
		{"contacts-1", func(r *plan.Resource) { r.On = "readings-host-1" }, plan.Rebuild, "instance contacts-host-1 → readings-host-1"},
	} {
		wanted := otherwise(stand, func(s *change.Standing) { c.as(s.Plan.Resource(c.id)) }).Plan
		diff, reasons := change.Difference(stand, wanted)
		assert.Contains(t, reasons[c.id], c.reason, "%s", c.id)
		p, err := change.Compile(stand, wanted, "change")
		if err != nil {
			continue // it is only the difference that is told, of what cannot be put in order
		}
		assert.Equal(t, c.is, p.Resource(c.id).Change, "%s: %s", c.id, c.reason)
		assert.NotEmpty(t, diff)
	}
}
