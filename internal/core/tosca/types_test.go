package tosca

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheProfileHasTheNormativeTypes(t *testing.T) {
	ts := builtins()
	for kind, names := range map[TypeKind][]string{
		NodeTypes: {"tosca.nodes.Root", "tosca.nodes.Abstract.Compute", "tosca.nodes.Compute", "tosca.nodes.SoftwareComponent", "tosca.nodes.WebServer",
			"tosca.nodes.WebApplication", "tosca.nodes.DBMS", "tosca.nodes.Database", "tosca.nodes.Abstract.Storage", "tosca.nodes.Storage.ObjectStorage",
			"tosca.nodes.Storage.BlockStorage", "tosca.nodes.Container.Runtime", "tosca.nodes.Container.Application", "tosca.nodes.LoadBalancer",
			"tosca.nodes.network.Network", "tosca.nodes.network.Port"},
		RelationshipTypes: {"tosca.relationships.Root", "tosca.relationships.DependsOn", "tosca.relationships.HostedOn", "tosca.relationships.ConnectsTo",
			"tosca.relationships.AttachesTo", "tosca.relationships.RoutesTo", "tosca.relationships.network.LinksTo", "tosca.relationships.network.BindsTo"},
		CapabilityTypes: {"tosca.capabilities.Root", "tosca.capabilities.Node", "tosca.capabilities.Compute", "tosca.capabilities.Network",
			"tosca.capabilities.Storage", "tosca.capabilities.Container", "tosca.capabilities.Endpoint", "tosca.capabilities.Endpoint.Public",
			"tosca.capabilities.Endpoint.Admin", "tosca.capabilities.Endpoint.Database", "tosca.capabilities.Attachment", "tosca.capabilities.OperatingSystem",
			"tosca.capabilities.Scalable", "tosca.capabilities.network.Bindable", "tosca.capabilities.network.Linkable"},
		InterfaceTypes: {"tosca.interfaces.Root", "tosca.interfaces.node.lifecycle.Standard", "tosca.interfaces.relationship.Configure"},
		PolicyTypes:    {"tosca.policies.Root", "tosca.policies.Placement", "tosca.policies.Scaling", "tosca.policies.Update", "tosca.policies.Performance"},
	} {
		for _, name := range names {
			assert.NotNil(t, ts.Find(kind, name), name)
		}
	}
	assert.Equal(t, ts.Find(NodeTypes, "tosca.nodes.Compute"), ts.Find(NodeTypes, "Compute"))
	assert.Equal(t, ts.Find(NodeTypes, "tosca.nodes.Compute"), ts.Find(NodeTypes, "tosca:Compute"))
	assert.True(t, ts.Derives(NodeTypes, "tosca.nodes.DBMS", "tosca.nodes.Root"))
	assert.False(t, ts.Derives(NodeTypes, "tosca.nodes.Root", "tosca.nodes.DBMS"))
	assert.False(t, ts.Derives(NodeTypes, "nobody", "tosca.nodes.Root"))
}

const derived = header + `
capability_types:
  own.Api:
    derived_from: tosca.capabilities.Endpoint
    properties: { depth: { type: integer, default: 1 } }
interface_types:
  own.Care: { derived_from: tosca.interfaces.Root, operations: { water: {}, prune: {} } }
node_types:
  own.Base:
    derived_from: tosca.nodes.SoftwareComponent
    metadata: { colour: blue }
    properties:
      size: { type: integer, constraints: [ in_range: [ 1, 10 ] ] }
      label: { type: string, default: base }
    attributes: { warmth: { type: float } }
    capabilities: { api: { type: own.Api } }
    interfaces: { Care: { type: own.Care, inputs: { A: 1 }, operations: { water: ok.sh } } }
  own.Child:
    derived_from: own.Base
    properties:
      size: { type: integer, default: 4, constraints: [ less_than: 6 ] }
    capabilities: { api: { type: own.Api, properties: { depth: { type: integer, default: 2 } } } }
    interfaces: { Care: { operations: { prune: ok.sh } } }
`

func TestDerivationInheritsAndRefines(t *testing.T) {
	tmpl, diags := read(derived)
	require.Empty(t, diags, diags.Error())
	child := tmpl.Types.Find(NodeTypes, "own.Child")
	assert.Equal(t, "blue", child.Metadata["colour"])
	assert.Equal(t, "base", Show(child.Property("label").Default.Plain()))
	assert.Len(t, child.Property("size").Constraints, 2, "both the parent's and its own hold")
	assert.NotNil(t, child.Attribute("warmth"))
	assert.NotNil(t, child.Attribute("label"), "every property is an attribute too")
	assert.NotNil(t, child.Requirement("host"))
	care := child.Interface("Care")
	assert.Equal(t, "own.Care", care.Type)
	assert.Equal(t, "ok.sh", care.Operation("water").Script)
	assert.Equal(t, "ok.sh", care.Operation("prune").Script)
	assert.Len(t, care.Inputs, 1)
	depth := find(tmpl.Types.CapabilityProperties(child.Capability("api")), "depth")
	assert.Equal(t, int64(2), depth.Default.Literal)
	base := tmpl.Types.Find(NodeTypes, "own.Base")
	assert.Len(t, base.Property("size").Constraints, 1, "the parent stays as it was")
	assert.Empty(t, base.Interface("Care").Operation("prune").Script)
}

func TestInheritedConstraintsHold(t *testing.T) {
	_, diags := read(derived + "topology_template:\n  node_templates:\n    h: { type: Compute }\n    c: { type: own.Child, properties: { size: 8 }, requirements: [ host: h ] }\n")
	require.Len(t, diags, 1, diags.Error())
	assert.Contains(t, diags[0].Message, "size is 8, and must be: < 6")
}

func TestTypesThatCannotBe(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		code Code
		says string
	}{
		"three in a circle":    {"node_types:\n  a.A: {derived_from: a.B}\n  a.B: {derived_from: a.C}\n  a.C: {derived_from: a.A}\n", CodeTypeCycle, "derives from itself"},
		"unknown parent":       {"node_types:\n  a.A: {derived_from: tosca.nodes.Computer}\n", CodeUnknownType, `did you mean "tosca.nodes.Compute"?`},
		"unknown capability":   {"node_types:\n  a.A: {derived_from: tosca.nodes.Root, capabilities: {x: own.Nothing}}\n", CodeUnknownType, "capability type"},
		"unknown requirement":  {"node_types:\n  a.A: {derived_from: tosca.nodes.Root, requirements: [x: {capability: tosca.capabilities.Node, node: a.Z}]}\n", CodeUnknownType, "node type"},
		"unknown relationship": {"node_types:\n  a.A: {derived_from: tosca.nodes.Root, requirements: [x: {capability: tosca.capabilities.Node, relationship: a.Z}]}\n", CodeUnknownType, "relationship type"},
		"unknown interface":    {"node_types:\n  a.A: {derived_from: tosca.nodes.Root, interfaces: {I: {type: a.I}}}\n", CodeUnknownType, "interface type"},
		"bad occurrences":      {"node_types:\n  a.A: {derived_from: tosca.nodes.Root, requirements: [x: {capability: tosca.capabilities.Node, occurrences: [2, 1]}]}\n", CodeShape, "the lower first"},
		"requirement as a map": {"node_types:\n  a.A: {derived_from: tosca.nodes.Root, requirements: {x: y}}\n", CodeShape, "requirements is a list"},
		"a list of types":      {"node_types: [a]\n", CodeShape, "node_types is a mapping"},
		"a type as text":       {"node_types: {a.A: b}\n", CodeShape, "a node type is a mapping"},
	} {
		_, diags := read(header + c.text)
		require.NotEmpty(t, diags, name)
		assert.Equal(t, c.code, diags[0].Code, "%s: %v", name, diags.Error())
		assert.Contains(t, diags[0].Error(), c.says, name)
	}
}

func TestEmptyTypesAreAllowed(t *testing.T) {
	tmpl, diags := read(header + "node_types:\n  own.Marker:\nartifact_types:\n  own.Art: { derived_from: tosca.artifacts.Root, mime_type: x/y, file_ext: [ z ] }\ngroup_types: { own.G: { derived_from: tosca.groups.Root, members: [ tosca.nodes.Root ] } }\n")
	require.Empty(t, diags, diags.Error())
	assert.NotNil(t, tmpl.Types.Find(NodeTypes, "own.Marker"))
	assert.Equal(t, []string{"tosca.nodes.Root"}, tmpl.Types.Find(GroupTypes, "own.G").ValidTargets)
}
