package runs

import (
	"compress/gzip"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"andamio/internal/service/workspace"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func unzipped(t *testing.T, name string) string {
	t.Helper()
	f, err := os.Open(name)
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	text, err := io.ReadAll(z)
	require.NoError(t, err)
	return string(text)
}

// TestWhatStepsPrintIsKeptWholeAndNotForEver prints twice in one step, more than is kept, and in more runs than are kept.
func TestWhatStepsPrintIsKeptWholeAndNotForEver(t *testing.T) {
	t.Parallel()
	ws, err := workspace.Open(t.TempDir())
	require.NoError(t, err)
	svc := New(nil, ws, nil, slog.Default(), Workers{}, nil, nil, &Tails{})
	for range 2 {
		to := svc.archiveOf(7)("store-1/configure")
		_, err := io.WriteString(to, "printed\n")
		require.NoError(t, err)
		require.NoError(t, to.Close())
	}
	name := ws.Path("logs/run-000007/store-1.configure.log.gz")
	assert.Equal(t, "printed\nprinted\n", unzipped(t, name))
	info, err := os.Stat(name)
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077)
	p := &printed{name: filepath.Join(t.TempDir(), "x.gz")}
	require.NoError(t, p.Close(), "nothing was printed, and there is no file")
	assert.NoFileExists(t, p.name)
	line := strings.Repeat("x", 1<<20) + "\n"
	for range 70 {
		_, err := io.WriteString(p, line)
		require.NoError(t, err)
	}
	require.NoError(t, p.Close())
	text := unzipped(t, p.name)
	assert.Less(t, len(text), mostPrinted+2<<20)
	assert.True(t, strings.HasSuffix(text, "(more was printed than is kept)\n"))
	for n := range runsLogged + 20 {
		require.NoError(t, os.MkdirAll(ws.Path(fmt.Sprintf("logs/run-%06d", n+10)), 0o700))
	}
	svc.archiveOf(500)
	dirs, err := filepath.Glob(ws.Path("logs/run-*"))
	require.NoError(t, err)
	assert.Len(t, dirs, runsLogged)
	assert.NoFileExists(t, name, "the oldest go first")
}
