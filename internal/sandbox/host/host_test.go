package host

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// sh runs a script on a fresh host and returns what it printed and its status.
func sh(t *testing.T, script string) (string, int) {
	t.Helper()
	h, _ := plugged(t)
	var out bytes.Buffer
	code := h.Run(context.Background(), script, nil, strings.NewReader("from outside\n"), &out, &out)
	return out.String(), code
}

func TestShell(t *testing.T) {
	for _, c := range []struct {
		name, script, want string
		code               int
	}{
		{"variables", "export PORT='8080'\nset -e\necho \"$PORT\"", "8080\n", 0},
		{"files", "mkdir -p /a/b; echo hi > /a/b/c; cat /a/b/c; ls /a", "hi\nb\n", 0},
		{"pipes", "printf '1\\n2\\n3\\n' | tail -n 2 | head -1", "2\n", 0},
		{"here documents", "cat > /f <<END\nx $((1+1))\nEND\ncat /f", "x 2\n", 0},
		{"tests", "[ -f /etc/hostname ] && cat /etc/hostname", "node\n", 0},
		{"standard input", "read -r line; echo \"$line\"", "from outside\n", 0},
		{"status", "exit 3", "", 3},
		{"set -e", "set -e\ncat /nowhere\necho not reached", "cat: /nowhere: no such file\n", 1},
		{"unknown command", "curl x", "curl: command not found\n", 127},
		{"nothing real", "cat /proc/version", "cat: /proc/version: no such file\n", 1},
		{"no way out", "wget -q -O - http://192.0.2.1/", "wget: Get \"http://192.0.2.1/\": 192.0.2.1: network is unreachable\n", 1},
		{"grep", "printf 'a\\nb\\n' | grep -v a", "b\n", 0},
		{"digest", "printf abc | sha256sum | head -n 1", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad  -\n", 0},
		{"folders", "cd /srv && touch x && ls && rm x && ls", "x\n", 0},
		{"sleep", "sleep 5; echo done", "done\n", 0},
		{"bad syntax", "if", "script:1:1: `if` must be followed by a statement list\n", 2},
	} {
		t.Run(c.name, func(t *testing.T) {
			out, code := sh(t, c.script)
			assert.Equal(t, c.want, out)
			assert.Equal(t, c.code, code)
		})
	}
}
