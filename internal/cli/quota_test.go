package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/quotas"
)

// TestQuotasFromTheCommandLine checks, keeps and shows the scenario's quotas.
func TestQuotasFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := t.TempDir()
	run := commands(t, ws)
	scenario := "../../examples/flood-watch/quotas.yaml"
	assert.Contains(t, run(0, "quota"), "there are no quotas")
	assert.Contains(t, run(0, "quota", "check", scenario), "5 quotas: nothing is wrong")
	assert.Contains(t, run(0, "quota", "set", scenario), "kept: 5 quotas")
	assert.Regexp(t, `ribera +cores +0 +0 +0 +160 +160`, run(0, "quota"))
	assert.Regexp(t, `ribera#\d{4}-\d\d +per_month +0\.00 +0\.00 +0\.00 +6000\.00 +6000\.00`, run(0, "quota"))
	var uses []quotas.Use
	require.NoError(t, json.Unmarshal([]byte(run(0, "quota", "--json")), &uses))
	assert.Len(t, uses, 13, "those for each person are nobody's yet")
	text, err := os.ReadFile(scenario)
	require.NoError(t, err)
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte(strings.Replace(string(text), "cores: 160", "wings: 2", 1)), 0o644))
	assert.Contains(t, run(2, "quota", "set", bad), `bad.yaml: quotas[0]: most: "wings" is no measure`)
	run(2, "quota", "check", bad)
	assert.Contains(t, run(0, "log"), "set how much whom may have, in 5 quotas")
}
