package notice

import (
	"io"
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

// TestWhatIsSent looks at every part of what is posted.
func TestWhatIsSent(t *testing.T) {
	var got *http.Request
	var body []byte
	status := http.StatusOK
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r
		body, _ = io.ReadAll(r.Body)
		w.WriteHeader(status)
	}))
	t.Cleanup(s.Close)
	e, err := New(TypeChanged, "vega", "", now, Changed{ID: "7", Sequence: 3})
	require.NoError(t, err)
	assert.Empty(t, e.Subject())
	assert.Len(t, e.ID(), 26)
	other, err := New(TypeChanged, "vega", "a", now, nil)
	require.NoError(t, err)
	assert.NotEqual(t, e.ID(), other.ID(), "an id of its own")
	assert.Equal(t, []any{TypeChanged, "vega", "a", now}, []any{other.Type(), other.Source(), other.Subject(), other.Time()})
	require.NoError(t, Send(t.Context(), s.Client(), s.URL, "sesame", e, now))
	assert.Equal(t, http.MethodPost, got.Method)
	assert.Equal(t, "application/cloudevents+json", got.Header.Get("Content-Type"))
	assert.Equal(t, strconv.FormatInt(now.Unix(), 10), got.Header.Get(HeaderTime))
	assert.Equal(t, Sign("sesame", now, body), got.Header.Get(HeaderSignature))
	assert.NotContains(t, string(body), "sesame")
	for code, fails := range map[int]bool{200: false, 204: false, 299: false, 300: true, 400: true, 500: true} {
		status = code
		err := Send(t.Context(), s.Client(), s.URL, "sesame", e, now)
		assert.Equal(t, fails, err != nil, code)
		if fails {
			assert.ErrorContains(t, err, s.URL+" answered "+strconv.Itoa(code))
		}
	}
	_, err = New(TypeChanged, "vega", "a", now, make(chan int))
	require.Error(t, err, "what cannot be written")
	require.Error(t, Send(t.Context(), s.Client(), "http://\x00", "sesame", e, now))
	require.Error(t, Send(t.Context(), s.Client(), "http://127.0.0.1:1", "sesame", e, now))
	_, err = Post(t.Context(), s.Client(), s.URL, "sesame", event.Event{}, now)
	require.Error(t, err, "an event without anything")
}

// TestASignatureIsOfTheTimeAndTheBody is that of the description: a sender that nobody here wrote makes the same.
func TestASignatureIsOfTheTimeAndTheBody(t *testing.T) {
	// printf '%s' '1700000000.{}' | openssl dgst -sha256 -hmac sesame
	assert.Equal(t, "sha256=d3abd3f5600670832b9e0ff7116224a4ba4b043d1ef3a02836e89810336ec0cc", Sign("sesame", time.Unix(1700000000, 0), []byte("{}")))
}

// TestTheEdgesOfWhatIsHeard asks at both sides of each bound.
func TestTheEdgesOfWhatIsHeard(t *testing.T) {
	heard := 0
	r := &Receiver{Secret: "sesame", Hear: func(event.Event) { heard++ }, Now: func() time.Time { return now }}
	post := func(body string, at time.Time) int {
		req := httptest.NewRequest(http.MethodPost, "/", strings.NewReader(body))
		req.Header.Set("Content-Type", structured)
		req.Header.Set(HeaderTime, strconv.FormatInt(at.Unix(), 10))
		req.Header.Set(HeaderSignature, Sign("sesame", at, []byte(body)))
		w := httptest.NewRecorder()
		r.ServeHTTP(w, req)
		return w.Code
	}
	text := func(id string, pad int) string {
		head := `{"specversion":"1.0","type":"x","source":"vega","id":"` + id + `"`
		return head + `,"data":"` + strings.Repeat("x", max(pad-len(head)-10, 0)) + `"}`
	}
	assert.Equal(t, 204, post(text("old", 0), now.Add(-MaxAge)))
	assert.Equal(t, 401, post(text("older", 0), now.Add(-MaxAge-time.Second)))
	assert.Equal(t, 204, post(text("early", 0), now.Add(MaxAge)))
	assert.Equal(t, 401, post(text("earlier", 0), now.Add(MaxAge+time.Second)))
	large := text("large", MaxBody)
	require.Len(t, large, MaxBody+1)
	assert.Equal(t, 413, post(large, now))
	assert.Equal(t, 204, post(text("large", MaxBody-1), now))
	assert.Equal(t, 204, post(strings.Replace(text("old", 0), "vega", "presa", 1), now), "another's of the same id")
	assert.Equal(t, 409, post(text("old", 0), now))
	assert.Equal(t, 400, post(`{"specversion":"1.0","type":"x","source":"vega"}`, now), "without an id")
	assert.Equal(t, 4, heard)
	r.Now = nil
	assert.Equal(t, 204, post(text("now", 0), time.Now()), "by the real clock")
	assert.Equal(t, 401, post(text("then", 0), now))
}

// TestWhatIsForgottenCannotComeAgain keeps what was heard as long as its signature may hold: one that was signed ahead of time is heard once all the same.
func TestWhatIsForgottenCannotComeAgain(t *testing.T) {
	r := &Receiver{}
	assert.True(t, r.first("a", now))
	assert.True(t, r.first("b", now.Add(MaxAge+1)), "swept, and a is kept")
	assert.Len(t, r.heard, 2)
	assert.False(t, r.first("a", now.Add(2*MaxAge)), "signed ahead by as much as may be, it holds until now")
	assert.True(t, r.first("c", now.Add(2*MaxAge+2)))
	assert.Len(t, r.heard, 2, "a is forgotten")
	assert.True(t, r.first("d", now.Add(2*MaxAge+3)))
	assert.Len(t, r.heard, 3, "nothing is swept at every notice")
}
