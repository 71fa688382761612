package tui_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"andamio/internal/testprogram"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheTerminalIsLeftAsItWas ends the screens by every signal that ends them: the terminal is as it was before.
func TestTheTerminalIsLeftAsItWas(t *testing.T) {
	for _, sig := range []syscall.Signal{syscall.SIGHUP, syscall.SIGTERM, syscall.SIGINT} {
		t.Run(sig.String(), func(t *testing.T) {
			dir := testprogram.Workspace(t)
			file := func(name string) string { return filepath.Join(dir, name) }
			script := fmt.Sprintf("stty -a > %s\nsh -c 'echo $$ > %s; exec %s --workspace %s'\nstty -a > %s\necho ENDED\nsleep 60\n",
				file("before"), file("pid"), binary, file("ws"), file("after"))
			require.NoError(t, os.WriteFile(file("run.sh"), []byte(script), 0o700))
			x := &terminal{t: t, socket: fmt.Sprintf("andamio-hangup-%d-%d", os.Getpid(), sig)}
			x.tmux("new-session", "-d", "-x", "100", "-y", "30", "sh", file("run.sh"))
			defer func() { x.tmux("kill-server") }()
			x.waitFor("1 Sites")
			text, err := os.ReadFile(file("pid"))
			require.NoError(t, err)
			pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
			require.NoError(t, err)
			assert.Equal(t, "1\n", x.tmux("display-message", "-p", "#{alternate_on}"))
			require.NoError(t, syscall.Kill(pid, sig))
			x.waitFor("ENDED")
			assert.Equal(t, "0\n", x.tmux("display-message", "-p", "#{alternate_on}"))
			assert.Equal(t, "1\n", x.tmux("display-message", "-p", "#{cursor_flag}"), "the cursor is seen")
			assert.Equal(t, "0\n", x.tmux("display-message", "-p", "#{mouse_any_flag}"))
			before, err := os.ReadFile(file("before"))
			require.NoError(t, err)
			require.Eventually(t, func() bool {
				after, err := os.ReadFile(file("after"))
				return err == nil && string(after) == string(before)
			}, 2*time.Minute, 20*time.Millisecond)
		})
	}
}
