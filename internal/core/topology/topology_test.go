package topology

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
)

const head = `tosca_definitions_version: tosca_simple_yaml_1_3
node_types:
  own.Service:
    derived_from: tosca.nodes.SoftwareComponent
    properties:
      port: { type: integer, default: 8080 }
      label: { type: string, required: false }
    capabilities:
      api: { type: tosca.capabilities.Endpoint.Public, properties: { protocol: { type: string, default: http } } }
    requirements:
      - peer: { capability: tosca.capabilities.Endpoint, relationship: tosca.relationships.ConnectsTo, occurrences: [ 0, 9 ] }
topology_template:
`

// build reads a template without mistakes and evaluates it.
func build(t *testing.T, text, preset string) (*Design, tosca.Diagnostics) {
	t.Helper()
	tmpl, diags := tosca.Read("t.yaml", func(name string) ([]byte, error) {
		switch name {
		case "t.yaml":
			return []byte(head + text), nil
		case "run.sh":
			return []byte("true\n"), nil
		}
		return nil, errors.New("no such file")
	})
	require.Zero(t, diags.Errors(), diags.Error())
	inputs, diags := tosca.ReadInputs("preset", []byte(preset))
	require.Empty(t, diags)
	return Build(tmpl, inputs, Options{})
}

// must builds what has no mistakes.
func must(t *testing.T, text, preset string) *Design {
	t.Helper()
	d, diags := build(t, text, preset)
	require.NotNil(t, d, diags.Error())
	return d
}

const twoTiers = `
  inputs:
    count: { type: integer, default: 2 }
    key: { type: string, metadata: { secret: "true" } }
    memory: { type: scalar-unit.size, default: 4 GiB }
  node_templates:
    host:
      type: Compute
      capabilities:
        host: { properties: { num_cpus: 2, mem_size: { get_input: memory } } }
        scalable: { properties: { min_instances: 1, max_instances: 5, default_instances: { get_input: count } } }
      requirements:
        - local_storage: { node: vol, relationship: { type: AttachesTo, properties: { location: /srv } } }
    vol: { type: BlockStorage, properties: { size: 10 GiB } }
    lan: { type: tosca.nodes.network.Network }
    nic: { type: tosca.nodes.network.Port, requirements: [ binding: host, link: lan ] }
    back:
      type: own.Service
      properties: { port: 9000, label: { concat: [ "b-", { get_property: [ SELF, port ] } ] } }
      capabilities: { api: { properties: { port: { get_property: [ SELF, port ] } } } }
      requirements: [ host: host ]
    front:
      type: own.Service
      properties: { label: { get_property: [ SELF, peer, label ] } }
      capabilities: { api: { properties: { port: 8080 } } }
      requirements: [ host: host, peer: back ]
      interfaces:
        Standard:
          inputs: { A: one, B: { get_input: key } }
          start:
            implementation: run.sh
            inputs:
              A: two
              WHERE: { concat: [ "http://", { get_attribute: [ back, api, ip_address ] } ] }
              MEMORY: { get_property: [ HOST, host, mem_size ] }
  groups:
    tier: { type: andamio.groups.Service, members: [ back, host ], properties: { title: The tier } }
  policies:
    - home: { type: andamio.policies.Allow, targets: [ tier ], properties: { site_kinds: [ private ], because: so } }
  outputs:
    url: { value: { get_attribute: [ front, api, ip_address ] } }
`

func TestBuildEvaluatesWhatItCan(t *testing.T) {
	d := must(t, twoTiers, "")
	front := d.Node("front")
	assert.Equal(t, "b-9000", front.Properties["label"], "through SELF, a requirement, and concat")
	start := front.Operations.Own("start")
	args := map[string]any{}
	for _, a := range start.Inputs {
		args[a.Name] = a.Value
	}
	assert.Equal(t, "two", args["A"], "the operation's input wins over its interface's")
	assert.Equal(t, Deferred{"get_secret", []any{"key"}}, args["B"])
	assert.Equal(t, Deferred{"concat", []any{"http://", Deferred{"get_attribute", []any{"back", "api.ip_address"}}}}, args["WHERE"])
	assert.Equal(t, "4 GiB", tosca.Show(args["MEMORY"]))
	assert.Equal(t, int64(9000), d.Node("back").Capability("api").Properties["port"])
	assert.True(t, front.Capability("api").Public)
	assert.Equal(t, []string{"key"}, d.Secrets)
	assert.NotContains(t, d.Inputs, "key")
}

func TestCountsFollowTheInstance(t *testing.T) {
	d := must(t, twoTiers, "count: 3")
	for _, name := range []string{"host", "vol", "nic", "back", "front"} {
		assert.Equal(t, 3, d.Node(name).Count, name)
	}
	assert.Equal(t, 1, d.Node("lan").Count)
	assert.Equal(t, d.Node("host"), d.Node("front").Base)
	assert.Equal(t, d.Node("host"), d.Node("vol").Base, "a volume belongs to the instance it is attached to")
}

func TestGroupsNameServicesAndTargets(t *testing.T) {
	d := must(t, twoTiers, "")
	assert.Equal(t, []Service{{"tier", "The tier"}}, d.Services)
	assert.Equal(t, "tier", d.Node("front").Service, "what stands on a member belongs to its service")
	require.Len(t, d.Rules, 1)
	assert.Equal(t, []string{"back", "host"}, d.Rules[0].Targets)
	assert.Equal(t, "allow", d.Rules[0].Kind)
	assert.Equal(t, "so", d.Rules[0].Because)
	assert.True(t, d.Rules[0].Covers("host"))
	assert.False(t, d.Rules[0].Covers("front"))
}

func TestOrdersComeFromRelationships(t *testing.T) {
	d := must(t, twoTiers, "")
	orders := map[string]Ordering{}
	for _, n := range d.Nodes {
		for _, r := range n.Relations {
			orders[n.Name+" "+r.Name] = r.Order
		}
	}
	assert.Equal(t, map[string]Ordering{"host local_storage": Attaches, "nic binding": Binds, "nic link": Links,
		"back host": Hosted, "front host": Hosted, "front peer": Connects}, orders)
	assert.Equal(t, "/srv", d.Node("host").Relations[0].Properties["location"])
}

func TestBuildRefuses(t *testing.T) {
	for name, c := range map[string]struct {
		text, preset string
		code         tosca.Code
		says         string
	}{
		"unknown input":      {twoTiers, "cuont: 3", tosca.CodeUnknownInput, `did you mean "count"?`},
		"ill-typed input":    {twoTiers, "count: many", tosca.CodeValueType, "integer"},
		"too many instances": {twoTiers, "count: 9", tosca.CodeConstraint, "allows 1 to 5"},
		"missing input": {"\n  inputs: { n: { type: integer } }\n  node_templates:\n    v: { type: BlockStorage, properties: { name: x } }\n",
			"", tosca.CodeMissingInput, "--input n="},
		"a circle of properties": {`
  node_templates:
    host: { type: Compute }
    a: { type: own.Service, properties: { label: { get_property: [ b, label ] } }, requirements: [ host: host ] }
    b: { type: own.Service, properties: { label: { get_property: [ a, label ] } }, requirements: [ host: host ] }
`, "", tosca.CodeCycle, "depend on each other"},
		"a property without value": {`
  node_templates:
    host: { type: Compute }
    a: { type: own.Service, requirements: [ host: host ] }
  outputs: { o: { value: { get_property: [ a, label ] } } }
`, "", tosca.CodeUnknownRef, "no value"},
		"an evaluated value of the wrong type": {`
  inputs: { p: { type: string, default: high } }
  node_templates:
    host: { type: Compute }
    a: { type: own.Service, properties: { port: { get_input: p } }, requirements: [ host: host ] }
`, "", tosca.CodeValueType, "port is an integer"},
	} {
		t.Run(name, func(t *testing.T) {
			d, diags := build(t, c.text, c.preset)
			assert.Nil(t, d)
			require.NotEmpty(t, diags)
			assert.Equal(t, c.code, diags[0].Code, diags.Error())
			assert.True(t, strings.Contains(diags.Error(), c.says), diags.Error())
		})
	}
}

func TestOutputsStayDeferred(t *testing.T) {
	d := must(t, twoTiers, "")
	require.Len(t, d.Outputs, 1)
	assert.Equal(t, Deferred{"get_attribute", []any{"front", "api.ip_address"}}, d.Outputs[0].Value)
}

// TestADesignIsNoLargerThanCanBePlanned has many nodes of few instances, and few of many.
func TestADesignIsNoLargerThanCanBePlanned(t *testing.T) {
	const scalable = "\n      capabilities: { scalable: { properties: { min_instances: 1, default_instances: 10000, max_instances: 10000 } } }"
	for _, c := range []struct {
		nodes int
		more  string
		says  string
	}{{Most + 1, "", "the design has 100001 node templates, and at most 100000 are planned"}, {11, scalable, "the design has 110000 instances, and at most 100000 are planned"}, {10, scalable, ""}} {
		var text strings.Builder
		text.WriteString("tosca_definitions_version: tosca_simple_yaml_1_3\ntopology_template:\n  node_templates:\n")
		for i := range c.nodes {
			fmt.Fprintf(&text, "    n%d:\n      type: Compute%s\n", i, c.more)
		}
		tmpl, diags := tosca.Read("t.yaml", func(string) ([]byte, error) { return []byte(text.String()), nil })
		require.Zero(t, diags.Errors(), diags)
		_, diags = Build(tmpl, nil, Options{})
		if c.says == "" {
			assert.Zero(t, diags.Errors(), diags)
			continue
		}
		require.Equal(t, 1, diags.Errors())
		assert.Equal(t, c.says, diags[len(diags)-1].Message)
		assert.Equal(t, tosca.CodeTooLarge, diags[len(diags)-1].Code)
	}
}
