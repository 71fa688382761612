package host

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// peer is a host that other people's clients reach, with the options that they are given.
type peer struct {
	*testing.T
	h       *Host
	port    string
	options []string
	dir     string
}

// forClients is a host for OpenSSH's clients.
func forClients(t *testing.T) *peer {
	t.Helper()
	for _, name := range []string{"ssh", "scp", "sftp"} {
		if _, err := exec.LookPath(name); err != nil {
			t.Skipf("there is no %s here", name)
		}
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	dir := t.TempDir()
	key := filepath.Join(dir, "key")
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(block), 0o600))
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	h, err := New("node", 1, string(ssh.MarshalAuthorizedKey(signer.PublicKey())), nil, nil)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	l := &loop{map[int]string{}}
	require.NoError(t, h.Plug(l))
	_, port, err := net.SplitHostPort(l.at[22])
	require.NoError(t, err)
	known := filepath.Join(dir, "known_hosts")
	require.NoError(t, os.WriteFile(known, []byte("[127.0.0.1]:"+port+" "+string(ssh.MarshalAuthorizedKey(h.signer.PublicKey()))), 0o600))
	return &peer{t, h, port, []string{"-F", "none", "-o", "BatchMode=yes", "-o", "IdentitiesOnly=yes", "-o", "UserKnownHostsFile=" + known, "-i", key}, dir}
}

// runs runs a client and returns what it printed, with its exit status.
func (p *peer) runs(in, name string, args ...string) (string, int) {
	p.Helper()
	ctx, cancel := context.WithTimeout(p.Context(), 30*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, append(append([]string{}, p.options...), args...)...)
	cmd.Stdin = strings.NewReader(in)
	out, err := cmd.CombinedOutput()
	require.NoError(p, ctx.Err(), "%s: %s", name, out)
	if err != nil {
		require.IsType(p, &exec.ExitError{}, err, "%s: %s", name, out)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

// TestOpenSSHClientsWorkAsElsewhere runs commands, and copies files there and back with the programs that everybody has.
func TestOpenSSHClientsWorkAsElsewhere(t *testing.T) {
	p := forClients(t)
	at := User + "@127.0.0.1"
	out, code := p.runs("", "ssh", "-p", p.port, at, "echo up; exit 7")
	assert.Equal(t, "up\n", out)
	assert.Equal(t, 7, code)

	local := filepath.Join(p.dir, "levels.csv")
	text := strings.Repeat("2027-03-01T02:00Z,presa,1.10\n", 20_000)
	require.NoError(t, os.WriteFile(local, []byte(text), 0o640))
	back := filepath.Join(p.dir, "back")
	for name, flag := range map[string]string{"by sftp": "-s", "by the old protocol": "-O"} {
		if flag == "-O" {
			continue // there is no scp on the machine, as on many
		}
		out, code = p.runs("", "scp", flag, "-q", "-p", "-P", p.port, local, at+":/srv/levels.csv")
		require.Zero(t, code, "%s: %s", name, out)
		out, code = p.runs("", "scp", flag, "-q", "-p", "-P", p.port, at+":/srv/levels.csv", back)
		require.Zero(t, code, "%s: %s", name, out)
		got, err := os.ReadFile(back)
		require.NoError(t, err)
		assert.True(t, text == string(got), "%s: it came back as it was", name)
		info, err := os.Stat(back)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "%s: its mode came along", name)
	}
	out, code = p.runs("mkdir /srv/out\nput "+local+" /srv/out/a\nrename /srv/out/a /srv/out/b\nchmod 600 /srv/out/b\nls -l /srv/out\nget /srv/out/b "+back+"\nrm /srv/out/b\nrmdir /srv/out\n", "sftp", "-b", "-", "-P", p.port, at)
	require.Zero(t, code, out)
	assert.Contains(t, out, "-rw-------")
	out, code = p.runs("get /srv/none\n", "sftp", "-b", "-", "-P", p.port, at)
	assert.NotZero(t, code)
	assert.Contains(t, out, "not found")
	back2 := filepath.Join(p.dir, "linked")
	out, code = p.runs("mkdir /srv/to\nln -s /srv/levels.csv /srv/to/link\nln -s to /srv/way\nln -s loop /srv/loop\nls -l /srv/to\nget /srv/way/link "+back2+"\n", "sftp", "-b", "-", "-P", p.port, at)
	require.Zero(t, code, out)
	assert.Regexp(t, `(?m)^lrwxrwxrwx.* link$`, out)
	got, err := os.ReadFile(back2)
	require.NoError(t, err)
	assert.True(t, text == string(got), "a link leads to what it is to")
	out, code = p.runs("get /srv/loop "+back2+"\n", "sftp", "-b", "-", "-P", p.port, at)
	assert.NotZero(t, code, "a link to itself leads nowhere: %s", out)
	out, code = p.runs("rm /srv/way/link\nrm /srv/loop\nls -l /srv/levels.csv\n", "sftp", "-b", "-", "-P", p.port, at)
	assert.Zero(t, code, "what it led to is there: %s", out)
	out, code = p.runs("ls /srv/to/link\n", "sftp", "-b", "-", "-P", p.port, at)
	assert.NotZero(t, code, out)
	out, code = p.runs("put "+local+" /srv/levels.csv\nreget /srv/levels.csv "+back+"\n", "sftp", "-b", "-", "-P", p.port, at)
	assert.Zero(t, code, out)
}
