package editor

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.lsp.dev/protocol"
	"go.yaml.in/yaml/v4"

	"andamio/internal/core/tosca"
)

// written is a template with a place in it, marked by ‸.
const written = `tosca_definitions_version: tosca_simple_yaml_1_3
imports: [ types.yaml ]
topology_template:
  inputs:
    port: { type: PortDef, default: 8081, description: where it answers }
  node_templates:
    host:
      type: tosca.nodes.Compute
    gauge:
      type: own.Gauge
      properties:
        level: 1.5
      requirements:
        - host: host
        - peer: { node: other }
    other:
      type: own.Gauge
      properties:
        level: { get_property: [ gauge, level ] }
      requirements: [ host: { node: "host" } ]
  groups:
    all: { type: tosca.groups.Root, members: [ gauge, other ] }
  policies:
    - apart: { type: tosca.policies.Placement, targets: [ gauge ] }
  outputs:
    at: { value: { concat: [ { get_attribute: [ gauge, tosca_id ] }, { get_input: port } ] } }
`

const ownTypes = `tosca_definitions_version: tosca_simple_yaml_1_3
node_types:
  own.Gauge:
    derived_from: tosca.nodes.SoftwareComponent
    description: It measures how high the water is.
    properties: { level: { type: float }, unit: { type: string, default: m } }
    requirements: [ peer: { capability: tosca.capabilities.Node, occurrences: [ 0, 1 ] } ]
`

// asked asks about the place that is marked in a text, in a session that has begun.
func asked(t *testing.T, method, text string, more string) (result any, dir string) {
	t.Helper()
	dir = t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "template.yaml"), []byte(written), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "types.yaml"), []byte(ownTypes), 0o600))
	before, after, marked := strings.Cut(text, "‸")
	require.True(t, marked)
	line := strings.Count(before, "\n")
	column := unitsOf([]rune(before[strings.LastIndex(before, "\n")+1:]))
	quoted, err := json.Marshal(before + after)
	require.NoError(t, err)
	uri := string(uriOf(filepath.Join(dir, "template.yaml")))
	got := session(t, `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{}}`,
		`{"jsonrpc":"2.0","method":"textDocument/didOpen","params":{"textDocument":{"uri":"`+uri+`","version":7,"text":`+string(quoted)+`}}}`,
		fmt.Sprintf(`{"jsonrpc":"2.0","id":2,"method":%q,"params":{"textDocument":{"uri":%q},"position":{"line":%d,"character":%d}%s}}`, method, uri, line, column, more))
	for _, m := range got {
		if m["id"] == float64(2) {
			if m["error"] != nil {
				return m["error"], dir
			}
			return m["result"], dir
		}
	}
	t.Fatal("nothing was answered")
	return nil, dir
}

// marked is the template with a mark in the place of something, or right after it.
func marked(old, now string) string { return strings.Replace(written, old, now, 1) }

// TestWhatMayBeWrittenIsOffered asks at places of every sort, in templates that are half written there.
func TestWhatMayBeWrittenIsOffered(t *testing.T) {
	for name, c := range map[string]struct {
		text       string
		has, hasnt []string
	}{
		"a node's type":         {marked("type: tosca.nodes.Compute", "type: ‸"), []string{"tosca.nodes.Compute", "own.Gauge"}, []string{"tosca.capabilities.Node", "string"}},
		"as far as it is begun": {marked("type: tosca.nodes.Compute", "type: own.‸"), []string{"own.Gauge"}, []string{"tosca.nodes.Compute"}},
		"by its last part":      {marked("type: tosca.nodes.Compute", "type: Comp‸"), []string{"tosca.nodes.Compute"}, []string{"own.Gauge"}},
		"an input's type":       {marked("type: PortDef", "type: ‸"), []string{"string", "scalar-unit.size", "tosca.datatypes.network.PortDef"}, []string{"tosca.nodes.Compute"}},
		"a group's type":        {marked("type: tosca.groups.Root", "type: ‸"), []string{"tosca.groups.Root"}, []string{"tosca.nodes.Root"}},
		"a property":            {marked("        level: 1.5", "        ‸"), []string{"level", "unit"}, []string{"type"}},
		"a keyname":             {marked("      type: own.Gauge\n      properties", "      ‸\n      properties"), []string{"type", "requirements"}, []string{"level"}},
		"a requirement's node":  {marked("- host: host", "- host: ‸"), []string{"host", "gauge", "other"}, []string{"port"}},
		"a node by its key":     {marked("node: other", "node: ‸"), []string{"host", "other"}, []string{"port"}},
		"an input":              {marked("get_input: port", "get_input: ‸"), []string{"port"}, []string{"host"}},
		"a function's node":     {marked("get_attribute: [ gauge", "get_attribute: [ ‸"), []string{"gauge", "SELF"}, []string{"port"}},
		"a function":            {marked("level: 1.5", "level: ‸"), []string{"{ get_input: ", "{ concat: "}, []string{"host"}},
		"a part":                {marked("  groups:", "  ‸\n  groups:"), []string{"outputs", "policies"}, []string{"type"}},
	} {
		got, _ := asked(t, "textDocument/completion", c.text, "")
		var labels []string
		for _, i := range got.([]any) {
			labels = append(labels, i.(map[string]any)["label"].(string))
		}
		for _, want := range c.has {
			assert.Contains(t, labels, want, name)
		}
		for _, not := range c.hasnt {
			assert.NotContains(t, labels, not, name)
		}
	}
}

// TestWhatANameMeansAndWhereItIsDefined asks about names of every sort.
func TestWhatANameMeansAndWhereItIsDefined(t *testing.T) {
	for name, c := range map[string]struct {
		text, says, file string
		line             int
	}{
		"a type of the standard": {marked("tosca.nodes.Compute", "tosca.no‸des.Compute"), "a node type (TOSCA 1.3, section 5.9)", "", 0},
		"a type of our own":      {marked("own.Gauge", "own.G‸auge"), "It measures how high the water is.", "types.yaml", 2},
		"a node":                 {marked("node: other", "node: ot‸her"), "a node template of own.Gauge", "template.yaml", 15},
		"an input":               {marked("get_input: port", "get_input: po‸rt"), "where it answers", "template.yaml", 4},
		"a function":             {marked("get_attribute", "get_‸attribute"), "section 4.5.1", "", 0},
		"nothing":                {marked("imports", "imp‸orts"), "", "", 0},
	} {
		got, _ := asked(t, "textDocument/hover", c.text, "")
		if c.says == "" {
			assert.Nil(t, got, name)
		} else {
			assert.Contains(t, fmt.Sprint(got), c.says, name)
		}
		got, dir := asked(t, "textDocument/definition", c.text, "")
		if c.file == "" {
			assert.Nil(t, got, name)
			continue
		}
		at, err := json.Marshal(got)
		require.NoError(t, err)
		var where protocol.Location
		require.NoError(t, json.Unmarshal(at, &where))
		assert.Equal(t, uriOf(filepath.Join(dir, c.file)), where.URI, name)
		assert.EqualValues(t, c.line, where.Range.Start.Line, name)
	}
}

// applied is a text with edits made in it.
func applied(t *testing.T, text string, result any) string {
	t.Helper()
	data, err := json.Marshal(result)
	require.NoError(t, err)
	var w struct {
		Changes map[string][]protocol.TextEdit
	}
	require.NoError(t, json.Unmarshal(data, &w))
	lines := strings.Split(text, "\n")
	for _, edits := range w.Changes {
		for line := range lines {
			for col := len(lines[line]); col >= 0; col-- { // from the right, so that places stay
				for _, e := range edits {
					if int(e.Range.Start.Line) == line && int(e.Range.Start.Character) == col {
						lines[line] = lines[line][:col] + e.NewText + lines[line][e.Range.End.Character:]
					}
				}
			}
		}
	}
	return strings.Join(lines, "\n")
}

// TestANodeIsGivenAnotherName renames nodes, and reads what comes of that as the same template but for the name.
func TestANodeIsGivenAnotherName(t *testing.T) {
	for _, c := range []struct{ text, old string }{{marked("    gauge:\n", "    ga‸uge:\n"), "gauge"}, {marked("- host: host", "- host: ho‸st"), "host"}, {marked("node: other", "node: oth‸er"), "other"}} {
		got, _ := asked(t, "textDocument/rename", c.text, `,"newName":"renamed"`)
		text := applied(t, written, got)
		tmpl, diags := tosca.Read("template.yaml", func(name string) ([]byte, error) {
			return []byte(map[string]string{"template.yaml": text, "types.yaml": ownTypes}[name]), nil
		})
		assert.Empty(t, diags, text)
		assert.Nil(t, tmpl.Node(c.old))
		require.NotNil(t, tmpl.Node("renamed"))
		var was, is any
		require.NoError(t, yaml.Unmarshal([]byte(text), &is))
		back := strings.ReplaceAll(text, "renamed", c.old)
		require.NoError(t, yaml.Unmarshal([]byte(back), &is))
		require.NoError(t, yaml.Unmarshal([]byte(written), &was))
		assert.Equal(t, was, is, "nothing else is another")
	}
	for says, c := range map[string][2]string{"is no node template": {marked("get_input: port", "get_input: po‸rt"), "x"}, "already": {marked("node: other", "node: ot‸her"), "gauge"}, "cannot be the name": {marked("node: other", "node: ot‸her"), "a b"}} {
		got, _ := asked(t, "textDocument/rename", c[0], fmt.Sprintf(`,"newName":%q`, c[1]))
		assert.Contains(t, fmt.Sprint(got), says)
	}
}

// TestASessionBeginsAndEndsAsTheProtocolSays sends messages too early, too late and broken ones: each is answered, and the session goes on.
func TestASessionBeginsAndEndsAsTheProtocolSays(t *testing.T) {
	code := func(m map[string]any) any {
		e, _ := m["error"].(map[string]any)
		return e["code"]
	}
	got := session(t, `{"jsonrpc":"2.0","id":1,"method":"textDocument/hover","params":{}}`, `{{{`, `[1,2]`,
		`{"jsonrpc":"2.0","id":2,"method":"initialize","params":{}}`, `{"jsonrpc":"2.0","id":3,"method":"initialize","params":{}}`,
		`{"jsonrpc":"2.0","id":4,"method":"textDocument/hover","params":{"position":7}}`, `{"jsonrpc":"2.0","id":"five","method":"none"}`,
		`{"jsonrpc":"2.0","id":6,"method":"shutdown"}`, `{"jsonrpc":"2.0","id":7,"method":"textDocument/hover","params":{}}`, `{"jsonrpc":"2.0","method":"exit"}`)
	require.Len(t, got, 9)
	for i, want := range []any{float64(-32002), float64(-32700), float64(-32600), nil, float64(-32600), float64(-32602), float64(-32601), nil, float64(-32600)} {
		assert.Equal(t, want, code(got[i]), "%d: %v", i, got[i])
	}
	assert.Nil(t, got[1]["id"])
	assert.Equal(t, "five", got[6]["id"])
	assert.ErrorContains(t, Serve(t.Context(), strings.NewReader("Content-Length: 33\r\n\r\n"+`{"jsonrpc":"2.0","method":"exit"}`), &strings.Builder{}), "without shutting")
	dir := t.TempDir()
	uri := string(uriOf(filepath.Join(dir, "template.yaml")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "template.yaml"), []byte(written), 0o600))
	got = session(t, `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{}}`,
		`{"jsonrpc":"2.0","method":"textDocument/didOpen","params":{"textDocument":{"uri":"`+uri+`","version":7,"text":"a: b"}}}`)
	require.Len(t, got, 2)
	assert.Equal(t, float64(7), got[1]["params"].(map[string]any)["version"], "of which text it is told")
}
