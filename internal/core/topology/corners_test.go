package topology

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
	"andamio/internal/golden"
)

const version13 = "tosca_definitions_version: tosca_simple_yaml_1_3\n"

// box is a node that the template part.yaml stands for.
const box = `imports: [ part.yaml ]
node_types:
  own.Box:
    derived_from: tosca.nodes.Root
    properties: { size: { type: integer, default: 1 }, label: { type: string, required: false } }
    attributes: { where: { type: string }, lost: { type: string } }
    capabilities: { api: { type: Endpoint, properties: { port: { type: PortDef, default: 80 } } } }
    requirements: [ needs: { capability: Endpoint, occurrences: [ 0, 1 ] } ]
  own.User:
    derived_from: SoftwareComponent
    properties: { text: { type: string, required: false }, tags: { type: map, entry_schema: string, default: { a: b } }, list: { type: list, entry_schema: string, default: [ x, y ] } }
    attributes: { key: { type: string } }
    requirements: [ feed: { capability: Endpoint, relationship: ConnectsTo, occurrences: [ 0, 1 ] } ]
`

// user is software on a host beside a box, with inputs of an operation.
func user(inputs ...string) string {
	return version13 + box + `topology_template:
  node_templates:
    host: { type: Compute }
    thing: { type: own.Box, directives: [ substitute ] }
    reader:
      type: own.User
      requirements: [ host: host, feed: thing ]
      interfaces:
        Standard:
          create:
            implementation: ok.sh
            inputs:
` + "              " + strings.Join(inputs, "\n              ") + "\n"
}

// corner is a template that is seldom written, and with what it is worked out.
type corner struct {
	text    string
	options Options
}

func corners() map[string]corner {
	bare := func(text string) corner { return corner{text: version13 + text} }
	read := func(inputs ...string) corner { return corner{text: user(inputs...)} }
	return map[string]corner{
		"software on no compute node": bare(`node_types:
  own.Free: { derived_from: SoftwareComponent, requirements: [ host: { capability: Compute, relationship: HostedOn, occurrences: [ 0, 1 ] } ] }
topology_template:
  node_templates:
    app: { type: own.Free, interfaces: { Standard: { create: ok.sh } } }
`),
		"operations and no instance": bare(`node_types: { own.Thing: { derived_from: tosca.nodes.Root } }
topology_template:
  node_templates:
    thing: { type: own.Thing, interfaces: { Standard: { create: ok.sh } } }
`),
		"a count that is known too late": bare(`topology_template:
  node_templates:
    a: { type: Compute }
    b: { type: Compute, capabilities: { scalable: { properties: { min_instances: 1, max_instances: 3, default_instances: { get_attribute: [ a, private_address ] } } } } }
`),
		"a count out of its bounds": bare(`topology_template:
  node_templates:
    b: { type: Compute, capabilities: { scalable: { properties: { min_instances: 2, max_instances: 3, default_instances: 5 } } } }
    c: { type: Compute, capabilities: { scalable: { properties: { min_instances: 2, max_instances: 3 } } } }
`),
		"an input of a workflow": bare(`topology_template:
  inputs: { n: { type: integer, default: 7 }, m: { type: integer, default: 8 } }
  node_templates:
    host: { type: Compute }
    app: { type: SoftwareComponent, requirements: [ host: host ], interfaces: { Standard: { create: ok.sh } } }
  workflows:
    again:
      inputs: { n: { type: integer, default: 2 }, o: { type: integer, default: 3 } }
      steps:
        first: { target: app, activities: [ call_operation: { operation: Standard.create, inputs: { N: { get_input: n }, M: { get_input: m } } } ] }
`),
		"nobody is meant": bare(`topology_template:
  node_templates:
    host: { type: Compute }
  outputs:
    o: { value: { get_attribute: [ SELF, private_address ] } }
    p: { value: { get_attribute: [ HOST, private_address ] } }
`),
		"an attribute of what is stood for":       read("A: { get_attribute: [ thing, where ] }", "B: { get_attribute: [ thing, api, ip_address ] }", "C: { get_attribute: [ reader, feed, ip_address ] }", "D: { get_property: [ thing, size ] }", "E: { get_property: [ thing, api, port ] }"),
		"an attribute that the template has not":  read("A: { get_attribute: [ thing, lost ] }"),
		"a property that nobody gave":             read("A: { get_property: [ thing, label ] }"),
		"an output of what is stood for":          read("A: { get_operation_output: [ thing, Standard, create, KEY ] }"),
		"an output of an operation that is none":  read("A: { get_operation_output: [ reader, Standard, nothing, KEY ] }"),
		"an output of the host's operation":       read("A: { get_operation_output: [ HOST, Standard, create, KEY ] }"),
		"an output of nobody's operation":         read("A: { get_operation_output: [ HOST, Other, create, KEY ] }"),
		"a text that is not cut":                  read(`A: { token: [ "a-b", "", 0 ] }`),
		"a text that is cut":                      read(`A: { token: [ "a-b_c", "-_", 1 ] }`, `B: { token: [ "a--b", "-", 1 ] }`, `C: { token: [ "äöü", "ö", 1 ] }`),
		"a part that is not there":                read(`A: { token: [ "a-b", "-", 2 ] }`),
		"a part before the first":                 read(`A: { token: [ "a-b", "-", -1 ] }`),
		"deep in a value":                         read("A: { get_property: [ SELF, tags, a ] }", "B: { get_property: [ SELF, list, 1 ] }"),
		"deeper than a value":                     read("A: { get_property: [ SELF, tags, a, b ] }"),
		"beyond a list":                           read("A: { get_property: [ SELF, list, 2 ] }"),
		"before a list":                           read("A: { get_property: [ SELF, list, -1 ] }"),
		"joined":                                  read(`A: { concat: [ { get_attribute: [ host, private_address ] }, ":", 80 ] }`, `B: { join: [ { get_property: [ SELF, list ] }, "+" ] }`, `C: { join: [ [ { get_attribute: [ host, private_address ] }, b ], "," ] }`),
		"joined of what is none":                  read(`A: { concat: [ { get_property: [ SELF, tags ] }, x ] }`),
		"a file that is none":                     read("A: { get_artifact: [ SELF, nothing ] }"),
		"through a requirement that is not given": read("A: { get_attribute: [ thing, needs, ip_address ] }"),
		"a file of the type": bare(`node_types: { own.Filed: { derived_from: SoftwareComponent, artifacts: { data: { type: tosca.artifacts.File, file: ok.sh } } } }
topology_template:
  node_templates:
    host: { type: Compute }
    app: { type: own.Filed, requirements: [ host: host ], interfaces: { Standard: { create: { implementation: ok.sh, inputs: { A: { get_artifact: [ SELF, data ] }, B: { get_artifact: [ SELF, data, /etc/data ] }, C: { get_artifact: [ SELF, data, LOCAL_FILE ] } } } } } }
`),
		"none of many fits": bare(`topology_template:
  node_templates:
` + func() (out string) {
			for i := range 9 {
				out += fmt.Sprintf("    h%d: { type: Compute, capabilities: { host: { properties: { num_cpus: %d } } } }\n", i, i+1)
			}
			return out
		}() + `    app: { type: SoftwareComponent, requirements: [ host: { node_filter: { capabilities: [ host: { properties: [ num_cpus: { greater_than: 20 } ] } ] } } ] }
`),
		"one of many fits": bare(`topology_template:
  node_templates:
    a: { type: Compute }
    b: { type: Compute, capabilities: { host: { properties: { num_cpus: 4 } } } }
    c: { type: Compute, capabilities: { host: { properties: { num_cpus: 8 } } } }
    app: { type: SoftwareComponent, requirements: [ host: { node_filter: { capabilities: [ host: { properties: [ num_cpus: { greater_or_equal: 4 } ] } ] } } ] }
`),
		"what stands is taken": {version13 + `topology_template:
  node_templates:
    lan: { type: tosca.nodes.network.Network, directives: [ select ], node_filter: { properties: [ network_name: { equal: gauges } ] } }
    host: { type: Compute }
    port: { type: tosca.nodes.network.Port, requirements: [ binding: host, link: lan ] }
`, Options{Standing: []Existing{{Name: "s1", Type: "tosca.nodes.Compute", Site: "vega"}, {Name: "s2", Type: "tosca.nodes.network.Network", Site: "vega", Properties: map[string]any{"network_name": "other"}},
			{Name: "s3", Type: "tosca.nodes.network.Network", Site: "vega"}, {Name: "s4", Type: "tosca.nodes.network.Network", Site: "presa", Properties: map[string]any{"network_name": "gauges"}}, {Name: "s5", Type: "tosca.nodes.network.Network", Site: "vega", Properties: map[string]any{"network_name": "gauges"}}}}},
		"nothing that stands fits": {version13 + `topology_template:
  node_templates:
    lan: { type: tosca.nodes.network.Network, directives: [ select ], node_filter: { properties: [ network_name: { equal: gauges } ] } }
`, Options{Standing: []Existing{{Name: "s2", Type: "tosca.nodes.network.Network", Site: "vega", Properties: map[string]any{"network_name": "other"}}, {Name: "s1", Type: "tosca.nodes.Compute", Site: "vega"}}}},
		"nothing stands": {version13 + `topology_template:
  node_templates:
    lan: { type: tosca.nodes.network.Network, directives: [ select ] }
`, Options{}},
		"an input without a value": bare(`topology_template:
  inputs: { name: { type: string }, key: { type: string, metadata: { secret: "true" } } }
  node_templates:
    host: { type: Compute }
    app: { type: SoftwareComponent, requirements: [ host: host ], interfaces: { Standard: { create: { implementation: ok.sh, inputs: { A: { get_input: name }, K: { get_input: key } } } } } }
`),
		"an input without a value, in part": {version13 + `topology_template:
  inputs: { name: { type: string }, key: { type: string, metadata: { secret: "true" } } }
  node_templates:
    host: { type: Compute }
    app: { type: SoftwareComponent, requirements: [ host: host ], interfaces: { Standard: { create: { implementation: ok.sh, inputs: { A: { get_input: name }, K: { get_input: key } } } } } }
`, Options{Partial: true}},
	}
}

// TestCornersAreAsRecorded writes down what seldom written templates come to: the design, or what is said of it.
func TestCornersAreAsRecorded(t *testing.T) {
	all := corners()
	var out strings.Builder
	for _, name := range slices.Sorted(maps.Keys(all)) {
		c := all[name]
		open := func(file string) ([]byte, error) {
			if file == "template.yaml" {
				return []byte(c.text), nil
			}
			return os.ReadFile(filepath.Join("testdata/lib", file))
		}
		tmpl, diags := tosca.Read("template.yaml", open)
		var d *Design
		if diags.Errors() == 0 {
			var found tosca.Diagnostics
			d, found = Build(tmpl, nil, c.options)
			diags = append(diags, found...)
			if diags.Errors() > 0 {
				d = nil
			}
		}
		require.True(t, d != nil || diags.Errors() > 0, name)
		fmt.Fprintf(&out, "== %s\n%s", name, recorded(d, diags))
	}
	golden.Is(t, "testdata/corners.txt", out.String())
}
