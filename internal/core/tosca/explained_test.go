package tosca

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryTypeIsExplained explains all that a template may use, and finds each by every name that it is said to have.
func TestEveryTypeIsExplained(t *testing.T) {
	ts, n := Known(), 0
	for _, kind := range Kinds() {
		for _, name := range ts.Names(kind) {
			x := ts.Explain(ts.Find(kind, name))
			assert.Equal(t, name, x.Name)
			assert.NotEmpty(t, x.Kind)
			for _, short := range x.Short {
				assert.Same(t, ts.Find(kind, name), ts.Find(kind, short), short)
			}
			n++
		}
	}
	assert.Greater(t, n, 60)
	x := ts.Explain(ts.Find(NodeTypes, "Compute"))
	assert.Equal(t, []string{"Compute", "tosca:Compute"}, x.Short)
	assert.Equal(t, []string{"tosca.nodes.Abstract.Compute", "tosca.nodes.Root"}, x.DerivedFrom)
	assert.False(t, x.Abstract)
	assert.True(t, ts.Explain(ts.Find(NodeTypes, "Abstract.Compute")).Abstract)
	require.NotEmpty(t, x.Capabilities)
	assert.Contains(t, x.Operations, "Standard.create")
	for _, a := range x.Attributes {
		assert.False(t, a.Required, a.Name)
	}
	net := ts.Explain(ts.Find(NodeTypes, "Network"))
	assert.Equal(t, FieldExplained{Name: "ip_version", Type: "integer", Default: "4", Constraints: []string{"one of 4, 6"}}, net.Properties[0])
}
