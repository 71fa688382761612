package editor

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"go.lsp.dev/protocol"
)

// TestPlacesAreFoundInBothStyles finds out where | is, in lines of their own and within braces.
func TestPlacesAreFoundInBothStyles(t *testing.T) {
	for _, c := range []struct {
		text      string
		path      string
		key, call string
		arg       int
		word      string
	}{
		{"topology_template:\n  node_templates:\n    front:\n      type: Com|pute", "topology_template node_templates front", "type", "", 0, "Compute"},
		{"topology_template:\n  node_templates:\n    front: { type: Com|pute }", "topology_template node_templates front", "type", "", 0, "Compute"},
		{"node_templates: { front: { type: A, properties: { si|ze: 1 } } }", "node_templates front properties", "", "", 0, "size"},
		{"node_templates: { front: { type: A }, back: { ty|", "node_templates back", "", "", 0, "ty"},
		{"requirements: [ host: fr|ont ]", "requirements -", "host", "", 0, "front"},
		{"requirements: [ { host: front }, { peer: { node: b|", "requirements - peer", "node", "", 0, "b"},
		{"requirements:\n  - host: fr|ont", "requirements", "host", "", 0, "front"},
		{"value: { get_property: [ fr|ont, size ] }", "value get_property -", "", "get_property", 0, "front"},
		{"value: { get_property: [ front, si|ze ] }", "value get_property -", "", "get_property", 1, "size"},
		{"value: { get_input: na|me }", "value", "", "get_input", 0, "name"},
		{"value: { concat: [ \"a: {\", { get_input: na|", "value concat -", "", "get_input", 0, "na"},
		{"description: 'it: is { so|", "", "description", "", 0, "so"},
		{"a: [ 1, 2 ]\nb: |", "", "b", "", 0, ""},
	} {
		before, after, _ := strings.Cut(c.text, "|")
		lines := strings.Split(before, "\n")
		got := spotAt(before+after, protocol.Position{Line: uint32(len(lines) - 1), Character: uint32(len([]rune(lines[len(lines)-1])))})
		assert.Equal(t, c.path, strings.Join(got.path, " "), c.text)
		assert.Equal(t, c.key, got.key, c.text)
		assert.Equal(t, c.call, got.call, c.text)
		assert.Equal(t, c.arg, got.arg, c.text)
		assert.Equal(t, c.word, got.word, c.text)
	}
}
