package tui_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPlacingInARealTerminal pins, forbids, answers a question otherwise, sets two alternatives side by side and accepts one
// into the plan.
func TestPlacingInARealTerminal(t *testing.T) {
	ws := demoWorkspace(t)
	x := open(t, 160, 47, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.05")
	x.waitFor(`ready to build`)
	x.press("1")
	x.waitFor(`5 sites   508 of 1168 cores`)
	x.press("3")
	x.waitFor(`■ the best, proven\s+2\.112 cr/h`)

	x.press("Down", "Down", "Right", "Right", "Right")
	x.waitFor(`why  forecast-host .* at alisio-sur`)
	x.waitFor(`if it were pinned here[^+]*\+0\.\d+ cr/h`) // the effect before the decision
	x.press("v", "p")
	x.waitFor(`■ 0\.\d+ pin`)
	x.waitFor(`beside the alternative`)
	x.waitFor(`cost an hour +2\.1\d\d +◇ +2\.112`)
	x.press("s")
	x.waitFor(`■ the best, proven\s+2\.112 cr/h`)
	x.press("s", "v")
	x.waitFor(`the alternative is let go`)

	x.press("u")
	x.waitFor(`■ the best, proven\s+2\.112 cr/h  1542`)
	x.tmux("send-keys", "/")
	x.tmux("send-keys", "-l", "readings")
	x.press("Enter", "Left", "Left", "x")
	x.waitFor(`no placement with these choices`)
	x.waitFor(`forbidden by hand`)
	x.press("u")
	x.waitFor(`■ the best, proven\s+2\.112 cr/h  1542`)

	x.tmux("send-keys", "/")
	x.tmux("send-keys", "-l", "contacts")
	x.press("Enter", "g", "Down", "Down", "Space")
	x.waitFor(`contacts-host 1 .*■ 0\.25`)
	x.press("Escape", "Enter")
	x.waitFor(`accepted: 1 choice, 1 workload move`)
	x.press("2")
	x.waitFor(`2\.0\d\d cr/h`)
	x.press("3", "e")
	x.waitFor(`written: flood-watch-capacity.svg`)
	for _, f := range []string{"capacity.svg", "capacity.pdf", "cost.svg", "cost.pdf"} {
		info, err := os.Stat(filepath.Join(x.dir, "flood-watch-"+f))
		require.NoError(t, err)
		assert.Greater(t, info.Size(), int64(1500), f)
	}
	x.tmux("resize-window", "-x", "80", "-y", "24")
	x.waitFor(`1 more site ←→`)
	x.press("q")
}
