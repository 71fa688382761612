package tunnel

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/upgrade"
)

// joined is a session with a worker, over HTTP as in use.
func joined(t *testing.T, allow Allow) (*Session, context.CancelFunc) {
	t.Helper()
	sessions := make(chan *Session, 1)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !upgrade.Asks(r, Protocol) || r.Header.Get("Authorization") != "Bearer river" {
			http.Error(w, `{"detail":"you may not"}`, http.StatusForbidden)
			return
		}
		c, err := upgrade.Take(w, Protocol)
		if assert.NoError(t, err) {
			session, err := Accept(c)
			assert.NoError(t, err)
			sessions <- session
		}
	}))
	t.Cleanup(s.Close)
	_, err := upgrade.Ask(t.Context(), Protocol, s.URL+"/v1/workers/join", nil, "lake", nil)
	var no *upgrade.Refused
	require.ErrorAs(t, err, &no)
	assert.Equal(t, http.StatusForbidden, no.Status)
	assert.Contains(t, no.Text, "you may not")
	over, err := upgrade.Ask(t.Context(), Protocol, s.URL+"/v1/workers/join", url.Values{"pool": {"dam"}}, "river", nil)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	worked := make(chan error, 1)
	go func() { worked <- Work(ctx, over, allow) }()
	session := <-sessions
	t.Cleanup(func() { cancel(); session.Close(); <-worked })
	return session, cancel
}

// echoing answers what it is told, until whoever told it has said all.
func echoing(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer c.Close(); _, _ = io.Copy(c, c) }()
		}
	}()
	return l.Addr().String()
}

// TestWhatGoesThroughComesOutAsItWas has many send much at once, and each gets its own back.
func TestWhatGoesThroughComesOutAsItWas(t *testing.T) {
	t.Parallel()
	s, _ := joined(t, nil)
	at := echoing(t)
	var group sync.WaitGroup
	for n := range 24 {
		group.Go(func() {
			r := rand.New(rand.NewPCG(uint64(n), 1))
			data := make([]byte, r.IntN(3<<20))
			for i := range data {
				data[i] = byte(r.Uint32())
			}
			c, err := s.Dial(t.Context(), at)
			if !assert.NoError(t, err) {
				return
			}
			defer c.Close()
			go func() { _, _ = c.Write(data) }()
			got := make([]byte, len(data))
			_, err = io.ReadFull(c, got)
			assert.NoError(t, err)
			assert.Equal(t, sha256.Sum256(data), sha256.Sum256(got))
		})
	}
	group.Wait()
}

// TestWhatHappensThereIsToldAsIfItHappenedHere has addresses that refuse, are forbidden, or are none.
func TestWhatHappensThereIsToldAsIfItHappenedHere(t *testing.T) {
	t.Parallel()
	at := echoing(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closed := l.Addr().String()
	require.NoError(t, l.Close())
	s, leave := joined(t, Allow{netip.MustParsePrefix("127.0.0.0/8")})
	c, err := s.Dial(t.Context(), at)
	require.NoError(t, err)
	_, err = c.Write([]byte("level"))
	require.NoError(t, err)
	got := make([]byte, 5)
	_, err = io.ReadFull(c, got)
	require.NoError(t, err)
	assert.Equal(t, "level", string(got))
	_, err = s.Dial(t.Context(), closed)
	assert.ErrorIs(t, err, syscall.ECONNREFUSED)
	_, err = s.Dial(t.Context(), "192.0.2.1:22")
	assert.ErrorIs(t, err, syscall.EACCES)
	assert.ErrorContains(t, err, "not to connect there")
	for _, none := range []string{"", "127.0.0.1", "no such name.invalid:1", "127.0.0.1:99999"} {
		_, err := s.Dial(t.Context(), none)
		assert.Error(t, err, none)
	}
	found, err := s.Measure(t.Context(), map[string]string{"vega": at, "presa": closed, "tramonta": "192.0.2.1:443"})
	require.NoError(t, err)
	assert.Empty(t, found["vega"].Failed)
	assert.Positive(t, found["vega"].Took)
	assert.Contains(t, found["presa"].Failed, "refused")
	assert.Contains(t, found["tramonta"].Failed, "not to connect")
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = s.Dial(ended, at)
	require.Error(t, err)

	leave()
	<-s.Gone()
	_, err = c.Read(got)
	require.Error(t, err, "what went through ends with the worker")
	_, err = s.Dial(t.Context(), at)
	assert.ErrorContains(t, err, "the worker is gone")
}

// TestWhoeverHasSaidAllIsAnsweredStill closes one direction and reads the other to its end.
func TestWhoeverHasSaidAllIsAnsweredStill(t *testing.T) {
	t.Parallel()
	s, _ := joined(t, nil)
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for i := range 200 {
			fmt.Fprintln(w, strings.Repeat("water ", 100), i)
		}
	}))
	defer page.Close()
	client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, address string) (net.Conn, error) { return s.Dial(ctx, address) }}}
	for range 3 {
		answer, err := client.Get(page.URL)
		require.NoError(t, err)
		data, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		assert.Equal(t, 200, bytes.Count(data, []byte("\n")))
	}
}

// TestAWorkerThatSaysNonsenseHarmsNobody has the other side of a session say what it should not.
func TestAWorkerThatSaysNonsenseHarmsNobody(t *testing.T) {
	t.Parallel()
	for name, says := range map[string]string{"nothing of HTTP": "hello\n", "another status": "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n", "nothing": "", "no mux": "HTTP/1.1 101 Switching Protocols\r\n\r\nrubbish that is none of it"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		go func() {
			c, err := l.Accept()
			if err == nil {
				_, _ = c.Read(make([]byte, 4096))
				_, _ = c.Write([]byte(says))
				c.Close()
			}
		}()
		c, err := upgrade.Ask(t.Context(), Protocol, "http://"+l.Addr().String(), nil, "x", nil)
		if err == nil {
			s, errAccept := Accept(c)
			require.NoError(t, errAccept)
			_, err = s.Dial(t.Context(), "127.0.0.1:1")
			s.Close()
		}
		assert.Error(t, err, name)
		l.Close()
	}
	for _, address := range []string{"", "ftp://x", "https://", "http://127.0.0.1:1"} {
		_, err := upgrade.Ask(t.Context(), Protocol, address, nil, "x", nil)
		assert.Error(t, err, address)
	}
}

// TestAStreamThatBeginsWithNonsenseIsEnded speaks to a worker as nobody should.
func TestAStreamThatBeginsWithNonsenseIsEnded(t *testing.T) {
	t.Parallel()
	s, _ := joined(t, nil)
	for _, line := range []string{"\n", "{\n", strings.Repeat("a", 2*mostLine) + "\n", `{"measure":{"a":"b"}}` + "\n"} {
		stream, err := s.mux.OpenStream(t.Context())
		require.NoError(t, err)
		_, err = stream.Write([]byte(line))
		require.NoError(t, err)
		require.NoError(t, stream.SetReadDeadline(time.Now().Add(20*time.Second)))
		_, err = io.ReadAll(stream)
		require.False(t, errors.Is(err, context.DeadlineExceeded), "%.20s: %v", line, err)
		stream.Close()
	}
	_, err := s.Dial(t.Context(), echoing(t))
	require.NoError(t, err, "it serves others still")
}
