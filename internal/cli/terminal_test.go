package cli

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestATerminalSeesOneLineThatMoves runs the headless demo on a terminal: progress is one line that is written over.
func TestATerminalSeesOneLineThatMoves(t *testing.T) {
	cmd := exec.Command(binary, "demo", "--headless", "--pace", "0.03")
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Cols: 120, Rows: 40})
	require.NoError(t, err)
	defer tty.Close()
	data, _ := io.ReadAll(tty) // ends with an error when the program closes the terminal
	require.NoError(t, cmd.Wait())
	text := string(data)
	assert.Contains(t, text, "\r\x1b[Krun 1  ")
	assert.Regexp(t, `█+░+  \d+ of 96 standing, about \d+s to go`, text)
	assert.NotContains(t, text, "under way  readings-1/create", "no line for each step")
	assert.Contains(t, text, "run 1: standing (everything stands)")
}

func TestTemplatesCannotHarmTheTerminal(t *testing.T) {
	dir := t.TempDir()
	text := "tosca_definitions_version: tosca_simple_yaml_1_3\ntopology_template:\n  node_templates:\n    \"a\\e[31mred\": { type: \"own\\e]0;title\\aType\" }\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "template.yaml"), []byte(text), 0o644))
	code, out, errOut := call("check", dir)
	assert.Equal(t, 1, code)
	assert.NotContains(t, out+errOut, "\x1b")
	assert.Contains(t, out, "cannot be the name of a resource")
	code, out, _ = call("check", "--json", dir)
	assert.Equal(t, 1, code)
	assert.NotContains(t, out, "\x1b", "JSON escapes it")
}

func TestEveryCommandExplainsItself(t *testing.T) {
	for _, name := range []string{"check", "plan", "run", "watch", "export", "demo", "sandbox"} {
		code, out, _ := call(name, "--help")
		assert.Zero(t, code)
		assert.Contains(t, out, "andamio "+name)
		assert.Greater(t, strings.Count(out, "\n"), 8, name)
	}
	_, out, _ := call("--help")
	assert.Contains(t, out, "  work ", "people have workers join")
	code, out, _ := call("completion", "bash")
	assert.Zero(t, code)
	assert.Contains(t, out, "andamio")
}
