package tosca

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// topo is a topology template over a compute, a volume and a piece of software.
func topo(more string) string {
	return header + `topology_template:
  node_templates:
    host: { type: Compute, capabilities: { host: { properties: { num_cpus: 2, mem_size: 4 GiB } } } }
    vol: { type: BlockStorage, properties: { size: 1 GiB } }
    lan: { type: tosca.nodes.network.Network }
` + more
}

func TestWhatTemplatesMayNotSay(t *testing.T) {
	for name, c := range map[string]struct {
		more string
		code Code
		says string
	}{
		"fulfilled twice":          {"    app: { type: SoftwareComponent, requirements: [ host: host, host: host ] }\n", CodeUnfulfilled, "at most 1"},
		"not fulfilled":            {"    app: { type: SoftwareComponent }\n", CodeUnfulfilled, "- host: NODE, where NODE is host"},
		"wrong kind of target":     {"    nic: { type: tosca.nodes.network.Port, requirements: [ binding: vol, link: lan ] }\n", CodeMismatch, "offers no tosca.capabilities.network.Bindable"},
		"relationship of the kind": {"    h2: { type: Compute, requirements: [ local_storage: { node: vol, relationship: HostedOn } ] }\n", CodeMismatch, "cannot lead to the capability"},
		"unknown relationship":     {"    h2: { type: Compute, requirements: [ local_storage: { node: vol, relationship: HostdOn } ] }\n", CodeUnknownType, `did you mean "HostedOn"?`},
		"property of relationship": {"    h2: { type: Compute, requirements: [ local_storage: { node: vol, relationship: { type: AttachesTo } } ] }\n", CodeMissingProperty, `"location"`},
		"requirement as text":      {"    app: { type: SoftwareComponent, requirements: [ host ] }\n", CodeShape, "- host: my-server"},
		"unknown interface":        {"    h2: { type: Compute, interfaces: { Standart: {} } }\n", CodeUnknownOperation, `did you mean "Standard"?`},
		"script outside":           {"    h2: { type: Compute, interfaces: { Standard: { start: ../../x.sh } } }\n", CodeArtifact, "leads out of"},
		"capability assigned ill":  {"    h2: { type: Compute, capabilities: { host: [ ] } }\n", CodeShape, "a capability assignment is a mapping"},
		"property of capability":   {"    h2: { type: Compute, capabilities: { host: { properties: { num_cpu: 2 } } } }\n", CodeUnknownProperty, `did you mean "num_cpus"?`},
		"constraint of capability": {"    h2: { type: Compute, capabilities: { host: { properties: { num_cpus: 0 } } } }\n", CodeConstraint, "≥ 1"},
		"group of nobody":          {"  groups:\n    g: { type: tosca.groups.Root, members: [ hsot ] }\n", CodeUnknownNode, `did you mean "host"?`},
		"group of no type":         {"  groups:\n    g: { members: [ host ] }\n", CodeMissingKey, `"type"`},
		"policy over nobody":       {"  policies:\n    - p: { type: tosca.policies.Placement, targets: [ hots ] }\n", CodeUnknownNode, `did you mean "host"?`},
		"policy of unknown type":   {"  policies:\n    - p: { type: andamio.policies.Alow }\n", CodeUnknownType, `did you mean "andamio.policies.Allow"?`},
		"policy with a bad value":  {"  policies:\n    - p: { type: andamio.policies.Allow, properties: { site_kinds: [ moon ] } }\n", CodeConstraint, "one of edge, private, public"},
		"output without value":     {"  outputs:\n    o: { description: x }\n", CodeMissingKey, `"value"`},
		"unknown section":          {"  nodes: {}\n", CodeUnknownKey, "a topology template has no keyname"},
	} {
		_, diags := read(topo(c.more))
		require.NotEmpty(t, diags, name)
		assert.Equal(t, c.code, diags[0].Code, "%s: %v", name, diags.Error())
		assert.Contains(t, diags[0].Error(), c.says, name)
	}
}

func TestFunctionsAreChecked(t *testing.T) {
	for call, c := range map[string]struct {
		code Code
		says string
	}{
		"{ get_input: [ ] }":                              {CodeFunction, "is given 0 values"},
		"{ get_input: 3 }":                                {CodeFunction, "takes the name of an input"},
		"{ get_property: [ host ] }":                      {CodeFunction, "my-server, name"},
		"{ get_property: [ hots, x ] }":                   {CodeUnknownNode, `did you mean "host"?`},
		"{ get_property: [ vol, sise ] }":                 {CodeUnknownRef, `did you mean "size"?`},
		"{ get_property: [ host, host, num_cpu ] }":       {CodeUnknownRef, `did you mean "num_cpus"?`},
		"{ get_property: [ host, private_address ] }":     {CodeUnknownRef, "no property"},
		"{ get_attribute: [ host, privat_address ] }":     {CodeUnknownRef, `did you mean "private_address"?`},
		"{ get_property: [ SELF, size ] }":                {CodeFunction, "SELF means nothing here"},
		"{ concat: [ ] }":                                 {CodeFunction, "is given 0 values"},
		"{ concat: [ a, { get_property: [ vol, z ] } ] }": {CodeUnknownRef, "no property"},
	} {
		_, diags := read(topo("  outputs:\n    o: { value: " + call + " }\n"))
		require.Len(t, diags, 1, "%s: %v", call, diags.Error())
		assert.Equal(t, c.code, diags[0].Code, call)
		assert.Contains(t, diags[0].Error(), c.says, call)
	}
	for _, good := range []string{"{ get_attribute: [ host, private_address ] }", "{ get_attribute: [ vol, size ] }", "{ get_property: [ host, host, num_cpus ] }",
		"{ concat: [ a, { get_attribute: [ host, endpoint, ip_address ] } ] }", "{ a: { get_property: [ vol, size ] } }", "[ x, { y: z } ]"} {
		_, diags := read(topo("  outputs:\n    o: { value: " + good + " }\n"))
		assert.Empty(t, diags, "%s: %v", good, diags.Error())
	}
}

func TestCirclesArePrintedAsAPath(t *testing.T) {
	_, diags := read(header + "topology_template:\n  node_templates:\n" +
		"    a: { type: Compute, requirements: [ dependency: b ] }\n    b: { type: Compute, requirements: [ dependency: c ] }\n    c: { type: Compute, requirements: [ dependency: a ] }\n")
	require.Len(t, diags, 1)
	assert.Contains(t, diags[0].Message, "a → b → c → a")
}

func TestRelationshipTemplatesByName(t *testing.T) {
	tmpl, diags := read(topo(`    h2: { type: Compute, requirements: [ local_storage: { node: vol, relationship: mount } ] }
  relationship_templates:
    mount: { type: AttachesTo, properties: { location: /srv }, interfaces: { Configure: { add_target: ok.sh } } }
`))
	require.Empty(t, diags, diags.Error())
	a := tmpl.Node("h2").Requirements[0]
	assert.Equal(t, "attaches", a.Relationship.Metadata["andamio.order"])
	assert.Equal(t, "/srv", Show(a.Properties["location"].Plain()))
	assert.Equal(t, "ok.sh", a.Interfaces[0].Operation("add_target").Script)
}

func TestMistakesInTwoFilesAreAllReported(t *testing.T) {
	_, diags := Read("t.yaml", files(map[string]string{
		"t.yaml":     header + "imports: [ types.yaml, missing.yaml ]\ntopology_template:\n  node_templates:\n    a: { type: own.A, properties: { n: x } }\n",
		"types.yaml": header + "node_types:\n  own.A: { derived_from: tosca.nodes.Root, properties: { n: { type: integer } }, kapabilities: {} }\n",
	}))
	require.Len(t, diags, 3, diags.Error())
	assert.Equal(t, []string{"t.yaml:2:24", "t.yaml:5:40", "types.yaml:3:82"}, []string{diags[0].Pos.String(), diags[1].Pos.String(), diags[2].Pos.String()})
}

func TestImportsInCirclesEnd(t *testing.T) {
	_, diags := Read("a.yaml", files(map[string]string{"a.yaml": header + "imports: [ b.yaml ]\n", "b.yaml": header + "imports: [ file: a.yaml ]\n"}))
	assert.Empty(t, diags, diags.Error())
	_, diags = Read("a.yaml", files(map[string]string{"a.yaml": header + "imports: { file: b.yaml }\n"}))
	assert.Contains(t, diags.Error(), "imports is a list")
	_, diags = Read("a.yaml", files(map[string]string{"a.yaml": header + "imports: [ { file: b.yaml, namespace_prefix: x } ]\n", "b.yaml": header}))
	assert.Empty(t, diags, "a namespace is read")
}

func TestAliasesAreFollowed(t *testing.T) {
	tmpl, diags := read(header + `
dsl_definitions:
  small: &small { properties: { num_cpus: 1, mem_size: 2 GiB } }
topology_template:
  node_templates:
    a: { type: Compute, capabilities: { host: *small } }
    b: { type: Compute, capabilities: { host: *small } }
`)
	require.Empty(t, diags, diags.Error())
	assert.Equal(t, int64(1), tmpl.Node("b").Capabilities["host"]["num_cpus"].Literal)
}

func TestHostileYAMLIsRefusedQuickly(t *testing.T) {
	var bomb strings.Builder
	bomb.WriteString(header + "metadata:\n  a0: &a0 [ x, x, x, x, x, x, x, x, x, x ]\n")
	for i := 1; i < 12; i++ {
		last, this := string(rune('0'+(i-1)%10))+string(rune('a'+(i-1)/10)), string(rune('0'+i%10))+string(rune('a'+i/10))
		if i == 1 {
			last = "a0"
		} else {
			last = "k" + last
		}
		bomb.WriteString("  k" + this + ": &k" + this + " [ *" + last + strings.Repeat(", *"+last, 9) + " ]\n")
	}
	for name, text := range map[string]string{"aliases that expand": bomb.String(), "deep nesting": header + "metadata: " + strings.Repeat("[", 200) + strings.Repeat("]", 200) + "\n"} {
		_, diags := read(text)
		require.NotEmpty(t, diags, name)
		assert.Contains(t, []Code{CodeTooLarge, CodeSyntax}, diags[0].Code, "%s: %v", name, diags[0])
	}
}

func TestUnitsInDoubtAreNoMistakes(t *testing.T) {
	_, diags := read(header + "topology_template:\n  node_templates:\n    a: { type: Compute, capabilities: { host: { properties: { mem_size: 8 MiB, disk_size: 16 GB } } } }\n")
	require.Len(t, diags, 1)
	assert.Equal(t, Doubt, diags[0].Severity)
	assert.Zero(t, diags.Errors())
	assert.Equal(t, "did you mean 8 GiB?", diags[0].Hint)
}
