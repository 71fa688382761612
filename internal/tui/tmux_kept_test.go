package tui_test

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatBrokeIsRestoredOnScreen keeps what the register's disks hold, breaks it, and restores it, from the screens alone.
func TestWhatBrokeIsRestoredOnScreen(t *testing.T) {
	ws := demoWorkspace(t)
	dir := copyExample(t)
	boot := open(t, 100, 30, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.05") // brings the stand-ins up
	boot.waitFor(`ready to build`)
	boot.press("q")
	plan := filepath.Join(t.TempDir(), "plan.json")
	do := func(args ...string) string {
		out, err := exec.Command(binary, append([]string{"--workspace", ws}, args...)...).CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
		return strings.TrimSpace(string(out))
	}
	do("plan", dir, "-o", plan)
	do("run", plan)

	x := open(t, 160, 47, nil, "--workspace", ws)
	x.waitFor(`flood-watch run 1`)
	x.press("5")
	x.waitFor(`■ flood-watch\s+standing`)
	x.press("Down", "Down", "Down")
	x.press("a")
	acts := x.waitFor(`take a snapshot of register`)
	assert.NotContains(t, acts, "restore", "there is nothing to restore yet")
	x.press("7")
	x.waitFor(`snapshot \S+ of flood-watch\s+▱ not begun`)
	x.waitFor(`2 steps: 2 build`)
	x.runPlan()
	x.waitFor(`2 of 2 steps`)
	x.press("5")
	x.waitFor(`(?s)snapshots.*■ \d{8}-\d{4}\s+\d+ MiB`)
	do("shell", "contacts-host-1", "--", "rm -r /var/lib/contacts; echo gone > /var/lib/contacts/broken")
	x.press("a")
	x.waitFor(`9\s+restore \d{8}-\d{4}`)
	x.press("9")
	shown := x.waitFor(`restore \S+ of flood-watch\s+▱ not begun`)
	assert.Contains(t, shown, "2 build, 3 change", "what they hold now is kept before")
	x.runPlan()
	x.waitFor(`8 of 8 steps`)
	x.press("5")
	x.waitFor(`(?s)snapshots.*before-\d{8}-\d{4}`)
	assert.NotContains(t, do("shell", "contacts-host-1", "--", "ls /var/lib/contacts"), "broken")
	x.tmux("resize-window", "-x", "80", "-y", "24")
	x.waitFor(`(?m)^ 0 `)
	x.press("a")
	x.waitFor(`take a snapshot of register`)
	x.press("Escape", "q")
}
