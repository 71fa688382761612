package topology

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
)

// TestWhatStandsFitsOrNot takes what stands for a node by its filter and by what the node gives, property by property.
func TestWhatStandsFitsOrNot(t *testing.T) {
	const text = `
  node_templates:
    db:
      type: tosca.nodes.Database
      directives: [ select ]
      properties: { name: readings }
      node_filter:
        properties: [ port: { in_range: [ 5000, 6000 ] } ]
        capabilities: [ database_endpoint: { properties: [ protocol: { equal: tcp } ] } ]
`
	whole := func() Existing {
		return Existing{Name: "db-1", Type: "tosca.nodes.Database", Site: "vega", Properties: map[string]any{"name": "readings", "port": int64(5432)}, Capabilities: map[string]map[string]any{"database_endpoint": {"protocol": "tcp"}}}
	}
	for name, c := range map[string]struct {
		change func(*Existing)
		fits   bool
	}{
		"all of it":               {func(*Existing) {}, true},
		"the first of its range":  {func(e *Existing) { e.Properties["port"] = int64(5000) }, true},
		"below its range":         {func(e *Existing) { e.Properties["port"] = int64(4999) }, false},
		"above its range":         {func(e *Existing) { e.Properties["port"] = int64(6001) }, false},
		"no such property":        {func(e *Existing) { delete(e.Properties, "port") }, false},
		"of another sort":         {func(e *Existing) { e.Properties["port"] = "high" }, false},
		"what the node gives not": {func(e *Existing) { e.Properties["name"] = "contacts" }, false},
		"another protocol":        {func(e *Existing) { e.Capabilities["database_endpoint"]["protocol"] = "udp" }, false},
		"a capability without it": {func(e *Existing) { e.Capabilities["database_endpoint"] = nil }, false},
		"another type":            {func(e *Existing) { e.Type = "tosca.nodes.Compute" }, false},
	} {
		tmpl, diags := tosca.Read("t.yaml", func(p string) ([]byte, error) {
			if p == "t.yaml" {
				return []byte(head + text), nil
			}
			return nil, errors.New("no such file")
		})
		require.Zero(t, diags.Errors(), diags.Error())
		e := whole()
		c.change(&e)
		d, diags := Build(tmpl, tosca.Inputs{}, Options{Standing: []Existing{e}})
		assert.Equal(t, c.fits, d != nil, "%s: %s", name, diags.Error())
		if !c.fits {
			assert.Contains(t, diags.Error(), "nothing stands that db could be", name)
			continue
		}
		require.NotNil(t, d, name)
		d, diags = Build(tmpl, tosca.Inputs{}, Options{NoSites: true})
		assert.NotNil(t, d, "where nothing is known of sites nothing is wrong: %s", diags.Error())
	}
}
