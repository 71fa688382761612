package testprogram

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Process is the process that was started with these last arguments.
func Process(t *testing.T, args ...string) *os.Process {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, file := range all {
		line, err := os.ReadFile(file)
		if err != nil || !strings.HasSuffix(string(line), "\x00"+strings.Join(args, "\x00")+"\x00") {
			continue // it has ended meanwhile, or is another
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		require.NoError(t, err)
		p, err := os.FindProcess(pid)
		require.NoError(t, err)
		return p
	}
	require.Fail(t, "no such process", "%v", args)
	return nil
}
