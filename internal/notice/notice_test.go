package notice

import (
	"bytes"
	"context"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func receiver(t *testing.T) (*Receiver, *httptest.Server, *[]string) {
	var heard []string
	r := &Receiver{Secret: "sesame", Hear: func(e event.Event) { heard = append(heard, e.Subject()) }, Now: func() time.Time { return now }}
	s := httptest.NewServer(r)
	t.Cleanup(s.Close)
	return r, s, &heard
}

func TestANoticeIsHeardOnce(t *testing.T) {
	_, s, heard := receiver(t)
	e, err := New(TypeChanged, "vega", "compute/7", now, Changed{Kind: "instance", ID: "7", State: "active"})
	require.NoError(t, err)
	require.NoError(t, Send(context.Background(), s.Client(), s.URL, "sesame", e, now))
	assert.ErrorContains(t, Send(context.Background(), s.Client(), s.URL, "sesame", e, now.Add(time.Second)), "409", "the same again, signed anew")
	assert.Equal(t, []string{"compute/7"}, *heard)
	var c Changed
	require.NoError(t, e.DataAs(&c))
	assert.Equal(t, "7", c.ID)
}

func TestWhatIsNotInOrderIsRefused(t *testing.T) {
	_, s, heard := receiver(t)
	e, err := New(TypeChanged, "vega", "x", now, Changed{})
	require.NoError(t, err)
	body, err := e.MarshalJSON()
	require.NoError(t, err)
	post := func(body []byte, at, signature string) int {
		req, err := http.NewRequest(http.MethodPost, s.URL, bytes.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", structured)
		req.Header.Set(HeaderTime, at)
		req.Header.Set(HeaderSignature, signature)
		resp, err := s.Client().Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}
	stamp := func(t time.Time) string { return strconv.FormatInt(t.Unix(), 10) }
	old, early := now.Add(-MaxAge-time.Second), now.Add(MaxAge+time.Second)
	big := []byte(strings.Repeat("x", MaxBody+1))
	for name, c := range map[string]struct {
		body []byte
		at   string
		sign string
		want int
	}{
		"another secret":       {body, stamp(now), Sign("other", now, body), 401},
		"no signature":         {body, stamp(now), "", 401},
		"a bare digest":        {body, stamp(now), strings.TrimPrefix(Sign("sesame", now, body), scheme), 401},
		"no time":              {body, "", Sign("sesame", now, body), 401},
		"signed long ago":      {body, stamp(old), Sign("sesame", old, body), 401},
		"signed in the future": {body, stamp(early), Sign("sesame", early, body), 401},
		"an old signature":     {body, stamp(now), Sign("sesame", old, body), 401},
		"another body":         {append(bytes.Clone(body), ' '), stamp(now), Sign("sesame", now, body), 401},
		"too large":            {big, stamp(now), Sign("sesame", now, big), 413},
		"no event":             {[]byte("{}"), stamp(now), Sign("sesame", now, []byte("{}")), 400},
		"no JSON":              {[]byte("hello"), stamp(now), Sign("sesame", now, []byte("hello")), 400},
	} {
		assert.Equal(t, c.want, post(c.body, c.at, c.sign), name)
	}
	assert.Empty(t, *heard)
	resp, err := s.Client().Get(s.URL)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusMethodNotAllowed, resp.StatusCode)
}

func TestOldNoticesAreForgotten(t *testing.T) {
	r, _, _ := receiver(t)
	assert.True(t, r.first("a", now))
	assert.False(t, r.first("a", now.Add(MaxAge)))
	assert.True(t, r.first("b", now.Add(3*MaxAge)))
	assert.Len(t, r.heard, 1, "a is older than any notice may be")
}
