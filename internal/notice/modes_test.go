package notice

import (
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

// TestNoticesAreHeardInEveryMode posts events in each of the modes, and what is none, or is not signed whole.
func TestNoticesAreHeardInEveryMode(t *testing.T) {
	var heard []event.Event
	r := &Receiver{Secret: "sesame", Hear: func(e event.Event) { heard = append(heard, e) }, Now: func() time.Time { return now }}
	post := func(body string, change func(h http.Header), fields ...string) int {
		heard = nil
		req := httptest.NewRequest(http.MethodPost, "/", strings.NewReader(body))
		for i := 0; i < len(fields); i += 2 {
			req.Header.Set(fields[i], fields[i+1])
		}
		req.Header.Set(HeaderTime, strconv.FormatInt(now.Unix(), 10))
		req.Header.Set(HeaderSignature, Sign("sesame", now, signed(req.Header, []byte(body))))
		if change != nil {
			change(req.Header)
		}
		w := httptest.NewRecorder()
		r.ServeHTTP(w, req)
		return w.Code
	}
	one := func(id, version string) string {
		return `{"specversion":"` + version + `","type":"x","source":"vega","id":"` + id + `","data":{"level":1.1}}`
	}
	assert.Equal(t, 204, post(one("a", "1.0"), nil, "Content-Type", "application/cloudevents+json; charset=utf-8"))
	assert.Equal(t, 400, post(one("b", "0.3"), nil, "Content-Type", structured))
	assert.Equal(t, 415, post(one("c", "1.0"), nil, "Content-Type", "application/json"))
	assert.Equal(t, 415, post(one("c", "1.0"), nil))
	assert.Equal(t, 415, post("<event/>", nil, "Content-Type", "application/cloudevents+xml"))

	assert.Equal(t, 204, post("["+one("d", "1.0")+","+one("e", "1.0")+"]", nil, "Content-Type", batched))
	require.Len(t, heard, 2)
	assert.Equal(t, 204, post("["+one("e", "1.0")+","+one("f", "1.0")+"]", nil, "Content-Type", batched))
	require.Len(t, heard, 1, "each is heard once")
	assert.Equal(t, 409, post("["+one("e", "1.0")+"]", nil, "Content-Type", batched))
	assert.Equal(t, 400, post("["+one("g", "1.0")+","+one("h", "0.3")+"]", nil, "Content-Type", batched))
	assert.Empty(t, heard, "all or none")
	assert.Equal(t, 204, post("[]", nil, "Content-Type", batched))

	fields := []string{"ce-specversion", "1.0", "ce-type", "x", "ce-source", "/vega", "ce-id", "i", "ce-subject", "R%C3%ADo %22alto%22", "ce-time", "2026-05-04T12:00:00Z", "ce-basin", "ribera", "Content-Type", "application/json"}
	assert.Equal(t, 204, post(`{"level":1.1}`, nil, fields...))
	require.Len(t, heard, 1)
	assert.Equal(t, []string{"/vega", "i", `Río "alto"`, "ribera"}, []string{heard[0].Source(), heard[0].ID(), heard[0].Subject(), heard[0].Extensions()["basin"].(string)})
	var data struct{ Level float64 }
	require.NoError(t, heard[0].DataAs(&data))
	assert.InDelta(t, 1.1, data.Level, 0)
	assert.Equal(t, 409, post(`{"level":1.1}`, nil, fields...))
	assert.Equal(t, 401, post(`{"level":1.1}`, func(h http.Header) { h.Set("ce-id", "j") }, fields...), "attributes are signed too")
	assert.Equal(t, 401, post(`{"level":1.1}`, func(h http.Header) { h.Set("ce-more", "j") }, fields...))
	fields[7] = "k"
	assert.Equal(t, 400, post("{}", nil, append(fields, "ce-specversion", "0.3")...))
	assert.Equal(t, 400, post("{}", nil, "ce-specversion", "1.0", "ce-type", "x", "Content-Type", "application/json"), "without a source")
	assert.Equal(t, 204, post("", nil, "ce-specversion", "1.0", "ce-type", "x", "ce-source", "/vega", "ce-id", "l"), "data there need not be")
}

// TestWhetherNoticesMayBePostedIsAnswered shakes hands as others do before they post.
func TestWhetherNoticesMayBePostedIsAnswered(t *testing.T) {
	r := &Receiver{Secret: "sesame", Hear: func(event.Event) { t.Error("nothing was posted") }}
	ask := func(method string, fields ...string) *httptest.ResponseRecorder {
		req := httptest.NewRequest(method, "/", http.NoBody)
		for i := 0; i < len(fields); i += 2 {
			req.Header.Set(fields[i], fields[i+1])
		}
		w := httptest.NewRecorder()
		r.ServeHTTP(w, req)
		return w
	}
	w := ask(http.MethodOptions, "WebHook-Request-Origin", "events.ribera.test", "WebHook-Request-Rate", "120")
	assert.Equal(t, []any{200, "*", "*", "POST, OPTIONS"}, []any{w.Code, w.Header().Get("WebHook-Allowed-Origin"), w.Header().Get("WebHook-Allowed-Rate"), w.Header().Get("Allow")})
	w = ask(http.MethodOptions, "WebHook-Request-Origin", "events.ribera.test")
	assert.Empty(t, w.Header().Get("WebHook-Allowed-Rate"), "which was not asked for")
	w = ask(http.MethodOptions)
	assert.Equal(t, 204, w.Code)
	w = ask(http.MethodGet)
	assert.Equal(t, []any{405, "POST, OPTIONS"}, []any{w.Code, w.Header().Get("Allow")})
}
