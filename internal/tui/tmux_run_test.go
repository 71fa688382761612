package tui_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatFailedIsRetriedAndTheRunRolledBack lets a step fail, mends what was wrong on the instance in a shell of the
// screens, retries, and rolls the run back.
func TestWhatFailedIsRetriedAndTheRunRolledBack(t *testing.T) {
	ws := demoWorkspace(t)
	dir := copyExample(t)
	broken := "#!/bin/sh\nif [ ! -f /srv/mended ]; then echo 'the register is not there yet'; exit 3; fi\n"
	old, err := os.ReadFile(filepath.Join(dir, "scripts/dispatch-configure.sh"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "scripts/dispatch-configure.sh"), append([]byte(broken), old...), 0o755))
	boot := open(t, 100, 30, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.05") // brings the stand-ins up
	boot.waitFor(`ready to build`)
	boot.press("q")

	x := open(t, 160, 47, nil, "--workspace", ws, "--template", dir)
	x.waitFor(`ready to build`)
	x.press("Enter")
	x.waitFor(`9 in 10: under`)
	x.runPlan()
	x.waitFor(`waits for you: 1 of 2`)
	x.waitFor(`✕ failed`)
	x.press("5")
	x.waitFor(`2 not well`) // what stands after the run, not during it
	x.press("/")
	x.tmux("send-keys", "-l", "dispatch-host 2")
	x.press("Enter")
	x.waitFor(`dispatch-host 2   tramonta`)
	x.press("o")
	x.waitFor(`dispatch-host-2 at tramonta`)
	x.waitFor(`operator@\S+ \$`)
	x.tmux("send-keys", "-l", "touch /srv/mended; ls /srv")
	x.press("Enter")
	x.waitFor(`mended`)
	x.press("C-]", "4")
	x.waitFor(`waits for you`)
	x.press("n") // the second is the one that was mended
	x.waitFor(`▐.*alert-dispatch 2|waits for you: 2 of 2`)
	x.press("r")
	x.waitFor(`waits for you: 1 of 1`)
	x.waitFor(`✕ failed`)
	x.press("a")
	x.waitFor(`5  roll back run 1`)
	x.press("5")
	x.waitFor(`roll back run 1.*not begun`)
	x.waitFor(`\d+ retire`)
	x.press("r")
	x.waitFor(`type flood-watch and press enter`)
	x.tmux("send-keys", "-l", "flood-watch")
	x.press("Enter")
	x.waitFor(`everything is gone`)
	x.press("5")
	x.waitFor(`▁ flood-watch\s+retired`)
}

// TestARunGoesOnWithoutTheScreens leaves in the middle of a run, and finds it again further on.
func TestARunGoesOnWithoutTheScreens(t *testing.T) {
	ws := demoWorkspace(t)
	x := open(t, 120, 40, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.15")
	x.waitFor(`ready to build`)
	x.press("Enter")
	x.waitFor(`not begun`)
	x.runPlan()
	x.waitFor(`[1-9]\d* of 96 steps`)
	x.press("q")
	y := open(t, 120, 40, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.15")
	y.press("4")
	y.waitFor(`■ standing   96 of 96 steps   took`)
	y.waitFor(`rehearsed: half under`)
}

// TestADifferenceIsShownAndRun scales a tier from the Operate view.
func TestADifferenceIsShownAndRun(t *testing.T) {
	ws := demoWorkspace(t)
	x := open(t, 160, 47, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.05")
	x.waitFor(`ready to build`)
	x.press("Enter")
	x.waitFor(`not begun`)
	x.runPlan()
	x.waitFor(`■ standing`)
	x.press("5")
	x.waitFor(`forecasting\s+11 of 11 well\s+11 of 11 active · 8 of 8 answer`)
	x.press("a", "4")
	x.waitFor(`NAME=VALUE`)
	x.tmux("send-keys", "-l", "forecast_workers=4")
	x.press("Enter")
	x.waitFor(`change flood-watch.*not begun.*3 build`)
	x.press("w")
	x.waitFor(`it does not stand yet`)
	x.press("Escape")
	x.runPlan()
	x.waitFor(`■ standing`)
	x.press("5")
	x.waitFor(`forecasting\s+13 of 13 well`)
}
