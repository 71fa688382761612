package tui_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/testprogram"
)

// binary is the program under test, built once.
var binary string

func TestMain(m *testing.M) { testprogram.Main(m, &binary) }

// terminal is a tmux session with the program in it.
type terminal struct {
	t      *testing.T
	socket string
	dir    string
}

// ended is what the shell of a terminal says when the program in it has ended.
const ended = "ended"

// end ends the terminal and waits for the program in it, which writes to its workspace until it has ended.
func (x *terminal) end() {
	pane, _ := exec.Command("tmux", "-L", x.socket, "list-panes", "-a", "-F", "#{pane_pid}").Output()
	children, _ := exec.Command("pgrep", "-P", strings.TrimSpace(string(pane))).Output()
	for _, child := range strings.Fields(string(children)) {
		if pid, err := strconv.Atoi(child); err == nil {
			_ = syscall.Kill(pid, syscall.SIGHUP) // as the end of a terminal does
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	_ = exec.CommandContext(ctx, "tmux", "-L", x.socket, "wait-for", ended).Run()
	_ = exec.Command("tmux", "-L", x.socket, "kill-server").Run()
}

// open starts a command line in a terminal of that size, in a folder of its own.
func open(t *testing.T, w, h int, env []string, args ...string) *terminal {
	t.Helper()
	term := &terminal{t, fmt.Sprintf("andamio-test-%d-%d", os.Getpid(), time.Now().UnixNano()), t.TempDir()}
	t.Cleanup(term.end)
	line := append(append([]string{"env"}, env...), binary)
	term.tmux("-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h), "-c", term.dir, strings.Join(append(line, args...), " ")+"; tmux -L "+term.socket+" wait-for -S "+ended+"; exec sh")
	term.tmux("set", "-g", "status", "off")
	return term
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-L", x.socket}, args...)...).CombinedOutput()
	require.NoError(x.t, err, "%v: %s", args, out)
	return string(out)
}

func (x *terminal) screen() string { return x.tmux("capture-pane", "-p") }

// escape is the escape key as terminals send it that tell keys apart. The byte alone, with the next key read right after it, would
// be that key with Alt: nobody types as fast as a test, and a loaded machine reads both at once.
const escape = "\x1b[27u"

// press presses keys, each once what the one before did is on screen, as a person does.
func (x *terminal) press(keys ...string) {
	for _, k := range keys {
		before := x.screen()
		if k == "Escape" {
			x.tmux("send-keys", "-l", escape)
		} else {
			x.tmux("send-keys", k)
		}
		x.waitOther(before)
	}
}

// A key is seen on screen within mostKey, or shows nothing.
const (
	mostKey = 600 * time.Millisecond
	lookAt  = 20 * time.Millisecond
)

// runPlan runs the plan that is shown. The question is waited for before it is answered: what else comes to the screen meanwhile is not it.
func (x *terminal) runPlan() {
	x.t.Helper()
	x.press("r")
	x.waitFor(`(?s)run this plan.*enter do it`)
	x.press("Enter")
}

// waitOther waits until the screen is another than it was, and stays for a moment as it is: what a key asked for is there.
// It need not be another: a key may show nothing.
func (x *terminal) waitOther(before string) {
	x.t.Helper()
	look := time.NewTicker(lookAt)
	defer look.Stop()
	last := before
	for end := time.Now().Add(mostKey); time.Now().Before(end); <-look.C {
		now := x.screen()
		if now != before && now == last {
			return
		}
		last = now
	}
}

// waitFor waits until the screen shows a pattern.
func (x *terminal) waitFor(pattern string) string {
	x.t.Helper()
	return x.waitUntil(pattern, regexp.MustCompile(pattern).MatchString)
}

// waitUntil waits until the screen is as a test wants it; what that is called is said where it never is.
func (x *terminal) waitUntil(what string, is func(screen string) bool) string {
	x.t.Helper()
	var last string
	look := time.NewTicker(lookAt)
	defer look.Stop()
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); <-look.C {
		if last = x.screen(); is(last) {
			return last
		}
	}
	require.Failf(x.t, "never seen", "%s\nlast screen:\n%s", what, last)
	return ""
}

// until does something, again and again, until the screen shows a pattern: what a terminal under load may lose.
func (x *terminal) until(pattern string, do func()) string {
	x.t.Helper()
	seen, last := regexp.MustCompile(pattern), time.Time{}
	return x.waitUntil(pattern, func(screen string) bool {
		if is := seen.MatchString(screen); is {
			return true
		}
		if time.Since(last) > doAgain {
			do()
			last = time.Now()
		}
		return false
	})
}

// doAgain is after how long something is done again.
const doAgain = 3 * time.Second

// demoWorkspace is a workspace whose stand-ins end with the test.
func demoWorkspace(t *testing.T) string {
	dir := testprogram.Workspace(t)
	t.Cleanup(func() {
		_ = exec.Command(binary, "demo", "--stop", "--workspace", dir).Run()
	})
	return dir
}

var stepsDone = regexp.MustCompile(`(\d+) of 96 steps`)

func TestDemoFromPlanToServing(t *testing.T) {
	ws := demoWorkspace(t)
	demo := []string{"demo", "--alone", "--workspace", ws, "--pace", "0.3"}
	x := open(t, 160, 47, nil, demo...)

	x.waitFor(`flood-watch is ready to build`)
	x.press("2")
	x.waitFor(`what it would build`)
	design := x.waitFor(`47 resources · 7 levels`)
	assert.Contains(t, design, "tosca_definitions_version")
	x.press("r")
	plan := x.waitFor(`not begun`)
	assert.Contains(t, plan, "96 steps on 47 resources")
	assert.NotContains(t, plan, "under way    ", "nothing is built before it is asked for")

	x.press("r")
	x.waitFor(`builds 47 resources at 5 sites`)
	x.press("Enter")
	first := x.waitFor(`\d+ of 96 steps`)
	x.waitFor(`■ gauge-lan`)
	later := x.waitFor(`(1\d|2\d|3\d) of 96 steps`)
	assert.NotEqual(t, stepsDone.FindString(first), stepsDone.FindString(later), "steps change state without a key")

	x.press("w")
	why := x.waitFor(`why in this state`)
	assert.Regexp(t, `why at \w+`, why)
	x.press("Escape")
	x.press("e")
	x.waitFor(`written: flood-watch-elevation.svg`)
	for _, f := range []string{"elevation.svg", "elevation.pdf", "timeline.svg", "timeline.pdf"} {
		info, err := os.Stat(filepath.Join(x.dir, "flood-watch-"+f))
		require.NoError(t, err)
		assert.Greater(t, info.Size(), int64(2000), f)
	}

	x.tmux("resize-window", "-x", "80", "-y", "24")
	small := x.waitFor(`(?m)^ 0 Today.*7 Reconcile`)
	for _, line := range strings.Split(small, "\n") {
		assert.LessOrEqual(t, len([]rune(line)), 80)
	}
	x.tmux("resize-window", "-x", "160", "-y", "47")
	x.waitFor(`timeline`)

	x.press("q")
	x.waitFor(`run 1 goes on; andamio demo shows it again`)
	again := open(t, 160, 47, nil, demo...)
	again.press("4")
	again.waitFor(`run 1`)
	again.waitFor(`■ standing   96 of 96 steps`)
	served := again.waitFor(`we\s+serving`)
	assert.Regexp(t, `endpoint\s+200 · http://`, served)
	again.press("0")
	again.waitFor(`flood-watch run 1\s+standing · drill`)
	again.press("q")
}

func TestFailureIsShownWithItsReason(t *testing.T) {
	ws := demoWorkspace(t)
	dir := copyExample(t)
	broken := "#!/bin/sh\nprintf 'cannot read \\033[31mthe register\\033[0m with %s\\n' \"$KEY\"\nexit 4\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "scripts/dispatch-configure.sh"), []byte(broken), 0o755))
	boot := open(t, 100, 30, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.05") // brings the stand-ins up
	boot.waitFor(`ready to build`)
	boot.press("q")

	x := open(t, 160, 47, nil, "--workspace", ws, "--template", dir)
	x.waitFor(`ready to build`)
	x.press("Enter")
	x.waitFor(`not begun`)
	x.runPlan()
	x.waitFor(`✕ failed`)
	screen := x.waitFor(`waits for you: 1 of 2`)
	assert.Contains(t, screen, "dispatch-configure.sh")
	assert.Regexp(t, `‖ river-map`, screen, "what stands on it is held")
	x.waitFor(`•••`) // the secret is masked, in the log of what failed, which is selected a moment later
	x.press("0")
	x.waitFor(`flood-watch run 1 failed`)
	x.press("w")
	x.waitFor(`everything that stands on it was not built`)
}

func copyExample(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../../examples/flood-watch")))
	return dir
}

func TestCancelAsksForTheName(t *testing.T) {
	ws := demoWorkspace(t)
	x := open(t, 120, 40, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.6")
	x.waitFor(`ready to build`)
	x.press("Enter")
	x.waitFor(`not begun`)
	x.runPlan()
	x.waitFor(`[1-9]\d* of 96 steps`)
	x.press("a")
	x.waitFor(`cancel run 1`)
	x.press("1")
	x.waitFor(`type flood-watch and press enter`)
	x.press("n", "o", "Enter")
	assert.Contains(t, x.screen(), "type flood-watch", "another word does nothing")
	x.press("BSpace", "BSpace")
	x.tmux("send-keys", "-l", "flood-watch")
	x.press("Enter")
	x.waitFor(`◪ stopped`)
	x.press("0")
	x.waitFor(`flood-watch run 1 was cancelled`)
}

func TestMistakesStandAtTheirLine(t *testing.T) {
	dir := copyExample(t)
	file := filepath.Join(dir, "template.yaml")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	text := strings.Replace(string(data), "host: gauge-node", "host: gauge-noed", 1)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	ws := demoWorkspace(t)
	x := open(t, 160, 47, nil, "--workspace", ws, "--template", dir)
	x.press("2")
	x.waitFor(`1 mistake`)
	x.press("f")
	screen := x.waitFor(`there is no node template "gauge-noed"`)
	assert.Contains(t, screen, `did you mean "gauge-node"?`)
	assert.Contains(t, screen, "^^^^^^^^^^")
	require.NoError(t, os.WriteFile(file, data, 0o644))
	require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(2*time.Second)))
	x.waitFor(`no mistakes`) // the file is looked at again without a key
}

func TestInputsAreEditedAndChecked(t *testing.T) {
	ws := demoWorkspace(t)
	x := open(t, 160, 47, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.1")
	x.waitFor(`ready to build`)
	x.press("2", "Tab", "Enter", "BSpace", "9", "Enter")
	x.waitFor(`65 resources`)
	x.press("Enter", "BSpace", "x", "Enter")
	x.waitFor(`is an integer`)
	x.press("p")
	x.waitFor(`storm-season`)
	x.waitFor(`138 resources`)
}

func TestATemplateIsCopiedAndAPresetSaved(t *testing.T) {
	ws := demoWorkspace(t)
	x := open(t, 160, 47, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.1")
	x.waitFor(`ready to build`)
	x.press("2", "Tab", "Enter", "BSpace", "6", "Enter")
	x.waitFor(`the last change: \d+ build`)
	x.press("a", "4")
	x.waitFor(`name of the preset`)
	x.press("d", "a", "m", "Enter")
	x.waitFor(`copy the template under a new name first`)
	x.press("a", "5")
	x.waitFor(`name of the copy`)
	x.press("D")
	x.waitFor(`letters a to z`)
	x.press("BSpace", "m", "i", "n", "e", "Enter")
	x.waitFor(`this is the copy now`)
	x.waitFor(`template_name: mine`)
	x.press("a", "4")
	x.waitFor(`name of the preset`)
	x.press("d", "a", "m", "Enter")
	x.waitFor(`preset dam`)
	saved, err := os.ReadFile(filepath.Join(ws, "templates", "mine", "presets", "dam.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(saved), "forecast_workers: 6\n")
	assert.NotContains(t, string(saved), "register_key")
	x.press("o")
	x.waitFor(`forecasting  9 nodes`)
}

func TestPlainTerminals(t *testing.T) {
	ws := demoWorkspace(t)
	x := open(t, 80, 24, []string{"NO_COLOR=1"}, "demo", "--alone", "--workspace", ws, "--ascii", "--pace", "0.05")
	x.waitFor(`ready to build`)
	x.press("Enter")
	x.waitFor(`not begun`)
	x.runPlan()
	screen := x.waitFor(`# standing`)
	for _, r := range screen {
		require.Less(t, r, rune(128), "ASCII only:\n%s", screen)
	}
	colour := regexp.MustCompile("\x1b\\[[0-9;]*(3[0-7]|4[0-7]|38|48|9[0-7])[0-9;]*m")
	assert.NotRegexp(t, colour, x.tmux("capture-pane", "-p", "-e"))
}

func TestMouseSelectsAndKeysAreListed(t *testing.T) {
	ws := demoWorkspace(t)
	x := open(t, 160, 47, nil, "demo", "--alone", "--workspace", ws, "--pace", "0.1")
	x.waitFor(`ready to build`)
	x.press("?")
	x.waitFor(`all keys`)
	x.waitFor(`writes the pictures of this view as SVG and PDF`)
	x.press("Escape", "Enter")
	screen := x.waitFor(`not begun`)
	row, col := find(screen, "contacts-host")
	click := func() {
		x.tmux("send-keys", "-l", fmt.Sprintf("\x1b[<0;%d;%dM\x1b[<0;%d;%dm", col+1, row+1, col+1, row+1))
	}
	x.until(`contacts-host   vega`, click) // a terminal under load may tear the sequence apart
	x.press("/")
	x.tmux("send-keys", "-l", "river-map 2")
	x.press("Enter")
	x.waitFor(`river-map 2   alisio-sur`)
	x.press("C-f")
	x.waitFor(`Type a part of a name`)
	x.tmux("send-keys", "-l", "tramonta")
	x.waitFor(`site +tramonta`)
	x.press("Enter")
	x.waitFor(`▐ tramonta`)
}

// find is the row and column of a text on the screen.
func find(screen, text string) (row, col int) {
	for y, line := range strings.Split(screen, "\n") {
		if i := strings.Index(line, text); i >= 0 {
			return y, len([]rune(line[:i]))
		}
	}
	return -1, -1
}
