package cli

import (
	"crypto/tls"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/bus/bustest"
	"andamio/internal/service/tokens"
)

// TestTheBusIsSaidAndShown has what happens be kept on a bus, asks how far it is while it is there and while it is away, and has it be over.
func TestTheBusIsSaidAndShown(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	dir := t.TempDir()
	file := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(file, []byte(bustest.Password), 0o600))
	for _, c := range []struct {
		words []string
		code  int
		says  string
	}{
		{[]string{"bus"}, 0, "kept on no bus of others"},
		{[]string{"bus", "set", x.URL, "--user", bustest.User, "--secret", "bus"}, 2, "bus"},
		{[]string{"credentials", "secret", "bus", "--file", file}, 0, "kept"},
		{[]string{"bus", "set", "nats://192.0.2.1:4222", "--subject", "ribera"}, 2, "nats:// is for this machine alone"},
		{[]string{"bus", "set", "tls://127.0.0.1:1", "--authority", filepath.Join(dir, "none")}, 2, "no such file"},
		{[]string{"bus", "set", "tls://127.0.0.1:1", "--authority", file}, 2, "there is no certificate in it"},
		{[]string{"bus", "set", x.URL}, 7, "does not let us"},
		{[]string{"bus", "set", x.URL, "--user", bustest.User, "--secret", "bus"}, 0, "kept on nats://"},
		{[]string{"bus"}, 0, "the stream ANDAMIO keeps 0 events; 10 entries of the log are not in it yet"},
	} {
		code, said := program(t, append(c.words, "--workspace", dir)...)
		assert.Equal(t, c.code, code, said)
		assert.Contains(t, said, c.says, "%v", c.words)
	}
	x.Stop()
	code, said := program(t, "bus", "--json", "--workspace", dir)
	assert.Equal(t, 1, code)
	var b app.BusState
	require.NoError(t, json.Unmarshal([]byte(said), &b), said)
	assert.NotEmpty(t, b.Trouble)
	assert.NotContains(t, said, bustest.Password)
	code, said = program(t, "bus", "off", "--workspace", dir)
	require.Zero(t, code, said)
	_, said = program(t, "bus", "--workspace", dir)
	assert.Contains(t, said, "kept on no bus of others")
}

// TestWhoServesRunsABus has the process that serves run a bus, encrypted with the certificate that was made for a first day: whoever has a token reads what was noted.
func TestWhoServesRunsABus(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	url := serving(t, dir, regexp.MustCompile(`kept on (tls://\S+), under andamio`), "--bus", "127.0.0.1:0", "--tls-init", "127.0.0.1")
	code, said := program(t, "token", "make", "listener", "--json", "--workspace", dir)
	require.Zero(t, code, said)
	var made tokens.Made
	require.NoError(t, json.Unmarshal([]byte(said), &made), said)
	_, err := nats.Connect(url, nats.Token(made.Secret))
	var untrusted *tls.CertificateVerificationError
	require.ErrorAs(t, err, &untrusted)
	conn, err := nats.Connect(url, nats.Token(made.Secret), nats.RootCAs(filepath.Join(dir, fileAuthority)))
	require.NoError(t, err)
	defer conn.Close()
	js, err := jetstream.New(conn)
	require.NoError(t, err)
	var m *jetstream.RawStreamMsg
	require.Eventually(t, func() bool {
		x, err := js.Stream(t.Context(), "ANDAMIO")
		if err == nil {
			m, err = x.GetMsg(t.Context(), 1)
		}
		return err == nil
	}, 30*time.Second, 50*time.Millisecond)
	assert.Contains(t, string(m.Data), "example.andamio.log.")
}
