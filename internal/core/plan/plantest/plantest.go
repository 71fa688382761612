// Package plantest gives tests the plans of the scenario, as they are recorded: drill and storm-season.
package plantest

import (
	"embed"
	"testing"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan"
)

//go:embed *.plan.json
var files embed.FS

// JSON is the recorded plan of a preset, as it is written.
func JSON(t testing.TB, preset string) string {
	t.Helper()
	data, err := files.ReadFile(preset + ".plan.json")
	require.NoError(t, err)
	return string(data)
}

// Plan is the recorded plan of a preset.
func Plan(t testing.TB, preset string) *plan.Plan {
	t.Helper()
	p, err := plan.Read([]byte(JSON(t, preset)))
	require.NoError(t, err)
	return p
}
