package team_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/team"
	"andamio/internal/testprogram"
)

var program string

func TestMain(m *testing.M) { testprogram.Main(m, &program) }

// TestATeamAtWork raises the scenario in two closed networks from one machine, changes it from another while a worker and a machine fail, and retires it from the third; then all of it is gone without a trace.
func TestATeamAtWork(t *testing.T) {
	if err := team.Missing(); err != nil {
		t.Skipf("NO LABORATORY: %v", err)
	}
	dir, err := os.MkdirTemp("", "andamio-team-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755))
	lab, err := team.Start(t.Context(), program, dir, "0.02")
	require.NoError(t, err)
	stopped := false
	defer func() {
		if !stopped {
			_ = lab.Stop()
		}
	}()
	at := func(machine int, args ...string) string {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
		defer cancel()
		out, err := lab.Command(ctx, machine, args...).CombinedOutput()
		require.NoError(t, err, "%s: %s", strings.Join(args, " "), out)
		return string(out)
	}
	assert.Regexp(t, `coast +coast-1 .*alisio-norte \d+\.\d ms(.|\n)*inland +inland-1 .*presa \d+\.\d ms`, at(2, "workers"))
	assert.Equal(t, 3, strings.Count(at(1, "clock"), "notices at"), "all three serve")

	plan := filepath.Join(t.TempDir(), "plan.json")
	at(0, "plan", "../../examples/level-log", "-o", plan) // whose parts are all in one network
	assert.NotContains(t, at(0, "run", plan), "refused")
	at(2, "stop", "level-log", "--confirm", "level-log")
	at(1, "start", "level-log", "--confirm", "level-log", "--detach")
	for i := range lab.Networks {
		lab.KillWorker(i)
	}
	lab.Kill(2)
	lab.Bus.Kill()
	for i := range lab.Networks {
		require.NoError(t, lab.Work(t.Context(), i))
	}
	require.NoError(t, lab.Serve(t.Context(), 2))
	require.NoError(t, lab.Bus.Start(t.Context()))
	require.Eventually(t, func() bool {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		out, err := lab.Command(ctx, 1, "watch").CombinedOutput()
		if err != nil {
			t.Logf("%.2000s", out)
		}
		return err == nil
	}, 2*time.Minute, time.Second)
	require.NoError(t, lab.Reached(t.Context()))
	for _, site := range []string{"presa", "vega", "alisio-norte", "alisio-sur", "tramonta"} {
		at(2, "survey", site)
	}
	assert.Contains(t, at(0, "reconcile"), "nothing disagrees")
	assert.Contains(t, at(1, "log", "--verify"), "entries, the last with the digest")
	at(2, "retire", "level-log", "--confirm", "level-log")
	require.Eventually(t, func() bool {
		said := at(0, "bus")
		return strings.Contains(said, "the stream ANDAMIO keeps") && !strings.Contains(said, "are not in it yet")
	}, time.Minute, 200*time.Millisecond, "all that happened is on the bus")
	out, err := exec.CommandContext(t.Context(), "ssh", "-i", lab.Key, "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "BatchMode=yes", "-p", strings.TrimPrefix(lab.Portal, "127.0.0.1:"), "keeper@127.0.0.1", "true").CombinedOutput()
	assert.NotContains(t, string(out), "Permission denied", "%v", err)

	require.NoError(t, lab.Stop())
	stopped = true
	names, err := exec.Command("ip", "netns", "list").Output()
	require.NoError(t, err)
	assert.NotContains(t, string(names), "at"+strings.TrimPrefix(filepath.Base(dir), "andamio-team-"))
	left, _ := exec.Command("pgrep", "-f", dir).Output()
	assert.Empty(t, string(left), "no process of it is left")
}
