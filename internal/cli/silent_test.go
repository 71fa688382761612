package cli

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/kinds"
	"andamio/internal/core/run"
	"andamio/internal/service/runs"
	"andamio/internal/site/occi/wire"
)

const slowTemplate = `tosca_definitions_version: tosca_simple_yaml_1_3
topology_template:
  node_templates:
    host: { type: Compute }
    level:
      type: SoftwareComponent
      requirements: [ host: host ]
      interfaces: { Standard: { operations: { create: create.sh, configure: configure.sh } } }
`

// endsBy has a process end by a signal, soon.
func endsBy(t *testing.T, cmd *exec.Cmd, sig os.Signal) {
	t.Helper()
	require.NoError(t, cmd.Process.Signal(sig))
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case <-ended:
	case <-time.After(12 * time.Second):
		_ = cmd.Process.Kill()
		t.Errorf("%v waits for a machine that is silent", cmd.Args[1:])
	}
}

// connected waits until a process has a connection to something.
func connected(t *testing.T, cmd *exec.Cmd) {
	t.Helper()
	require.Eventually(t, func() bool {
		files, _ := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", cmd.Process.Pid))
		for _, f := range files {
			if to, err := os.Readlink(f); err == nil && strings.HasPrefix(to, "socket:") {
				return true
			}
		}
		return false
	}, 2*time.Minute, 10*time.Millisecond, "%v", cmd.Args[1:])
}

// TestNothingWaitsForASilentMachine has a machine fall silent, with every connection to it open, under a script of a run, a
// command and a copy: each ends when it is told to.
func TestNothingWaitsForASilentMachine(t *testing.T) {
	ws := standIns(t, "0.02")
	dir := t.TempDir()
	for name, text := range map[string]string{"template.yaml": slowTemplate, "create.sh": "echo made\n", "configure.sh": "echo begun; sleep 3000\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o700))
	}
	plan := filepath.Join(dir, "p.json")
	code, out := program(t, "plan", dir, "-o", plan, "--workspace", ws)
	require.Zero(t, code, out)
	a, err := app.Open(t.Context(), ws, app.Idle())
	require.NoError(t, err)
	defer a.Close()
	code, out = program(t, "run", plan, "--detach", "--workspace", ws)
	require.Zero(t, code, out)
	var state *run.State
	require.Eventually(t, func() bool {
		state, err = a.Replay(t.Context(), 1)
		if err != nil {
			return false
		}
		st := state.Step("level-1/configure")
		return st != nil && len(st.Log) > 0 && strings.Contains(st.Log[len(st.Log)-1].Text, "begun")
	}, 2*time.Minute, 20*time.Millisecond)
	command := exec.Command(binary, "shell", "host-1", "--workspace", ws, "--", "sleep 3000")
	in, err := command.StdinPipe() // which nobody writes to
	require.NoError(t, err)
	defer in.Close()
	require.NoError(t, command.Start())
	sites, err := a.Sites()
	require.NoError(t, err)
	id, _ := state.Attribute("host-1", "site.id")
	r := state.Plan.Resource("host-1")
	_, err = sites[r.Site].Invoke(t.Context(), kinds.Instance, id, wire.ActionSuspend)
	require.NoError(t, err)
	file := filepath.Join(dir, "file")
	require.NoError(t, os.WriteFile(file, []byte("x"), 0o600))
	copying := exec.Command(binary, "copy", file, "host-1:/srv/file", "--workspace", ws)
	require.NoError(t, copying.Start())
	shell := exec.Command(binary, "shell", "host-1", "--workspace", ws)
	require.NoError(t, shell.Start())
	connected(t, command)
	connected(t, copying)
	connected(t, shell)
	endsBy(t, command, os.Interrupt)
	endsBy(t, copying, os.Interrupt)
	endsBy(t, shell, os.Interrupt)
	kept, err := a.Run(t.Context(), 1)
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(processOn(t, kept), syscall.SIGTERM))
	require.Eventually(t, func() bool { return !runs.Alive(kept) || syscall.Kill(processOn(t, kept), 0) != nil }, time.Minute, 20*time.Millisecond, "the worker ends")
	state, err = a.Replay(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, run.Stopped, state.Step("level-1/configure").Status)
}
