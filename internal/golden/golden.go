// Package golden compares what tests make with what was recorded of it in files, and records it anew with -update.
package golden

import (
	"crypto/sha256"
	"encoding/binary"
	"flag"
	"fmt"
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

// Sum stands for a text that is longer than anybody would read, in digits, which spell no word.
func Sum(text string) string {
	sum := sha256.Sum256([]byte(text))
	return fmt.Sprintf("%010d", binary.BigEndian.Uint32(sum[:]))
}

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
