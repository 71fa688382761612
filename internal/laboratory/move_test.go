package laboratory_test

import (
	"bufio"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"andamio/internal/testprogram"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// withClouds starts the stand-ins in a workspace; they end with the test.
func withClouds(b *bench) {
	b.Helper()
	cmd := exec.CommandContext(b.Context(), binary, "--workspace", b.ws, "sandbox", "--pace", "0.05")
	out, err := cmd.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, cmd.Start())
	b.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	said := bufio.NewScanner(out)
	for said.Scan() && !strings.HasPrefix(said.Text(), "connected") {
	}
	require.NoError(b, said.Err())
}

// refused runs a command that must end with an error, and returns what it says.
func (b *bench) refused(args ...string) string {
	b.Helper()
	out, err := exec.CommandContext(b.Context(), binary, append([]string{"--workspace", b.ws}, args...)...).CombinedOutput()
	require.Error(b, err, string(out))
	return string(out)
}

// phase is how the only workload of the only move is.
func (b *bench) phase() string {
	b.Helper()
	return b.do("move", "status")
}

const (
	kept  = "sha256sum /srv/www/readings"
	moved = "gauge-host"
)

// TestARealMachineMovesToACloudAndBack moves a machine with its volume from a host to a stand-in cloud, which starts what is on its disks: there its
// page says what it said, and its volume holds what it held. It goes back from each phase with what was written meanwhile, and after it was committed
// it is moved home again.
func TestARealMachineMovesToACloudAndBack(t *testing.T) {
	t.Parallel()
	b := newBench(t, withClouds)
	const first = "level 1.40 m at the weir"
	plan := t.TempDir() + "/gauge.json"
	b.do("plan", "testdata/gauge", "-o", plan)
	risen := b.do("run", plan, "--confirm", "gauge")
	assert.Equal(t, []string{first}, b.pages(risen))
	b.do("shell", moved, "--", "dd if=/dev/urandom of=/srv/www/readings bs=64k count=200 2>/dev/null; sync")
	digest := b.do("shell", moved, "--", kept)

	there := []string{"gauge", "--what", moved, "--to", "alisio-norte"}
	assert.Contains(t, b.refused(append([]string{"move", "plan"}, there...)...), "not paired")
	assert.Contains(t, b.do("pair", "forja", "alisio-norte"), "by way of here")
	assert.Contains(t, b.refused(append([]string{"move", "plan"}, there...)...), "begins-at-the-weir")
	there = append(there, "--lift", "begins-at-the-weir")
	assert.Contains(t, b.refused(append([]string{"move", "plan", "--mode", "live"}, there...)...), "move it warm")

	// While it is copied, and the one who copies is killed.
	b.do(append([]string{"move", "start", "--detach"}, there...)...)
	require.Eventually(t, func() bool { return strings.Contains(b.do("move", "status", "1"), "ready") }, time.Minute, 200*time.Millisecond, "%s", b.phase())
	workers := testprogram.Workers(b.ws)
	require.Len(t, workers, 1)
	require.NoError(t, syscall.Kill(workers[0], syscall.SIGKILL))
	require.Eventually(t, func() bool { return strings.Contains(b.phase(), "broken off") }, time.Minute, 200*time.Millisecond, "%s", b.phase())
	b.do("move", "back", "1", "--confirm", "gauge")
	assert.Equal(t, []string{first}, b.pages(risen), "it never stopped")
	b.nothingAt("alisio-norte")

	// Once it serves there, and what was written there comes along.
	assert.Equal(t, []string{first}, b.pages(b.do(append([]string{"move", "start", "--at-once"}, there...)...)))
	assert.Equal(t, digest, b.do("shell", moved, "--", kept))
	assert.Contains(t, b.virsh("list", "--all"), "shut off", "it is kept where it was")
	b.do("shell", moved, "--", "echo level 1.55 m at the weir >/srv/www/index.html; sync")
	assert.Equal(t, []string{"level 1.55 m at the weir"}, b.pages(b.do("move", "back", "2", "--confirm", "gauge")))
	assert.Equal(t, digest, b.do("shell", moved, "--", kept))
	b.nothingAt("alisio-norte")

	// For good, and home again for good.
	b.do(append([]string{"move", "start", "--at-once"}, there...)...)
	b.do("move", "commit", "3", "--confirm", "gauge")
	assert.Empty(t, b.virsh("list", "--all"))
	assert.Empty(t, b.virsh("vol-list", "default"))
	assert.Equal(t, []string{"level 1.55 m at the weir"}, b.pages(b.do("move", "start", "gauge", "--what", moved, "--to", "forja", "--mode", "cold", "--at-once")))
	b.do("move", "commit", "4", "--confirm", "gauge")
	assert.Equal(t, digest, b.do("shell", moved, "--", kept))
	b.nothingAt("alisio-norte")
	b.do("survey")
	assert.Contains(t, b.do("reconcile"), "nothing disagrees")
	b.do("retire", "gauge", "--confirm", "gauge")
	assert.Empty(t, b.virsh("vol-list", "default"))
}

// nothingAt holds that a site has nothing of anybody.
func (b *bench) nothingAt(site string) {
	b.Helper()
	assert.Contains(b, b.do("survey", site), " 0 things ")
}
