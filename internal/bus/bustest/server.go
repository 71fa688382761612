// Package bustest runs a real NATS server with streams in the process of a test.
package bustest

import (
	"net"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"
)

// The password of the user andamio, and of one who may not publish.
const (
	User, Password = "andamio", "r1ver"
	Reader         = "reader"
)

// patience bounds what a test waits for.
const patience = 20 * time.Second

// Server is a NATS server.
type Server struct {
	URL  string
	opts *server.Options
	s    *server.Server
}

// New starts a server, which ends with the test.
func New(t testing.TB) *Server {
	t.Helper()
	users := []*server.User{
		{Username: User, Password: Password},
		{Username: Reader, Password: Password, Permissions: &server.Permissions{Publish: &server.SubjectPermission{Deny: []string{"ribera.>"}}, Subscribe: &server.SubjectPermission{Deny: []string{"closed.>"}}}},
	}
	out := &Server{opts: &server.Options{Host: "127.0.0.1", Port: server.RANDOM_PORT, JetStream: true, StoreDir: t.TempDir(), NoLog: true, NoSigs: true, Users: users}}
	out.start(t)
	out.opts.Port = out.s.Addr().(*net.TCPAddr).Port
	t.Cleanup(out.Stop)
	return out
}

func (x *Server) start(t testing.TB) {
	t.Helper()
	s, err := server.NewServer(x.opts)
	require.NoError(t, err)
	go s.Start()
	require.True(t, s.ReadyForConnections(patience), "the server is there")
	x.s, x.URL = s, s.ClientURL()
}

// Stop ends the server.
func (x *Server) Stop() {
	x.s.Shutdown()
	x.s.WaitForShutdown()
}

// Again starts it again where it was, with what it keeps.
func (x *Server) Again(t testing.TB) { t.Helper(); x.start(t) }

// Conn is a connection of the user's, which ends with the test.
func (x *Server) Conn(t testing.TB) *nats.Conn {
	t.Helper()
	c, err := nats.Connect(x.URL, nats.UserInfo(User, Password))
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// Stream makes a stream that keeps what is published under some subjects.
func (x *Server) Stream(t testing.TB, name string, subjects ...string) {
	t.Helper()
	js, err := jetstream.New(x.Conn(t))
	require.NoError(t, err)
	_, err = js.CreateStream(t.Context(), jetstream.StreamConfig{Name: name, Subjects: subjects})
	require.NoError(t, err)
}

// Kept are the messages that a stream keeps.
func (x *Server) Kept(t testing.TB, name string) (out []*jetstream.RawStreamMsg) {
	t.Helper()
	js, err := jetstream.New(x.Conn(t))
	require.NoError(t, err)
	s, err := js.Stream(t.Context(), name)
	require.NoError(t, err)
	info, err := s.Info(t.Context())
	require.NoError(t, err)
	for seq := info.State.FirstSeq; seq <= info.State.LastSeq && info.State.Msgs > 0; seq++ {
		m, err := s.GetMsg(t.Context(), seq)
		require.NoError(t, err)
		out = append(out, m)
	}
	return out
}
