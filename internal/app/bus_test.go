package app

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/bus/bustest"
	"andamio/internal/core/fault"
	"andamio/internal/core/hook"
	"andamio/internal/notice"
	"andamio/internal/sandbox"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// TestWhatWaitsIsSentTogether has a service that takes batches hear each entry of the log once, in far fewer requests than there are entries; one event that it does not want keeps no other
// back, and what is larger than a request may be goes in several.
func TestWhatWaitsIsSentTogether(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"channel": "s3cret"}))
	var mu sync.Mutex
	heard := map[string]int{}
	requests, largest, down := 0, 0, 2
	r := &notice.Receiver{Secret: "s3cret", Hear: func(e event.Event) { heard[e.ID()]++ }}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		body, err := io.ReadAll(req.Body)
		assert.NoError(t, err)
		if down > 0 {
			down--
			http.Error(w, "later", http.StatusServiceUnavailable)
			return
		}
		requests, largest = requests+1, max(largest, len(body))
		assert.Equal(t, "application/cloudevents-batch+json", req.Header.Get("Content-Type"))
		if strings.Contains(string(body), "a secret nobody wants") {
			http.Error(w, "not that one", http.StatusUnprocessableEntity)
			return
		}
		if status, err := r.Take(req.Header, body); err != nil {
			http.Error(w, err.Error(), status)
		}
	}))
	defer s.Close()
	_, err := a.SetHooks(ctx, fmt.Appendf(nil, `
version: andamio.hooks/1
hooks: [{ hook: all, on: [log.noted], when: 'event.act == "keep-secret"', call: "%s", secret: channel, mode: batched }]
`, s.URL))
	require.NoError(t, err)
	const many = 130
	for i := range many {
		require.NoError(t, a.SetSecrets(ctx, map[string]string{fmt.Sprintf("beacon %d %s", i, strings.Repeat("x", 900)): "green"}))
	}
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"a secret nobody wants": "x"}))
	told(t, a, time.Now())
	told(t, a, time.Now().Add(time.Minute)) // what was not to be had is tried again
	mu.Lock()
	defer mu.Unlock()
	assert.Len(t, heard, many)
	for id, times := range heard {
		assert.Equal(t, 1, times, id)
	}
	assert.LessOrEqual(t, largest, notice.MaxBody)
	assert.Less(t, requests, 120, "those that were sent with what is not wanted go alone, and no others")
	all, err := a.Deliveries(ctx, 2*many)
	require.NoError(t, err)
	require.Len(t, all, many+1)
	for _, d := range all {
		if strings.Contains(d.Event.Name, "nobody wants") {
			assert.Equal(t, store.DeliveryFailed, d.State)
			assert.Contains(t, d.Note, "not that one")
			continue
		}
		assert.Equal(t, store.DeliverySent, d.State, d.Note)
		assert.Empty(t, d.Note)
	}
}

// TestWhatHappensIsOnTheBus has a stream of a real server keep each entry of the log once, though it was away at first and several see to it.
func TestWhatHappensIsOnTheBus(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	x.Stream(t, "floods", "ribera.>")
	a, _ := aWorkspace(t, 0.003)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"bus": bustest.Password, "wrong": "lake"}))
	_, err := a.SetHooks(ctx, fmt.Appendf(nil, `
version: andamio.hooks/1
hooks:
- { hook: all, on: [log.noted], publish: { server: "%[1]s", subject: ribera.andamio, user: andamio }, secret: bus }
- { hook: keys, on: [log.noted], when: 'event.act == "keep-secret"', publish: { server: "%[1]s", subject: ribera.keys, user: andamio }, secret: bus, mode: binary }
- { hook: nowhere, on: [log.noted], publish: { server: "%[1]s", subject: lake, user: andamio }, secret: bus }
- { hook: stranger, on: [log.noted], publish: { server: "%[1]s", subject: ribera.andamio, user: andamio }, secret: wrong }
`, x.URL))
	require.NoError(t, err)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"beacon": "green"}))
	x.Stop()
	told(t, a, time.Now())
	x.Again(t)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"lamp": "red"}))
	var group sync.WaitGroup
	for range 3 {
		b := another(t, a)
		group.Go(func() { told(t, b, time.Now().Add(time.Minute)) })
	}
	group.Wait()
	kept := map[string]int{}
	for _, m := range x.Kept(t, "floods") {
		assert.NotContains(t, string(m.Data), "green")
		kept[m.Subject]++
		var e event.Event
		if m.Subject == "ribera.andamio.log.noted" {
			require.NoError(t, json.Unmarshal(m.Data, &e))
			assert.Equal(t, "example.andamio.log.noted", e.Type())
			continue
		}
		assert.Equal(t, "example.andamio.log.noted", m.Header.Get("ce-type"))
		var body hook.Event
		require.NoError(t, json.Unmarshal(m.Data, &body))
		assert.Equal(t, "keep-secret", body.Act)
	}
	assert.Equal(t, 2, kept["ribera.keys.log.noted"], kept)
	assert.GreaterOrEqual(t, kept["ribera.andamio.log.noted"], 2)
	all, err := a.Deliveries(ctx, 100)
	require.NoError(t, err)
	says := map[string]string{"nowhere": "no stream there keeps", "stranger": "does not let us"}
	for _, d := range all {
		if want, is := says[d.Hook]; is {
			assert.Equal(t, store.DeliveryWaiting, d.State)
			assert.Contains(t, d.Note, want, d.Hook)
			assert.NotContains(t, d.Note, "lake\"")
			continue
		}
		assert.Equal(t, store.DeliverySent, d.State, d.Note)
	}
}

// TestNoticesComeOverTheBus has a site's things looked at because of what is published on a bus: signed, once, and about a site that there is. The bus goes and comes back meanwhile.
func TestNoticesComeOverTheBus(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	a, box, _ := deployed(t)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"bus": bustest.Password}))
	b := &hook.Bus{Server: x.URL, Subject: "ribera.notices", User: bustest.User}
	require.NoError(t, a.SetHearing(ctx, workspace.Hearing{Bus: b, Secret: "bus"}))
	secret, err := a.MakeSenderSecret(ctx, "vega")
	require.NoError(t, err)
	l, err := a.Listen(ctx, Listening{Address: "127.0.0.1:0"})
	require.NoError(t, err)
	held := slices.DeleteFunc(box.Holds(), func(h sandbox.Held) bool { return h.Site != "vega" || h.Term != "compute" })
	require.NotEmpty(t, held)
	looks := l.Looks.Load()
	publish := func(conn *nats.Conn, secret, subject, id string) {
		e, err := notice.New(notice.TypeChanged, "/racks/7", id, time.Now(), notice.Changed{Kind: "compute", ID: held[0].ID})
		require.NoError(t, err)
		e.SetID(id)
		body, err := json.Marshal(e)
		require.NoError(t, err)
		m, now := nats.NewMsg(subject), time.Now()
		m.Header.Set("content-type", "application/cloudevents+json")
		m.Header.Set(notice.HeaderTime, strconv.FormatInt(now.Unix(), 10))
		m.Header.Set(notice.HeaderSignature, notice.Sign(secret, now, body))
		m.Data = body
		require.NoError(t, conn.PublishMsg(m))
		require.NoError(t, conn.Flush())
	}
	comes := func(conn *nats.Conn) {
		t.Helper()
		before := l.Taken.Load()
		require.Eventually(t, func() bool {
			publish(conn, secret, "ribera.notices.vega", rand.Text())
			return l.Taken.Load() > before
		}, 40*time.Second, 100*time.Millisecond)
	}
	require.Eventually(t, l.OnBus.Load, 20*time.Second, 10*time.Millisecond)
	conn, taken := x.Conn(t), l.Taken.Load()
	publish(conn, "lake", "ribera.notices.vega", "forged")
	publish(conn, secret, "ribera.notices.presa", "of another site")
	publish(conn, secret, "ribera.notices.mars", "of none")
	publish(conn, secret, "ribera.notices.vega", "good")
	publish(conn, secret, "ribera.notices.vega", "good") // which was heard before
	publish(conn, secret, "ribera.notices.vega", "better")
	require.Eventually(t, func() bool { return l.Taken.Load() >= taken+2 }, 20*time.Second, 10*time.Millisecond)
	assert.Equal(t, taken+2, l.Taken.Load(), "messages come in their order, and the others were not heard")
	assert.Greater(t, l.Looks.Load(), looks)
	x.Stop()
	x.Again(t)
	comes(x.Conn(t))
	require.NoError(t, l.Close(ctx))
	for _, wrong := range []workspace.Hearing{{Bus: &hook.Bus{Server: "nats://bus.test:4222", Subject: "a"}}, {Bus: &hook.Bus{Server: x.URL, Subject: "a.*"}}, {Bus: &hook.Bus{Server: x.URL, Subject: "a", User: "b"}}} {
		assert.Equal(t, fault.Invalid, fault.CodeOf(a.SetHearing(ctx, wrong)), "%+v", wrong.Bus)
	}
}
