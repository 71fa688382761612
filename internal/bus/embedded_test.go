package bus_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"log/slog"
	"net"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/bus"
)

// keeper lets in whoever shows a secret that it knows, by their names.
type keeper struct {
	mu    sync.Mutex
	known map[string]string
}

func (k *keeper) Enter(_ context.Context, secret string, from netip.Addr) (string, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if name := k.known[secret]; name != "" && from.IsLoopback() {
		return name, nil
	}
	return "", errors.New("nobody knows them")
}

func (k *keeper) Stay(_ context.Context, name string, _ netip.Addr) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, known := range k.known {
		if known == name {
			return nil
		}
	}
	return errors.New("they may stay no more")
}

func (k *keeper) revoke(secret string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.known, secret)
}

func embedded(t *testing.T, c *tls.Config, dir string) (*bus.Embedded, *keeper) {
	t.Helper()
	k := &keeper{known: map[string]string{"s3cret": "reader", "other": "another"}}
	e, err := bus.Embed(t.Context(), bus.Embedding{Address: "127.0.0.1:0", TLS: c, Dir: dir, Subject: "andamio", Hears: "andamio-notices", Door: k, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(e.Close)
	return e, k
}

// TestWhoeverIsLetInReadsAndNothingElse has a program with a secret read what is kept, and do nothing else to the server; one without is not let in, and one whose secret counts no longer is put out.
func TestWhoeverIsLetInReadsAndNothingElse(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	e, k := embedded(t, nil, dir)
	s, err := bus.Join(t.Context(), e.Server(), "andamio")
	require.NoError(t, err)
	defer s.Close()
	for _, words := range []string{"log.retire.1", "run.stands.run-1", "log.retire.2"} {
		_, err := s.Keep(t.Context(), words, happened(t, words, 1))
		require.NoError(t, err)
	}
	for _, wrong := range []nats.Option{nats.Token("lake"), nats.Token(""), nats.UserInfo("reader", "lake"), nats.UserInfo("andamio", "")} {
		_, err := nats.Connect(e.URL(), wrong)
		require.ErrorIs(t, err, nats.ErrAuthorization)
	}
	gone := make(chan struct{})
	conn, err := nats.Connect(e.URL(), nats.UserInfo("anybody", "s3cret"), nats.MaxReconnects(1), nats.ReconnectWait(10*time.Millisecond), nats.ClosedHandler(func(*nats.Conn) { close(gone) }))
	require.NoError(t, err)
	js, err := jetstream.New(conn, jetstream.WithDefaultTimeout(500*time.Millisecond))
	require.NoError(t, err)
	log, err := read(t.Context(), js, "ANDAMIO", "andamio.log.>", 2)
	require.NoError(t, err)
	assert.Equal(t, []string{"andamio.log.retire.1", "andamio.log.retire.2"}, log)
	for what, do := range map[string]func() error{
		"publish there": func() error { _, err := js.Publish(t.Context(), "andamio.log.retire.3", nil); return err },
		"empty the stream": func() error {
			x, err := js.Stream(t.Context(), "ANDAMIO")
			require.NoError(t, err)
			return x.Purge(t.Context())
		},
		"take it away": func() error { return js.DeleteStream(t.Context(), "ANDAMIO") },
		"make another": func() error {
			_, err := js.CreateStream(t.Context(), jetstream.StreamConfig{Name: "LAKE", Subjects: []string{"lake"}})
			return err
		},
		"change it": func() error {
			_, err := js.UpdateStream(t.Context(), jetstream.StreamConfig{Name: "ANDAMIO", Subjects: []string{"andamio.>"}, MaxMsgs: 1})
			return err
		},
	} {
		assert.Error(t, do(), what)
	}
	is, err := s.Kept(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 3, is.Messages, "nothing of it came to pass")
	for _, subject := range []string{"andamio-notices.>", "$JS.EVENT.>", ">"} {
		sub, err := conn.SubscribeSync(subject)
		require.NoError(t, err)
		require.NoError(t, conn.Flush())
		assert.ErrorIs(t, conn.LastError(), nats.ErrPermissionViolation, subject)
		_ = sub.Unsubscribe()
	}
	k.revoke("s3cret")
	select {
	case <-gone:
	case <-time.After(20 * time.Second):
		t.Fatal("one who may stay no more is there still")
	}
	other, err := nats.Connect(e.URL(), nats.Token("other"))
	require.NoError(t, err)
	other.Close()
}

// TestNoticesOfProgramsAreHeard has what a program publishes about a site be heard, and nobody else listen to that.
func TestNoticesOfProgramsAreHeard(t *testing.T) {
	t.Parallel()
	e, _ := embedded(t, nil, t.TempDir())
	heard := make(chan bus.Message, 4)
	h, err := bus.Hear(t.Context(), e.Server(), "andamio-notices", "us", func(m bus.Message) { heard <- m }, func(error) {})
	require.NoError(t, err)
	defer h.Close()
	conn, err := nats.Connect(e.URL(), nats.Token("other"))
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.Publish("andamio-notices.vega", []byte("there")))
	require.NoError(t, conn.Flush())
	m := <-heard
	assert.Equal(t, "vega", m.Last)
	assert.Equal(t, "there", string(m.Body))
}

// TestABusGoesOnWhereItWas has a bus be run anew over the folder of one before, at the address that it had, encrypted.
func TestABusGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	https := httptest.NewTLSServer(nil) // whose certificate is good for a test
	defer https.Close()
	c := &tls.Config{MinVersion: tls.VersionTLS12, Certificates: https.TLS.Certificates}
	authority := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: https.Certificate().Raw})
	dir := t.TempDir()
	e, _ := embedded(t, c, dir)
	assert.Contains(t, e.URL(), "tls://127.0.0.1:")
	at := bus.Server{URL: e.URL(), Secret: "s3cret", Authority: string(authority)}
	ours, err := bus.Join(t.Context(), e.Server(), "andamio")
	require.NoError(t, err)
	_, err = ours.Keep(t.Context(), "log.1", happened(t, "1", 1))
	require.NoError(t, err)
	theirs, err := bus.Join(t.Context(), at, "andamio")
	require.NoError(t, err)
	newest, err := theirs.Newest(t.Context(), "log")
	require.NoError(t, err)
	assert.Equal(t, "1", newest.ID())
	theirs.Close()
	ours.Close()
	_, err = bus.Join(t.Context(), bus.Server{URL: e.URL(), Secret: "s3cret"}, "andamio")
	var stranger x509.UnknownAuthorityError
	require.ErrorAs(t, err, &stranger, "nobody vouches for it")
	_, err = nats.Connect("nats://"+e.URL()[len("tls://"):], nats.Token("s3cret"), nats.RootCAs(filepath.Join(dir, "none")))
	require.Error(t, err)
	e.Close()
	again, _ := embedded(t, c, dir)
	ours, err = bus.Join(t.Context(), again.Server(), "andamio")
	require.NoError(t, err)
	defer ours.Close()
	is, err := ours.Keep(t.Context(), "log.1", happened(t, "1", 1))
	require.NoError(t, err)
	assert.False(t, is, "it is there still")
}

// TestWhereABusCannotBe says why.
func TestWhereABusCannotBe(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	for _, c := range []struct{ address, dir, says string }{
		{"0.0.0.0:0", t.TempDir(), "in clear a bus listens on this machine alone, and 0.0.0.0 is not"},
		{"bus.ribera.test:0", t.TempDir(), "in clear a bus listens on this machine alone"},
		{"127.0.0.1", t.TempDir(), "no ADDRESS:PORT"},
		{"127.0.0.1:lake", t.TempDir(), `"lake" is no port`},
		{"127.0.0.1:70000", t.TempDir(), `"70000" is no port`},
		{l.Addr().String(), t.TempDir(), "address already in use"},
		{"127.0.0.1:0", filepath.Join(file, "under"), "no bus"},
	} {
		_, err := bus.Embed(t.Context(), bus.Embedding{Address: c.address, Dir: c.dir, Subject: "andamio", Hears: "n", Door: &keeper{}, Log: slog.New(slog.DiscardHandler)})
		assert.ErrorContains(t, err, c.says, c.address)
	}
}
