package change_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
)

// parts says what a small design has; every field may differ from one draw to the next.
type parts struct {
	hosts    int
	site     []string
	cores    []int
	disk     []float64
	image    []string
	off      []bool
	volume   []float64 // 0 is none
	cidr     string
	text     []string // of the software's configure script
	stop     []bool
	leaves   []bool // software that has no operation that deletes it
	connects []int  // the software it connects to, -1 for none
	public   []bool
	// door is where a load balancer is that a site runs itself, before all software; "" is none. look is the page that it asks for; shut has it switched off.
	door, look string
	shut       bool
}

func draw(t *rapid.T, name string) parts {
	p := parts{hosts: rapid.IntRange(0, 5).Draw(t, name+" hosts"), cidr: rapid.SampledFrom([]string{"10.0.0.0/24", "10.1.0.0/24"}).Draw(t, name+" cidr")}
	for i := range p.hosts {
		at := fmt.Sprintf("%s %d ", name, i)
		p.site = append(p.site, rapid.SampledFrom([]string{"vega", "vega", "presa"}).Draw(t, at+"site"))
		p.cores = append(p.cores, rapid.IntRange(1, 2).Draw(t, at+"cores"))
		p.disk = append(p.disk, float64(rapid.IntRange(1, 2).Draw(t, at+"disk")))
		p.image = append(p.image, rapid.SampledFrom([]string{"debian", "debian", "debian", "alpine"}).Draw(t, at+"image"))
		p.off = append(p.off, rapid.IntRange(0, 4).Draw(t, at+"off") == 0)
		p.volume = append(p.volume, float64(rapid.IntRange(0, 2).Draw(t, at+"volume")))
		p.text = append(p.text, rapid.SampledFrom([]string{"one", "one", "two"}).Draw(t, at+"text"))
		p.stop = append(p.stop, rapid.Bool().Draw(t, at+"stop"))
		p.leaves = append(p.leaves, rapid.Bool().Draw(t, at+"leaves"))
		p.connects = append(p.connects, rapid.IntRange(-1, i-1).Draw(t, at+"connects"))
		p.public = append(p.public, rapid.Bool().Draw(t, at+"public"))
	}
	return p
}

// drawDoor draws a small design that may have a load balancer of a site's own before its software.
func drawDoor(t *rapid.T, name string) parts {
	p := draw(t, name)
	p.door = rapid.SampledFrom([]string{"", "", "vega", "presa"}).Draw(t, name+" door")
	p.look = rapid.SampledFrom([]string{"", "/well"}).Draw(t, name+" look")
	p.shut = rapid.IntRange(0, 3).Draw(t, name+" shut") == 0
	return p
}

// design makes the plan that raises the parts, as the compiler of designs does.
func design(p parts) *plan.Plan {
	b := &builder{plan: &plan.Plan{Version: plan.Version, Name: "small", Currency: "cr", Inputs: map[string]any{},
		Scripts: map[string]string{}, Sites: []plan.Site{{Name: "vega", Kind: "private"}, {Name: "presa", Kind: "edge"}}}, last: map[string]string{}}
	for i := range p.hosts {
		b.host(p, i)
	}
	for i := range p.hosts {
		b.software(p, i)
	}
	b.door(p)
	if err := b.plan.Arrange(); err != nil {
		panic(err)
	}
	return change.Rest(b.plan, func(r *plan.Resource) bool {
		var i int
		n, _ := fmt.Sscanf(r.ID, "host-%d", &i)
		return n == 1 && p.off[i] || r.ID == "door-host" && p.shut
	})
}

type builder struct {
	plan *plan.Plan
	last map[string]string
}

func (b *builder) add(r plan.Resource) { b.plan.Resources = append(b.plan.Resources, r) }

func (b *builder) step(resource string, op op.Op, s plan.Step, after ...string) {
	s.Resource, s.Op = resource, op
	if s.ID == "" {
		s.ID = op.On(resource)
	}
	for i := range b.plan.Resources {
		if b.plan.Resources[i].ID == resource {
			s.Site = b.plan.Resources[i].Site
		}
	}
	s.Title = string(op)
	s.Seconds = 1
	s.After = slices.DeleteFunc(after, func(a string) bool { return a == "" })
	b.plan.Steps = append(b.plan.Steps, s)
	b.last[resource] = s.ID
}

var atSite = plan.Step{Check: plan.Condition{Kind: plan.CheckSite}}

func (b *builder) host(p parts, i int) {
	site, host := p.site[i], fmt.Sprintf("host-%d", i)
	net := "lan@" + site
	if b.last[net] == "" {
		b.add(plan.Resource{ID: net, Kind: kinds.Network, Site: site, Spec: plan.NetworkSpec{CIDR: p.cidr}})
		b.step(net, op.Create, atSite)
	}
	b.add(plan.Resource{ID: host, Kind: kinds.Instance, Site: site, Spec: plan.InstanceSpec{Cores: p.cores[i], MemoryGiB: 1, DiskGiB: p.disk[i], Image: p.image[i]}})
	if p.volume[i] > 0 {
		vol := fmt.Sprintf("vol-%d", i)
		b.add(plan.Resource{ID: vol, Kind: kinds.Volume, Site: site, Spec: plan.VolumeSpec{DiskGiB: p.volume[i]}})
		b.step(vol, op.Create, atSite)
	}
	b.step(host, op.Create, atSite)
	if p.volume[i] > 0 {
		vol := fmt.Sprintf("vol-%d", i)
		b.step(host, op.Attach, plan.Step{ID: host + "/attach:" + vol, Volume: vol, Check: atSite.Check}, host+"/create", b.last[vol])
	}
	port := fmt.Sprintf("port-%d", i)
	b.add(plan.Resource{ID: port, Kind: kinds.Interface, Site: site, PartOf: host, StandsOn: []string{host, net}, Spec: plan.InterfaceSpec{Network: net, Instance: host}})
	b.step(port, op.Plug, atSite, host+"/create", b.last[net])
}

func (b *builder) script(name, text string, inputs ...plan.Input) *plan.Script {
	b.plan.Scripts[name+"-"+text] = text
	return &plan.Script{Path: name + "-" + text, Inputs: inputs}
}

func (b *builder) software(p parts, i int) {
	id, host, port := fmt.Sprintf("app-%d", i), fmt.Sprintf("host-%d", i), fmt.Sprintf("port-%d", i)
	b.add(plan.Resource{ID: id, Kind: kinds.Software, Site: p.site[i], On: host, StandsOn: []string{host}})
	exit := plan.Condition{Kind: plan.CheckExit}
	create := plan.Step{Check: exit, Script: b.script("create", "c"), Undo: b.script("delete", "d")}
	if len(p.leaves) > i && p.leaves[i] {
		create.Undo = nil
	}
	b.step(id, op.Create, create, b.last[host], b.last[port])
	var inputs []plan.Input
	before := []string{b.last[id]}
	if to := p.connects[i]; to >= 0 {
		inputs = append(inputs, plan.Input{Name: "ADDRESS", Value: attribute(fmt.Sprintf("port-%d", to), "address")})
		before = append(before, b.last[fmt.Sprintf("app-%d", to)])
	}
	b.step(id, op.Configure, plan.Step{Check: exit, Script: b.script("configure", p.text[i], inputs...)}, before...)
	start := plan.Step{Check: exit, Script: b.script("start", "s")}
	if p.stop[i] {
		start.Undo = b.script("stop", "x")
		start.Quiesce, start.Resume = b.script("quiesce", "q"), b.script("resume", "r")
	}
	b.step(id, op.Start, start, b.last[id])
	address, number := attribute(port, "address"), plan.Expr{Literal: "80"}
	b.step(id, op.Check, plan.Step{Check: plan.Condition{Kind: plan.CheckTCP, Address: &address, Port: &number}}, b.last[id])
	if p.public[i] {
		end := id + ".public"
		b.add(plan.Resource{ID: end, Kind: kinds.Endpoint, Site: p.site[i], StandsOn: []string{id}, Spec: plan.EndpointSpec{EndpointOf: id, Interface: port}})
		b.step(end, op.Answer, plan.Step{Check: plan.Condition{Kind: plan.CheckHTTP, Address: &address, Port: &number}}, b.last[id])
	}
}

// door adds a load balancer that a site runs itself, of which all software is a member.
func (b *builder) door(p parts) {
	if p.door == "" {
		return
	}
	net := "lan@" + p.door
	if b.last[net] == "" {
		b.add(plan.Resource{ID: net, Kind: kinds.Network, Site: p.door, Spec: plan.NetworkSpec{CIDR: p.cidr}})
		b.step(net, op.Create, atSite)
	}
	b.add(plan.Resource{ID: "door-host", Kind: kinds.Instance, Site: p.door, Spec: plan.InstanceSpec{Size: "load-balancer", Appliance: "load-balancer"}})
	b.step("door-host", op.Create, atSite)
	b.add(plan.Resource{ID: "door-port", Kind: kinds.Interface, Site: p.door, PartOf: "door-host", StandsOn: []string{"door-host", net}, Spec: plan.InterfaceSpec{Network: net, Instance: "door-host"}})
	b.step("door-port", op.Plug, atSite, "door-host/create", b.last[net])
	door := plan.Resource{ID: "door", Kind: kinds.Software, Site: p.door, On: "door-host", StandsOn: []string{"door-host"}}
	for i := range p.hosts {
		door.StandsOn = append(door.StandsOn, fmt.Sprintf("app-%d", i))
	}
	door.Spec = plan.SoftwareSpec{LeadsTo: slices.Clone(door.StandsOn[1:])}
	b.add(door)
	b.step("door", op.Balance, plan.Step{Check: atSite.Check, Balancing: &plan.Balancing{Port: 80, Protocol: "http", Algorithm: "source", Look: p.look}}, "door-host/create", "door-port/plug")
	address, number := attribute("door-port", "address"), plan.Expr{Literal: "80"}
	b.step("door", op.Check, plan.Step{Check: plan.Condition{Kind: plan.CheckTCP, Address: &address, Port: &number}}, b.last["door"])
	for i := range p.hosts {
		app := fmt.Sprintf("app-%d", i)
		b.step("door", op.Enroll, plan.Step{ID: op.Enroll.For("door", app), Check: atSite.Check,
			Member: &plan.Member{Name: app, Address: attribute(fmt.Sprintf("port-%d", i), "address"), Port: plan.Expr{Literal: "80"}}}, b.last["door"], b.last[app])
	}
	if p.hosts == 0 {
		return
	}
	b.add(plan.Resource{ID: "door.public", Kind: kinds.Endpoint, Site: p.door, StandsOn: []string{"door"}, Spec: plan.EndpointSpec{EndpointOf: "door"}})
	b.step("door.public", op.Answer, plan.Step{Check: plan.Condition{Kind: plan.CheckHTTP, Address: &address, Port: &number}}, b.last["door"])
}

func attribute(resource, name string) plan.Expr {
	return plan.Expr{Func: "get_attribute", Args: []plan.Expr{{Literal: resource}, {Literal: name}}}
}

// compiled makes a change and checks that it leads from what stands to what is wanted, in a world that refuses what a
// real one would.
func compiled(t *rapid.T, w *world, from change.Standing, to *plan.Plan) change.Standing {
	c, err := change.Compile(from, to, "test")
	if err != nil {
		t.Fatal(err)
	}
	w.run(t, c)
	if want := built(t, to); w.picture() != want.picture() {
		t.Fatalf("after the change there is\n%s\nand wanted is\n%s\nby the steps %v", w.picture(), want.picture(), ids(c))
	}
	after := done(t, from, c)
	again, err := change.Compile(after, to, "again")
	if err != nil {
		t.Fatal(err)
	}
	if len(again.Steps) != 0 {
		t.Fatalf("an unchanged design is changed: %v %v", ids(again), reasons(again))
	}
	return after
}

// done is what stands after all steps of a plan were done.
func done(t require.TestingT, from change.Standing, p *plan.Plan) change.Standing {
	out, err := change.Done(from, p)
	require.NoError(t, err)
	return out
}

// after is what stands after a run.
func after(t require.TestingT, from change.Standing, s *run.State) change.Standing {
	out, err := change.After(from, s)
	require.NoError(t, err)
	return out
}

func ids(p *plan.Plan) (out []string) {
	for i := range p.Steps {
		out = append(out, p.Steps[i].ID)
	}
	return out
}

func reasons(p *plan.Plan) (out []string) {
	for _, r := range p.Resources {
		if r.Change != plan.Keep {
			out = append(out, fmt.Sprintf("%s: %s %v", r.ID, r.Change, r.Reasons))
		}
	}
	return out
}

func built(t *rapid.T, p *plan.Plan) *world {
	w := newWorld()
	w.run(t, p)
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Off {
			require.NoError(t, w.halt(r.ID))
		}
	}
	return w
}

// TestAChangeLeadsFromAnyDesignToAnyOtherAndBack is the heart of the package: from a to b there is b; the inverse gives
// a again; and retiring leaves nothing.
func TestAChangeLeadsFromAnyDesignToAnyOtherAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := design(drawDoor(t, "a")), design(drawDoor(t, "b"))
		w := newWorld()
		stands := compiled(t, w, change.Nothing(a), a)
		stands = compiled(t, w, stands, b)
		stands = compiled(t, w, stands, a)
		stands = compiled(t, w, stands, change.Nothing(a).Plan)
		if !stands.Empty() || len(w.things) > 0 {
			t.Fatalf("retired, and %v stands, there is %v", stands.Plan.Resources, w.things)
		}
	})
}

// TestWhateverABrokenRunLeftIsPutRight stops a plan after any steps, some of which ended badly, and changes to a design.
func TestWhateverABrokenRunLeftIsPutRight(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := design(drawDoor(t, "a")), design(drawDoor(t, "b"))
		w := newWorld()
		raise, err := change.Compile(change.Nothing(a), a, "raise")
		if err != nil {
			t.Fatal(err)
		}
		s := w.partly(t, raise)
		left := after(t, change.Nothing(a), s)
		w.tolerant = left.Unsure
		left = compiled(t, w, left, b)
		left = compiled(t, w, left, change.Nothing(b).Plan)
		if !left.Empty() || len(w.things) > 0 {
			t.Fatalf("retired, and there is %v", w.things)
		}
	})
}

func TestWhatIsSaidOfADifference(t *testing.T) {
	base := parts{hosts: 2, site: []string{"vega", "vega"}, cores: []int{1, 1}, disk: []float64{1, 1}, image: []string{"debian", "debian"}, off: []bool{false, false},
		volume: []float64{1, 0}, cidr: "10.0.0.0/24", text: []string{"one", "one"}, stop: []bool{true, true}, connects: []int{-1, 0}, public: []bool{false, true}}
	clone := func(change func(*parts)) parts {
		p := base
		p.site, p.cores, p.disk, p.image = slices.Clone(p.site), slices.Clone(p.cores), slices.Clone(p.disk), slices.Clone(p.image)
		p.off, p.volume, p.text, p.public = slices.Clone(p.off), slices.Clone(p.volume), slices.Clone(p.text), slices.Clone(p.public)
		change(&p)
		return p
	}
	for name, c := range map[string]struct {
		to      parts
		change  map[string]plan.Change // others are kept
		steps   string
		because map[string]string
	}{
		"nothing": {base, nil, "", nil},
		"a volume grows": {clone(func(p *parts) { p.volume[0] = 2 }), map[string]plan.Change{"vol-0": plan.Amend},
			"vol-0/alter", map[string]string{"vol-0": "size GiB 1 → 2"}},
		"an instance grows": {clone(func(p *parts) { p.cores[1] = 2 }),
			map[string]plan.Change{"host-1": plan.Amend, "app-1": plan.Amend, "app-1.public": plan.Amend},
			"app-1/stop host-1/halt host-1/alter host-1/boot app-1/start app-1/check app-1.public/answer", map[string]string{"host-1": "cores 1 → 2", "app-1": "host-1 is switched on"}},
		"a script changes": {clone(func(p *parts) { p.text[0] = "two" }), map[string]plan.Change{"app-0": plan.Amend},
			"app-0/stop app-0/configure app-0/start app-0/check", map[string]string{"app-0": "another operation|script"}},
		"one is switched off": {clone(func(p *parts) { p.off[1] = true }),
			map[string]plan.Change{"host-1": plan.Amend, "app-1": plan.Amend, "app-1.public": plan.Amend}, "app-1/stop host-1/halt", map[string]string{"host-1": "switched off"}},
		"a network is renumbered": {clone(func(p *parts) { p.cidr = "10.1.0.0/24" }),
			map[string]plan.Change{"lan@vega": plan.Rebuild, "port-0": plan.Rebuild, "port-1": plan.Rebuild, "app-0": plan.Amend, "app-1": plan.Amend, "app-1.public": plan.Amend},
			"", map[string]string{"port-0": "lan@vega is rebuilt", "app-1": "port-0, which is rebuilt"}},
		"another image": {clone(func(p *parts) { p.image[0] = "alpine" }),
			map[string]plan.Change{"host-0": plan.Rebuild, "port-0": plan.Rebuild, "app-0": plan.Rebuild, "app-1": plan.Amend, "app-1.public": plan.Amend}, "", map[string]string{"app-1": "port-0"}},
	} {
		from, to := design(base), design(c.to)
		got, why := change.Difference(done(t, change.Nothing(from), from), to)
		want := map[string]plan.Change{}
		for _, r := range to.Resources {
			want[r.ID] = plan.Keep
		}
		maps.Copy(want, c.change)
		assert.Equal(t, want, map[string]plan.Change(got), name)
		for id, part := range c.because {
			text := strings.Join(why[id], "; ")
			assert.True(t, slices.ContainsFunc(strings.Split(part, "|"), func(p string) bool { return strings.Contains(text, p) }), "%s: %s: %s", name, id, text)
		}
		p, err := change.Compile(done(t, change.Nothing(from), from), to, "")
		require.NoError(t, err)
		if c.steps != "" {
			assert.Equal(t, c.steps, strings.Join(ids(p), " "), name)
		}
	}
}

// TestTheScenarioIsRetiredInTheInverseOrder takes the scenario's plan back.
func TestTheScenarioIsRetiredInTheInverseOrder(t *testing.T) {
	p := plantest.Plan(t, "drill")
	back, err := change.Compile(done(t, change.Nothing(p), p), change.Nothing(p).Plan, "retire")
	require.NoError(t, err)
	for i := range back.Resources {
		assert.Equal(t, plan.Retire, back.Resources[i].Change)
	}
	level := map[string]int{}
	for i := range back.Steps {
		level[back.Steps[i].ID] = back.Steps[i].Level
	}
	assert.Less(t, level["contacts-port-1/unplug"], level["contacts-host-1/remove"])
	assert.Less(t, level["contacts-host-1/detach:contacts-vol-1"], level["contacts-vol-1/remove"])
	data, err := back.Write()
	require.NoError(t, err)
	_, err = plan.Read(data)
	require.NoError(t, err)
}
