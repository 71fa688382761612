package portal

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/vt"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/sandbox"
	"andamio/internal/service/acting"
	"andamio/internal/service/requests"
	"andamio/internal/service/templates"
)

// house is a workspace with the scenario's offers, people with keys, and a portal.
type house struct {
	app  *app.App
	keys string
	p    *Portal
}

func opened(t *testing.T, limits Limits) *house {
	t.Helper()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: 0.003, Seed: 1})
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	a, err := app.Open(t.Context(), t.TempDir(), app.InProcess(t.Context()))
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	require.NoError(t, a.ConnectSandbox(box))
	h := &house{app: a, keys: t.TempDir()}
	people := fmt.Sprintf("version: andamio.teams/1\npeople:\n  ana: { user: %q, keys: [ %q ] }\n  ibo: { keys: [ %q ] }\n  teo: { keys: [ %q ] }\nteams: { public-map: { members: [ ibo ] }, secret-team: { members: [ teo ] }, forecasting: {}, gauging: {} }\n"+
		"grants: [ { to: ana, role: engineer }, { to: everybody, role: requester, teams: [ own ] } ]", acting.Whoami(), h.key(t, "ana"), h.key(t, "ibo"), h.key(t, "teo"))
	_, err = a.SetDirectory(t.Context(), []byte(people))
	require.NoError(t, err)
	h.app = a.As(app.Actor{Name: "ana", Way: app.ByCommand})
	for _, name := range []string{"trial-map", "worker-pool"} {
		text, err := os.ReadFile("../../examples/offers/" + name + ".yaml")
		require.NoError(t, err)
		_, _, err = h.app.Publish(t.Context(), text, "../../examples/offers")
		require.NoError(t, err)
	}
	rules, err := os.ReadFile("../../examples/flood-watch/approvals.yaml")
	require.NoError(t, err)
	_, err = h.app.SetApprovals(t.Context(), []byte(strings.ReplaceAll(strings.ReplaceAll(string(rules), "[lia]", "[teo]"), "0.3 &&", "30.0 &&")))
	require.NoError(t, err)
	h.p, err = Open(a, "127.0.0.1:0", limits)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	var group sync.WaitGroup
	group.Go(func() { assert.NoError(t, h.p.Serve(ctx)) })
	t.Cleanup(func() { stop(); group.Wait() })
	return h
}

// key makes somebody's key with OpenSSH, and is its public half.
func (h *house) key(t *testing.T, who string) string {
	t.Helper()
	file := filepath.Join(h.keys, who)
	out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", file).CombinedOutput()
	require.NoError(t, err, string(out))
	public, err := os.ReadFile(file + ".pub")
	require.NoError(t, err)
	return strings.TrimSpace(string(public))
}

// ssh is OpenSSH's client, as somebody.
func (h *house) ssh(ctx context.Context, who string, args ...string) *exec.Cmd {
	_, port, _ := net.SplitHostPort(h.p.Address())
	base := []string{"-F", "none", "-p", port, "-i", filepath.Join(h.keys, who), "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=" + filepath.Join(h.keys, "known"), "-o", "LogLevel=ERROR", "-o", "BatchMode=yes"}
	return exec.CommandContext(ctx, "ssh", append(base, args...)...)
}

// terminal is somebody at the portal: what they see now, and all that was ever sent to them.
type terminal struct {
	t      *testing.T
	file   *os.File
	screen *vt.SafeEmulator
	mu     sync.Mutex
	sent   bytes.Buffer
	// over is closed when nothing comes any more.
	over chan struct{}
}

func (h *house) come(t *testing.T, who string) *terminal {
	t.Helper()
	cmd := h.ssh(t.Context(), who, "-tt", "127.0.0.1")
	cmd.Env = append(os.Environ(), "TERM=xterm-256color")
	f, err := pty.StartWithSize(cmd, &pty.Winsize{Cols: 160, Rows: 47})
	require.NoError(t, err)
	x := &terminal{t: t, file: f, screen: vt.NewSafeEmulator(160, 47), over: make(chan struct{})}
	go func() { _, _ = io.Copy(f, x.screen) }() // what a terminal answers when it is asked what it is; closing one while it is read is a race of its own
	go func() {
		buffer := make([]byte, 64<<10)
		for {
			n, err := f.Read(buffer)
			_, _ = x.screen.Write(buffer[:n])
			x.mu.Lock()
			x.sent.Write(buffer[:n])
			x.mu.Unlock()
			if err != nil {
				close(x.over)
				return
			}
		}
	}()
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		_ = f.Close()
		<-x.over
	})
	return x
}

// text is what is on the screen.
func (x *terminal) text() string { return ansi.Strip(x.screen.Render()) }

// ever is all that was ever sent.
func (x *terminal) ever() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return ansi.Strip(x.sent.String())
}

func (x *terminal) await(what string) {
	x.t.Helper()
	look := time.NewTicker(20 * time.Millisecond)
	defer look.Stop()
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); <-look.C {
		if strings.Contains(x.text(), what) {
			return
		}
	}
	require.Failf(x.t, "never seen", "%s\n%s", what, x.text())
}

// ended waits until the other side has ended the session.
func (x *terminal) ended(why string) {
	x.t.Helper()
	select {
	case <-x.over:
	case <-time.After(2 * time.Minute):
		require.Fail(x.t, why, x.text())
	}
}

func (x *terminal) press(keys string) {
	x.t.Helper()
	_, err := x.file.WriteString(keys)
	require.NoError(x.t, err)
}

// TestARequesterAsksOverSSH comes with OpenSSH's own client, asks for a trial with three answers, and sees it serving.
func TestARequesterAsksOverSSH(t *testing.T) {
	t.Parallel()
	h := opened(t, Usual)
	x := h.come(t, "ibo")
	x.await("what do you need?")
	x.await("1 offer for you")
	x.await("what happens when you ask")
	x.press("\t")
	x.await("↑↓ question")
	x.press("\x1b[C\x1b[B\x1b[C") // two fronts, each middling
	x.await("2 instances, 2 cores, 8 GiB memory")
	x.press("\r")
	x.await("what is it for?")
	x.press("the open day\r")
	var r requests.View
	require.Eventually(t, func() bool {
		all, err := h.app.Requests(t.Context())
		if err != nil || len(all) == 0 {
			return false
		}
		r = all[0]
		return r.Stage == requests.StageServing
	}, 2*time.Minute, 50*time.Millisecond)
	assert.Equal(t, []any{"ibo", "the open day", "public-map"}, []any{r.Person, r.Why, r.Owner.Team})
	assert.Equal(t, "2", r.Answers["fronts"])
	x.await("serving for")
	last, err := h.app.LastOfTrail(t.Context(), 20)
	require.NoError(t, err)
	var words []string
	for _, e := range last {
		words = append(words, e.Actor.String()+" "+e.Words())
	}
	assert.Contains(t, strings.Join(words, "\n"), "ibo by screen came in by the portal")
	assert.Contains(t, strings.Join(words, "\n"), "ibo by screen asked for A map to try things on")
}

// TestNothingElseIsBehindThePortal tries everything that a requester is not to have: other views by their keys, other teams' names, commands,
// files, forwarding, and coming without a key that is known.
func TestNothingElseIsBehindThePortal(t *testing.T) {
	t.Parallel()
	h := opened(t, Usual)
	_, err := h.app.As(app.Actor{Name: "ana", Way: app.ByCommand}).AskFor(t.Context(), requests.Asked{Offer: "worker-pool", Team: "secret-team"})
	require.NoError(t, err)
	x := h.come(t, "ibo")
	x.await("what happens when you ask")
	x.press("0345678\x06e/secret\r\x1b[27u2")
	x.await("nothing was asked for")
	x.press("awq")
	text := x.ever()
	for _, never := range []string{"secret-team", "Forecast workers", "teo", "Deploy", "Reconcile", "tok-", "http://127.", "find anything"} {
		assert.NotContains(t, text, never)
	}
	for name, c := range map[string]struct {
		who  string
		args []string
		says string
	}{
		"a command":     {"ibo", []string{"127.0.0.1", "ls"}, "there are screens here, and no commands"},
		"no terminal":   {"ibo", []string{"-T", "127.0.0.1"}, "come with a terminal"},
		"a subsystem":   {"ibo", []string{"-s", "127.0.0.1", "sftp"}, ""},
		"out of it":     {"ibo", []string{"-W", "127.0.0.1:22", "127.0.0.1"}, ""},
		"into it":       {"ibo", []string{"-N", "-o", "ExitOnForwardFailure=yes", "-R", "0:127.0.0.1:22", "127.0.0.1"}, ""},
		"a strange key": {"mia", []string{"-tt", "127.0.0.1"}, "Permission denied"},
	} {
		if c.who == "mia" {
			h.key(t, "mia")
		}
		ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
		out, err := h.ssh(ctx, c.who, c.args...).CombinedOutput()
		assert.NoError(t, ctx.Err(), "%s: it is refused at once: %s", name, out)
		stop()
		assert.Error(t, err, "%s: %s", name, out)
		assert.Contains(t, string(out), c.says, name)
	}
}

// TestWhoIsNoLongerKnownIsOut takes somebody's key away, and has too many come.
func TestWhoIsNoLongerKnownIsOut(t *testing.T) {
	t.Parallel()
	limits := Usual
	limits.OfEach = 1
	h := opened(t, limits)
	x := h.come(t, "teo")
	x.await("what do you need?")
	second := h.come(t, "teo")
	second.await("too many sessions are open")
	_, err := h.app.SetDirectory(t.Context(), fmt.Appendf(nil, "version: andamio.teams/1\npeople: { ana: { user: %q } }\ngrants: [ { to: ana, role: engineer } ]", acting.Whoami()))
	require.NoError(t, err)
	x.ended("who was there is out, too")
	out, err := h.ssh(t.Context(), "teo", "-tt", "127.0.0.1").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "Permission denied")
	key, err := h.app.PortalKey(hostKey)
	require.NoError(t, err)
	again, err := h.app.PortalKey(hostKey)
	require.NoError(t, err)
	assert.Equal(t, key, again, "it stays the same, so that who comes again knows it")
}

// TestAnAddressBeginsOnlySoManyConnections begins one more than there may be in a minute: it is closed before a word is said. A minute later the
// address is forgotten.
func TestAnAddressBeginsOnlySoManyConnections(t *testing.T) {
	limits := Usual
	limits.Tries = 3
	h := opened(t, limits)
	greeted := func() bool {
		c, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(t.Context(), "tcp", h.p.Address())
		require.NoError(t, err)
		defer c.Close()
		require.NoError(t, c.SetDeadline(time.Now().Add(10*time.Second)))
		word := make([]byte, 4)
		_, err = io.ReadFull(c, word)
		return err == nil && string(word) == "SSH-"
	}
	for range limits.Tries {
		assert.True(t, greeted())
	}
	assert.False(t, greeted())
	h.p.mu.Lock()
	defer h.p.mu.Unlock()
	require.Len(t, h.p.tries["127.0.0.1"], limits.Tries)
	h.p.forget(time.Now().Add(59 * time.Second))
	assert.NotEmpty(t, h.p.tries)
	h.p.forget(time.Now().Add(time.Minute))
	assert.Empty(t, h.p.tries)
}
