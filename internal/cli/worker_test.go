package cli

import (
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/service/workers"
	"andamio/internal/testprogram"
)

// closed is a workspace whose sites are all in a network of their own, from which one can only connect out.
type closed struct {
	*testing.T
	ns         *testprogram.Namespace
	ws         string
	run        func(code int, args ...string) string
	url, token string
	joined     map[string]*exec.Cmd
}

func newClosed(t *testing.T) *closed {
	t.Helper()
	c := &closed{T: t, ns: testprogram.NewNamespace(t), ws: testprogram.Workspace(t), joined: map[string]*exec.Cmd{}}
	c.run = commands(t, c.ws)
	box := c.ns.Command(t.Context(), binary, "sandbox", "--workspace", c.ws, "--pace", "0.02")
	out, err := box.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, box.Start())
	t.Cleanup(func() { _ = box.Process.Signal(os.Interrupt); _ = box.Wait() })
	until(t, out, regexp.MustCompile("connected to the workspace"))
	require.NoError(t, os.Remove(filepath.Join(c.ws, "names.json"))) // the name server is inside, too, and no site
	serve := exec.CommandContext(t.Context(), binary, "serve", "--workspace", c.ws, "--address", "127.0.0.1:0", "--api", c.ns.Here+":0", "--tls-init", c.ns.Here)
	out, err = serve.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, serve.Start())
	t.Cleanup(func() { _ = serve.Process.Signal(os.Interrupt); _ = serve.Wait() })
	c.url = until(t, out, regexp.MustCompile(`programs at (https://\S+?)/v1;`))
	c.token = filepath.Join(t.TempDir(), "token")
	code, said := program(t, "token", "make", "workers", "--right", "connect", "--workspace", c.ws, "--json")
	require.Zero(t, code, said)
	var made struct{ Secret string }
	require.NoError(t, json.Unmarshal([]byte(said), &made))
	require.NoError(t, os.WriteFile(c.token, []byte(made.Secret+"\n"), 0o600))
	return c
}

// until reads what a program says until it has said something, and goes on reading for it.
func until(t *testing.T, out io.Reader, says *regexp.Regexp) string {
	t.Helper()
	var text strings.Builder
	buffer := make([]byte, 4096)
	for !says.MatchString(text.String()) {
		n, err := out.Read(buffer)
		require.NoError(t, err, text.String())
		text.Write(buffer[:n])
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	found := says.FindStringSubmatch(text.String())
	return found[len(found)-1]
}

// join has a worker of a name join from inside.
func (c *closed) join(name string, more ...string) *exec.Cmd {
	c.Helper()
	w := c.ns.Command(c.Context(), binary, append([]string{"work", "--join", c.url, "--authority", filepath.Join(c.ws, fileAuthority), "--pool", "dam", "--name", name, "--label", "floor=2", "--token-file", c.token}, more...)...)
	out, err := w.StderrPipe()
	require.NoError(c, err)
	require.NoError(c, w.Start())
	c.joined[name] = w
	c.Cleanup(func() { _ = w.Process.Kill(); _ = w.Wait() })
	until(c.T, out, regexp.MustCompile("joined the pool dam as "+name))
	return w
}

// events are the texts of what is journalled of a run.
func (c *closed) events(id int64) string {
	c.Helper()
	a, err := app.Open(c.Context(), c.ws, app.Idle())
	require.NoError(c, err)
	defer a.Close()
	all, err := a.Events(c.Context(), id, 0, 10_000)
	require.NoError(c, err)
	var b strings.Builder
	for _, e := range all {
		b.WriteString(e.Text + "\n")
	}
	return b.String()
}

// there are the workers that are there.
func (c *closed) there() (all []workers.Worker) {
	c.Helper()
	require.NoError(c, json.Unmarshal([]byte(c.run(0, "workers", "--json")), &all))
	return all
}

// reached waits until so many workers reach all sites.
func (c *closed) reached(n int) {
	c.Helper()
	require.Eventually(c, func() bool {
		all := c.there()
		for _, w := range all {
			for _, r := range w.Sites {
				if r.Failed != "" {
					return false
				}
			}
			if len(w.Sites) < 5 {
				return false
			}
		}
		return len(all) == n
	}, time.Minute, 100*time.Millisecond)
}

// TestAClosedNetworkIsReachedThroughItsWorkers raises, changes, surveys and enters what is in a network that only its workers connect out of, loses one in the middle of a run, and all of them.
func TestAClosedNetworkIsReachedThroughItsWorkers(t *testing.T) {
	t.Parallel()
	c := newClosed(t)
	c.run(1, "site", "test", "vega")
	assert.Contains(t, c.run(0, "workers"), "no worker has joined")
	assert.Contains(t, c.run(5, "site", "through", "vega", "dam"), "vega is not reached through the pool dam: vega is reached through workers of the pool dam, and none is there (andamio work --join); it stays as it is reached now")
	assert.NotContains(t, c.run(0, "site", "list"), "through the pool")
	c.join("one")
	require.Eventually(t, func() bool { return len(c.there()) == 1 }, time.Minute, 100*time.Millisecond)
	for _, site := range []string{"presa", "vega", "alisio-norte", "alisio-sur", "tramonta"} {
		assert.Contains(t, c.run(0, "site", "through", site, "dam"), "through workers of the pool dam")
	}
	c.reached(1)
	assert.Regexp(t, `dam +one +floor=2 +since .+ from `+regexp.QuoteMeta(c.ns.There)+` to \S+ +alisio-norte \d+\.\d ms, alisio-sur`, c.run(0, "workers"))
	assert.Contains(t, c.run(0, "site", "list"), "through the pool dam")
	c.run(0, "site", "test", "vega")
	assert.Contains(t, c.run(5, "site", "through", "vega", "dam", "floor=3"), "workers of the pool dam floor=3, and none is there", "labels choose")
	assert.Contains(t, c.run(2, "site", "through", "vega", "dam", "floor"), "is no label")
	assert.Contains(t, c.run(0, "site", "through", "vega", "dam", "floor=2"), "through workers of the pool dam floor=2")
	c.run(0, "site", "test", "vega")
	assert.Contains(t, c.run(0, "site", "list"), "through the pool dam floor=2")
	c.run(0, "site", "through", "vega", "dam")

	plan := filepath.Join(t.TempDir(), "plan.json")
	c.run(0, "plan", "../../examples/flood-watch", "--preset", "drill", "-o", plan)
	c.run(0, "run", plan)
	assert.NotContains(t, c.run(0, "watch", "1"), "refused", "endpoints answer, which only the worker can ask")
	for _, site := range []string{"presa", "vega"} {
		c.run(0, "survey", site, "--deep")
	}
	code, said := program(t, "shell", "--workspace", c.ws, "flood-watch/gauge-node-1", "--", "echo", "level", "with", "the", "river")
	assert.Zero(t, code)
	assert.Contains(t, said, "level with the river")

	// One is killed in the middle of a run: what went through it is done again through the other, and nothing is built twice.
	c.join("two", "--network", "127.0.0.0/8")
	c.reached(2)
	c.run(0, "scale", "flood-watch", "forecast-host", "4", "--confirm", "flood-watch", "--detach")
	require.NoError(t, c.joined["one"].Process.Signal(syscall.SIGKILL))
	c.run(0, "watch")
	assert.Contains(t, c.run(0, "reconcile"), "nothing disagrees")
	require.Eventually(t, func() bool { return len(c.there()) == 1 }, time.Minute, 100*time.Millisecond)

	// All are gone in the middle of a run: its steps wait for one, as long as the rule says, and it goes on by itself.
	assert.Contains(t, c.run(0, "site", "through", "vega", "dam", "wait", "20m"), "through workers of the pool dam; a step waits 20m0s for one")
	c.run(0, "scale", "flood-watch", "forecast-host", "2", "--confirm", "flood-watch", "--detach")
	require.NoError(t, c.joined["two"].Process.Signal(syscall.SIGKILL))
	require.Eventually(t, func() bool { return strings.Contains(c.events(3), "is reached; the step waits") }, 2*time.Minute, 200*time.Millisecond)
	c.join("three")
	c.run(0, "watch")
	assert.Contains(t, c.events(3), "is there; the step is taken up again")
	c.reached(1)
	assert.Contains(t, c.run(0, "reconcile"), "nothing disagrees")

	// Whoever's token is revoked is gone, and comes no more.
	var all []struct{ ID, Name string }
	require.NoError(t, json.Unmarshal([]byte(c.run(0, "token", "--json")), &all))
	c.run(0, "token", "revoke", all[0].ID)
	require.Eventually(t, func() bool { return len(c.there()) == 0 }, 30*time.Second, 100*time.Millisecond)
	err := c.joined["three"].Wait()
	require.Error(t, err, "it ends, since it is not taken any more")
	assert.Contains(t, c.run(1, "site", "test", "vega"), "none is there")
	assert.Contains(t, c.run(0, "estate", "show"), "vega is away: vega is reached through workers of the pool dam, and none is there")
	entries := c.run(0, "log")
	assert.Contains(t, entries, "had a worker join the pool dam: one from "+c.ns.There)
	assert.Contains(t, entries, "said how is reached vega")
}

func TestAWorkerThatMayNotJoinIsTold(t *testing.T) {
	t.Parallel()
	ws := testprogram.Workspace(t)
	run := commands(t, ws)
	url := served(t, ws)
	authority := filepath.Join(ws, fileAuthority)
	token := func(rights ...string) string {
		args := []string{"token", "make", "x", "--json"}
		for _, r := range rights {
			args = append(args, "--right", r)
		}
		var made struct{ Secret string }
		require.NoError(t, json.Unmarshal([]byte(run(0, args...)), &made))
		file := filepath.Join(t.TempDir(), "token")
		require.NoError(t, os.WriteFile(file, []byte(made.Secret), 0o600))
		return file
	}
	mine, readers := token("connect"), token("read")
	none := filepath.Join(t.TempDir(), "none")
	require.NoError(t, os.WriteFile(none, []byte("x"), 0o600))
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{2, "say --join ADDRESS", nil},
		{2, "say the --pool", []string{"--join", url}},
		{2, "is no address of a server", []string{"--join", "andamio", "--pool", "dam", "--token-file", mine}},
		{2, "is no network", []string{"--join", url, "--pool", "dam", "--token-file", mine, "--network", "10.0.0"}},
		{2, "is no label", []string{"--join", url, "--pool", "dam", "--token-file", mine, "--label", "floor"}},
		{2, "is no name of a pool", []string{"--join", url, "--authority", authority, "--pool", "Dam House", "--token-file", mine}},
		{2, "is no name of a worker", []string{"--join", url, "--authority", authority, "--pool", "dam", "--name", "No One", "--token-file", mine}},
		{6, "may not do that", []string{"--join", url, "--authority", authority, "--pool", "dam", "--token-file", readers}},
		{6, "token", []string{"--join", url, "--authority", authority, "--pool", "dam", "--token-file", none}},
	} {
		code, said := program(t, append([]string{"work"}, c.args...)...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, said)
		assert.Contains(t, said, c.want)
	}
	assert.Contains(t, run(3, "site", "through", "nowhere", "dam"), `there is no site "nowhere"`)
	assert.Contains(t, run(2, "site", "through", "nowhere", "Dam_House"), "is no name of a pool")
}
