package tui_test

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/testprogram"
)

// far is a workspace that is served in a process of its own, and the command line of somebody who is elsewhere.
type far struct {
	serve *exec.Cmd
	dir   string
	words string
}

func newFar(t *testing.T) *far {
	t.Helper()
	dir := testprogram.Workspace(t)
	ws := filepath.Join(dir, "ws")
	f := &far{dir: dir, serve: exec.CommandContext(t.Context(), binary, "serve", "--workspace", ws, "--address", "127.0.0.1:0", "--api", "127.0.0.1:0")}
	out, err := f.serve.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, f.serve.Start())
	t.Cleanup(func() { _ = f.serve.Process.Signal(os.Interrupt); _ = f.serve.Wait() })
	at := regexp.MustCompile(`programs at (http://\S+?)/v1;`)
	var text strings.Builder
	for buffer := make([]byte, 4096); at.FindString(text.String()) == ""; {
		n, err := out.Read(buffer)
		require.NoError(t, err, text.String())
		text.Write(buffer[:n])
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	said, err := exec.CommandContext(t.Context(), binary, "token", "make", "far", "--workspace", ws, "--json").Output()
	require.NoError(t, err)
	var made struct{ Secret string }
	require.NoError(t, json.Unmarshal(said, &made))
	token := filepath.Join(dir, "token")
	require.NoError(t, os.WriteFile(token, []byte(made.Secret), 0o600))
	f.words = fmt.Sprintf("%s --server %s --server-token %s", binary, at.FindStringSubmatch(text.String())[1], token)
	return f
}

// screens opens the screens in a terminal of a size, with a template, and says in files how the terminal was before and is after.
func (f *far) screens(t *testing.T, w, h int, words string) *terminal {
	t.Helper()
	file := func(name string) string { return filepath.Join(f.dir, name) }
	script := fmt.Sprintf("stty -a > %s\nsh -c 'echo $$ > %s; exec %s %s'\nstty -a > %s\necho ENDED $?\nsleep 60\n", file("before"), file("pid"), f.words, words, file("after"))
	require.NoError(t, os.WriteFile(file("run.sh"), []byte(script), 0o700))
	x := &terminal{t: t, socket: fmt.Sprintf("andamio-far-%d-%d", os.Getpid(), h)}
	x.tmux("new-session", "-d", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h), "sh", file("run.sh"))
	t.Cleanup(func() { x.tmux("kill-server") })
	x.waitFor("1 Sites")
	return x
}

// left holds that a terminal is as it was before the screens.
func (f *far) left(x *terminal) {
	x.t.Helper()
	x.waitFor("ENDED")
	for what, want := range map[string]string{"alternate_on": "0\n", "cursor_flag": "1\n", "mouse_any_flag": "0\n"} {
		assert.Equal(x.t, want, x.tmux("display-message", "-p", "#{"+what+"}"), what)
	}
	before, err := os.ReadFile(filepath.Join(f.dir, "before"))
	require.NoError(x.t, err)
	after, err := os.ReadFile(filepath.Join(f.dir, "after"))
	require.NoError(x.t, err)
	_, was, _ := strings.Cut(string(before), "\n") // after its size, which may be another
	_, is, _ := strings.Cut(string(after), "\n")
	assert.Equal(x.t, was, is)
}

// TestTheScreensOfAWorkspaceThatIsElsewhere designs with a template that is here, keeps a preset, which is here afterwards, and changes the size of the terminal.
func TestTheScreensOfAWorkspaceThatIsElsewhere(t *testing.T) {
	f := newFar(t)
	folder := filepath.Join(f.dir, "door")
	require.NoError(t, os.CopyFS(folder, os.DirFS("../../examples/one-door")))
	x := f.screens(t, 120, 40, "--template "+folder)
	x.press("2")
	x.waitFor("page-host")
	x.tmux("resize-window", "-x", "90", "-y", "30")
	x.waitUntil("the size of the terminal", func(screen string) bool {
		lines := strings.Split(strings.TrimRight(screen, "\n"), "\n")
		return len(lines) <= 30 && strings.Contains(screen, "2 Design") && strings.Contains(lines[len(lines)-1], "keys")
	})
	x.press("Tab", "Enter", "BSpace", "5", "Enter", "a", "4")
	x.waitFor("name of the preset")
	x.press("d", "a", "m", "Enter")
	x.waitFor("preset dam")
	assert.NotContains(t, x.screen(), "andamio-visit")
	x.tmux("send-keys", "q")
	f.left(x)
	assert.FileExists(t, filepath.Join(folder, "presets", "dam.yaml"))
}

// TestATerminalIsLeftAsItWasByScreensElsewhere ends the one who looks, and the one who shows, in the middle.
func TestATerminalIsLeftAsItWasByScreensElsewhere(t *testing.T) {
	t.Run("who looks", func(t *testing.T) {
		f := newFar(t)
		x := f.screens(t, 100, 31, "")
		text, err := os.ReadFile(filepath.Join(f.dir, "pid"))
		require.NoError(t, err)
		var pid int
		_, err = fmt.Sscan(string(text), &pid)
		require.NoError(t, err)
		require.NoError(t, syscall.Kill(pid, syscall.SIGTERM))
		f.left(x)
	})
	t.Run("who shows", func(t *testing.T) {
		f := newFar(t)
		x := f.screens(t, 100, 32, "")
		require.NoError(t, f.serve.Process.Kill())
		f.left(x)
		assert.Contains(t, x.screen(), "the server is gone")
	})
}
