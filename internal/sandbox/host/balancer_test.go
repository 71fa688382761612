package host

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/spf13/afero"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
)

// shippedScripts are those of the balancer that comes with Andamio, by their names.
func shippedScripts(t *testing.T) map[string]string {
	t.Helper()
	text := `tosca_definitions_version: tosca_simple_yaml_1_3
topology_template:
  node_templates:
    door: { type: LoadBalancer }
`
	tmpl, diags := tosca.Read("t.yaml", func(name string) ([]byte, error) {
		if name != "t.yaml" {
			return nil, os.ErrNotExist
		}
		return []byte(text), nil
	})
	require.Empty(t, diags, diags.Error())
	out := map[string]string{}
	for name, data := range tmpl.Artifacts {
		require.True(t, tosca.Shipped(name), name)
		out[path.Base(name)] = string(data)
	}
	return out
}

// machine is where the balancer's scripts are run, and the address at which it is reached.
type machine struct {
	script func(name string, env ...string) (string, int)
	at     func() string
	port   string
}

// standInMachine runs them on a stand-in.
func standInMachine(t *testing.T, scripts map[string]string) machine {
	t.Helper()
	h, l := plugged(t)
	require.NoError(t, h.fs.MkdirAll("/var/lib/andamio", 0o755))
	require.NoError(t, afero.WriteFile(h.fs, "/var/lib/andamio/balance.sh", []byte(scripts["balance.sh"]), 0o644))
	return machine{port: "8000", at: func() string { return l.at[8000] }, script: func(name string, env ...string) (string, int) {
		var out bytes.Buffer
		code := h.Run(t.Context(), scripts[name], env, strings.NewReader(""), &out, &out)
		return out.String(), code
	}}
}

// realMachine runs them in a shell of this machine, with HAProxy itself.
func realMachine(t *testing.T, scripts map[string]string) machine {
	t.Helper()
	if _, err := exec.LookPath("haproxy"); err != nil {
		t.Skip("there is no haproxy here")
	}
	dir := t.TempDir()
	lib := filepath.Join(dir, "balance.sh")
	require.NoError(t, os.WriteFile(lib, []byte(scripts["balance.sh"]), 0o600))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	m := machine{port: port, at: func() string { return address }}
	m.script = func(name string, env ...string) (string, int) {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		cmd := exec.CommandContext(ctx, "sh", "-c", strings.ReplaceAll(scripts[name], "/var/lib/andamio/balance.sh", lib))
		cmd.Env = append(os.Environ(), append(env, "BALANCER="+filepath.Join(dir, "haproxy"))...)
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	t.Cleanup(func() {
		data, err := os.ReadFile(filepath.Join(dir, "haproxy", "haproxy.pid"))
		if pid, bad := strconv.Atoi(strings.TrimSpace(string(data))); err == nil && bad == nil {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	})
	return m
}

// page is a member that says its name until it is to be unwell, and which clients were said to have come.
func page(t *testing.T, name string) (address, port string, well *atomic.Bool) {
	t.Helper()
	well = &atomic.Bool{}
	well.Store(true)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !well.Load() {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		fmt.Fprintf(w, "%s for %s", name, r.Header.Get("X-Forwarded-For"))
	}))
	t.Cleanup(server.Close)
	address, port, err := net.SplitHostPort(server.Listener.Addr().String())
	require.NoError(t, err)
	return address, port, well
}

// TestABalancersScriptsDoTheSameOnHAProxyAndStandIns runs the scripts of the shipped balancer where HAProxy is and on a stand-in, and asks both the same.
func TestABalancersScriptsDoTheSameOnHAProxyAndStandIns(t *testing.T) {
	scripts := shippedScripts(t)
	for name, on := range map[string]func(*testing.T, map[string]string) machine{"stand-in": standInMachine, "HAProxy": realMachine} {
		for _, protocol := range []string{"http", "tcp"} {
			t.Run(name+" "+protocol, func(t *testing.T) {
				t.Parallel()
				balance(t, on(t, scripts), protocol)
			})
		}
	}
}

func balance(t *testing.T, m machine, protocol string) {
	do := func(name string, env ...string) {
		t.Helper()
		out, code := m.script(name, env...)
		require.Zero(t, code, "%s: %s", name, out)
	}
	answers := func() string { return whoAnswers(m.at()) }
	becomes := func(want string) {
		t.Helper()
		require.Eventually(t, func() bool { return answers() == want }, 20*time.Second, 50*time.Millisecond, "%s is to be %s", answers(), want)
	}
	one, onePort, oneWell := page(t, "one")
	two, twoPort, twoWell := page(t, "two")
	do("create.sh")
	do("create.sh")
	do("configure.sh", "PORT="+m.port, "PROTOCOL="+protocol, "LOOK=/well", "ALGORITHM=roundrobin")
	do("start.sh")
	becomes(map[string]string{"http": "503", "tcp": "nobody"}[protocol])
	do("add-member.sh", "MEMBER=one", "ADDRESS="+one, "PORT="+onePort)
	do("add-member.sh", "MEMBER=one", "ADDRESS="+one, "PORT="+onePort)
	becomes("one")
	do("add-member.sh", "MEMBER=two.part-1", "ADDRESS="+two, "PORT="+twoPort)
	becomes("one two")
	if protocol == "http" {
		twoWell.Store(false)
		becomes("one")
		oneWell.Store(false)
		becomes("503")
		oneWell.Store(true)
		twoWell.Store(true)
		becomes("one two")
	}
	do("remove-member.sh", "MEMBER=one", "ADDRESS=", "PORT=")
	becomes("two")
	out, code := m.script("add-member.sh", "MEMBER=three", "ADDRESS=nowhere at all", "PORT=x")
	assert.NotZero(t, code, "what cannot be a member is refused: %s", out)
	assert.Equal(t, "two", answers(), "and the others are still answered with")
	do("remove-member.sh", "MEMBER=three", "ADDRESS=", "PORT=")
	do("stop.sh")
	becomes("nobody")
	do("stop.sh")
	do("start.sh")
	becomes("two")
	do("stop.sh")
	do("delete.sh")
}

// whoAnswers are those who answer at an address when it is asked some times over.
func whoAnswers(at string) string {
	seen := map[string]bool{}
	web := &http.Client{Timeout: 3 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	for range 8 {
		resp, err := web.Get("http://" + at + "/")
		if err != nil {
			seen["nobody"] = true
			continue
		}
		body, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		who, _, _ := strings.Cut(string(body), " ")
		if err != nil || resp.StatusCode != http.StatusOK {
			who = strconv.Itoa(resp.StatusCode)
		}
		seen[who] = true
	}
	return strings.Join(slices.Sorted(maps.Keys(seen)), " ")
}

// TestWhatABalancersConfigurationCannotBe has a row for each thing that is refused, as HAProxy refuses it.
func TestWhatABalancersConfigurationCannotBe(t *testing.T) {
	const head = "frontend client\n\tbind *:8000\nbackend members\n"
	for _, c := range []struct{ name, text, want string }{
		{"nowhere", "backend members\n", "nothing says where it listens"},
		{"no port", "frontend client\n\tbind *:door\n", `"door" is no port`},
		{"no address", head + "\tserver one\n", "server one: no address"},
		{"no port of a member", head + "\tserver one 127.0.0.1\n", `server one: "127.0.0.1" is no address with a port`},
		{"twice", head + "\tserver one 127.0.0.1:1\n\tserver one 127.0.0.1:2\n", "server one is there twice"},
	} {
		h, _ := plugged(t)
		require.NoError(t, afero.WriteFile(h.fs, "/c", []byte(c.text), 0o644))
		for _, command := range []string{"haproxy -c -f /c", "haproxy -D -f /c -p /pid"} {
			out, code := on(h, command)
			assert.NotZero(t, code, c.name)
			assert.Contains(t, out, c.want, c.name)
		}
	}
	h, _ := plugged(t)
	out, code := on(h, "haproxy -c -f /nothing")
	assert.NotZero(t, code)
	assert.Contains(t, out, "/nothing: no such file")
}

// TestABalancersWaysOfChoosing holds that each algorithm asks whom it is to ask.
func TestABalancersWaysOfChoosing(t *testing.T) {
	h, _ := plugged(t)
	b := h.balancing(Program{At: "/none"})
	rules := balancing{port: 1, algorithm: "source", servers: map[string]string{}}
	for i := range 3 {
		address, port, _ := page(t, "any")
		name := fmt.Sprint("m", i)
		rules.names, rules.servers[name] = append(rules.names, name), net.JoinHostPort(address, port)
	}
	b.take(rules)
	first := b.order("127.0.0.9:1000")[0]
	for i := range 5 {
		assert.Same(t, first, b.order(fmt.Sprint("127.0.0.9:", 2000+i))[0], "one client is answered by one member")
	}
	rules.algorithm = "leastconn"
	b.take(rules)
	assert.Same(t, first, b.members[slices.Index(b.members, first)], "who was a member is the one that was known")
	b.members[0].count(1)
	b.members[1].count(2)
	assert.Same(t, b.members[2], b.order("127.0.0.9:1")[0])
	b.members[2].count(3)
	assert.Same(t, b.members[0], b.order("127.0.0.9:1")[0])
}
