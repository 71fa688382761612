package testprogram

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// OpenSSH is a server of OpenSSH with the keys that one has which nobody configured.
type OpenSSH struct {
	Address, Port, User string
	// HostKeys are its public keys as authorized_keys has them, by their type.
	HostKeys map[string]string
	// Key is one that it lets in.
	Key ssh.Signer
}

// StartOpenSSH starts one, or skips the test where there is none. It needs root, whom it lets in.
func StartOpenSSH(t *testing.T) *OpenSSH {
	t.Helper()
	daemon, err := exec.LookPath("sshd")
	if err != nil {
		daemon = "/usr/sbin/sshd"
	}
	if _, err := os.Stat(daemon); err != nil || os.Getuid() != 0 {
		t.Skip("there is no sshd here that could be started")
	}
	dir := t.TempDir()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	out := &OpenSSH{Address: "127.0.0.1", User: "root", HostKeys: map[string]string{}}
	out.Key, err = ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authorized_keys"), ssh.MarshalAuthorizedKey(out.Key.PublicKey()), 0o600))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, out.Port, err = net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	require.NoError(t, l.Close())
	config := fmt.Sprintf("ListenAddress 127.0.0.1:%s\nAuthorizedKeysFile %s/authorized_keys\nPermitRootLogin yes\nStrictModes no\nUsePAM no\nPidFile none\nSubsystem sftp internal-sftp\n", out.Port, dir)
	for _, kind := range []string{"rsa", "ecdsa", "ed25519"} {
		file := filepath.Join(dir, kind)
		text, err := exec.CommandContext(t.Context(), "ssh-keygen", "-q", "-N", "", "-t", kind, "-f", file).CombinedOutput()
		require.NoError(t, err, "%s", text)
		public, err := os.ReadFile(file + ".pub")
		require.NoError(t, err)
		out.HostKeys[strings.Fields(string(public))[0]] = string(public)
		config += "HostKey " + file + "\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte(config), 0o600))
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755)) // where it locks itself up before anybody is known
	cmd := exec.CommandContext(t.Context(), daemon, "-D", "-e", "-f", filepath.Join(dir, "config"))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Wait() }) // it ends with the test's context
	require.Eventually(t, func() bool {
		c, err := net.DialTimeout("tcp", net.JoinHostPort(out.Address, out.Port), time.Second)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond, "the server starts")
	return out
}
