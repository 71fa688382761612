package notice

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsSentInEitherModeIsHeard sends events in both modes to a receiver of our own, with attributes that no header field has as they are.
func TestWhatIsSentInEitherModeIsHeard(t *testing.T) {
	var heard []event.Event
	s := httptest.NewServer(&Receiver{Secret: "river", Hear: func(e event.Event) { heard = append(heard, e) }})
	defer s.Close()
	e := event.New()
	e.SetID("log-7")
	e.SetType("example.andamio.log.noted")
	e.SetSource("andamio")
	e.SetSubject("la presa \"caf\u00e9\" 100 %\u00f1 \U0001F30A")
	e.SetTime(time.Now().UTC().Truncate(time.Microsecond))
	require.NoError(t, e.SetData(event.ApplicationJSON, map[string]any{"text": "level \u00f1"}))
	for _, post := range []func() (*http.Response, error){
		func() (*http.Response, error) { return Post(t.Context(), s.Client(), s.URL, "river", e, time.Now()) },
		func() (*http.Response, error) {
			again := e.Clone()
			again.SetID("log-8")
			return PostBinary(t.Context(), s.Client(), s.URL, "river", again, time.Now())
		},
	} {
		answer, err := post()
		require.NoError(t, err)
		words, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		require.Less(t, answer.StatusCode, 300, string(words))
	}
	require.Len(t, heard, 2)
	for i, id := range []string{"log-7", "log-8"} {
		assert.Equal(t, id, heard[i].ID())
		assert.Equal(t, e.Subject(), heard[i].Subject())
		assert.Equal(t, e.Type(), heard[i].Type())
		assert.True(t, e.Time().Equal(heard[i].Time()))
		assert.JSONEq(t, string(e.Data()), string(heard[i].Data()))
	}
	_, err := PostBinary(t.Context(), s.Client(), s.URL, "river", event.New(), time.Now())
	assert.Error(t, err, "an event without what it must have")
	answer, err := PostBinary(t.Context(), s.Client(), s.URL, "lake", e, time.Now())
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
}

func TestAServiceIsAskedWhetherEventsMayBeSent(t *testing.T) {
	for _, c := range []struct {
		status  int
		allowed string
		no      bool
		err     bool
	}{{200, "*", false, false}, {204, "Andamio", false, false}, {200, "andamio", false, false}, {200, "", true, true}, {200, "others.test", true, true}, {405, "", true, true}, {404, "*", true, true}, {503, "", false, true}, {429, "*", false, true}} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, http.MethodOptions, r.Method)
			assert.Equal(t, "andamio", r.Header.Get("WebHook-Request-Origin"))
			if c.allowed != "" {
				w.Header().Set("WebHook-Allowed-Origin", c.allowed)
			}
			w.WriteHeader(c.status)
		}))
		err := Handshake(t.Context(), s.Client(), s.URL, "andamio")
		s.Close()
		assert.Equal(t, c.err, err != nil, "%+v: %v", c, err)
		if c.no {
			assert.ErrorIs(t, err, ErrNotAllowed)
		} else {
			assert.NotErrorIs(t, err, ErrNotAllowed)
		}
	}
	own := httptest.NewServer(&Receiver{Secret: "x", Hear: func(event.Event) {}})
	defer own.Close()
	assert.NoError(t, Handshake(t.Context(), own.Client(), own.URL, "andamio"), "as our own receiver answers")
	assert.Error(t, Handshake(t.Context(), own.Client(), "http://127.0.0.1:1", "andamio"))
}
