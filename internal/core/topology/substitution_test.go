package topology

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
	"andamio/internal/golden"
)

// boxes are two templates that stand for a Box, one for large ones only, over a root template that uses it.
func boxes(t *testing.T, root string) (*Design, tosca.Diagnostics) {
	t.Helper()
	const version = "tosca_definitions_version: tosca_simple_yaml_1_3\n"
	inner := func(filter, extra string) string {
		return version + `topology_template:
  inputs: { port: { type: PortDef }, tag: { type: string, default: none }, level: { type: integer, default: 1 } }
  substitution_mappings:
    node_type: own.Box
` + filter + `    properties: { size: [ level ], label: { value: fixed } }
    capabilities: { api: [ app, api ] }
    requirements: { feed: [ app, feed ] }
  node_templates:
    h: { type: Compute, capabilities: { host: { properties: { num_cpus: 2 } } } }
    app:
      type: own.App
      properties: { port: { get_input: port }, level: { get_input: level } }
      requirements: [ host: h ]
      interfaces: { Standard: { start: { implementation: run.sh, inputs: { TAG: { get_input: tag }, FROM: { get_attribute: [ SELF, feed, ip_address ] }, UP: { get_property: [ HOST, host, num_cpus ] } } } } }
` + extra + `  outputs: { where: { value: { get_attribute: [ app, api, ip_address ] } } }
`
	}
	files := map[string]string{
		"types.yaml": version + `node_types:
  own.Box:
    derived_from: tosca.nodes.Root
    metadata: { andamio.abstract: "true" }
    properties: { port: { type: PortDef, default: 80 }, size: { type: integer, default: 1 }, tag: { type: string, default: outer }, label: { type: string, required: false } }
    attributes: { where: { type: string } }
    capabilities: { api: { type: tosca.capabilities.Endpoint } }
    requirements:
      - drain: { capability: tosca.capabilities.Endpoint, relationship: tosca.relationships.ConnectsTo, occurrences: [ 0, 1 ] }
      - feed: { capability: tosca.capabilities.Endpoint, relationship: tosca.relationships.ConnectsTo, occurrences: [ 0, 2 ] }
  own.App:
    derived_from: tosca.nodes.SoftwareComponent
    properties: { port: { type: PortDef, default: 80 }, level: { type: integer, default: 0 } }
    capabilities: { api: { type: tosca.capabilities.Endpoint, properties: { port: { type: PortDef, default: 81 } } } }
    requirements: [ feed: { capability: tosca.capabilities.Endpoint, relationship: tosca.relationships.ConnectsTo, occurrences: [ 0, 2 ] } ]
`,
		"large.yaml": inner("    substitution_filter: { properties: [ size: { greater_than: 4 } ] }\n", "    second: { type: Compute }\n  groups: { pair: { type: tosca.groups.Root, members: [ h, second ] } }\n"),
		"small.yaml": inner("", ""),
		"t.yaml":     version + "imports: [ types.yaml, large.yaml, small.yaml ]\ntopology_template:\n" + root,
		"run.sh":     "true\n",
	}
	tmpl, diags := tosca.Read("t.yaml", func(name string) ([]byte, error) {
		if text, ok := files[name]; ok {
			return []byte(text), nil
		}
		return nil, errors.New("no such file")
	})
	require.Zero(t, diags.Errors(), diags.Error())
	return Build(tmpl, nil, Options{})
}

const boxed = `  node_templates:
    host: { type: Compute }
    gauge: { type: own.App, requirements: [ host: host ] }
    small: { type: own.Box, directives: [ substitute ], properties: { port: 90 }, requirements: [ feed: gauge, dependency: host ] }
    large: { type: own.Box, directives: [ substitutable ], properties: { size: 5 }, requirements: [ feed: small ] }
    page: { type: own.App, requirements: [ host: host, feed: large ] }
  groups: { boxes: { type: andamio.groups.Service, members: [ small, large ], properties: { title: Boxes } } }
  policies: [ keep: { type: andamio.policies.Allow, targets: [ large ], properties: { sites: [ vega ] } } ]
  outputs:
    where: { value: { get_attribute: [ large, where ] } }
    port: { value: { get_property: [ small, api, port ] } }
    level: { value: { get_property: [ large, size ] } }
    boxes: { value: { get_nodes_of_type: own.App } }
`

func TestTemplatesAreChosenAndMapped(t *testing.T) {
	d, diags := boxes(t, boxed)
	require.NotNil(t, d, diags.Error())
	assert.Empty(t, diags)
	require.Len(t, d.Substituted, 2)
	assert.Equal(t, []string{"small.h", "small.app"}, d.Substituted[0].Parts)
	assert.Equal(t, []string{"large.h", "large.app", "large.second"}, d.Substituted[1].Parts, "the filter of large.yaml lets it stand for the large one")
	assert.NotNil(t, d.Node("large.second"))
	assert.Nil(t, d.Node("small.second"))
	assert.Nil(t, d.Node("small"), "the node itself is gone")

	small, large := d.Node("small.app"), d.Node("large.app")
	assert.Equal(t, int64(90), small.Properties["port"], "a property of the same name")
	assert.Equal(t, int64(1), small.Properties["level"], "a property mapped to another input")
	assert.Equal(t, int64(5), large.Properties["level"])
	feeds := map[string]string{}
	for _, n := range d.Nodes {
		for _, r := range n.Relations {
			if r.Name == "feed" {
				feeds[n.Name] = r.Target.Name
				assert.Equal(t, Connects, r.Order)
				assert.Equal(t, "api", r.Capability)
			}
		}
	}
	assert.Equal(t, map[string]string{"small.app": "gauge", "large.app": "small.app", "page": "large.app"}, feeds, "into and out of templates")
	start := small.Operations.Own("start")
	assert.Equal(t, []Argument{{"TAG", "outer"}, {"FROM", Deferred{"get_attribute", []any{"gauge", "api.ip_address"}}}}, start.Inputs[:2])
	waits := 0
	for _, r := range append(small.Relations, d.Node("small.h").Relations...) {
		if r.Name == "dependency" && r.Target.Name == "host" {
			waits++
		}
	}
	assert.Equal(t, 2, waits, "what the node depends on, all of its parts do")

	out := map[string]any{}
	for _, o := range d.Outputs {
		out[o.Name] = o.Value
	}
	assert.Equal(t, Deferred{"get_attribute", []any{"large.app", "api.ip_address"}}, out["where"])
	assert.Equal(t, int64(81), out["port"], "the capability of the part it is mapped to")
	assert.Equal(t, int64(5), out["level"])
	assert.Equal(t, []any{"gauge", "small.app", "large.app", "page"}, out["boxes"])
	assert.Equal(t, "boxes", large.Service)
	assert.Equal(t, []string{"large.h", "large.app", "large.second"}, d.Rules[0].Targets, "a policy over the node covers its parts")
}

// TestManyNeedsOfWhatATemplateStandsFor writes down a design in which boxes need several things, of which some are led to their parts and some order all of these.
func TestManyNeedsOfWhatATemplateStandsFor(t *testing.T) {
	d, diags := boxes(t, `  node_templates:
    host: { type: Compute }
    gauge: { type: own.App, requirements: [ host: host ] }
    other: { type: own.App, requirements: [ host: host ] }
    first: { type: own.Box, directives: [ substitute ], requirements: [ dependency: host, feed: gauge, dependency: gauge, feed: other ] }
    second: { type: own.Box, directives: [ substitute ], properties: { size: 7 }, requirements: [ dependency: first, feed: first, feed: other, dependency: other ] }
    page: { type: own.App, requirements: [ dependency: second, host: host, feed: second, feed: first ] }
    last: { type: own.App, requirements: [ host: host, dependency: first ] }
  workflows:
    one: { steps: { a: { target: page, activities: [ delegate: deploy ] } } }
    two: { steps: { a: { target: gauge, activities: [ delegate: deploy ], on_success: [ b ] }, b: { target: last, activities: [ set_state: error ] } } }
  policies:
    - keep: { type: andamio.policies.Allow, targets: [ gauge, page ], properties: { sites: [ vega ] } }
`)
	require.NotNil(t, d, diags.Error())
	golden.Is(t, "testdata/many-needs.txt", diags.Error()+"\n"+written(d))
	assert.True(t, d.Rules[0].Covers("page"))
	assert.True(t, d.Rules[0].Covers("gauge"))
	assert.False(t, d.Rules[0].Covers("host"))

	d, diags = boxes(t, "  node_templates:\n    host: { type: Compute }\n    gauge: { type: own.App, requirements: [ host: host ] }\n    small: { type: own.Box, directives: [ substitute ], requirements: [ dependency: host, feed: gauge, drain: gauge ] }\n")
	assert.Nil(t, d)
	require.Equal(t, 1, diags.Errors(), "once, though it has two parts: %s", diags.Error())
	assert.Contains(t, diags.Error(), `maps the requirement "drain" to none of its nodes`)
}

func TestSubstitutionRefuses(t *testing.T) {
	_, diags := boxes(t, `  node_templates:
    host: { type: Compute }
    vol: { type: BlockStorage, properties: { size: 1 GB } }
    keeps: { type: Compute, requirements: [ local_storage: { node: vol, relationship: { type: AttachesTo, properties: { location: /srv } } } ] }
    gauge: { type: own.App, requirements: [ host: host ] }
    a: { type: own.Box, directives: [ substitute ], requirements: [ feed: gauge ] }
    a.h: { type: Compute }
`)
	require.Len(t, diags, 1)
	assert.Equal(t, tosca.CodeName, diags[0].Code, "a part would have the name of another node")
	_, diags = boxes(t, `  node_templates:
    host: { type: Compute }
    gauge: { type: own.App, requirements: [ host: host ] }
    a: { type: own.Box, directives: [ substitute ], requirements: [ feed: gauge ] }
  outputs: { o: { value: { get_operation_output: [ a, Standard, create, X ] } } }
`)
	require.Len(t, diags, 1, diags.Error())
	assert.Contains(t, diags[0].Message, "a template stands for a")
}

func TestATemplateThatStandsForANodeIsNotRaisedAlone(t *testing.T) {
	tmpl, diags := tosca.Read("part.yaml", func(name string) ([]byte, error) {
		return []byte(`tosca_definitions_version: tosca_simple_yaml_1_3
node_types:
  own.Box: { derived_from: tosca.nodes.Root, requirements: [ feed: { capability: tosca.capabilities.Node } ] }
  own.App: { derived_from: tosca.nodes.SoftwareComponent, requirements: [ feed: { capability: tosca.capabilities.Node } ] }
topology_template:
  substitution_mappings: { node_type: own.Box, requirements: { feed: [ app, feed ] } }
  node_templates:
    h: { type: Compute }
    app: { type: own.App, requirements: [ host: h ] }
`), nil
	})
	require.Empty(t, diags, diags.Error())
	d, _ := Build(tmpl, nil, Options{Partial: true, NoSites: true})
	assert.NotNil(t, d, "it can be checked by itself")
	_, diags = Build(tmpl, nil, Options{})
	require.Len(t, diags, 1)
	assert.Contains(t, diags[0].Message, "which only the node is given that this template stands for")
}

func TestRequirementsAreSearchedByCount(t *testing.T) {
	d, diags := boxes(t, `  node_templates:
    host: { type: Compute }
    one: { type: own.App, requirements: [ host: host ], properties: { level: 1 } }
    two: { type: own.App, requirements: [ host: host ], properties: { level: 2 } }
    three: { type: own.App, requirements: [ host: host ], properties: { level: 3 } }
    page:
      type: own.App
      requirements:
        - host: host
        - feed: { node: own.App, occurrences: [ 2, 2 ], node_filter: { properties: [ level: { in_range: [ 1, 3 ] } ] } }
`)
	require.NotNil(t, d, diags.Error())
	var fed []string
	for _, r := range d.Node("page").Relations {
		if r.Name == "feed" {
			fed = append(fed, r.Target.Name)
		}
	}
	assert.Equal(t, []string{"one", "two"}, fed)
	assert.Contains(t, d.Notes[0], "the first of 3 nodes that could")
}

func TestTokensArePartedByAnyCharacter(t *testing.T) {
	for _, c := range []struct {
		text, by string
		index    int
		want     string
		ok       bool
	}{{"a:b/c", ":/", 2, "c", true}, {"a::b", ":", 1, "", true}, {"a", ":", 0, "a", true}, {"a:b", ":", 2, "", false}, {"a:b", ":", -1, "", false}, {"übé", "b", 1, "é", true}, {"", ":", 0, "", true}} {
		got, ok := Token(c.text, c.by, c.index)
		assert.Equal(t, c.ok, ok, c)
		assert.Equal(t, c.want, got, c)
	}
}

func TestWhatIsSelectedIsKnownEverywhere(t *testing.T) {
	const text = `tosca_definitions_version: tosca_simple_yaml_1_3
topology_template:
  node_templates:
    early: { type: network.Network, properties: { cidr: { get_property: [ lan, cidr ] }, network_name: { get_property: [ lan, network_name ] } } }
    lan: { type: network.Network, directives: [ selectable ], properties: { network_name: office } }
    copy: { type: network.Network, properties: { ip_version: { get_property: [ lan, ip_version ] } } }
  outputs: { id: { value: { get_attribute: [ lan, "site.id" ] } } }
`
	_, diags := tosca.Read("t.yaml", func(string) ([]byte, error) { return []byte(text), nil })
	require.Len(t, diags, 1, "the type does not declare site.id")
	tmpl, diags := tosca.Read("t.yaml", func(string) ([]byte, error) {
		return []byte(strings.Replace(text, `[ lan, "site.id" ]`, "[ lan, gateway_ip ]", 1)), nil
	})
	require.Empty(t, diags, diags.Error())
	lans := []Existing{
		{Name: "attic", Type: "tosca.nodes.network.Network", Site: "vega", Properties: map[string]any{"network_name": "attic", "cidr": "10.8.0.0/24"}},
		{Name: "office", Type: "tosca.nodes.network.Network", Site: "vega", Properties: map[string]any{"network_name": "office", "cidr": "10.9.0.0/24", "ip_version": int64(6)}, Attributes: map[string]string{"gateway_ip": "10.9.0.1"}},
	}
	d, diags := Build(tmpl, nil, Options{Standing: lans})
	require.NotNil(t, d, diags.Error())
	assert.Equal(t, "10.9.0.0/24", d.Node("early").Properties["cidr"], "though it stands further down")
	assert.Equal(t, "office", d.Node("early").Properties["network_name"])
	assert.Equal(t, int64(6), d.Node("copy").Properties["ip_version"], "what stands goes before the type's default")
	assert.Equal(t, "10.9.0.1", d.Outputs[0].Value)
	assert.Equal(t, "office", d.Node("lan").Standing.Name, "its properties choose too")
	d, diags = Build(tmpl, nil, Options{Standing: lans[:1]})
	assert.Nil(t, d)
	require.Len(t, diags, 1, "said once: %s", diags.Error())
	assert.Contains(t, diags[0].Message, "its filter rules out attic")
	d, diags = Build(tmpl, nil, Options{NoSites: true})
	require.NotNil(t, d, diags.Error())
	assert.Equal(t, Deferred{"get_attribute", []any{"lan", "cidr"}}, d.Node("early").Properties["cidr"])
}
