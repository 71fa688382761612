package sites

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/sites"
	"andamio/internal/site"
)

func TestHowPairsAre(t *testing.T) {
	fine := site.Trial{Reachable: true, RoundTrip: 3 * time.Millisecond, Ahead: 1500 * time.Millisecond, BytesPerSecond: 50e6}
	v := &View{pairs: []sites.Pair{
		{A: "presa", B: "vega", Start: "vega", AtoB: fine, BtoA: fine, Free: map[string]string{"presa": "5 cores", "vega": "47 cores"}, Checked: time.Now()},
		{A: "tramonta", B: "vega", Start: sites.Both, AtoB: fine, BtoA: site.Trial{Why: "connection refused"}, Checked: time.Now()},
		{A: "presa", B: "tramonta", Start: sites.Both, AtoB: fine, BtoA: fine, Checked: time.Now()},
	}}
	lines := v.pairLines("vega")
	require.Len(t, lines, 4, "a heading, and a line for each of its pairs")
	assert.Contains(t, lines[2].Text, "presa")
	for _, want := range []string{"out 50 MB/s, in 50 MB/s", "3.0 ms", "clock +1.5 s", "free there: 5 cores", "started from vega"} {
		assert.Contains(t, lines[2].Text, want)
	}
	assert.Contains(t, lines[3].Text, "tramonta does not reach vega: connection refused")
	assert.Empty(t, v.pairLines("alisio-norte"))
	assert.Nil(t, v.tryPairs(), "they were tried just now")
	v.pairs[0].Checked = time.Now().Add(-time.Hour)
	assert.NotNil(t, v.tryPairs())
	assert.Nil(t, v.tryPairs(), "they are being tried")
	v.Update(triedPairs{})
	assert.NotNil(t, v.tryPairs())
}
