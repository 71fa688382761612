// Package golden compares what tests make with what was recorded of it in files, and records it anew with -update.
package golden

import (
	"flag"
	"os"
	"path/filepath"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "record anew what tests compare with files")

// TestingT is what reports to a test.
type TestingT interface {
	require.TestingT
	Helper()
}

// Update reports that what is recorded is made anew.
func Update() bool { return *update }

// Is compares a text with a file of it.
func Is(t TestingT, file, got string) {
	t.Helper()
	if *update {
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), got, "%s: run with -update if the change is meant", file)
}
