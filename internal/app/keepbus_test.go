package app

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/bus/bustest"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/trail"
	"andamio/internal/service/tokens"
	"andamio/internal/service/workspace"
)

// onBus is what a stream keeps: the log, and the types of all else.
func onBus(t *testing.T, x *bustest.Server, stream string) (log []trail.Entry, others []string) {
	t.Helper()
	for _, m := range x.Kept(t, stream) {
		var e event.Event
		require.NoError(t, json.Unmarshal(m.Data, &e))
		require.NoError(t, e.Validate())
		if e.Source() != trail.Source {
			others = append(others, e.ID())
			continue
		}
		var entry trail.Entry
		require.NoError(t, e.DataAs(&entry))
		assert.Equal(t, strconv.FormatInt(entry.Seq, 10), e.ID())
		assert.Equal(t, trail.EventType+string(entry.Act), e.Type())
		assert.Equal(t, fmt.Sprintf("ribera.log.%s.%d", entry.Act, entry.Seq), m.Subject)
		log = append(log, entry)
	}
	return log, others
}

// TestAllThatHappensIsOnTheBus has two that tell keep all that is noted and all that becomes of runs on one bus, which is away for a while: each is there once, in order, with its digests, which verify.
func TestAllThatHappensIsOnTheBus(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	a, _ := aWorkspace(t, 0.003)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"bus": bustest.Password, "wrong": "lake"}))
	at := hook.Bus{Server: x.URL, Subject: "ribera", User: bustest.User}
	for _, c := range []struct {
		b    workspace.Bus
		code fault.Code
	}{
		{workspace.Bus{Bus: hook.Bus{Server: "nats://bus.ribera.test:4222", Subject: "ribera"}}, fault.Invalid},
		{workspace.Bus{Bus: hook.Bus{Server: x.URL, Subject: "ribera.*"}}, fault.Invalid},
		{workspace.Bus{Bus: hook.Bus{Server: x.URL, Subject: "ribera", Authority: "who?"}}, fault.Invalid},
		{workspace.Bus{Bus: at}, fault.Invalid},
		{workspace.Bus{Bus: at, Secret: "wrong"}, fault.Unavailable},
		{workspace.Bus{Bus: at, Secret: "none"}, fault.Invalid},
		{workspace.Bus{Bus: hook.Bus{Server: "nats://127.0.0.1:1", Subject: "ribera"}}, fault.Unavailable},
	} {
		assert.Equal(t, c.code, fault.CodeOf(a.SetBus(ctx, c.b)), "%+v", c.b)
	}
	none, err := a.BusNow(ctx)
	require.NoError(t, err)
	assert.Nil(t, none)
	require.NoError(t, a.SetBus(ctx, workspace.Bus{Bus: at, Secret: "bus"}))
	worked(t, a, draft(t, a, nil))

	var tellers []*keeping
	pass := func() (errs int) {
		for _, k := range tellers {
			b, err := a.workspace.Bus()
			require.NoError(t, err)
			s, err := a.busServer(&b.Bus, b.Secret)
			require.NoError(t, err)
			if k.pass(ctx, a, s, b.Subject, time.Now()) != nil {
				errs++
			}
			k.again = time.Time{} // no test waits for that
		}
		return errs
	}
	tellers = append(tellers, &keeping{}, &keeping{})
	defer func() {
		for _, k := range tellers {
			k.leave()
		}
	}()
	require.Zero(t, pass())
	x.Stop()
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"lamp": "red"}))
	require.Equal(t, 2, pass())
	away, err := a.BusNow(ctx)
	require.NoError(t, err)
	assert.NotEmpty(t, away.Trouble)
	x.Again(t)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"lamp": "green"}))
	require.Zero(t, pass())
	tellers = append(tellers, &keeping{}) // who takes over
	require.Zero(t, pass())

	log, others := onBus(t, x, "RIBERA")
	var want []trail.Entry
	require.NoError(t, a.EachOfTrail(ctx, func(e *Entry) error { want = append(want, *e); return nil }))
	require.Equal(t, want, log)
	counted := map[string]int{}
	for _, id := range others {
		counted[id]++
	}
	for id, n := range counted {
		assert.Equal(t, 1, n, id)
	}
	assert.True(t, slices.ContainsFunc(slices.Collect(maps.Keys(counted)), func(id string) bool { return strings.HasPrefix(id, "run-1-standing") }), "%v", others)
	now, err := a.BusNow(ctx)
	require.NoError(t, err)
	assert.Empty(t, now.Trouble)
	assert.Zero(t, now.Behind)
	assert.EqualValues(t, len(log)+len(others), now.Kept.Messages)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"lamp": "blue"}))
	now, err = a.BusNow(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 1, now.Behind)
	require.NoError(t, a.SetBus(ctx, workspace.Bus{}))
	none, err = a.BusNow(ctx)
	require.NoError(t, err)
	assert.Nil(t, none)
}

// TestABusRunsWithWhoServes has a program listen at the process that serves, with a token: it reads all that is noted as it is noted, goes on where it left off, and is put out once its token is revoked. One whose person may
// not read is not let in.
func TestABusRunsWithWhoServes(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	_, err := a.SetDirectory(ctx, fmt.Appendf(nil, "version: andamio.teams/1\npeople: { keeper: { user: %q }, mia: { user: mia } }\nteams: { gauging: { members: [mia] } }\ngrants: [ { to: keeper, role: engineer }, { to: 'team:gauging', role: requester } ]\n", a.Actor().Name))
	require.NoError(t, err)
	a = another(t, a) // who opens it is somebody of the directory now
	s, err := a.Serve(ctx, Listening{Address: "127.0.0.1:0"}, nil)
	require.NoError(t, err)
	_, err = s.RunBus(ctx, BusListening{Address: "0.0.0.0:0"})
	require.Equal(t, fault.Unavailable, fault.CodeOf(err), "%v", err)
	url, err := s.RunBus(ctx, BusListening{Address: "127.0.0.1:0"})
	require.NoError(t, err)
	end := running(t, s)
	own, err := a.MakeToken(ctx, tokens.Wish{Name: "listener"}, time.Now())
	require.NoError(t, err)
	bounded, err := a.MakeToken(ctx, tokens.Wish{Name: "asker", Limit: guard.Limit{Rights: []guard.Right{guard.Ask}}}, time.Now())
	require.NoError(t, err)
	for _, wrong := range []string{bounded.Secret, own.Secret + "x", ""} {
		_, err := nats.Connect(url, nats.Token(wrong))
		require.ErrorIs(t, err, nats.ErrAuthorization)
	}
	conn, err := nats.Connect(url, nats.UserInfo("anybody", own.Secret), nats.MaxReconnects(1), nats.ReconnectWait(10*time.Millisecond))
	require.NoError(t, err)
	defer conn.Close()
	js, err := jetstream.New(conn)
	require.NoError(t, err)
	read := func(enough func(trail.Entry) bool) (seqs []int64) {
		var c jetstream.Consumer
		require.Eventually(t, func() bool { // the stream is made once something is kept
			c, err = js.CreateOrUpdateConsumer(ctx, "ANDAMIO", jetstream.ConsumerConfig{Durable: "river", FilterSubject: "andamio.log.>", AckPolicy: jetstream.AckExplicitPolicy})
			return err == nil
		}, 20*time.Second, 50*time.Millisecond, "%v", err)
		for {
			m, err := c.Next(jetstream.FetchMaxWait(20 * time.Second))
			require.NoError(t, err)
			require.NoError(t, m.DoubleAck(ctx))
			var e event.Event
			require.NoError(t, json.Unmarshal(m.Data(), &e))
			var entry trail.Entry
			require.NoError(t, e.DataAs(&entry))
			if seqs = append(seqs, entry.Seq); enough(entry) {
				return seqs
			}
		}
	}
	is := func(act guard.Act, on string) func(trail.Entry) bool {
		return func(e trail.Entry) bool { return e.Act == act && e.On == on }
	}
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"lamp": "red"}))
	seqs := read(is(guard.KeepSecret, "lamp"))
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"beacon": "red"}))
	seqs = append(seqs, read(is(guard.KeepSecret, "beacon"))...)
	for i, seq := range seqs {
		assert.EqualValues(t, i+1, seq, "each once, in order, the first too")
	}
	require.NoError(t, a.RevokeToken(ctx, own.ID, time.Now()))
	require.Eventually(t, conn.IsClosed, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, end())
}
