package api

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/guard"
	"andamio/internal/service/tokens"
)

// followed are the events that a program hears, as they come; what ends it is the end of the channel.
func followed(ctx context.Context, c client, path string) <-chan logged {
	c.t.Helper()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.at+path, nil)
	require.NoError(c.t, err)
	req.Header.Set("Authorization", "Bearer "+c.secret)
	resp, err := c.over.Do(req)
	require.NoError(c.t, err)
	require.Equal(c.t, http.StatusOK, resp.StatusCode)
	out := make(chan logged)
	go func() {
		defer resp.Body.Close()
		defer close(out)
		lines := bufio.NewScanner(resp.Body)
		for lines.Scan() {
			var e logged
			if data, is := strings.CutPrefix(lines.Text(), "data: "); is && json.Unmarshal([]byte(data), &e) == nil {
				select {
				case out <- e:
				case <-ctx.Done():
					return
				}
			}
		}
	}()
	return out
}

// next is the next event, which comes soon.
func next(t *testing.T, from <-chan logged) (e logged, more bool) {
	t.Helper()
	select {
	case e, more = <-from:
	case <-time.After(10 * time.Second):
		t.Fatal("nothing is heard")
	}
	return e, more
}

// TestTheLogIsFollowed has programs follow who does what: from the beginning and from now on, until their token is one no more.
func TestTheLogIsFollowed(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	made, err := a.MakeToken(t.Context(), tokens.Wish{Name: "follows"}, time.Now())
	require.NoError(t, err)
	last, err := a.LastOfTrail(t.Context(), 1)
	require.NoError(t, err)
	whole := followed(t.Context(), c.with(made.Secret), "/log/events")
	for n := int64(1); n <= last[0].Seq; n++ {
		e, more := next(t, whole)
		require.True(t, more)
		assert.Equal(t, number(n), e.ID)
		assert.Equal(t, "1.0", e.SpecVersion)
		assert.Equal(t, n, e.Data.Seq)
	}
	later := followed(t.Context(), c, "/log/events?after="+number(last[0].Seq))
	other, err := a.MakeToken(t.Context(), tokens.Wish{Name: "another"}, time.Now())
	require.NoError(t, err)
	for _, from := range []<-chan logged{whole, later} {
		e, more := next(t, from)
		require.True(t, more)
		assert.Equal(t, "example.andamio.log.make-token", e.Type)
		assert.NotContains(t, e.Data.Note, other.Secret)
	}
	require.NoError(t, a.RevokeToken(t.Context(), made.ID, time.Now()))
	ends := time.Now()
	for {
		if _, more := next(t, whole); !more {
			break
		}
	}
	assert.Less(t, time.Since(ends), 3*time.Second, "whose token is none any more is let go")
	e, more := next(t, later)
	require.True(t, more)
	assert.Equal(t, "example.andamio.log.revoke-token", e.Type, "others are not")
	bounded := c.with(tokenOf(t, a, tokens.Wish{Name: "bounded", Limit: guard.Limit{Scope: guard.Scope{Sites: []string{"vega"}}}}))
	assert.Equal(t, http.StatusForbidden, bounded.ask("GET", "/log/events", "").status)
}

// TestWhoeverMayLookNoMoreIsLetGo takes the rights of somebody who follows away, while their token holds.
func TestWhoeverMayLookNoMoreIsLetGo(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	directory := `version: andamio.teams/1
people: { ana: { user: ` + a.Actor().Name + ` }, eva: {} }
grants: [ { to: ana, role: engineer }, { to: eva, role: ROLE } ]
`
	set := func(role string) {
		t.Helper()
		_, err := a.As(app.Actor{Name: "ana", Way: app.ByCommand}).SetDirectory(t.Context(), []byte(strings.Replace(directory, "ROLE", role, 1)))
		require.NoError(t, err)
	}
	_, err := a.SetDirectory(t.Context(), []byte(strings.Replace(directory, "ROLE", "auditor", 1)))
	require.NoError(t, err)
	made, err := a.As(app.Actor{Name: "ana", Way: app.ByCommand}).MakeToken(t.Context(), tokens.Wish{Name: "evas", Of: "eva"}, time.Now())
	require.NoError(t, err)
	heard := followed(t.Context(), c.with(made.Secret), "/log/events")
	_, more := next(t, heard)
	require.True(t, more)
	set("requester")
	for more {
		_, more = next(t, heard)
	}
	assert.Equal(t, http.StatusForbidden, c.with(made.Secret).ask("GET", "/log/events", "").status)
	assert.Equal(t, http.StatusOK, c.with(made.Secret).ask("GET", "/tokens", "").status, "the token holds")
}

// TestAStreamOutlivesWhatAnOperationMayTake follows for longer than that, and than one may take for what it is sent, over HTTP/1.1 and 2.
func TestAStreamOutlivesWhatAnOperationMayTake(t *testing.T) {
	t.Parallel()
	limits := Usual
	limits.Patience, limits.Send = 200*time.Millisecond, 100*time.Millisecond
	a, s, c := opened(t, limits)
	over2 := httptest.NewUnstartedServer(s.Handler())
	over2.EnableHTTP2 = true
	over2.StartTLS()
	t.Cleanup(over2.Close)
	for proto, one := range map[int]client{1: c, 2: {t, over2.URL + "/" + Version, c.secret, over2.Client()}} {
		last, err := a.LastOfTrail(t.Context(), 1)
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		later := followed(ctx, one, "/log/events?after="+number(last[0].Seq-1))
		_, more := next(t, later)
		require.True(t, more)
		select {
		case _, more := <-later:
			t.Fatalf("over HTTP/%d it ended, or heard what was not: %v", proto, more)
		case <-time.After(5 * limits.Patience):
		}
		_, err = a.MakeToken(t.Context(), tokens.Wish{Name: "later"}, time.Now())
		require.NoError(t, err)
		e, more := next(t, later)
		require.True(t, more, "over HTTP/%d", proto)
		assert.Equal(t, "example.andamio.log.make-token", e.Type)
		cancel()
	}
}

// TestWhoeverIsFarBehindReadsWhatTheyLack has more be noted at once than is looked back.
func TestWhoeverIsFarBehindReadsWhatTheyLack(t *testing.T) {
	last := int64(-1)
	entries := func(from, to int64) (newest []app.Entry) {
		for n := to; n >= from; n-- {
			newest = append(newest, app.Entry{Seq: n})
		}
		return newest
	}
	h := &hearing{changed: make(chan struct{})}
	f, gap := newer(entries(3, 5), &last)
	require.False(t, gap)
	h.take(f, h.dropping(gap))
	_, upTo, behind, _, _, _ := h.since(0)
	assert.True(t, behind)
	assert.EqualValues(t, 2, upTo, "what is before is read")
	f, gap = newer(entries(4, 6), &last)
	require.False(t, gap)
	assert.Equal(t, []int64{6}, f.seqs)
	h.take(f, h.dropping(gap))
	f, _ = newer(entries(4, 6), &last)
	assert.Nil(t, f)
	f, gap = newer(entries(9, 10), &last)
	require.True(t, gap)
	h.take(f, h.dropping(gap))
	_, upTo, behind, _, _, _ = h.since(6)
	assert.True(t, behind)
	assert.EqualValues(t, 8, upTo)
	data, upTo, behind, _, _, _ := h.since(8)
	assert.False(t, behind)
	assert.EqualValues(t, 10, upTo)
	assert.Len(t, data, 1)
}
