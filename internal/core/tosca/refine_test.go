package tosca

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// refined reads a type whose property n derives from a parent's with other constraints, or another type.
func refined(parent, own string) Diagnostics {
	_, diags := read(header + fmt.Sprintf(`data_types:
  own.Small: { derived_from: integer, constraints: [ less_than: 10 ] }
  own.Spot: { properties: { name: { type: string } } }
  own.Deep: { derived_from: own.Spot, properties: { depth: { type: float, default: 1 } } }
node_types:
  own.A: { derived_from: tosca.nodes.Root, properties: { n: { %s } } }
  own.B: { derived_from: own.A, properties: { n: { %s } } }
`, parent, own))
	return diags
}

func TestPropertiesNarrowAndNeverWiden(t *testing.T) {
	for _, c := range []struct {
		parent, own string
		widens      bool
	}{
		{"type: integer", "type: own.Small", false},
		{"type: own.Small", "type: integer", true},
		{"type: own.Spot", "type: own.Deep", false},
		{"type: own.Deep", "type: own.Spot", true},
		{"type: string", "type: integer", true},
		{"type: integer", "description: only said anew", false},
		{"type: integer, required: false", "type: integer, required: true", false},
		{"type: integer, required: true", "type: integer, required: false", true},
		{"type: integer, required: true", "type: integer, default: 3", false},
		{"type: list, entry_schema: integer", "type: list, entry_schema: own.Small", false},
		{"type: list, entry_schema: own.Small", "type: list, entry_schema: integer", true},
		{"type: integer, constraints: [ in_range: [ 1, 8 ] ]", "type: integer, constraints: [ in_range: [ 2, 8 ] ]", false},
		{"type: integer, constraints: [ in_range: [ 1, 8 ] ]", "type: integer, constraints: [ in_range: [ 1, UNBOUNDED ] ]", true},
		{"type: integer, constraints: [ in_range: [ 1, UNBOUNDED ] ]", "type: integer, constraints: [ in_range: [ 1, 800 ] ]", false},
		{"type: integer, constraints: [ in_range: [ 1, 8 ] ]", "type: integer, constraints: [ equal: 8 ]", false},
		{"type: integer, constraints: [ in_range: [ 1, 8 ] ]", "type: integer, constraints: [ equal: 9 ]", true},
		{"type: integer, constraints: [ greater_than: 3 ]", "type: integer, constraints: [ greater_than: 3 ]", false},
		{"type: integer, constraints: [ greater_than: 3 ]", "type: integer, constraints: [ greater_or_equal: 3 ]", true},
		{"type: integer, constraints: [ less_or_equal: 3 ]", "type: integer, constraints: [ less_than: 3 ]", false},
		{"type: string, constraints: [ valid_values: [ a, b ] ]", "type: string, constraints: [ valid_values: [ b ] ]", false},
		{"type: string, constraints: [ valid_values: [ a, b ] ]", "type: string, constraints: [ valid_values: [ b, c ] ]", true},
		{"type: string, constraints: [ max_length: 5 ]", "type: string, constraints: [ max_length: 4 ]", false},
		{"type: string, constraints: [ max_length: 5 ]", "type: string, constraints: [ max_length: 6 ]", true},
		{"type: string, constraints: [ max_length: 5 ]", "type: string, constraints: [ min_length: 2 ]", false},
		{"type: string, constraints: [ min_length: 2 ]", "type: string, constraints: [ length: 1 ]", true},
		{"type: string, constraints: [ length: 3 ]", "type: string, constraints: [ length: 3 ]", false},
		{"type: string, constraints: [ pattern: \"a.*\" ]", "type: string, constraints: [ pattern: \".*\" ]", false},
		{"type: scalar-unit.size, constraints: [ greater_or_equal: 1 GB ]", "type: scalar-unit.size, constraints: [ greater_or_equal: 1 GiB ]", false},
		{"type: scalar-unit.size, constraints: [ greater_or_equal: 1 GiB ]", "type: scalar-unit.size, constraints: [ greater_or_equal: 1 GB ]", true},
	} {
		diags := refined(c.parent, c.own)
		if !c.widens {
			assert.Empty(t, diags, "%s → %s: %s", c.parent, c.own, diags.Error())
			continue
		}
		require.Len(t, diags, 1, "%s → %s: %s", c.parent, c.own, diags.Error())
		assert.Equal(t, CodeWidened, diags[0].Code)
		assert.NotNil(t, diags[0].Related, "it names what is contradicted")
	}
}

// A range in a range narrows, any other widens; and whatever is accepted, both sets of constraints hold of the values.
func TestRangesNarrow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		low, high := rapid.IntRange(0, 50).Draw(t, "low"), rapid.IntRange(50, 99).Draw(t, "high")
		a, b := rapid.IntRange(0, 99).Draw(t, "a"), rapid.IntRange(0, 99).Draw(t, "b")
		a, b = min(a, b), max(a, b)
		diags := refined(fmt.Sprintf("type: integer, constraints: [ in_range: [ %d, %d ] ]", low, high), fmt.Sprintf("type: integer, constraints: [ in_range: [ %d, %d ] ]", a, b))
		if inside := a >= low && b <= high; inside != (len(diags) == 0) {
			t.Fatalf("[%d, %d] in [%d, %d]: %s", a, b, low, high, diags.Error())
		}
	})
}

func TestOtherDeclarationsNarrow(t *testing.T) {
	const parent = header + `interface_types:
  own.Care: { derived_from: tosca.interfaces.Root, operations: { clean: {} } }
  own.Other: { derived_from: tosca.interfaces.Root, operations: { clean: {} } }
relationship_types:
  own.Feeds: { derived_from: tosca.relationships.ConnectsTo, valid_target_types: [ tosca.capabilities.Endpoint.Database ] }
capability_types:
  own.Cap: { derived_from: tosca.capabilities.Endpoint, valid_source_types: [ tosca.nodes.SoftwareComponent ] }
group_types:
  own.Group: { derived_from: tosca.groups.Root, members: [ tosca.nodes.SoftwareComponent ] }
node_types:
  own.A: { derived_from: tosca.nodes.Root, interfaces: { Care: { type: own.Care } }, attributes: { level: { type: integer } } }
`
	for extra, wrong := range map[string]bool{
		"  own.B: { derived_from: own.A, interfaces: { Care: { operations: { clean: {} } } } }\n":                                                                false,
		"  own.B: { derived_from: own.A, interfaces: { Care: { type: own.Other } } }\n":                                                                          true,
		"  own.B: { derived_from: own.A, attributes: { level: { type: string } } }\n":                                                                            true,
		"relationship_types:\n  own.More: { derived_from: own.Feeds, valid_target_types: [ tosca.capabilities.Endpoint ] }\n":                                    true,
		"capability_types:\n  own.Cap2: { derived_from: own.Cap, valid_source_types: [ tosca.nodes.DBMS ] }\n":                                                   false,
		"capability_types:\n  own.Cap2: { derived_from: own.Cap, valid_source_types: [ tosca.nodes.Compute ] }\n":                                                true,
		"group_types:\n  own.Group2: { derived_from: own.Group, members: [ tosca.nodes.Compute ] }\n":                                                            true,
		"  own.B: { derived_from: tosca.nodes.Compute, capabilities: { scalable: { type: tosca.capabilities.Scalable, occurrences: [ 1, 1 ] } } }\n":             false,
		"  own.B: { derived_from: tosca.nodes.WebServer, capabilities: { data_endpoint: { type: tosca.capabilities.Endpoint.Admin } } }\n":                       false,
		"  own.B: { derived_from: tosca.nodes.Compute, capabilities: { endpoint: { type: tosca.capabilities.Endpoint } } }\n":                                    true,
		"  own.B: { derived_from: tosca.nodes.Compute, capabilities: { endpoint: { properties: { secure: { type: boolean, default: true } } } } }\n":             false,
		"  own.B: { derived_from: tosca.nodes.Database, capabilities: { database_endpoint: { properties: { port: { constraints: [ greater_than: 0 ] } } } } }\n": true,
	} {
		text := parent + extra
		if extra[0] != ' ' { // another section of types: an import brings it
			_, diags := Read("t.yaml", files(map[string]string{"t.yaml": parent + "", "u.yaml": ""}))
			require.Empty(t, diags, diags.Error())
			_, diags = Read("u.yaml", files(map[string]string{"t.yaml": parent, "u.yaml": header + "imports: [ t.yaml ]\n" + extra}))
			assert.Equal(t, wrong, len(diags) > 0, "%s%s", extra, diags.Error())
			continue
		}
		_, diags := read(text)
		assert.Equal(t, wrong, len(diags) > 0, "%s%s", extra, diags.Error())
		for _, d := range diags {
			assert.Contains(t, []Code{CodeWidened, CodeConstraint}, d.Code, d.Message)
		}
	}
}
