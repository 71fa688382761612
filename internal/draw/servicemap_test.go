package draw

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/servicemap"
)

func TestTheMapIsDrawnInBothFormats(t *testing.T) {
	m := servicemap.New(servicemap.Input{Gone: map[string]bool{"r/2": true}, Records: inventory.Records{
		{ID: "r/1", Class: kinds.Instance, Name: "store-1", Site: "vega", Provider: "1", Attributes: map[string]string{"zone": "a", "host": "a-1", "tag.service": "readings"}},
		{ID: "r/2", Class: kinds.Instance, Name: "store-2", Site: "vega", Provider: "2", Attributes: map[string]string{"zone": "a", "host": "a-1", "tag.service": "readings"}}},
		Talks: [][2]string{{"vega/1", "vega/2"}}})
	var svg, pdf bytes.Buffer
	require.NoError(t, ServiceMap(m, "host vega/a/a-1").Write(&svg, "svg"))
	for _, text := range []string{"readings", "store-1", "missing: store-2", "a-1 at vega", "what it needs, and what needs it"} {
		assert.Contains(t, svg.String(), text)
	}
	require.NoError(t, ServiceMap(m, "").Write(&pdf, "pdf"))
	assert.True(t, bytes.HasPrefix(pdf.Bytes(), []byte("%PDF")))
	require.NoError(t, ServiceMap(servicemap.New(servicemap.Input{}), "").Write(&svg, "svg"), "an empty one too")
}
