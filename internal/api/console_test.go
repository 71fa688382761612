package api

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/service/tokens"
)

// TestAConsoleIsJoined has what is typed reach a console and what it shows reach whoever types, in order and whole, until either ends.
func TestAConsoleIsJoined(t *testing.T) {
	t.Parallel()
	machines := make(chan net.Conn, 1)
	over := make(chan struct{}, 1)
	held, revoke := context.WithCancel(t.Context())
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, err := websocket.Accept(w, r, nil)
		if !assert.NoError(t, err) {
			return
		}
		machine, ours := net.Pipe()
		machines <- machine
		join(held, c, ours, ours)
		over <- struct{}{}
	}))
	defer s.Close()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	dial := func() (*websocket.Conn, net.Conn) {
		c, _, err := websocket.Dial(ctx, s.URL, nil)
		require.NoError(t, err)
		return c, <-machines
	}
	c, machine := dial()
	boot := strings.Repeat("a line of a system that starts\r\n", 4000)
	go func() {
		_, _ = io.WriteString(machine, boot)
	}()
	got := ""
	for len(got) < len(boot) {
		_, data, err := c.Read(ctx)
		require.NoError(t, err)
		got += string(data)
	}
	assert.Equal(t, boot, got)
	typed := make([]byte, 6)
	require.NoError(t, c.Write(ctx, websocket.MessageText, []byte("up")))
	require.NoError(t, c.Write(ctx, websocket.MessageBinary, []byte("date")))
	_, err := io.ReadFull(machine, typed)
	require.NoError(t, err)
	assert.Equal(t, "update", string(typed))
	require.NoError(t, machine.Close())
	_, _, err = c.Read(ctx)
	assert.Equal(t, websocket.StatusNormalClosure, websocket.CloseStatus(err), "the machine ended: %v", err)
	<-over

	c, machine = dial()
	require.NoError(t, machine.SetDeadline(time.Now().Add(time.Minute)))
	require.NoError(t, c.Close(websocket.StatusNormalClosure, ""))
	_, err = machine.Read(typed)
	require.ErrorIs(t, err, io.EOF, "whoever typed is gone, and so is the console")
	<-over

	c, machine = dial()
	require.NoError(t, machine.SetDeadline(time.Now().Add(time.Minute)))
	revoke() // as when the token does not hold any more
	_, err = machine.Read(typed)
	require.ErrorIs(t, err, io.EOF)
	_, _, err = c.Read(ctx)
	require.Error(t, err)
	<-over
}

// TestWhoGetsNoConsole is told why: they show no token, ask otherwise, for what is not there or may not be entered, or where a site has none.
func TestWhoGetsNoConsole(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	begun := c.ask("POST", "/runs?confirm=gauges", planOf(c, ""))
	require.Equal(t, http.StatusAccepted, begun.status, begun.body)
	heard(c, 1, "")
	reads := tokenOf(t, a, tokens.Wish{Name: "reader", Limit: guard.Limit{Rights: []guard.Right{guard.Read}}})
	for name, x := range map[string]struct {
		at, secret string
		plain      bool
		status     int
		says       string
	}{
		"no token":     {"/instances/gauge-1/console", "", false, http.StatusUnauthorized, "token"},
		"no socket":    {"/instances/gauge-1/console", c.secret, true, http.StatusUpgradeRequired, "Upgrade: websocket"},
		"no instance":  {"/instances/lake/console", c.secret, false, http.StatusNotFound, "lake"},
		"no right":     {"/instances/gauge-1/console", reads, false, http.StatusForbidden, "may not"},
		"no console":   {"/instances/gauge-1/console", c.secret, false, http.StatusUnprocessableEntity, "has no serial consoles"},
		"another path": {"/instances/gauge-1/more/console", c.secret, false, http.StatusNotFound, ""},
	} {
		header := http.Header{"Authorization": {"Bearer " + x.secret}}
		var resp *http.Response
		var err error
		if x.plain {
			got := c.ask("GET", x.at, "")
			assert.Equal(t, x.status, got.status, name)
			assert.Contains(t, got.body, x.says, name)
			continue
		}
		_, resp, err = websocket.Dial(t.Context(), c.at+x.at, &websocket.DialOptions{HTTPHeader: header})
		require.Error(t, err, name)
		require.NotNil(t, resp, "%s: %v", name, err)
		body, _ := io.ReadAll(resp.Body)
		assert.Equal(t, x.status, resp.StatusCode, "%s: %s", name, body)
		assert.Contains(t, string(body), x.says, name)
	}
}
