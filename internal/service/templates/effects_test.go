package templates

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEachPolicySaysWhatItChanged reads of the scenario what its policies came to, workload by workload.
func TestEachPolicySaysWhatItChanged(t *testing.T) {
	t.Parallel()
	tmpl, err := DemoTemplate()
	require.NoError(t, err)
	e, err := DemoEstate()
	require.NoError(t, err)
	d := NewDraft(tmpl, DraftRequest{Preset: "drill"}, e)
	require.NotNil(t, d.Plan)
	for workload, wants := range map[string][]string{
		"contacts-host-1": {"policy personal-data (The register says who lives where): answers that sensitive data is yes; so rule sensitive-data-stays-home counts: 4 sites ruled out by it: presa, alisio-norte, alisio-sur, tramonta"},
		"readings-host-1": {"policy readings-on-own-disks (500 GiB read all day would be dear to move out of a public cloud): 4 sites ruled out by it",
			"what passes between them draws them to each other"},
		"gauge-node-1": {"latency critical is yes; so rule near-where-data-arises counts"},
		"map-host-1":   {"must survive site is yes; so rule"},
	} {
		text := strings.Join(d.Effects(workload), "\n")
		for _, want := range wants {
			assert.Contains(t, text, want, workload)
		}
		assert.NotContains(t, text, "which no rule asks")
	}
	assert.Empty(t, d.Effects("nothing of this name"))
	assert.Empty(t, (&Draft{}).Effects("contacts-host-1"))
}
