package editor

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// session gives the server messages and returns what it sent.
func session(t *testing.T, messages ...string) []map[string]any {
	t.Helper()
	var in, out bytes.Buffer
	for _, m := range messages {
		fmt.Fprintf(&in, "Content-Length: %d\r\n\r\n%s", len(m), m)
	}
	require.NoError(t, Serve(t.Context(), &in, &out))
	var got []map[string]any
	r := bufio.NewReader(&out)
	for {
		var length int
		if _, err := fmt.Fscanf(r, "Content-Length: %d\r\n\r\n", &length); err != nil {
			return got
		}
		body := make([]byte, length)
		_, err := io.ReadFull(r, body)
		require.NoError(t, err)
		var m map[string]any
		require.NoError(t, json.Unmarshal(body, &m))
		got = append(got, m)
	}
}

// published are the diagnostics told of a file, one slice for each time.
func published(got []map[string]any, file string) [][]any {
	var out [][]any
	for _, m := range got {
		p, _ := m["params"].(map[string]any)
		if m["method"] == "textDocument/publishDiagnostics" && strings.HasSuffix(p["uri"].(string), file) {
			out = append(out, p["diagnostics"].([]any))
		}
	}
	return out
}

func text(parts ...string) string {
	data, _ := json.Marshal(strings.Join(parts, "\n"))
	return string(data)
}

func TestAnEditorIsTold(t *testing.T) {
	dir := t.TempDir()
	write := func(name, content string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
		return string(uriOf(path))
	}
	const version = "tosca_definitions_version: tosca_simple_yaml_1_3"
	root := write("template.yaml", version+"\nimports: [ types.yaml ]\ntopology_template:\n  node_templates:\n    a: { type: own.A }\n")
	types := write("types.yaml", version+"\nnode_types: { own.A: { derived_from: tosca.nodes.Root } }\n")
	bad := text(version, "node_types: { own.A: { derived_from: tosca.nodes.Rot, description: \"é𝄞\", metadata: { }, propertys: {} } }", "")
	good := text(version, "node_types: { own.A: { derived_from: tosca.nodes.Root } }", "")
	got := session(t,
		`{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"rootUri":null}}`,
		`{"jsonrpc":"2.0","method":"initialized","params":{}}`,
		`{"jsonrpc":"2.0","method":"textDocument/didOpen","params":{"textDocument":{"uri":"`+root+`","languageId":"yaml","version":1,"text":`+text(version, "imports: [ types.yaml ]", "topology_template:", "  node_templates:", "    a: { type: own.A }", "    b: { type: own.B }", "")+`}}}`,
		`{"jsonrpc":"2.0","method":"textDocument/didOpen","params":{"textDocument":{"uri":"`+types+`","languageId":"yaml","version":1,"text":`+bad+`}}}`,
		`{"jsonrpc":"2.0","id":2,"method":"textDocument/hover","params":{"textDocument":{"uri":"`+types+`"},"position":{"line":1,"character":96}}}`,
		`{"jsonrpc":"2.0","id":3,"method":"textDocument/hover","params":{"textDocument":{"uri":"`+types+`"},"position":{"line":0,"character":0}}}`,
		`{"jsonrpc":"2.0","method":"textDocument/didChange","params":{"textDocument":{"uri":"`+types+`","version":2},"contentChanges":[{"text":`+good+`}]}}`,
		`{"jsonrpc":"2.0","method":"textDocument/didClose","params":{"textDocument":{"uri":"`+root+`"}}}`,
		`{"jsonrpc":"2.0","id":4,"method":"textDocument/formatting","params":{}}`,
		`{"jsonrpc":"2.0","id":5,"method":"shutdown"}`,
		`{"jsonrpc":"2.0","method":"exit"}`)
	assert.Equal(t, true, got[0]["result"].(map[string]any)["capabilities"].(map[string]any)["hoverProvider"])
	inTypes := published(got, "types.yaml")
	require.Len(t, inTypes[0], 2, "an open file counts instead of the one on disk")
	second := inTypes[0][1].(map[string]any)
	assert.Equal(t, "unknown-key", second["code"])
	start := second["range"].(map[string]any)["start"].(map[string]any)
	assert.Equal(t, float64(1), start["line"])
	assert.Equal(t, float64(strings.Index("node_types: { own.A: { derived_from: tosca.nodes.Rot, description: \"xyz\", metadata: { }, propertys", "propertys")), start["character"], "in UTF-16 units")
	assert.Empty(t, inTypes[len(inTypes)-1], "mended, and told so")
	inRoot := published(got, "template.yaml")
	assert.Len(t, inRoot[0], 1)
	assert.Contains(t, inRoot[0][0].(map[string]any)["message"], `there is no node type "own.B"`)
	assert.Empty(t, inRoot[len(inRoot)-1], "closed, it is as on disk again")
	byID := map[float64]map[string]any{}
	for _, m := range got {
		if id, ok := m["id"].(float64); ok {
			byID[id] = m
		}
	}
	assert.Contains(t, fmt.Sprint(byID[2]["result"]), "A keyname that the standard does not know")
	assert.Nil(t, byID[3]["result"])
	assert.Equal(t, float64(-32601), byID[4]["error"].(map[string]any)["code"])
	assert.Contains(t, byID[5], "result")
}

func TestWhatIsNoMessageEndsTheSession(t *testing.T) {
	for _, in := range []string{"Content-Length: -3\r\n\r\n", "Content-Length: 99999999999\r\n\r\n", "Content-Length: x\r\n\r\n", "Content-Length: 9\r\n\r\n{}"} {
		assert.Error(t, Serve(t.Context(), strings.NewReader(in), io.Discard), in)
	}
	assert.NoError(t, Serve(t.Context(), strings.NewReader(""), io.Discard))
}

func TestOtherFilesAreLeftAlone(t *testing.T) {
	got := session(t, `{"jsonrpc":"2.0","method":"textDocument/didOpen","params":{"textDocument":{"uri":"untitled:1","text":"a"}}}`,
		`{"jsonrpc":"2.0","method":"textDocument/didOpen","params":{"textDocument":{"uri":"file:///nowhere/at/all.yaml","text":"a: b"}}}`)
	for _, m := range got {
		assert.NotContains(t, fmt.Sprint(m), "untitled")
	}
}
