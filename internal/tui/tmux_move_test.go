package tui_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// movable is a workspace in which the page of levels stands, with two sites paired.
func movable(t *testing.T) string {
	t.Helper()
	ws, _ := sandboxed(t)
	file := filepath.Join(t.TempDir(), "plan.json")
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../../examples/level-log")))
	program(t, "plan", dir, "--workspace", ws, "-o", file)
	require.Contains(t, program(t, "run", file, "--workspace", ws), "everything stands")
	return ws
}

// toTheLog chooses the log and the site, after the sites were paired from the screen.
func toTheLog(x *terminal) {
	x.press("6")
	x.waitFor(`a new move`)
	x.waitFor(`log-host-1`)
	x.press("Right", "Right", "Down", "Down", "Down", "Down")
	x.waitFor(`log-host-1 → tramonta`)
	x.press("Enter")
	x.waitFor(`are not paired`)
	x.press("p")
	x.waitFor(`tramonta is paired with vega`)
	x.press("Enter")
	x.waitFor(`▱ not begun`)
}

// TestAWorkloadIsMovedOnScreen moves one from its choosing to the commit.
func TestAWorkloadIsMovedOnScreen(t *testing.T) {
	ws := movable(t)
	x := open(t, 160, 47, nil, "--workspace", ws)
	x.waitFor("6 Move")
	toTheLog(x)
	screen := x.waitFor(`cut over +when you say`)
	assert.Contains(t, screen, "what is left to copy")
	assert.Regexp(t, `── port`, screen, "the network there maps ports")
	x.press("w")
	x.waitFor("what will be otherwise")
	x.press("Escape")
	x.press("r")
	x.waitFor(`ready to cut over`)
	x.press("c")
	x.waitFor(`It stops where it is`)
	x.press("Enter")
	screen = x.waitFor(`moved, not committed`)
	assert.Contains(t, screen, "off, kept")
	assert.Contains(t, screen, "even, verified")
	x.press("k")
	x.waitFor(`There is no going back`)
	x.typed("level-log")
	x.press("Enter")
	x.waitFor(`■ committed`)
	assert.Contains(t, program(t, "move", "status", "--workspace", ws), "committed")
}

// TestGoingBackOnScreen goes back while rounds are copied, and once more after the cutover.
func TestGoingBackOnScreen(t *testing.T) {
	ws := movable(t)
	x := open(t, 160, 47, nil, "--workspace", ws)
	x.waitFor("6 Move")
	toTheLog(x)
	x.press("r")
	x.waitFor(`ready to cut over`)
	x.press("b")
	x.waitFor(`taken away`)
	x.press("Enter")
	x.waitFor(`gone back`)
	x.press("n")
	x.waitFor(`a new move`)
	x.press("Enter")
	x.waitFor(`▱ not begun`)
	x.press("r")
	x.waitFor(`ready to cut over`)
	x.press("c")
	x.waitFor(`It stops where it is`)
	x.press("Enter")
	x.waitFor(`moved, not committed`)
	x.press("b")
	x.waitFor(`copied back`)
	x.press("Enter")
	x.waitFor(`gone back`)
	program(t, "survey", "--workspace", ws) // the last one may be of when it went on
	assert.Contains(t, program(t, "reconcile", "--workspace", ws), "disagree")
}

// TestAMoveFromTheCommandLine moves one at once, and refuses what cannot be.
func TestAMoveFromTheCommandLine(t *testing.T) {
	ws := movable(t)
	assert.Contains(t, program(t, "move", "plan", "level-log", "--what", "log-host", "--to", "alisio-sur", "--workspace", ws), "andamio pair vega alisio-sur pairs them")
	assert.Contains(t, program(t, "pair", "vega", "vega", "--workspace", ws), "not of vega with itself")
	assert.Contains(t, program(t, "pair", "vega", "alisio-sur", "--start", "nobody", "--workspace", ws), "not from \"nobody\"")
	assert.Contains(t, program(t, "pair", "vega", "alisio-sur", "--start", "vega", "--workspace", ws), "reached")
	assert.Contains(t, program(t, "move", "start", "level-log", "--what", "log-host", "--to", "alisio-sur", "--side", "alisio-sur", "--workspace", ws), "started from vega alone")
	assert.Contains(t, program(t, "move", "plan", "level-log", "--what", "nothing", "--to", "alisio-sur", "--workspace", ws), "no instance, node or service")
	assert.Contains(t, program(t, "move", "plan", "level-log", "--what", "log-host", "--to", "vega", "--workspace", ws), "at vega already")
	text := program(t, "move", "start", "level-log", "--what", "log-host", "--to", "alisio-sur", "--mode", "live", "--at-once", "--workspace", ws)
	assert.Contains(t, text, "everything stands")
	assert.Contains(t, program(t, "pair", "remove", "vega", "alisio-sur", "--workspace", ws), "not over")
	assert.Contains(t, program(t, "stop", "level-log", "--confirm", "level-log", "--workspace", ws), "is not over")
	assert.Contains(t, program(t, "move", "back", "1", "--workspace", ws), "nothing was done")
	assert.Contains(t, program(t, "move", "back", "1", "--confirm", "level-log", "--workspace", ws), "everything stands")
	assert.Contains(t, program(t, "pair", "remove", "vega", "alisio-sur", "--workspace", ws), "paired no more")
}
