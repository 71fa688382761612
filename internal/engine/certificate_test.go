package engine

import (
	"net"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan"
)

func TestACertificateIsAskedForWhoeverVouchesForIt(t *testing.T) {
	s := httptest.NewTLSServer(http.NotFoundHandler())
	defer s.Close()
	ends, err := Certificate(t.Context(), s.Listener.Addr().String())
	require.NoError(t, err)
	assert.Equal(t, s.Certificate().NotAfter, ends)
	plain := httptest.NewServer(http.NotFoundHandler())
	_, err = Certificate(t.Context(), plain.Listener.Addr().String())
	assert.Error(t, err, "it speaks no TLS")
	where := plain.Listener.Addr().String()
	plain.Close()
	_, err = Certificate(t.Context(), where)
	assert.Error(t, err)
	_, err = Certificate(t.Context(), "nowhere")
	assert.Error(t, err)
}

// TestAnAnswerSaysWhetherSomebodyWasReached holds that who answers wrongly is told from who does not answer.
func TestAnAnswerSaysWhetherSomebodyWasReached(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/busy" {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		_, _ = w.Write([]byte("the map"))
	}))
	where := s.Listener.Addr().String()
	ask := func(c plan.Condition) (out [2]bool) {
		a := Probe(t.Context(), c, where)
		assert.NotEmpty(t, a.Said)
		assert.Positive(t, a.Took)
		return [2]bool{a.Good, a.Reached}
	}
	page := plan.Condition{Kind: plan.CheckHTTP, Path: "/", Contains: "map"}
	assert.Equal(t, [2]bool{true, true}, ask(page))
	assert.Equal(t, [2]bool{false, true}, ask(plan.Condition{Kind: plan.CheckHTTP, Path: "/busy"}))
	assert.Equal(t, [2]bool{false, true}, ask(plan.Condition{Kind: plan.CheckHTTP, Path: "/", Contains: "gauges"}))
	assert.Equal(t, [2]bool{true, true}, ask(plan.Condition{Kind: plan.CheckHTTP, Path: "/busy", Status: http.StatusServiceUnavailable}))
	assert.Equal(t, [2]bool{true, true}, ask(plan.Condition{Kind: plan.CheckTCP}))
	s.Close()
	assert.Equal(t, [2]bool{false, false}, ask(page))
	assert.Equal(t, [2]bool{false, false}, ask(plan.Condition{Kind: plan.CheckTCP}))
	cut, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer cut.Close()
	go func() {
		for {
			conn, err := cut.Accept()
			if err != nil {
				return
			}
			_, _ = conn.Write([]byte("HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\nthe"))
			conn.Close()
		}
	}()
	where = cut.Addr().String()
	assert.Equal(t, [2]bool{false, true}, ask(page), "it broke off")
}
