package cli

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
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
	"andamio/internal/core/fault"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/testprogram"
)

// print is the digest of each file of a folder, by name.
func prints(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		out[name] = fmt.Sprintf("%x", sha256.Sum256(data))
		return err
	}))
	return out
}

// TestStandInsTouchNoOtherWorkspace offers stand-ins a workspace of somebody's: with its sites, one whose credentials are
// locked, and a folder of other things.
func TestStandInsTouchNoOtherWorkspace(t *testing.T) {
	real := filepath.Join(t.TempDir(), "real")
	code, _, errOut := call("credentials", "secret", "k", "--file", "/etc/hostname", "--workspace", real)
	require.Zero(t, code, errOut)
	require.NoError(t, os.WriteFile(filepath.Join(real, "sites.json"), []byte(`[{"site":"vega","kind":"private","url":"https://vega.invalid"}]`), 0o600))
	locked := filepath.Join(t.TempDir(), "locked")
	code, _, errOut = call("credentials", "secret", "k", "--file", "/etc/hostname", "--workspace", locked)
	require.Zero(t, code, errOut)
	require.NoError(t, os.Rename(filepath.Join(locked, "credentials.key"), filepath.Join(t.TempDir(), "elsewhere")))
	papers := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(papers, "letter.txt"), []byte("dear"), 0o600))
	for _, dir := range []string{real, locked, papers} {
		before := prints(t, dir)
		for _, args := range [][]string{{"demo"}, {"demo", "--headless"}, {"demo", "--anew"}, {"sandbox", "--quiet"}, {"sandbox", "drift"}} {
			code, out := program(t, append(args, "--workspace", dir)...)
			assert.Contains(t, []int{statuses[fault.NotFound], statuses[fault.Conflict]}, code, "%v %s: %s", args, dir, out)
			assert.Contains(t, out, "no workspace of stand-ins", "%v", args)
		}
		after := prints(t, dir)
		for name, sum := range before {
			if !strings.Contains(name, "andamio.db") { // opened, and as whole as it was
				assert.Equal(t, sum, after[name], name)
			}
		}
	}
	home := t.TempDir()
	cmd := exec.Command(binary, "sandbox", "--quiet")
	cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+home)
	require.NoError(t, os.MkdirAll(filepath.Join(home, "andamio"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(home, "andamio", "sites.json"), []byte("[]"), 0o600))
	out, err := cmd.CombinedOutput()
	require.Error(t, err, "the user's own workspace is no other")
	assert.Contains(t, string(out), "no workspace of stand-ins")
}

// killable starts stand-ins in a process of their own, and returns it when they are connected.
func killable(t *testing.T, ws string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(binary, "sandbox", "--workspace", ws, "--pace", "0.02", "--quiet")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool { return sites.StandInsRun(ws) }, 2*time.Minute, 10*time.Millisecond)
	return cmd
}

// TestADemoGoesOnWhereItWas kills the stand-ins under a deployment that stands, and under a run that is under way.
func TestADemoGoesOnWhereItWas(t *testing.T) {
	ws := filepath.Join(testprogram.Workspace(t), "demo")
	box := killable(t, ws)
	run := func(args ...string) string {
		t.Helper()
		code, out := program(t, append(args, "--workspace", ws)...)
		require.Zero(t, code, out)
		return out
	}
	run("run", planFile(t, ws))
	stood := run("deployments", "--json")
	require.NoError(t, box.Process.Signal(syscall.SIGKILL))
	_ = box.Wait()
	assert.False(t, sites.StandInsRun(ws))
	other, err := templates.DemoEstate()
	require.NoError(t, err)
	other.Sites = other.Sites[:2]
	text, err := other.Write()
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "estate.json")
	require.NoError(t, os.WriteFile(file, text, 0o600))
	code, out := program(t, "sandbox", "--workspace", ws, "--quiet", "--estate", file)
	assert.Equal(t, statuses[fault.Conflict], code)
	assert.Contains(t, out, "of another estate")
	box = killable(t, ws)
	code, out = program(t, "sandbox", "--workspace", ws, "--quiet")
	assert.Equal(t, statuses[fault.Conflict], code)
	assert.Contains(t, out, "run already")
	assert.JSONEq(t, stood, run("deployments", "--json"))
	run("survey")
	assert.Contains(t, run("reconcile"), "nothing disagrees")
	raised := exec.Command(binary, "run", planFile(t, ws, "--name", "second"), "--workspace", ws)
	require.NoError(t, raised.Start())
	a, err := app.Open(t.Context(), ws, app.Idle())
	require.NoError(t, err)
	defer a.Close()
	require.Eventually(t, func() bool { // in its middle
		s, err := a.Replay(t.Context(), 2)
		return err == nil && s.LastSeq > 60
	}, 2*time.Minute, 10*time.Millisecond)
	require.NoError(t, box.Process.Signal(syscall.SIGKILL))
	_ = box.Wait()
	box = killable(t, ws)
	if raised.Wait() != nil {
		run("resume", "2")
	}
	run("survey")
	assert.Contains(t, run("reconcile"), "nothing disagrees")
	go func() { _ = box.Wait() }() // else it would be there, dead, until its parent looks
	code, out = program(t, "demo", "--stop", "--workspace", ws)
	require.Zero(t, code, out)
	assert.False(t, sites.StandInsRun(ws))
}

// TestAWorkspaceIsItsOwnersAlone loosens a workspace, as a careless copy does: it is tightened, and that is said.
func TestAWorkspaceIsItsOwnersAlone(t *testing.T) {
	was := syscall.Umask(0)
	defer syscall.Umask(was)
	ws := filepath.Join(testprogram.Workspace(t), "ws")
	code, _, errOut := call("credentials", "secret", "k", "--file", "/etc/hostname", "--workspace", ws)
	require.Zero(t, code, errOut)
	assert.NotContains(t, errOut, "others could", "nothing is made loose, whatever the umask")
	loose := func() (out []string) {
		require.NoError(t, filepath.WalkDir(ws, func(name string, d fs.DirEntry, err error) error {
			require.NoError(t, err)
			info, err := d.Info()
			require.NoError(t, err)
			if info.Mode().Perm()&0o077 != 0 {
				out = append(out, name)
			}
			return nil
		}))
		return out
	}
	assert.Empty(t, loose())
	require.NoError(t, os.Chmod(ws, 0o755))
	require.NoError(t, os.Chmod(filepath.Join(ws, "credentials.key"), 0o644))
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(ws, "link")))
	before, err := os.Stat("/etc/hostname")
	require.NoError(t, err)
	code, _, errOut = call("site", "list", "--workspace", ws)
	require.Zero(t, code, errOut)
	assert.Contains(t, errOut, "others could use 2 things of the workspace")
	require.NoError(t, os.Remove(filepath.Join(ws, "link")))
	assert.Empty(t, loose())
	after, err := os.Stat("/etc/hostname")
	require.NoError(t, err)
	assert.Equal(t, before.Mode(), after.Mode(), "no link is followed")
	_, _, errOut = call("site", "list", "--workspace", ws)
	assert.Empty(t, errOut)
}
