package tosca

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestArtifactsAreTheTypesAndTheNodes(t *testing.T) {
	tmpl, diags := Read("a/t.yaml", files(map[string]string{
		"a/t.yaml": header + `imports: [ types/t.yaml ]
topology_template:
  node_templates:
    one: { type: own.A }
    two:
      type: own.A
      artifacts:
        start: { file: mine.sh, type: tosca.artifacts.Implementation.Bash, description: Another, version: 1.2, deploy_path: /srv/x }
        image: { file: debian-12, type: tosca.artifacts.Deployment.Image.VM }
`,
		"a/types/t.yaml": header + `node_types:
  own.A:
    derived_from: Compute
    artifacts: { start: { file: run.sh, type: tosca.artifacts.Implementation.Bash }, data: lists.csv }
    interfaces: { Standard: { start: { implementation: { primary: start, dependencies: [ data, lib.sh ] } } } }
`,
		"a/types/run.sh": "echo type\n", "a/types/lists.csv": "a,b\n", "a/types/lib.sh": "", "a/mine.sh": "echo node\n",
	}))
	require.Empty(t, diags, diags.Error())
	start := func(name string) *Operation { return tmpl.Node(name).Interfaces[0].Operation("start") }
	assert.Equal(t, "a/types/run.sh", start("one").Script, "an artifact's name stands for its file")
	assert.Equal(t, "a/mine.sh", start("two").Script, "and the node's own goes before the type's")
	assert.Equal(t, []string{"a/types/lists.csv", "a/types/lib.sh"}, start("one").Dependencies)
	assert.Equal(t, []string{"a/types/lists.csv", "a/types/lib.sh"}, start("two").Dependencies)
	assert.Equal(t, "\n", string(tmpl.Artifacts["a/types/lib.sh"]), "an empty file is a file")
	mine := tmpl.Node("two").Artifact("start")
	assert.Equal(t, []string{"Another", "1.2", "/srv/x"}, []string{mine.Description, mine.Version, mine.DeployPath})
	assert.Equal(t, "debian-12", tmpl.Node("two").Artifact("image").File, "an image is the sites', and no file is looked for")
	assert.Nil(t, tmpl.Node("one").Artifact("image"))
}

func TestNamespacesKeepTypesApart(t *testing.T) {
	sources := map[string]string{
		"t.yaml": header + `imports:
  - { file: one.yaml, namespace_prefix: one }
  - { file: two.yaml, namespace_prefix: two }
  - older: { file: plain.yaml }
node_types: { Store: { derived_from: "one:Store", properties: { room: { type: integer, default: 3 } } } }
topology_template:
  node_templates:
    a: { type: "one:Store" }
    b: { type: "two:Store", properties: { kind: { name: x } } }
    c: { type: Store }
    d: { type: Plain }
`,
		"one.yaml":   header + "node_types: { Store: { derived_from: tosca.nodes.Root, properties: { room: { type: integer, default: 1 } } } }\n",
		"two.yaml":   header + "imports: [ { file: deep.yaml, namespace_prefix: deep } ]\nnode_types: { Store: { derived_from: tosca.nodes.Root, properties: { kind: { type: \"deep:Kind\" } } } }\n",
		"deep.yaml":  header + "data_types: { Kind: { properties: { name: { type: string } } } }\n",
		"plain.yaml": header + "node_types: { Plain: { derived_from: tosca.nodes.Root } }\n",
	}
	tmpl, diags := Read("t.yaml", files(sources))
	require.Empty(t, diags, diags.Error())
	names := []string{}
	for _, n := range tmpl.Nodes {
		names = append(names, n.Type.Name)
	}
	assert.Equal(t, []string{"one:Store", "two:Store", "Store", "Plain"}, names)
	assert.True(t, tmpl.Node("c").Type.Is("one:Store"))
	assert.Equal(t, int64(3), tmpl.Node("c").Type.Property("room").Default.Literal)
	assert.NotNil(t, tmpl.Types.Find(DataTypes, "two:deep:Kind"), "prefixes add up")
	sources["t.yaml"] = header + "imports: [ { file: one.yaml, namespace_prefix: one } ]\ntopology_template: { node_templates: { a: { type: Store } } }\n"
	_, diags = Read("t.yaml", files(sources))
	require.Len(t, diags, 1)
	assert.Contains(t, diags[0].Hint, `one:Store`, "the full name is suggested")
}

func TestCopiesTakeWhatTheyDoNotGive(t *testing.T) {
	tmpl, diags := read(header + `topology_template:
  node_templates:
    first:
      type: Compute
      description: The first
      metadata: { a: b }
      capabilities:
        host: { properties: { num_cpus: 1, mem_size: 1 GiB } }
        os: { properties: { type: linux } }
      requirements: [ dependency: other ]
    other: { type: Compute }
    second: { copy: first, type: Compute, capabilities: { host: { properties: { num_cpus: 2 } } } }
    third: { type: Compute, copy: first, requirements: [] }
  relationship_templates:
    plain: { type: AttachesTo, properties: { location: /srv, device: a } }
    other: { type: AttachesTo, copy: plain, properties: { location: /opt } }
`)
	require.Empty(t, diags, diags.Error())
	second, third := tmpl.Node("second"), tmpl.Node("third")
	assert.Equal(t, "The first", second.Description)
	assert.Equal(t, map[string]string{"a": "b"}, second.Metadata)
	assert.Equal(t, int64(2), second.Capabilities["host"]["num_cpus"].Literal)
	assert.Nil(t, second.Capabilities["host"]["mem_size"], "an entry that is given is given as a whole")
	assert.Equal(t, "linux", second.Capabilities["os"]["type"].Literal)
	assert.Len(t, second.Requirements, 1)
	assert.Empty(t, third.Requirements)
	assert.Equal(t, "/opt", tmpl.Relationships[1].Properties["location"].Literal)
	assert.Equal(t, "a", tmpl.Relationships[1].Properties["device"].Literal)
}

func TestValuesAreWrittenAsTemplatesHaveThem(t *testing.T) {
	for text, want := range map[string]string{
		"3": "3", "dam": "dam", "16 GiB": "16 GiB", "'16'": `"16"`, "'yes'": `"yes"`, "a b": "a b", "' a'": `" a"`, "'a: b'": `"a: b"`, "''": `""`, "null": "null",
		"true": "true", "2.5": "2.5", "[ 1, dam ]": "[ 1, dam ]", "{ a: [ x ], 'b c': 1 }": `{ a: [ x ], "b c": 1 }`, "{ get_input: port }": "{ get_input: [ port ] }", "'1e3 B'": `"1e3 B"`, "2026-11-23": `"2026-11-23"`,
	} {
		v, diags := ParseInput("x", text)
		require.Empty(t, diags, text)
		assert.Equal(t, want, v.Source(), text)
		again, diags := ParseInput("x", v.Source())
		require.Empty(t, diags, text)
		assert.Equal(t, v.Plain(), again.Plain(), text)
	}
}

func TestFollowOnMistakesAreNotReported(t *testing.T) {
	_, diags := read(header + `node_types:
  own.A: { derived_from: tosca.nodes.Rot, properties: { n: { type: intger, default: x } } }
topology_template:
  inputs: { p: { type: strng, default: 3 } }
  node_templates:
    a: { type: own.A, properties: { n: 3, m: 4 }, requirements: [ dependency: b ] }
    b: { type: own.Unknown, properties: { x: 1 }, capabilities: { y: {} }, interfaces: { Z: {} }, requirements: [ q: a ] }
    c: { type: Compute, requirements: [ dependency: b, dependency: nothing ] }
  outputs:
    o: { value: { get_attribute: [ b, anything ] } }
`)
	var lines []int
	for _, d := range diags {
		lines = append(lines, d.Line)
	}
	assert.Equal(t, []int{3, 3, 5, 7, 7, 8, 9}, lines, "what is unknown is said once, and nothing about what hangs on it: %s", diags.Error())
}
