package cli

import (
	"bufio"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/workspace"
)

// TestFrontsFromTheCommandLine keeps fronts, answers for them, lists them, and answers from what was known last.
func TestFrontsFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	assert.Contains(t, run(0, "front"), "there are no fronts")
	assert.Contains(t, run(0, "front", "check", "../../examples/flood-watch/fronts.yaml"), "2 fronts in near.ribera.test: nothing is wrong")
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("version: andamio.fronts/1\nzone: near.test\nservers: [ns.test]\nfronts:\n- { name: a }"), 0o644))
	assert.Contains(t, run(2, "front", "set", bad), `line 5, "a": endpoint: say which software answers`)
	assert.Contains(t, run(2, "front", "answer"), "--listen: say at which address")
	run(0, "run", planFile(t, ws))
	file := filepath.Join(t.TempDir(), "fronts.yaml")
	require.NoError(t, os.WriteFile(file, []byte("version: andamio.fronts/1\nzone: near.test\nservers: [ns.test]\nfronts: [{ name: map, endpoint: river-map.app_endpoint }, { name: none, endpoint: nothing }]"), 0o644))
	assert.Contains(t, run(0, "front", "set", file), "2 fronts in near.test kept")
	assert.Regexp(t, `map.near.test +– +– +– +nobody serves it`, run(1, "front"))

	answers := func(args ...string) string {
		cmd := exec.Command(binary, append([]string{"front", "answer", "--listen", "127.0.0.1:0"}, args...)...)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() {
			require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
			assert.NoError(t, cmd.Wait(), "it ends when it is told to")
		})
		line, err := bufio.NewReader(out).ReadString('\n')
		require.NoError(t, err)
		return strings.TrimSpace(strings.TrimPrefix(line, "answering at "))
	}
	addresses := func(at string) int {
		m := new(dns.Msg)
		m.SetQuestion("map.near.test.", dns.TypeA)
		got, _, err := (&dns.Client{Timeout: 2 * time.Second}).Exchange(m, at)
		if err != nil {
			return -1
		}
		return len(got.Answer)
	}
	at := answers("--workspace", ws)
	require.Eventually(t, func() bool { return addresses(at) == 2 }, 20*time.Second, 50*time.Millisecond)
	last := filepath.Join(ws, workspace.FileLastFronts)
	_, err := os.Stat(last)
	require.ErrorIs(t, err, os.ErrNotExist, "who answers beside keeps nothing")
	require.NoError(t, os.WriteFile(last, []byte(`{"fronts": "version: andamio.fronts/1\nzone: near.test\nservers: [ns.test]\nfronts: [{ name: map, endpoint: river-map.app_endpoint }]",
		"members": {"map": [{"name": "river-map-1", "deployment": 1, "site": "vega", "address": "127.9.9.9", "port": 9, "up": true, "load": 0.5, "says": "open"}]}}`), 0o600))
	listed := run(1, "front")
	assert.Regexp(t, `map.near.test +river-map-1 +vega +127.9.9.9:9 +up, 50 % used +open`, listed)
	assert.Regexp(t, `none.near.test +– .*nobody serves it`, listed)
	assert.True(t, json.Valid([]byte(run(1, "front", "--json"))))
	assert.Equal(t, 1, addresses(answers("--from", last)))
}
