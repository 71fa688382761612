package tui_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"andamio/internal/testprogram"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// standIn is a running sandbox for a workspace: where each site is, and with which credential.
type standIn struct {
	Site, URL, Token string
}

// sandboxed starts stand-ins for a workspace, in a process that ends with the test.
func sandboxed(t *testing.T) (ws string, sites map[string]standIn) {
	t.Helper()
	ws = testprogram.Workspace(t)
	cmd := exec.Command(binary, "sandbox", "--workspace", ws, "--pace", "0.02", "--json")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() })
	var all []standIn
	require.NoError(t, json.NewDecoder(out).Decode(&all))
	sites = map[string]standIn{}
	for _, s := range all {
		sites[s.Site] = s
	}
	return ws, sites
}

// program runs a command line to its end.
func program(t *testing.T, args ...string) string {
	t.Helper()
	out, err := exec.Command(binary, args...).CombinedOutput()
	if _, no := err.(*exec.ExitError); err != nil && !no {
		require.NoError(t, err)
	}
	return string(out)
}

// typed types text as it is.
func (x *terminal) typed(text string) {
	before := x.screen()
	x.tmux("send-keys", "-l", text)
	x.waitOther(before)
}

// paste pastes a text, as a terminal does that brackets what is pasted.
func (x *terminal) paste(text string) {
	before := x.screen()
	x.tmux("set-buffer", text)
	x.tmux("paste-buffer", "-p")
	x.waitOther(before)
}

// TestASiteIsConnectedOnScreen goes the whole guided path, with mistakes on the way.
func TestASiteIsConnectedOnScreen(t *testing.T) {
	_, sites := sandboxed(t)
	ws := testprogram.Workspace(t)
	x := open(t, 160, 47, nil, "--workspace", ws)
	x.waitFor("1 Sites")
	x.press("1")
	x.waitFor("no site is connected yet")
	x.press("n")
	x.waitFor("what sort of site is it")
	x.press("Enter")
	x.waitFor("what does the site call itself")
	x.typed("Vega One")
	x.waitFor("a name is of small letters")
	x.press("Enter") // is not taken
	x.waitFor("what does the site call itself")
	x.press("C-u")
	x.typed("vega")
	x.press("Enter")
	x.waitFor("what does it speak")
	x.waitFor("the Open Cloud Computing Interface")
	x.waitFor("hosts with libvirt and QEMU")
	x.press("Enter")
	x.waitFor("where is it spoken to")
	x.typed("vega.ribera.test")
	x.waitFor(`that is https://vega.ribera.test:8443`)
	x.press("C-u")
	x.typed(sites["vega"].URL)
	x.press("Enter")
	x.waitFor("how is it known to be the right one")
	x.typed("trust me")
	x.waitFor("is no answer; write authority FILE")
	x.press("C-u")
	x.press("Enter")
	x.waitFor("in which time zone")
	x.press("Enter")
	x.waitFor("with which credential")
	x.typed("wrong-" + sites["vega"].Token)
	x.press("Enter")
	x.waitFor("does not take the credential")
	x.press("C-u")
	x.paste(sites["vega"].Token)
	screen := x.screen()
	assert.NotContains(t, screen, sites["vega"].Token, "a credential is never shown")
	x.press("Enter")
	screen = x.waitFor("which regions are surveyed")
	assert.Contains(t, screen, "may delete")
	x.press("Down", "Space")
	x.waitFor("▱ b")
	x.press("Space", "Enter", "Enter", "Down")
	x.waitFor("every six hours")
	x.press("Enter")
	x.waitFor("connect it, and survey it now")
	x.press("Enter")
	x.waitFor(`surveyed \d+s? ago|surveyed now`)
	kept, err := os.ReadFile(filepath.Join(ws, "sites.json"))
	require.NoError(t, err)
	assert.Contains(t, string(kept), "FREQ=HOURLY;INTERVAL=6")
	assert.NotContains(t, string(kept), sites["vega"].Token)
}

// toUnmanaged selects the head of the things that are nobody's. After each key it waits for the row that the key leads to: a
// screen that a loaded machine has not drawn yet would lead one row too far.
func (x *terminal) toUnmanaged() {
	x.t.Helper()
	x.tmux(append([]string{"send-keys"}, slices.Repeat([]string{"Up"}, 12)...)...) // to the top, however far that is
	screen := x.waitUntil("the first row selected", func(s string) bool { return selectedRow(s) == rowWith(s, "▾") })
	for row := selectedRow(screen); !strings.Contains(strings.Split(screen, "\n")[row], "▾ unmanaged"); row++ {
		x.tmux("send-keys", "Down")
		screen = x.waitUntil("the next row selected", func(s string) bool { return selectedRow(s) == row+1 })
	}
}

// selectedRow is the row of the screen that is selected in a list, and -1 where none is.
func selectedRow(screen string) int { return rowWith(screen, "▐") }

// rowWith is the first row of the screen that has a text, and -1 where none has.
func rowWith(screen, text string) int {
	return slices.IndexFunc(strings.Split(screen, "\n"), func(line string) bool { return strings.Contains(line, text) })
}

// TestFindingsAreSettledInBulkAndUndone surveys, opens a finding, settles many at once and takes that back.
func TestFindingsAreSettledInBulkAndUndone(t *testing.T) {
	ws, _ := sandboxed(t)
	dir := copyExample(t)
	require.NoError(t, os.Remove(filepath.Join(dir, "estate.json")))
	file := filepath.Join(t.TempDir(), "p.json")
	program(t, "plan", dir, "--preset", "drill", "-o", file, "--workspace", ws)
	program(t, "run", file, "--workspace", ws)
	require.Contains(t, program(t, "survey", "--workspace", ws), "0 findings")
	program(t, "sandbox", "drift", "--count", "6", "--only", "created", "--seed", "5", "--workspace", ws)
	program(t, "sandbox", "drift", "--count", "4", "--only", "tagged", "--seed", "5", "--workspace", ws)

	x := open(t, 160, 47, nil, "--workspace", ws, "--template", dir)
	x.waitFor("7 Reconcile")
	x.press("7", "s")
	x.waitFor("5 sites surveyed")
	x.waitFor(`unmanaged\s+━+\s+6`)
	x.press("/")
	x.typed("tag")
	x.press("Enter")
	screen := x.waitFor(`tag (owner|ticket|night-off)\s.*by-hand-\d+`) // side by side
	assert.Contains(t, screen, "what the inventory holds")
	x.press("w")
	x.waitFor("why it is a finding")
	x.press("Escape")

	// All of nobody's things at once: the head of their group is selected, and one key chooses for all.
	x.toUnmanaged()
	x.press("A")
	x.waitFor(`6 marked\s+adopt 6`)
	x.waitFor("no site is changed")
	x.press("Enter")
	x.waitFor("settle 6 findings")
	x.press("Enter")
	x.waitFor("act 1: 6 findings settled")
	x.waitFor(`\b[1-4] findings?`)
	x.press("u")
	x.waitFor("undo act 1")
	x.press("Enter")
	x.waitFor("act 1 is undone")
	x.waitFor(`unmanaged\s+━+\s+6`)

	// One by a plan: shown with its steps, run by the engine.
	x.toUnmanaged()
	x.press("T")
	x.waitFor(`a plan: \d+ steps`)
	x.press("Enter")
	x.waitFor("Sites are changed by a plan")
	x.waitFor("(?s)What is on .* goes.*type by-hand and press enter") // whose data goes is said, and the name is typed
	x.typed("by-hand")
	x.press("Enter")
	x.waitFor("run 2 is under way|run 2 ■ standing")
	x.waitFor(`run 2 ■ standing`)
	x.press("s")
	x.waitFor("5 sites surveyed")
	require.Eventually(t, func() bool { return !regexp.MustCompile(`unmanaged`).MatchString(x.screen()) }, 2*time.Minute, 200*time.Millisecond, "they are gone from the sites")

	// The map, and what the loss of a host takes down.
	x.press("m")
	x.waitFor("what serves what")
	x.press("Right", "Right", "Right", "x")
	screen = x.waitFor("what would be lost")
	assert.Regexp(t, `its loss\s+(✕ takes down|◐ weakens|takes no service)`, screen)
	x.press("x", "Left", "Left", "Left", "a")
	x.waitFor("plans a move of")
	x.press("1")
	x.waitFor("a new move")
	x.waitFor("▣") // the instances of the service are marked
	x.press("7", "m")
	x.waitFor("suggested|agree")
}
