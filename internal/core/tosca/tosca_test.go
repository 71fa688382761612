package tosca

import (
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestReadResolvesWhatTheTypeDeclares(t *testing.T) {
	tmpl, diags := read(header + `
metadata: { template_name: small }
node_types:
  own.Store:
    derived_from: tosca.nodes.DBMS
    properties:
      port: { type: integer, default: 5432 }
    capabilities:
      store: { type: tosca.capabilities.Endpoint.Database, properties: { port: { type: PortDef, default: 5432 } } }
    interfaces:
      Standard: { operations: { create: ok.sh } }
  own.Reader:
    derived_from: tosca.nodes.SoftwareComponent
    requirements:
      - store: { capability: tosca.capabilities.Endpoint, relationship: tosca.relationships.ConnectsTo }
topology_template:
  inputs:
    key: { type: string, metadata: { secret: "true" } }
  node_templates:
    host:
      type: tosca:Compute
      capabilities: { host: { properties: { num_cpus: 2, mem_size: 4 GiB } } }
      requirements:
        - local_storage:
            node: vol
            relationship: { type: AttachesTo, properties: { location: /srv } }
    vol: { type: BlockStorage, properties: { size: 20 GiB } }
    store:
      type: own.Store
      requirements: [ host: host ]
      interfaces: { Standard: { start: { implementation: { primary: ok.sh, timeout: 30 }, inputs: { KEY: { get_input: key } } } } }
    reader:
      type: own.Reader
      requirements: [ host: host, store: store ]
  outputs:
    at: { value: { concat: [ "tcp://", { get_attribute: [ host, public_address ] }, ":", { get_property: [ store, store, port ] } ] } }
`)
	require.Empty(t, diags, diags.Error())
	assert.Equal(t, "small", tmpl.Name)
	assert.True(t, tmpl.Input("key").Secret)
	store := tmpl.Node("store")
	assert.True(t, store.Type.Is("tosca.nodes.Root"), "ancestry is transitive")
	assert.Equal(t, "software", store.Type.Metadata["andamio.builds"], "metadata is inherited")
	standard := store.Interfaces[0]
	assert.Equal(t, "ok.sh", standard.Operation("create").Script, "from the type")
	assert.Equal(t, 30.0, standard.Operation("start").Timeout)
	connect := tmpl.Node("reader").Requirements[1]
	assert.Equal(t, "store", connect.Capability)
	assert.Equal(t, "connects", connect.Relationship.Metadata["andamio.order"])
	assert.Contains(t, tmpl.Artifacts, "ok.sh")
}

func TestImportsStayInsideTheFolder(t *testing.T) {
	sources := map[string]string{
		"a/t.yaml":       header + "imports: [ types/b.yaml, ../../etc/x.yaml, { file: types/b.yaml } ]\ntopology_template: {node_templates: {n: {type: own.B}}}\n",
		"a/types/b.yaml": header + "node_types: {own.B: {derived_from: tosca.nodes.Root, interfaces: {Standard: {create: ../ok.sh}}}}\n",
		"a/ok.sh":        "true\n",
	}
	tmpl, diags := Read("a/t.yaml", files(sources))
	require.Len(t, diags, 1, diags.Error())
	assert.Equal(t, CodeImport, diags[0].Code)
	assert.Equal(t, "own.B", tmpl.Node("n").Type.Name)
	assert.Contains(t, tmpl.Artifacts, "a/ok.sh", "scripts are relative to the file that names them")
}

func TestScalarUnitsAreExact(t *testing.T) {
	for _, c := range []struct {
		d    Dimension
		text string
		want float64
	}{
		{Size, "16 MiB", 16 << 20}, {Size, "16 MB", 16e6}, {Size, "1.5 GiB", 1.5 * (1 << 30)}, {Size, "3gib", 3 << 30},
		{Time, "250 ms", 0.25}, {Time, "2 m", 120}, {Frequency, "2.4 GHz", 2.4e9}, {Bitrate, "1 MBps", 8e6},
	} {
		s, err := ParseScalar(c.d, c.text)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, s.Float(), c.text)
	}
	tenth, _ := ParseScalar(Size, "0.1 TB")
	whole, _ := ParseScalar(Size, "100 GB")
	assert.Zero(t, tenth.Cmp(whole), "0.1 TB is exactly 100 GB")
	for _, bad := range []string{"", "GB", "-1 GB", "1e3 GB", "1 GBs", "1  2 GB", "0x10 GB"} {
		_, err := ParseScalar(Size, bad)
		assert.Error(t, err, bad)
	}
}

func TestScalarRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := rapid.SampledFrom([]Dimension{Size, Time, Frequency, Bitrate}).Draw(t, "dimension")
		u := rapid.SampledFrom(units[d]).Draw(t, "unit")
		n := rapid.IntRange(0, 1<<40).Draw(t, "number")
		s, err := ParseScalar(d, strings.Join([]string{itoa(n), u.name}, rapid.SampledFrom([]string{"", " ", "  "}).Draw(t, "gap")))
		if err != nil {
			t.Fatal(err)
		}
		again, err := ParseScalar(d, s.String())
		if err != nil || again.Cmp(s) != 0 {
			t.Fatalf("%v read back as %v, %v", s, again, err)
		}
	})
}

func itoa(n int) string { return Show(int64(n)) }

func TestNearestSuggestsOnlyPlausibleSlips(t *testing.T) {
	known := []string{"contacts-host", "readings-host", "forecast"}
	assert.Equal(t, "contacts-host", nearest("contacts-hots", known))
	assert.Equal(t, "forecast", nearest("forcast", known))
	assert.Empty(t, nearest("presa", known))
}

func TestTextFromTemplatesNeverPanics(t *testing.T) {
	for _, text := range []string{"", "[]", "- a", "a: *x", "&a [*a]", "? [a]: b", "!!binary x", strings.Repeat("[", 5000),
		header + "topology_template: 3", header + "node_types: []", header + "node_types: {a: 3, b: , c: []}",
		header + "topology_template: {node_templates: {a: , b: 3, c: {type: [], requirements: {a: b}, interfaces: 3}}}",
		header + "topology_template: {policies: [3, {a: , b: }], groups: {a: {members: [[]]}}, outputs: {a: }}",
	} {
		_, diags := read(text)
		assert.NotEmpty(t, diags, text)
	}
}

func FuzzRead(f *testing.F) {
	for _, e := range Explanations {
		f.Add(e.Example)
	}
	f.Fuzz(func(t *testing.T, text string) {
		_, diags := read(text)
		for _, d := range diags {
			if d.Line < 1 || d.Width < 1 {
				t.Fatalf("no place: %+v", d)
			}
		}
	})
}

func TestTemplatesAreReadSideBySide(t *testing.T) {
	text := large(1200, 4, "")
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			_, diags := read(text)
			assert.Empty(t, diags)
		})
	}
	group.Wait()
}
