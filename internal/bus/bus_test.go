package bus_test

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/bus"
	"andamio/internal/bus/bustest"
)

func anEvent(t *testing.T, id string) event.Event {
	t.Helper()
	e := event.New()
	e.SetID(id)
	e.SetType("example.andamio.run.stands")
	e.SetSource("andamio")
	e.SetSubject("río \"alto\"")
	e.SetTime(time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC))
	require.NoError(t, e.SetData(event.ApplicationJSON, map[string]string{"text": "nivel ñ"}))
	return e
}

// TestWhatIsPublishedIsKeptOnce publishes events in both modes, again and again, and while the server goes and comes back: a stream keeps each once.
func TestWhatIsPublishedIsKeptOnce(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	x.Stream(t, "floods", "ribera.>")
	to := bus.Server{URL: x.URL, User: bustest.User, Secret: bustest.Password}
	var p bus.Publisher
	defer p.Close()
	for range 3 {
		require.NoError(t, p.Publish(t.Context(), to, "ribera.run.stands", "all/run-1", anEvent(t, "run-1"), false))
		require.NoError(t, p.Publish(t.Context(), to, "ribera.run.stands", "all/run-2", anEvent(t, "run-2"), true))
	}
	x.Stop()
	gone, stop := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer stop()
	require.Error(t, p.Publish(gone, to, "ribera.run.stands", "all/run-3", anEvent(t, "run-3"), false), "the server is away")
	x.Again(t)
	require.Eventually(t, func() bool {
		return p.Publish(t.Context(), to, "ribera.run.stands", "all/run-3", anEvent(t, "run-3"), false) == nil
	}, 20*time.Second, 50*time.Millisecond, "the connection comes back")

	kept := x.Kept(t, "floods")
	require.Len(t, kept, 3)
	var e event.Event
	require.NoError(t, json.Unmarshal(kept[0].Data, &e))
	assert.Equal(t, "run-1", e.ID())
	assert.Equal(t, "application/cloudevents+json", kept[0].Header.Get("content-type"))
	assert.Equal(t, "run-2", kept[1].Header.Get("ce-id"))
	assert.Equal(t, "r%C3%ADo%20%22alto%22", kept[1].Header.Get("ce-subject"))
	assert.Equal(t, "application/json", kept[1].Header.Get("content-type"))
	assert.JSONEq(t, `{"text": "nivel ñ"}`, string(kept[1].Data))
}

// TestWhyNothingIsPublished says why, in each way in which it may not come about.
func TestWhyNothingIsPublished(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	x.Stream(t, "floods", "ribera.>")
	var p bus.Publisher
	defer p.Close()
	e := anEvent(t, "run-1")
	publish := func(s bus.Server, subject string) error {
		ctx, stop := context.WithTimeout(t.Context(), 2*time.Second)
		defer stop()
		return p.Publish(ctx, s, subject, "x", e, false)
	}
	me := bus.Server{URL: x.URL, User: bustest.User, Secret: bustest.Password}
	assert.ErrorIs(t, publish(me, "lake.run"), bus.ErrNoStream)
	assert.ErrorIs(t, publish(bus.Server{URL: x.URL, User: bustest.User, Secret: "lake"}, "ribera.run"), bus.ErrNotLet)
	assert.ErrorIs(t, publish(bus.Server{URL: x.URL, Secret: "token"}, "ribera.run"), bus.ErrNotLet)
	assert.ErrorIs(t, publish(bus.Server{URL: x.URL}, "ribera.run"), bus.ErrNotLet)
	assert.Error(t, publish(bus.Server{URL: x.URL, User: bustest.Reader, Secret: bustest.Password}, "ribera.run"), "who may not publish there")
	assert.Error(t, publish(bus.Server{URL: "nats://127.0.0.1:1"}, "ribera.run"), "nobody is there")
	assert.Error(t, p.Publish(t.Context(), me, "ribera.run", "x", event.New(), false), "it is no event")
	secured := me
	secured.URL = strings.Replace(x.URL, "nats://", "tls://", 1)
	assert.Error(t, publish(secured, "ribera.run"), "no password goes in clear where the conversation was to be encrypted")
	assert.Empty(t, x.Kept(t, "floods"))
	require.NoError(t, publish(me, "ribera.run"), "it was none of the events' fault")
}

// TestEachMessageIsHeardByOne has two listen by one name, one by another, and one who may not.
func TestEachMessageIsHeardByOne(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	me := bus.Server{URL: x.URL, User: bustest.User, Secret: bustest.Password}
	var mu sync.Mutex
	heard := map[string]map[string]int{}
	listen := func(name string) *bus.Hearing {
		h, err := bus.Hear(t.Context(), me, "ribera.notices", name, func(m bus.Message) {
			mu.Lock()
			defer mu.Unlock()
			if heard[name] == nil {
				heard[name] = map[string]int{}
			}
			heard[name][m.Last+" "+m.Header.Get("Andamio-Time")+" "+string(m.Body)]++
		}, func(error) {})
		require.NoError(t, err)
		return h
	}
	for _, name := range []string{"andamio", "andamio", "others"} {
		defer listen(name).Close()
	}
	conn := x.Conn(t)
	for range 20 {
		m := nats.NewMsg("ribera.notices.vega")
		m.Header.Set(http.CanonicalHeaderKey("andamio-time"), "7")
		m.Data = []byte("level")
		require.NoError(t, conn.PublishMsg(m))
	}
	require.NoError(t, conn.Publish("ribera.notices.vega.more", nil), "which is a part too deep")
	require.NoError(t, conn.Publish("ribera.notices", nil), "which is of no site")
	require.NoError(t, conn.Flush())
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return heard["andamio"]["vega 7 level"] == 20 && heard["others"]["vega 7 level"] == 20
	}, 20*time.Second, 10*time.Millisecond)
	mu.Lock()
	defer mu.Unlock()
	assert.Len(t, heard["andamio"], 1)
	h := listen("gone")
	h.Close()
	select {
	case <-h.Gone():
	case <-time.After(20 * time.Second):
		t.Error("it is gone once it is closed")
	}
	_, err := bus.Hear(t.Context(), bus.Server{URL: x.URL, User: bustest.Reader, Secret: bustest.Password}, "closed.notices", "andamio", func(bus.Message) {}, func(error) {})
	assert.ErrorIs(t, err, bus.ErrNotLet)
	_, err = bus.Hear(t.Context(), bus.Server{URL: "nats://127.0.0.1:1"}, "a", "b", func(bus.Message) {}, func(error) {})
	assert.Error(t, err)
}
