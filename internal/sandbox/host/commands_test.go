package host

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// loop is a network that maps every port to a free one of 127.0.0.1.
type loop struct{ at map[int]string }

func (l *loop) Listen(port int) (net.Listener, error) {
	if port == 999 {
		return nil, fmt.Errorf("the network refuses port %d", port)
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err == nil {
		l.at[port] = listener.Addr().String()
	}
	return listener, err
}

func plugged(t *testing.T) (*Host, *loop) {
	t.Helper()
	h, err := New("node", 0.001, "", nil, nil)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	l := &loop{map[int]string{}}
	require.NoError(t, h.Plug(l))
	return h, l
}

func on(h *Host, script string) (string, int) {
	var out bytes.Buffer
	code := h.Run(context.Background(), script, []string{"GIVEN=from outside"}, strings.NewReader("from outside\n"), &out, &out)
	return out.String(), code
}

func TestCommandsInTheirEverydayForms(t *testing.T) {
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
		{"cp and mv", "echo a > /x; cp /x /tmp; mv /tmp/x /y; cat /y; ls /tmp", "a\n", 0},
		{"cp of nothing", "cp /none /x", "cp: /none: no such file\n", 1},
		{"cp with one name", "cp /none", "cp: takes a file and a destination\n", 1},
		{"mkdir without -p", "mkdir /a/b/c; echo $?", "0\n", 0},
		{"rm of a folder", "mkdir -p /d; rm /d", "rm: /d: is a directory\n", 1},
		{"rm -r and -f", "mkdir -p /d/e; rm -r /d; rm -f /none; ls /d", "ls: /d: no such file\n", 1},
		{"ls -l", "echo abc > /srv/f; ls -l /srv", "-rw-r--r--        4 f\n", 0},
		{"ls of a file", "touch /srv/f; ls /srv/f", "/srv/f\n", 0},
		{"tee", "echo hi | tee /srv/f; cat /srv/f", "hi\nhi\n", 0},
		{"head and tail", "printf '1\\n2\\n3\\n4\\n' > /n; head -n 2 /n; tail -1 /n", "1\n2\n4\n", 0},
		{"wc", "printf 'a b\\nc\\n' | wc; printf 'a b\\nc\\n' | wc -l", "2 3 6\n2\n", 0},
		{"grep -q", "echo x | grep -q y || echo none", "none\n", 0},
		{"grep of a bad pattern", "echo x | grep '['", "", 2},
		{"grep in a file", "echo level > /f; grep lev /f /none", "level\ngrep: /none: no such file\n", 1},
		{"environment", "echo $GIVEN; env | grep GIVEN", "from outside\nGIVEN=from outside\n", 0},
		{"who", "id; hostname; uname", "operator\nnode\nLinux node\n", 0},
		{"chmod and scripts", "echo 'echo ran $1' > /run.sh; chmod +x /run.sh; /run.sh", "ran\n", 0},
		{"a script's status", "echo 'exit 7' > /run.sh; /run.sh", "", 7},
		{"sleep of nonsense", "sleep soon", "sleep: soon: no time to sleep\n", 1},
		{"sleep of minutes", "sleep 0.5m; echo up", "up\n", 0},
		{"dev null", "echo lost > /dev/null; cat /dev/null", "", 0},
		{"a dash is standard input", "echo in | cat -", "in\n", 0},
		{"functions and loops", "f() { echo \"got $1\"; }; for i in 1 2; do f $i; done", "got 1\ngot 2\n", 0},
		{"httpd without a port", "httpd -h /srv", "httpd: \"\" is no port\n", 1},
		{"nc without a program", "nc -lk -p 70 -e /none", "nc: /none: no such program\n", 1},
		{"nc without a port", "nc localhost", "nc: takes a host and a port\n", 1},
		{"nc to a name", "nc somewhere 80", "nc: somewhere: network is unreachable\n", 1},
		{"nc outside", "nc -z 192.0.2.7 80", "nc: 192.0.2.7: network is unreachable\n", 1},
		{"fuser of nothing", "fuser -k 80/tcp", "fuser: nothing that may be stopped runs on port 80\n", 1},
		{"the shell's server stays", "fuser -k 22/tcp", "fuser: nothing that may be stopped runs on port 22\n", 1},
		{"fuser without -k", "fuser 80/tcp", "fuser: takes -k PORT/tcp\n", 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			h, _ := plugged(t)
			out, code := on(h, c.script)
			assert.Equal(t, c.want, out)
			assert.Equal(t, c.code, code)
		})
	}
}

func TestDateIsATimestamp(t *testing.T) {
	h, _ := plugged(t)
	out, _ := on(h, "date")
	_, err := time.Parse(time.RFC3339, strings.TrimSpace(out))
	assert.NoError(t, err)
}

func TestServicesStartStopAndCollide(t *testing.T) {
	h, l := plugged(t)
	out, code := on(h, "mkdir -p /srv/w; echo level > /srv/w/index.html; httpd -p 8080 -h /srv/w; httpd -p 8080 -h /srv/w")
	assert.Equal(t, 1, code)
	assert.Equal(t, "httpd: port 8080 is in use by httpd\n", out)
	resp, err := http.Get("http://" + l.at[8080] + "/")
	require.NoError(t, err)
	body, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	assert.Equal(t, "level\n", string(body))
	missing, err := http.Get("http://" + l.at[8080] + "/../../etc/hostname")
	require.NoError(t, err)
	missing.Body.Close()
	assert.Equal(t, 404, missing.StatusCode, "only the folder is served")
	out, code = on(h, "fuser -k 8080/tcp; netstat")
	assert.Zero(t, code)
	assert.Equal(t, "tcp     22  listen  sshd\n", out)
	_, err = http.Get("http://" + l.at[8080] + "/")
	assert.Error(t, err)
	out, code = on(h, "printf '#!/bin/sh\\nread -r who\\necho \"for $who\"\\n' > /srv/answer; chmod 755 /srv/answer; nc -ll -p 8080 -e /srv/answer </dev/null >/dev/null 2>&1 &")
	assert.Zero(t, code, out)
	require.Eventually(t, func() bool { // what is left in the background goes on after its script
		out, _ := on(h, "netstat")
		return strings.Contains(out, "8080")
	}, 5*time.Second, time.Millisecond)
	out, code = on(h, "fuser -k 8080/tcp; httpd -p 999 -h /srv")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "the network refuses port 999")
}

func TestPagesAreFetched(t *testing.T) {
	h, l := plugged(t)
	on(h, "mkdir -p /srv/w; echo level > /srv/w/now; httpd -p 8080 -h /srv/w")
	url := "http://" + l.at[8080]
	out, code := on(h, "wget -q -O - "+url+"/now; wget -q -O /tmp/got "+url+"/now; cat /tmp/got; wget "+url+"/none")
	assert.Equal(t, 1, code)
	assert.Equal(t, "level\nlevel\nwget: "+url+"/none: server answered 404 Not Found\n", out)
}

func TestASwitchedOffHostIsSilent(t *testing.T) {
	h, l := plugged(t)
	on(h, "echo kept > /srv/f; httpd -p 8080 -h /srv")
	done := make(chan int, 1)
	h.Pace = 1
	go func() { _, code := on(h, "echo > /srv/begun; sleep 60"); done <- code }()
	require.Eventually(t, func() bool { _, code := on(h, "cat /srv/begun"); return code == 0 }, 2*time.Minute, time.Millisecond)
	h.Close()
	select {
	case code := <-done:
		assert.NotZero(t, code, "what ran was cut off")
	case <-time.After(20 * time.Second):
		t.Fatal("the script outlived its machine")
	}
	_, err := net.Dial("tcp", l.at[8080])
	assert.Error(t, err)
	again, err := h.Reboot()
	require.NoError(t, err)
	defer again.Close()
	again.Pace = 0.001
	out, _ := on(again, "cat /srv/f; netstat")
	assert.Equal(t, "kept\ntcp     22  listen  sshd\n", out, "the disk stays, what ran does not")
	assert.Equal(t, h.HostKey(), again.HostKey())
}

func TestAKeyThatIsNoneIsRefused(t *testing.T) {
	_, err := New("node", 1, "ssh-rsa nonsense", nil, nil)
	assert.ErrorContains(t, err, "the public key cannot be read")
}

// TestTheScenariosScriptsParse runs every script of the demo far enough to see that the stand-in knows its commands.
func TestTheScenariosScriptsParse(t *testing.T) {
	scripts, err := filepath.Glob("../../../examples/flood-watch/scripts/*.sh")
	require.NoError(t, err)
	require.Len(t, scripts, 16)
	for _, file := range scripts {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		h, _ := plugged(t)
		out, _ := on(h, "export PORT=9000 HOME_DIR=/var/lib/x FIRST=x READINGS_ADDRESS=127.0.0.1 READINGS_PORT=1\n"+string(data))
		assert.NotContains(t, out, "command not found", file)
		assert.NotContains(t, out, "unsupported builtin", file)
	}
}
