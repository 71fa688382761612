package topology

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
)

// called evaluates a value as an input of the operation of a service on a host, with a peer it connects to.
func called(t *testing.T, value string) (any, tosca.Diagnostics) {
	t.Helper()
	own, relative := value, "none"
	if isRelative(value) {
		own, relative = "none", value
	}
	text := `tosca_definitions_version: tosca_simple_yaml_1_3
data_types:
  own.Spot: { properties: { name: { type: string }, depths: { type: list, entry_schema: float, default: [ 1.5, 2 ] } } }
relationship_types:
  own.Feeds: { derived_from: ConnectsTo, properties: { rate: { type: integer, default: 5 }, tag: { type: string, required: false } } }
node_types:
  own.Rack: { derived_from: Compute, properties: { row: { type: integer, default: 3 } }, attributes: { serial: { type: string } } }
  own.Service:
    derived_from: SoftwareComponent
    properties: { port: { type: PortDef, default: 80 }, spot: { type: own.Spot, default: { name: dam } }, note: { type: string, required: false } }
    attributes: { key: { type: string }, alias: { type: string } }
    capabilities: { api: { type: Endpoint, properties: { port: { type: PortDef, default: 81 } } } }
    requirements: [ peer: { capability: Endpoint, relationship: own.Feeds, occurrences: [ 0, 3 ] } ]
topology_template:
  inputs:
    words: { type: list, entry_schema: string, default: [ high, water ] }
    spots: { type: map, entry_schema: own.Spot, default: { dam: { name: upper } } }
    since: { type: timestamp, default: 2026-11-23 }
    release: { type: version, default: 1.10 }
    room: { type: scalar-unit.size, default: 4 GiB }
    pin: { type: string, metadata: { secret: "true" } }
    none: { type: string, required: false }
  node_templates:
    rack: { type: own.Rack, capabilities: { host: { properties: { num_cpus: 2, mem_size: { get_input: room } } } } }
    peer: { type: own.Service, requirements: [ host: rack ], properties: { note: { concat: [ "near ", { get_property: [ SELF, spot, name ] } ] } }, attributes: { alias: { get_attribute: [ SELF, key ] }, key: fixed } }
    me:
      type: own.Service
      requirements:
        - host: rack
        - peer: { node: peer, relationship: { type: own.Feeds, properties: { tag: x }, interfaces: { Configure: { add_target: { implementation: ok.sh, inputs: { REL: ` + relative + ` } } } } } }
      interfaces: { Standard: { create: { implementation: ok.sh, outputs: { key: [ SELF, key ] } }, start: { implementation: ok.sh, inputs: { OWN: ` + own + ` } } } }
`
	tmpl, diags := tosca.Read("t.yaml", func(name string) ([]byte, error) {
		switch name {
		case "t.yaml":
			return []byte(text), nil
		case "ok.sh":
			return []byte("true\n"), nil
		}
		return nil, errors.New("no such file")
	})
	if diags.Errors() > 0 {
		return nil, diags
	}
	d, diags := Build(tmpl, nil, Options{})
	if d == nil {
		return nil, diags
	}
	me := d.Node("me")
	for _, r := range me.Relations {
		if r.Name == "peer" && isRelative(value) {
			return r.Operations.Own("add_target").Inputs[0].Value, diags
		}
	}
	return me.Operations.Own("start").Inputs[0].Value, diags
}

// isRelative reports whether a value means something only in a relationship.
func isRelative(value string) bool {
	return slices.ContainsFunc([]string{"SOURCE", "TARGET", "SELF, rate", "SELF, tag"}, func(word string) bool { return strings.Contains(value, word) })
}

func attribute(path ...any) Deferred { return Deferred{"get_attribute", path} }

func TestFunctionsAreEvaluated(t *testing.T) {
	for value, want := range map[string]any{
		"{ get_input: words }":                                                                            []any{"high", "water"},
		"{ get_input: [ words, 1 ] }":                                                                     "water",
		"{ get_input: [ spots, dam, depths, 0 ] }":                                                        1.5,
		"{ get_input: pin }":                                                                              Deferred{"get_secret", []any{"pin"}},
		"{ get_property: [ SELF, port ] }":                                                                int64(80),
		"{ get_property: [ SELF, api, port ] }":                                                           int64(81),
		"{ get_property: [ SELF, spot ] }":                                                                map[string]any{"name": "dam", "depths": []any{1.5, 2.0}},
		"{ get_property: [ SELF, spot, depths, 1 ] }":                                                     2.0,
		"{ get_property: [ SELF, host, num_cpus ] }":                                                      int64(2),
		"{ get_property: [ HOST, row ] }":                                                                 int64(3),
		"{ get_property: [ HOST, host, num_cpus ] }":                                                      int64(2),
		"{ get_property: [ SELF, peer, note ] }":                                                          "near dam",
		"{ get_property: [ SELF, peer, api, port ] }":                                                     int64(81),
		"{ get_property: [ peer, note ] }":                                                                "near dam",
		"{ get_attribute: [ SELF, key ] }":                                                                attribute("me", "key"),
		"{ get_attribute: [ HOST, serial ] }":                                                             attribute("rack", "serial"),
		"{ get_attribute: [ SELF, peer, key ] }":                                                          attribute("peer", "key"),
		"{ get_attribute: [ peer, alias ] }":                                                              attribute("peer", "alias"),
		"{ get_attribute: [ rack, networks, lan, addresses, 0 ] }":                                        attribute("rack", "networks", "lan", "addresses", "0"),
		"{ get_nodes_of_type: own.Service }":                                                              []any{"peer", "me"},
		"{ get_nodes_of_type: Compute }":                                                                  []any{"rack"},
		"{ concat: [ { get_input: [ words, 0 ] }, \" \", { get_property: [ SELF, port ] } ] }":            "high 80",
		"{ concat: [ [ a, b ] ] }":                                                                        "ab",
		"{ concat: [ a, { get_attribute: [ SELF, key ] } ] }":                                             Deferred{"concat", []any{"a", attribute("me", "key")}},
		"{ join: [ { get_input: words }, \"-\" ] }":                                                       "high-water",
		"{ join: [ [ a, { get_property: [ SELF, port ] } ] ] }":                                           "a80",
		"{ token: [ { join: [ { get_input: words }, \"/\" ] }, \"/\", 1 ] }":                              "water",
		"{ token: [ { get_attribute: [ SELF, key ] }, \":\", 0 ] }":                                       Deferred{"token", []any{attribute("me", "key"), ":", int64(0)}},
		"{ a: [ { get_input: [ words, 0 ] } ] }":                                                          map[string]any{"a": []any{"high"}},
		"{ concat: [ { get_input: since }, \" \", { get_input: release }, \" \", { get_input: room } ] }": "2026-11-23 1.10 4 GiB",
		"{ get_property: [ SOURCE, port ] }":                                                              int64(80),
		"{ get_attribute: [ TARGET, key ] }":                                                              attribute("peer", "key"),
		"{ concat: [ { get_property: [ SELF, rate ] }, { get_property: [ SELF, tag ] } ] }":               "5x",
		"{ get_attribute: [ TARGET, api, ip_address ] }":                                                  attribute("peer", "api.ip_address"),
		"{ get_property: [ rack, host, mem_size ] }":                                                      nil,
	} {
		got, diags := called(t, value)
		require.Empty(t, diags, "%s: %s", value, diags.Error())
		if want == nil {
			size, ok := got.(tosca.Scalar)
			require.True(t, ok, value)
			assert.Equal(t, float64(4<<30), size.Float())
			continue
		}
		assert.Equal(t, want, got, value)
	}
}

func TestWhatCannotBeEvaluatedIsSaidOnce(t *testing.T) {
	for value, says := range map[string]string{
		"{ get_input: [ words, 2 ] }":                 `there is nothing at "2"`,
		"{ get_input: none }":                         `the input "none" has no value`,
		"{ get_property: [ SELF, note ] }":            `me has no value for the property "note"`,
		"{ get_property: [ SELF, spot, depths, x ] }": `there is nothing at "x"`,
		"{ get_property: [ HOST, colour ] }":          "no host has what is asked for: colour",
		"{ get_property: [ peer, peer, port ] }":      "this leads to nothing",
		"{ token: [ a, \",\", 1 ] }":                  `"a" has no part 1`,
		"{ get_attribute: [ HOST, nothing ] }":        "no host has what is asked for: nothing",
	} {
		_, diags := called(t, value)
		require.NotEmpty(t, diags, value)
		assert.Contains(t, diags[0].Message, says, value)
		assert.Positive(t, diags[0].Line, value)
		assert.Len(t, diags, 1, diags.Error())
	}
}
