package api

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhoeverComesTooOftenWaits bounds strangers by their address and tokens by themselves, and keeps nobody out for another.
func TestWhoeverComesTooOftenWaits(t *testing.T) {
	t.Parallel()
	limits := Usual
	limits.PerSecond, limits.Burst, limits.Strangers = 1, 20, 5
	_, _, c := opened(t, limits)
	statuses := map[int]int{}
	for range 12 {
		statuses[c.with("x").ask("GET", "/sites", "").status]++
	}
	assert.Equal(t, map[int]int{http.StatusUnauthorized: 5, http.StatusTooManyRequests: 7}, statuses)
	assert.Equal(t, http.StatusOK, c.ask("GET", "/sites", "").status, "a token holds for whom it is of")
	statuses = map[int]int{}
	for range 40 {
		got := c.ask("GET", "/sites", "")
		statuses[got.status]++
		if got.status == http.StatusTooManyRequests {
			assert.Equal(t, "1", got.header.Get("Retry-After"))
		}
	}
	assert.InDelta(t, 19, statuses[http.StatusOK], 4)
	assert.Equal(t, 40, statuses[http.StatusOK]+statuses[http.StatusTooManyRequests])
}

// TestAGateForgetsThoseWhoStayAway bounds what is known of who came.
func TestAGateForgetsThoseWhoStayAway(t *testing.T) {
	g, now := newGate(1, 2), time.Now()
	for i := range mostAtGate {
		require.True(t, g.take(fmt.Sprint(i), now))
	}
	assert.Len(t, g.each, mostAtGate)
	require.True(t, g.take("late", now.Add(time.Minute)))
	assert.Len(t, g.each, 1)
	require.True(t, g.take("late", now.Add(time.Minute)))
	require.False(t, g.take("late", now.Add(time.Minute)))
}

// TestNobodyHoldsAConnection has a request be sent that never ends.
func TestNobodyHoldsAConnection(t *testing.T) {
	t.Parallel()
	limits := Usual
	limits.Patience = 300 * time.Millisecond
	_, _, c := opened(t, limits)
	conn, err := net.DialTimeout("tcp", strings.TrimSuffix(strings.TrimPrefix(c.at, "http://"), "/"+Version), 10*time.Second)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
	_, err = fmt.Fprintf(conn, "POST /v1/runs HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{", c.secret)
	require.NoError(t, err)
	line, err := bufio.NewReader(conn).ReadString('\n')
	require.NoError(t, err)
	assert.Regexp(t, `^HTTP/1.1 4\d\d`, line)
}
