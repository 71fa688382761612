package topology

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
)

// few has nodes be shared out over cores from so many on, until the test ends.
func few(t *testing.T, n int) {
	t.Helper()
	was, cores := fewNodes, runtime.GOMAXPROCS(4)
	fewNodes = n
	t.Cleanup(func() {
		fewNodes = was
		runtime.GOMAXPROCS(cores)
	})
}

// TestInParallelIsAsInTurn evaluates templates node by node, and shared out over cores: the designs and what is said of them are the same, whatever is wrong.
func TestInParallelIsAsInTurn(t *testing.T) {
	var wide strings.Builder
	wide.WriteString("  inputs: { port: { type: integer, default: 8080 } }\n  node_templates:\n")
	for i := range 40 {
		fmt.Fprintf(&wide, "    host-%d: { type: Compute }\n    part-%d:\n      type: own.Service\n      properties: { port: { get_input: port }, label: { concat: [ p, { get_property: [ SELF, port ] } ] } }\n      requirements: [ host: host-%d ]\n", i, i, i)
	}
	texts := map[string]string{"two tiers": twoTiers, "many": wide.String(), "wrong": strings.ReplaceAll(wide.String(), "get_property: [ SELF, port ]", "get_property: [ SELF, nothing ]")}
	for name, text := range texts {
		serial, said := built(t, name, func(string) ([]byte, error) { return []byte(head + text), nil })
		few(t, 1)
		shared, alsoSaid := built(t, name, func(string) ([]byte, error) { return []byte(head + text), nil })
		fewNodes = 512
		assert.Equal(t, said, alsoSaid, name)
		assert.Equal(t, serial, shared, name)
		assert.Equal(t, name == "wrong", serial == "", "%s: %s", name, said)
	}
	for _, dir := range []string{"flood-watch", "relay-tiers", "gauge-chain", "level-log", "words"} {
		open := func(p string) ([]byte, error) {
			return os.ReadFile(filepath.Join("../../../examples", dir, strings.Replace(p, "t.yaml", "template.yaml", 1)))
		}
		serial, said := built(t, dir, open)
		few(t, 1)
		shared, alsoSaid := built(t, dir, open)
		fewNodes = 512
		assert.Equal(t, said, alsoSaid, dir)
		assert.Equal(t, serial, shared, dir)
	}
}

// TestManyNodesAreShared looks that they are, where they do not depend on each other, and not where something is searched for.
func TestManyNodesAreShared(t *testing.T) {
	few(t, 2)
	tmpl, diags := tosca.Read("t.yaml", func(string) ([]byte, error) { return []byte(head + twoTiers), nil })
	require.Zero(t, diags.Errors(), diags.Error())
	for _, c := range []struct {
		few, cores int
		want       bool
	}{{1, 4, true}, {len(tmpl.Nodes), 4, true}, {len(tmpl.Nodes) + 1, 4, false}} {
		fewNodes = c.few
		b := newBuilder(t, tmpl)
		assert.Equal(t, c.want, b.alone, "from %d of %d on", c.few, len(tmpl.Nodes))
	}
}

// built is a design in words, and what is said of it.
func built(t *testing.T, name string, open func(string) ([]byte, error)) (design, said string) {
	t.Helper()
	tmpl, diags := tosca.Read("t.yaml", func(p string) ([]byte, error) {
		if p == "run.sh" {
			return []byte("true\n"), nil
		}
		return open(p)
	})
	require.NotNil(t, tmpl, "%s: %s", name, diags.Error())
	d, diags := Build(tmpl, tosca.Inputs{}, Options{})
	var words strings.Builder
	if d != nil {
		for _, n := range d.Nodes {
			fmt.Fprintf(&words, "%s %s ×%d %v %v %v\n", n.Name, n.TypeName, n.Count, n.Properties, n.Capabilities, n.Operations)
			for _, r := range n.Relations {
				fmt.Fprintf(&words, "  %s %s %v\n", r.Name, r.Target.Name, r.Properties)
			}
		}
	}
	return words.String(), diags.Error()
}

// newBuilder has evaluated the nodes of a template.
func newBuilder(t *testing.T, tmpl *tosca.Template) *builder {
	t.Helper()
	inputs, diags := tmpl.Apply(tosca.Inputs{})
	require.Zero(t, diags.Errors())
	b := &builder{tmpl: tmpl, open: map[propertyID]bool{}, placed: map[place]*Node{}, design: &Design{Inputs: inputs, Types: tmpl.Types, nodes: map[string]*Node{}}, defaults: map[any]map[string]any{}}
	b.addNodes(b.frame(tmpl, inputs))
	return b
}
