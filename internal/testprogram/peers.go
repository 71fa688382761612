package testprogram

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Node runs a program for node that may use the packages of tools/peers, which others wrote, and returns what it printed. It skips the test
// where there is no node, or they were not installed. What is given goes to its standard input.
func Node(t *testing.T, script, given string, args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	cmd := NodeCommand(ctx, t, script, args...)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	go func() {
		_, _ = in.Write([]byte(given))
		in.Close()
	}()
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

// NodeCommand is Node, of a program that is not run yet.
func NodeCommand(ctx context.Context, t *testing.T, script string, args ...string) *exec.Cmd {
	t.Helper()
	_, here, _, _ := runtime.Caller(0)
	modules := filepath.Join(filepath.Dir(here), "../../tools/peers/node_modules")
	node, err := exec.LookPath("node")
	if err != nil {
		t.Skip("there is no node here")
	}
	if _, err := os.Stat(modules); err != nil {
		t.Skip("the packages of tools/peers are not installed here: make tools")
	}
	cmd := exec.CommandContext(ctx, node, append([]string{"-e", script, "--"}, args...)...)
	cmd.Env = append(os.Environ(), "NODE_PATH="+modules)
	return cmd
}
