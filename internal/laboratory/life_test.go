package laboratory_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/laboratory"
	"andamio/internal/testprogram"
)

var binary string

func TestMain(m *testing.M) { testprogram.Main(m, &binary) }

// bench is a host with a workspace that knows it.
type bench struct {
	*testing.T
	host *laboratory.Host
	dir  string // where it keeps everything
	ws   string
}

// newBench is a host with a new workspace, in which something is done before it is told of the host.
func newBench(t *testing.T, before func(b *bench)) *bench {
	t.Helper()
	if err := laboratory.Missing(); err != nil {
		t.Skipf("NO LABORATORY: %v", err)
	}
	dir, err := os.MkdirTemp("", "lab-")
	require.NoError(t, err)
	h, err := laboratory.Start(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, h.Stop())
		assert.NoError(t, os.RemoveAll(dir))
	})
	b := &bench{T: t, host: h, dir: dir, ws: testprogram.Workspace(t)}
	before(b)
	b.do("site", "add", "forja", "--driver", "libvirt", "--kind", "private", "--hosts", "unix:"+h.Socket(), "--emulated")
	return b
}

// do runs a command, which must come to its end well.
func (b *bench) do(args ...string) string {
	b.Helper()
	out, err := exec.CommandContext(b.Context(), binary, append([]string{"--workspace", b.ws}, args...)...).CombinedOutput()
	require.NoError(b, err, "%s: %s", strings.Join(args, " "), out)
	return string(out)
}

// virsh asks the host from outside, with a program that is not ours.
func (b *bench) virsh(args ...string) string {
	b.Helper()
	out, err := exec.CommandContext(b.Context(), "virsh", append([]string{"-q", "-c", "qemu+unix:///system?socket=" + b.host.Socket()}, args...)...).CombinedOutput()
	require.NoError(b, err, "virsh %s: %s", strings.Join(args, " "), out)
	return strings.TrimSpace(string(out))
}

// typed types a line on the serial console of an instance, again and again, and returns what is said there until some words come.
func (b *bench) typed(instance, line, until string) string {
	b.Helper()
	ctx, cancel := context.WithTimeout(b.Context(), waiting)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, "--workspace", b.ws, "console", instance)
	in, err := cmd.StdinPipe()
	require.NoError(b, err)
	out, err := cmd.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, cmd.Start())
	said := b.converse(in, out, line, until)
	_, err = in.Write([]byte{0x1d}) // leaves it
	require.NoError(b, err)
	_, _ = io.Copy(io.Discard, out)
	require.NoError(b, cmd.Wait())
	return said
}

// converse types a line again and again, and returns what is said until some words come.
func (b *bench) converse(in io.Writer, out io.Reader, line, until string) string {
	b.Helper()
	over := make(chan struct{})
	go func() { // a system that has yet to start hears nothing
		tick := time.NewTicker(5 * time.Second)
		defer tick.Stop()
		for {
			if _, err := io.WriteString(in, "\n"+line+"\n"); err != nil {
				return
			}
			select {
			case <-tick.C:
			case <-over:
				return
			}
		}
	}()
	said, part := "", make([]byte, 4096)
	for !strings.Contains(said, until) {
		n, err := out.Read(part)
		said += string(part[:n])
		require.NoError(b, err, "until %s: %s", until, said)
	}
	close(over)
	return said
}

// typedFar types a line on the serial console of an instance as a program does that is elsewhere: by the interface for programs, with a token.
func (b *bench) typedFar(instance, line, until string) string {
	b.Helper()
	ctx, cancel := context.WithTimeout(b.Context(), waiting)
	defer cancel()
	serve := exec.CommandContext(ctx, binary, "--workspace", b.ws, "serve", "--address", "127.0.0.1:0", "--api", "127.0.0.1:0")
	says, err := serve.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, serve.Start())
	defer func() { _ = serve.Process.Signal(os.Interrupt); _ = serve.Wait() }()
	at, words, part := regexp.MustCompile(`programs at http(://\S+?/v1);`), "", make([]byte, 4096)
	for !at.MatchString(words) {
		n, err := says.Read(part)
		require.NoError(b, err, words)
		words += string(part[:n])
	}
	go func() { _, _ = io.Copy(io.Discard, says) }()
	var made struct{ Secret string }
	require.NoError(b, json.Unmarshal([]byte(b.do("token", "make", "console", "--json")), &made))
	c, _, err := websocket.Dial(ctx, "ws"+at.FindStringSubmatch(words)[1]+"/instances/"+instance+"/console", &websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + made.Secret}}})
	require.NoError(b, err)
	over := websocket.NetConn(ctx, c, websocket.MessageBinary)
	defer over.Close()
	return b.converse(over, over, line, until)
}

// tries runs a command, and says whether it came to its end well.
func (b *bench) tries(args ...string) bool {
	return exec.CommandContext(b.Context(), binary, append([]string{"--workspace", b.ws}, args...)...).Run() == nil
}

// findings are those of the inventory, of which there are some.
func (b *bench) findings() string {
	b.Helper()
	out, err := exec.CommandContext(b.Context(), binary, "--workspace", b.ws, "reconcile").CombinedOutput()
	require.Error(b, err, "there is a finding")
	return string(out)
}

// How long a machine is waited for, and how often it is asked.
const (
	waiting = 4 * time.Minute
	second  = time.Second
)

var addressed = regexp.MustCompile(`127\.[0-9]+\.[0-9]+\.[0-9]+`)

var page = regexp.MustCompile(`http://[0-9.]+:8080/`)

// pages are what the pages say that a command named, asked as their readers do.
func (b *bench) pages(said string) []string {
	b.Helper()
	var out []string
	client := http.Client{Timeout: 10 * time.Second}
	for _, at := range page.FindAllString(said, -1) {
		resp, err := client.Get(at)
		require.NoError(b, err)
		text, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		require.NoError(b, err)
		out = append(out, strings.TrimSpace(string(text)))
	}
	return out
}

// changedByHand has somebody give a machine another core: a survey finds it, with the difference, and it is put right.
func (b *bench) changedByHand() {
	b.Helper()
	var relay string
	for _, name := range strings.Fields(b.virsh("list", "--all", "--name")) {
		if strings.HasPrefix(name, "relay-host") {
			relay = name
		}
	}
	cores := func() string { return b.virsh("vcpucount", relay, "--config", "--maximum") }
	b.virsh("setvcpus", relay, "2", "--config", "--maximum")
	require.Equal(b, "2", cores())
	b.do("survey", "forja")
	assert.Regexp(b, `changed +relay-host-1 .*cores`, b.findings())
	b.do("reconcile", "--site", "forja", "--type", "changed", "--settle", "correct-site", "--yes")
	assert.Equal(b, "1", cores(), "as it was asked for")
}

const tiers = "testdata/tiers"

// TestAServiceLivesOnRealMachines has three tiers rise on machines that boot a kernel and run OpenSSH, be stopped, started, scaled, kept,
// broken, restored and retired: each time their page says what it should, and the host what became of the machines.
func TestAServiceLivesOnRealMachines(t *testing.T) {
	t.Parallel()
	b := newBench(t, func(*bench) {})
	const first = "level 2.10 m at the dam"
	plan := t.TempDir() + "/levels.json"
	b.do("plan", tiers, "-o", plan)
	assert.Equal(t, []string{first}, b.pages(b.do("run", plan, "--confirm", "levels")))
	assert.Equal(t, 3, strings.Count(b.virsh("list", "--state-running"), "running"))

	assert.Contains(t, b.typed("store-host", "ip link set eth0 down; echo $((40 + 2)) levels", "42 levels"), "/ #", "the console is the way in where the network is not")
	b.typedFar("store-host", "ip link set eth0 up; echo $((40 + 3)) levels", "43 levels")

	b.do("stop", "levels", "--confirm", "levels")
	assert.Equal(t, 3, strings.Count(b.virsh("list", "--all"), "shut off"))
	b.changedByHand()
	assert.Equal(t, []string{first}, b.pages(b.do("start", "levels", "--confirm", "levels")), "what was on the volume is there again")

	b.do("snapshot", "take", "levels", "--confirm", "levels")
	b.do("shell", "store-host", "--", "echo nothing is left >/srv/levels/now; sync")
	name := strings.Fields(strings.Split(b.do("snapshot", "levels"), "\n")[1])[0]
	require.NoError(t, b.host.Kill(), "the daemon falls")
	require.NoError(t, b.host.Run(t.Context()), "and comes back; its machines went on")
	b.do("snapshot", "restore", "levels", name, "--confirm", "levels")
	assert.Equal(t, first, strings.TrimSpace(b.do("shell", "store-host", "--", "cat /srv/levels/now")))

	assert.Equal(t, []string{first}, b.pages(b.do("scale", "levels", "page-host", "2", "--confirm", "levels")), "the second page")
	assert.Equal(t, 4, strings.Count(b.virsh("list", "--state-running"), "running"))

	b.do("retire", "levels", "--confirm", "levels")
	assert.Empty(t, b.virsh("list", "--all"))
	assert.Empty(t, b.virsh("net-list", "--all"))
	assert.Empty(t, b.virsh("vol-list", "default"))
}
