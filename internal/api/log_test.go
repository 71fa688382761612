package api

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
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
	resp, err := http.DefaultClient.Do(req)
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

// TestAStreamOutlivesWhatAnOperationMayTake follows for longer than that.
func TestAStreamOutlivesWhatAnOperationMayTake(t *testing.T) {
	t.Parallel()
	limits := Usual
	limits.Patience = 200 * time.Millisecond
	a, _, c := opened(t, limits)
	last, err := a.LastOfTrail(t.Context(), 1)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	later := followed(ctx, c, "/log/events?after="+number(last[0].Seq))
	select {
	case _, more := <-later:
		t.Fatalf("it ended, or heard what was not: %v", more)
	case <-time.After(5 * limits.Patience):
	}
	_, err = a.MakeToken(t.Context(), tokens.Wish{Name: "later"}, time.Now())
	require.NoError(t, err)
	e, more := next(t, later)
	require.True(t, more)
	assert.Equal(t, "example.andamio.log.make-token", e.Type)
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
	h.take(f, gap)
	_, upTo, behind, _, _, _ := h.since(0)
	assert.True(t, behind)
	assert.EqualValues(t, 2, upTo, "what is before is read")
	f, gap = newer(entries(4, 6), &last)
	require.False(t, gap)
	assert.Equal(t, []int64{6}, f.seqs)
	h.take(f, gap)
	f, _ = newer(entries(4, 6), &last)
	assert.Nil(t, f)
	f, gap = newer(entries(9, 10), &last)
	require.True(t, gap)
	h.take(f, gap)
	_, upTo, behind, _, _, _ = h.since(6)
	assert.True(t, behind)
	assert.EqualValues(t, 8, upTo)
	data, upTo, behind, _, _, _ := h.since(8)
	assert.False(t, behind)
	assert.EqualValues(t, 10, upTo)
	assert.Len(t, data, 1)
}
