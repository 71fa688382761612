package plan_test

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/estate"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/rules"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

const preamble = `tosca_definitions_version: tosca_simple_yaml_1_3
node_types:
  own.Part:
    derived_from: tosca.nodes.SoftwareComponent
    properties: { port: { type: PortDef, default: 9000 } }
    capabilities:
      host: { type: tosca.capabilities.Compute }
      api: { type: tosca.capabilities.Endpoint, properties: { port: { type: PortDef, default: 9000 } } }
    requirements:
      - peer: { capability: tosca.capabilities.Endpoint, relationship: tosca.relationships.ConnectsTo, occurrences: [ 0, UNBOUNDED ] }
    interfaces: { Standard: { operations: { create: x.sh, configure: x.sh, start: x.sh } } }
topology_template:
`

// roomy is an estate in which everything fits.
func roomy(t require.TestingT) *estate.Estate {
	data, err := os.ReadFile(example + "/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	for _, s := range e.Sites {
		for i := range s.Zones {
			s.Zones[i].Hosts = nil
			s.Zones[i].Free = estate.Capacity{Cores: 1e6, MemoryGiB: 1e7, DiskGiB: 1e9}
		}
	}
	return e
}

// tryCompile takes a topology to a plan.
func tryCompile(t require.TestingT, text string) (*plan.Plan, error) {
	tmpl, diags := tosca.Read("t.yaml", func(name string) ([]byte, error) {
		switch name {
		case "t.yaml":
			return []byte(preamble + text), nil
		case "x.sh":
			return []byte("true\n"), nil
		}
		return nil, errors.New("no such file")
	})
	require.Zero(t, diags.Errors(), diags.Error())
	design, diags := topology.Build(tmpl, nil, topology.Options{})
	require.Zero(t, diags.Errors(), diags.Error())
	e := roomy(t)
	problem := plan.Problem(design, e)
	require.NoError(t, rules.Default().Apply(&problem, nil))
	placed, err := placement.Solve(problem, placement.Options{})
	require.NoError(t, err)
	return plan.Compile(design, placed, e, plan.Options{})
}

func mustCompile(t *testing.T, text string) *plan.Plan {
	t.Helper()
	p, err := tryCompile(t, text)
	require.NoError(t, err)
	return p
}

func ids(p *plan.Plan) []string {
	out := make([]string, len(p.Steps))
	for i, s := range p.Steps {
		out[i] = s.ID
	}
	return out
}

func TestAnInstanceWithoutInterfaceGetsTheSitesNetwork(t *testing.T) {
	p := mustCompile(t, "  node_templates:\n    h: { type: Compute }\n    a: { type: own.Part, requirements: [ host: h ] }\n")
	assert.Equal(t, []string{"site-lan@vega/create", "h-1/create", "h-1.if/plug", "a-1/create", "a-1/configure", "a-1/start", "a-1/check:api"}, ids(p))
	assert.Equal(t, []int{9000}, p.Resource("h-1.if").AsInterface().Ports, "the network is asked for the ports that software answers on")
	assert.Equal(t, "h-1", p.Resource("h-1.if").PartOf)
	assert.Equal(t, "h-1", p.Resource("a-1").On)
}

func TestHostsComeBeforeWhatTheyHost(t *testing.T) {
	p := mustCompile(t, `  node_templates:
    h: { type: Compute }
    inner: { type: tosca.nodes.WebServer, requirements: [ host: h ], interfaces: { Standard: { start: x.sh } } }
    app: { type: tosca.nodes.WebApplication, requirements: [ host: inner ] }
`)
	assert.Equal(t, []string{"inner-1/start"}, p.Step("app-1/settle").After, "software without scripts still waits")
	assert.Equal(t, []string{"inner-1"}, p.Resource("app-1").StandsOn)
	assert.Equal(t, 4, p.Resource("app-1").Level)
}

func TestSourcesShareTargetsInTurn(t *testing.T) {
	text := func(sources, targets int) string {
		return fmt.Sprintf(`  node_templates:
    sh: { type: Compute, capabilities: { scalable: { properties: { max_instances: 9, default_instances: %d } } } }
    th: { type: Compute, capabilities: { scalable: { properties: { max_instances: 9, default_instances: %d } } } }
    s: { type: own.Part, requirements: [ host: sh, peer: t ], interfaces: { Standard: { configure: { implementation: x.sh, inputs: { AT: { get_attribute: [ t, api, ip_address ] }, PORT: { get_attribute: [ t, api, port ] } } } } } }
    t: { type: own.Part, requirements: [ host: th ] }
`, sources, targets)
	}
	p := mustCompile(t, text(3, 2))
	assert.Equal(t, []string{"sh-1", "t-1"}, p.Resource("s-1").StandsOn)
	assert.Equal(t, []string{"sh-2", "t-2"}, p.Resource("s-2").StandsOn)
	assert.Equal(t, []string{"sh-3", "t-1"}, p.Resource("s-3").StandsOn)
	in := p.Step("s-2/configure").Script.Inputs
	assert.Equal(t, "‹address of th-2.if›", in[0].Value.String(), "an address is that of the target's interface")
	assert.Equal(t, "‹port.9000 of th-2.if›", in[1].Value.String(), "a port is what the network makes of it")
	p = mustCompile(t, text(2, 5))
	assert.Equal(t, []string{"sh-1", "t-1", "t-3", "t-5"}, p.Resource("s-1").StandsOn, "every target has a source")
	assert.Contains(t, p.Step("s-2/configure").After, "t-4/check:api")
}

func TestDependenciesReachAcrossTheLifecycle(t *testing.T) {
	p := mustCompile(t, `  node_templates:
    h: { type: Compute }
    a: { type: own.Part, requirements: [ host: h ] }
    late: { type: Compute, requirements: [ dependency: a ] }
    vol: { type: BlockStorage, properties: { size: 5 GiB }, requirements: [ dependency: a ] }
    user: { type: Compute, requirements: [ local_storage: { node: vol, relationship: { type: AttachesTo, properties: { location: /d } } } ] }
`)
	assert.Contains(t, p.Step("late-1/create").After, "a-1/check:api", "a machine can wait for software on another")
	assert.Contains(t, p.Step("vol-1/create").After, "a-1/check:api")
	assert.Contains(t, p.Resource("late-1").StandsOn, "a-1")
	assert.Greater(t, p.Resource("late-1").Level, p.Resource("a-1").Level)
	attach := p.Step("user-1/attach:vol-1")
	assert.Equal(t, "/d", attach.Location)
	assert.ElementsMatch(t, []string{"user-1/create", "vol-1/create"}, attach.After)
}

func TestRelationshipOperationsAreWoven(t *testing.T) {
	p := mustCompile(t, `  node_templates:
    h: { type: Compute }
    t: { type: own.Part, requirements: [ host: h ] }
    s:
      type: own.Part
      properties: { port: 9001 }
      capabilities: { api: { properties: { port: 9001 } } }
      requirements:
        - host: h
        - peer: { node: t, relationship: { type: ConnectsTo, interfaces: { Configure: { pre_configure_source: x.sh, post_configure_source: x.sh, add_target: x.sh } } } }
`)
	var order []string
	for _, s := range p.Steps {
		if s.Resource == "s-1" {
			order = append(order, strings.TrimPrefix(s.ID, "s-1/"))
		}
	}
	assert.Equal(t, []string{"create", "connect:peer.pre_configure_source", "configure", "connect:peer.post_configure_source", "start", "check:api", "connect:peer.add_target"}, order)
	assert.Equal(t, []string{"s-1/create", "t-1/check:api"}, p.Step("s-1/connect:peer.pre_configure_source").After)
}

func TestWhatIsNotBuiltIsSaid(t *testing.T) {
	p := mustCompile(t, "  node_templates:\n    h: { type: Compute }\n    lan: { type: tosca.nodes.network.Network }\n")
	assert.Equal(t, []string{"network lan is not built: no interface links to it"}, p.Notes)
	_, err := tryCompile(t, "  node_templates:\n    h: { type: Compute }\n    vol: { type: BlockStorage, properties: { size: 5 GiB } }\n")
	assert.ErrorContains(t, err, "t.yaml:15:5: vol has no place: it is attached to nothing")
}

func TestImpliedCirclesAreFound(t *testing.T) {
	_, err := tryCompile(t, `  node_templates:
    h: { type: Compute }
    nic: { type: tosca.nodes.network.Port, requirements: [ binding: h, link: lan ] }
    a: { type: own.Part, requirements: [ host: h ] }
    lan: { type: tosca.nodes.network.Network, requirements: [ dependency: a ] }
`)
	assert.ErrorContains(t, err, "wait for each other in a circle: ", "the network waits for software that needs the network")
}

func TestCostsAddUp(t *testing.T) {
	p := compile(t, example, "storm-season")
	var all, sites money.Amount
	for _, r := range p.Resources {
		all += r.CostPerHour
	}
	for _, s := range p.Sites {
		sites += s.CostPerHour
	}
	assert.Equal(t, p.CostPerHour, all)
	assert.Equal(t, p.CostPerHour, sites)
}

// known resolves from maps.
type known map[string]string

func (k known) Attribute(resource, name string) (string, bool) {
	v, ok := k[resource+"."+name]
	return v, ok
}
func (k known) Secret(name string) (string, bool) { v, ok := k["secret "+name]; return v, ok }

func TestExpressions(t *testing.T) {
	lit := func(v any) plan.Expr { return plan.Expr{Literal: v} }
	get := plan.Expr{Func: "get_attribute", Args: []plan.Expr{lit("a"), lit("address")}}
	secret := plan.Expr{Func: "get_secret", Args: []plan.Expr{lit("key")}}
	all := plan.Expr{Func: "concat", Args: []plan.Expr{lit("http://"), get, lit(":"), lit(float64(80)), lit("/"), secret}}
	k := known{"a.address": "127.0.0.1", "secret key": "sesame"}
	text, err := all.Text(k)
	require.NoError(t, err)
	assert.Equal(t, "http://127.0.0.1:80/sesame", text)
	assert.Equal(t, "http://‹address of a›:80/‹secret key›", all.String())
	_, err = get.Text(known{})
	assert.ErrorContains(t, err, "a has no address yet")
	_, err = secret.Text(known{})
	assert.ErrorContains(t, err, "the secret key was not given")
	for v, want := range map[any]string{nil: "", true: "true", 1.5: "1.5", int64(7): "7"} {
		text, err = lit(v).Text(k)
		require.NoError(t, err)
		assert.Equal(t, want, text)
	}
	text, _ = lit([]any{"a", map[string]any{"b": 1.0}}).Text(k)
	assert.Equal(t, `["a",{"b":1}]`, text)
}

// TestAnyTopologyMakesALawfulPlan compiles random topologies and checks what must hold of every plan: edges rise, all
// steps of what a resource stands on come before its own last, times follow the edges, and the critical path is as long
// as the whole.
func TestAnyTopologyMakesALawfulPlan(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, err := tryCompile(t, randomTopology(t))
		if err != nil {
			t.Fatal(err)
		}
		if err := p.Check(); err != nil {
			t.Fatal(err)
		}
		lawful(t, p)
	})
}

func randomTopology(t *rapid.T) string {
	var b strings.Builder
	b.WriteString("  node_templates:\n")
	n := rapid.IntRange(1, 5).Draw(t, "tiers")
	for i := range n {
		fmt.Fprintf(&b, "    h%d: { type: Compute, capabilities: { scalable: { properties: { max_instances: 9, default_instances: %d } } }", i, rapid.IntRange(1, 4).Draw(t, "count"))
		if rapid.Bool().Draw(t, "volume") {
			fmt.Fprintf(&b, ", requirements: [ local_storage: { node: v%d, relationship: { type: AttachesTo, properties: { location: /d } } } ] }\n    v%d: { type: BlockStorage, properties: { size: 1 GiB } }\n", i, i)
		} else {
			b.WriteString(" }\n")
		}
		if rapid.Bool().Draw(t, "network") {
			fmt.Fprintf(&b, "    n%d: { type: tosca.nodes.network.Network }\n    p%d: { type: tosca.nodes.network.Port, requirements: [ binding: h%d, link: n%d ] }\n", i, i, i, i)
		}
		peers := []string{fmt.Sprintf("host: h%d", i)}
		for j := range i {
			if rapid.Bool().Draw(t, "peer") {
				peers = append(peers, fmt.Sprintf("%s: s%d", rapid.SampledFrom([]string{"peer", "dependency"}).Draw(t, "how"), j))
			}
		}
		fmt.Fprintf(&b, "    s%d: { type: own.Part, requirements: [ %s ] }\n", i, strings.Join(peers, ", "))
	}
	return b.String()
}

func lawful(t *rapid.T, p *plan.Plan) {
	sum := 0.0
	for _, id := range p.CriticalPath {
		sum += p.Step(id).Seconds
	}
	if d := sum - p.Seconds; d > 0.05 || d < -0.05 {
		t.Fatalf("the critical path takes %v and the plan %v", sum, p.Seconds)
	}
	for _, s := range p.Steps {
		for _, a := range s.After {
			before := p.Step(a)
			if before.Level >= s.Level || before.Start+before.Seconds > s.Start+0.01 {
				t.Fatalf("%s does not come after %s", s.ID, a)
			}
		}
		if s.Slack < -0.01 {
			t.Fatalf("%s has slack %v", s.ID, s.Slack)
		}
	}
	if !slices.IsSortedFunc(p.Steps, func(a, b plan.Step) int { return a.Level - b.Level }) {
		t.Fatal("steps are not sorted by level")
	}
	for _, r := range p.Resources {
		if r.Site == "" || p.Resource(r.ID) == nil {
			t.Fatalf("%s is nowhere", r.ID)
		}
	}
}

func TestPoolsAndNamesAreHandedOutInThePlan(t *testing.T) {
	e := &estate.Estate{Currency: "cr", Sites: []*estate.Site{{Name: "hall", Kind: estate.Private, Network: estate.Address, Pace: 1, FreeForm: true,
		Zones: []estate.Zone{{Name: "a", Free: estate.Capacity{Cores: 64, MemoryGiB: 256, DiskGiB: 4000}}}, Images: []estate.Image{{Name: "i", OS: "linux"}},
		Networks: []estate.Network{{Name: "lan", Pools: []estate.Pool{{From: "10.3.0.4", To: "10.3.0.6", Taken: []string{"10.3.0.4"}}}, VLANs: &estate.VLANRange{From: 30, To: 31, Taken: []int{30}}}},
		Naming:   &estate.Naming{Template: "${deployment}-${node}-${index}", Pattern: "[a-z0-9-]+"}}}}
	text := func(count int, pick string) string {
		return `tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: watch }
topology_template:
  node_templates:
    lan: { type: tosca.nodes.network.Network, properties: { network_name: lan, cidr: 10.3.0.0/24` + pick + ` } }
    box:
      type: tosca.nodes.Compute
      capabilities: { os: { properties: { type: linux } }, scalable: { properties: { min_instances: 1, max_instances: 9, default_instances: ` + fmt.Sprint(count) + ` } } }
    port: { type: tosca.nodes.network.Port, properties: { ip_address: 10.3.0.6 }, requirements: [ binding: box, link: lan ] }
`
	}
	compile := func(text string) (*plan.Plan, error) {
		tmpl, diags := tosca.Read("t.yaml", func(string) ([]byte, error) { return []byte(text), nil })
		require.Zero(t, diags.Errors(), diags.Error())
		d, diags := topology.Build(tmpl, nil, topology.Options{})
		require.Zero(t, diags.Errors(), diags.Error())
		placed, err := placement.Solve(plan.Problem(d, e), placement.Options{})
		require.NoError(t, err)
		return plan.Compile(d, placed, e, plan.Options{})
	}
	p, err := compile(text(2, ""))
	require.NoError(t, err)
	assert.Equal(t, "31", p.Resource("lan@hall").AsNetwork().VLAN, "30 is taken")
	assert.Equal(t, "10.3.0.6", p.Resource("port-1").AsInterface().Address, "the one that was picked")
	assert.Equal(t, "10.3.0.5", p.Resource("port-2").AsInterface().Address, "the lowest that is free")
	assert.Equal(t, "watch-box-2", p.Resource("box-2").AsInstance().Hostname)
	_, err = compile(text(2, ", segmentation_id: '30'"))
	assert.ErrorContains(t, err, "lan asks for VLAN 30 at hall, which something at the site has")
	e.Sites[0].Naming.Pattern = "[0-9]+"
	_, err = compile(text(1, ""))
	assert.ErrorContains(t, err, "the name watch-box-1 is not one that hall takes")
}
