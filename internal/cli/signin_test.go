package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/identity/identitytest"
	"andamio/internal/service/acting"
)

// TestSigningInFromATerminal has somebody sign in on this machine, and at a server elsewhere over TLS, by saying who they are in a browser.
func TestSigningInFromATerminal(t *testing.T) {
	t.Parallel()
	ws := t.TempDir()
	run := commands(t, ws)
	assert.Contains(t, run(3, "token", "sign-in"), "nobody signs in here")
	p := identitytest.Start(t)
	teams := filepath.Join(t.TempDir(), "teams.yaml")
	require.NoError(t, os.WriteFile(teams, fmt.Appendf(nil, "version: andamio.teams/1\nidentity: { issuer: %q, client: andamio }\npeople: { keeper: { user: %q }, ana: { identity: '7' } }\ngrants: [ { to: keeper, role: engineer }, { to: ana, role: operator } ]\n", p.URL, acting.Whoami()), 0o600))
	run(0, "team", "set", teams)
	url := served(t, ws)

	for name, more := range map[string][]string{"here": {"--workspace", ws}, "elsewhere": {"--server", url, "--server-authority", filepath.Join(ws, fileAuthority)}} {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			cmd := exec.CommandContext(ctx, binary, append([]string{"token", "sign-in", "--for", "1h"}, more...)...)
			var out, said bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &said
			before := p.Polls()
			require.NoError(t, cmd.Start())
			assert.Eventually(t, func() bool { return p.Polls() > before }, 40*time.Second, 20*time.Millisecond)
			p.Say(map[string]any{"sub": "7", "jti": name})
			require.NoError(t, cmd.Wait(), said.String())
			assert.Regexp(t, `open `+regexp.QuoteMeta(p.URL)+`/say and type [A-Z0-9]{8} there, until \d\d:\d\d:\d\d`, said.String())
			assert.Regexp(t, `that is token \w+, signed in, of ana, until`, said.String())
			assert.Equal(t, 1, strings.Count(out.String(), "\n"), "the secret alone is on standard output")
			assert.NotContains(t, said.String(), strings.TrimSpace(out.String()))
		})
	}
	assert.Equal(t, 2, strings.Count(run(0, "token"), "signed in"))

	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{2, "can be read on the way", []string{"--server", "http://andamio.ribera.test"}},
		{2, "is no address of a server", []string{"--server", "andamio.ribera.test"}},
		{7, "the server does not answer", []string{"--server", "https://127.0.0.1:1"}},
		{7, "the server does not answer", []string{"--server", url}}, // whom nobody vouches for
		{2, "the authorities cannot be read", []string{"--server", url, "--server-authority", filepath.Join(ws, "none")}},
		{7, "and not why", []string{"--server", p.URL}},
	} {
		code, said := program(t, append([]string{"token", "sign-in"}, c.args...)...)
		assert.Equal(t, c.code, code, said)
		assert.Contains(t, said, c.want)
	}
}

// served serves programs with a certificate for a first day until the test ends, and returns where.
func served(t *testing.T, ws string) string {
	t.Helper()
	return serving(t, ws, regexp.MustCompile(`programs at (https://\S+?)/v1;`), "--api", "127.0.0.1:0", "--tls-init", "127.0.0.1")
}

// serving serves a workspace until the test ends, and returns what it says of itself.
func serving(t *testing.T, ws string, says *regexp.Regexp, more ...string) string {
	t.Helper()
	cmd := exec.Command(binary, append([]string{"serve", "--workspace", ws, "--address", "127.0.0.1:0"}, more...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() })
	var text strings.Builder
	buffer := make([]byte, 4096)
	for says.FindString(text.String()) == "" {
		n, err := out.Read(buffer)
		require.NoError(t, err, text.String())
		text.Write(buffer[:n])
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	return says.FindStringSubmatch(text.String())[1]
}
