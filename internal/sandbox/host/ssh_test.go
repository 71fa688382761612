package host

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// loggedIn is a connection to a new host, with the host.
func loggedIn(t *testing.T) (*Host, *ssh.Client) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	h, err := New("node", 1, string(ssh.MarshalAuthorizedKey(signer.PublicKey())), nil, nil)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	l := &loop{map[int]string{}}
	require.NoError(t, h.Plug(l))
	c, err := ssh.Dial("tcp", l.at[22], &ssh.ClientConfig{
		User: User, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)},
		HostKeyCallback: ssh.FixedHostKey(h.signer.PublicKey()), Timeout: 10 * time.Second,
	})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return h, c
}

// TestAHostThatIsSwitchedOffReportsNothing holds that a program which a switched-off host took with it is not said to
// have ended: a script that was cut off is looked for again, one that failed is not.
func TestAHostThatIsSwitchedOffReportsNothing(t *testing.T) {
	h, c := loggedIn(t)
	s, err := c.NewSession()
	require.NoError(t, err)
	var out, errOut bytes.Buffer
	s.Stdout, s.Stderr = &out, &errOut
	require.NoError(t, s.Start("sleep 60"))
	ended := make(chan error, 1)
	go func() { ended <- s.Wait() }()
	require.Eventually(t, func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		return len(h.busy) > 0
	}, 2*time.Minute, time.Millisecond)
	h.Close()
	select {
	case err := <-ended:
		var exit *ssh.ExitError
		assert.Error(t, err)
		assert.NotErrorAs(t, err, &exit)
		assert.Empty(t, out.String()+errOut.String())
	case <-time.After(20 * time.Second):
		t.Fatal("a connection to a host that is off goes on")
	}
}

// TestAProgramThatEndsIsReported holds that the exit status of a program arrives as it was.
func TestAProgramThatEndsIsReported(t *testing.T) {
	_, c := loggedIn(t)
	s, err := c.NewSession()
	require.NoError(t, err)
	var exit *ssh.ExitError
	require.ErrorAs(t, s.Run("exit 3"), &exit)
	assert.Equal(t, 3, exit.ExitStatus())
}
