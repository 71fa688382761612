package app

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/offer"
	"andamio/internal/core/run"
	"andamio/internal/notice"
	"andamio/internal/service/deployments"
	"andamio/internal/service/requests"
	"andamio/internal/store"
)

// channel is a service that hears events, each once, and refuses what is not signed with its secret.
type channel struct {
	mu    sync.Mutex
	heard []event.Event
	// down has so many calls be answered that it is not to be had; says is a refusal.
	down  int
	says  string
	calls int
	url   string
}

func newChannel(t *testing.T) *channel {
	c := &channel{}
	r := &notice.Receiver{Secret: "s3cret", Hear: func(e event.Event) {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.heard = append(c.heard, e)
	}}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		c.mu.Lock()
		c.calls++
		down, says := c.down > 0, c.says
		c.down--
		c.mu.Unlock()
		switch {
		case down:
			http.Error(w, "come back later", http.StatusServiceUnavailable)
		case says != "":
			http.Error(w, says, http.StatusForbidden)
		default:
			r.ServeHTTP(w, req)
		}
	}))
	t.Cleanup(s.Close)
	c.url = s.URL
	return c
}

func (c *channel) types() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []string
	for _, e := range c.heard {
		out = append(out, strings.TrimPrefix(e.Type(), "example.andamio."))
	}
	return strings.Join(out, " ")
}

// postBox is a server that takes letters.
type postBox struct {
	mu      sync.Mutex
	letters []string
}

func (b *postBox) NewSession(*smtp.Conn) (smtp.Session, error) { return b, nil }
func (b *postBox) Reset()                                      {}
func (b *postBox) Logout() error                               { return nil }
func (b *postBox) Mail(string, *smtp.MailOptions) error        { return nil }
func (b *postBox) Rcpt(string, *smtp.RcptOptions) error        { return nil }
func (b *postBox) Data(r io.Reader) error {
	data, err := io.ReadAll(r)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.letters = append(b.letters, string(data))
	return err
}

func newPostBox(t *testing.T) (*postBox, string) {
	b := &postBox{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := smtp.NewServer(b)
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { _ = s.Close() })
	return b, l.Addr().String()
}

// told gathers and delivers once, as of a time.
func told(t *testing.T, a *App, at time.Time) int {
	t.Helper()
	require.NoError(t, a.Gather(ctx, at))
	n, err := a.Deliver(ctx, at)
	require.NoError(t, err)
	return n
}

// TestWhatHappensIsToldOnce asks for services, raises and breaks things with hooks of every sort set, and looks what a service and a letter box
// have heard: everything that fits, signed, once, however often it is looked at and by however many.
func TestWhatHappensIsToldOnce(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	c := newChannel(t)
	box, mail := newPostBox(t)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"channel": "s3cret"}))
	before, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map", Why: "before there was a hook"})
	require.NoError(t, err)
	nowServing(t, a, before)
	hooks := fmt.Sprintf(`
version: andamio.hooks/1
mail: { server: "%s", from: "andamio@ribera.test", plain: true }
hooks:
- { hook: channel, on: [request.asked, request.approved, request.refused, request.serving, run.began, run.stands], call: "%s/in", secret: channel }
- { hook: trials, on: [run.stands], when: 'event.stage == "trial"', call: "%s/in", secret: channel }
- { hook: letters, on: [request.refused], tell: [owner, "ops@ribera.test"], say: "Ask again when there is room." }
`, mail, c.url, c.url)
	_, err = a.SetHooks(ctx, []byte(hooks))
	require.NoError(t, err)
	assert.Zero(t, told(t, a, time.Now()), "what happened before there was a hook sets nothing off")

	r, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map", Why: "the open day"})
	require.NoError(t, err)
	nowServing(t, a, r)
	c.down = 1
	told(t, a, time.Now())
	var group sync.WaitGroup
	for range 4 { // several see to it, each with what it remembers
		b := another(t, a)
		group.Go(func() {
			assert.NoError(t, b.Gather(ctx, time.Now()))
			_, err := b.Deliver(ctx, time.Now())
			assert.NoError(t, err)
		})
	}
	group.Wait()
	told(t, a, time.Now().Add(time.Minute)) // what was not to be had is tried again
	want := map[string]int{"request.asked": 1, "request.approved": 1, "request.serving": 1, "run.began": 1, "run.stands": 1}
	got := map[string]int{}
	for _, x := range strings.Fields(c.types()) {
		got[x]++
	}
	assert.Equal(t, want, got, "the service heard each event once, though two hooks told it of one")
	for _, e := range c.heard {
		var body hook.Event
		require.NoError(t, e.DataAs(&body))
		assert.Equal(t, []any{"ibo", "public-map", "trial"}, []any{body.Person, body.Team, body.Stage}, e.Type())
	}
	all, err := a.Deliveries(ctx, 50)
	require.NoError(t, err)
	require.Len(t, all, 6)
	for _, d := range all {
		assert.Equal(t, store.DeliverySent, d.State, d.Note)
	}

	_, err = as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map", Answers: offer.Answers{"fronts": "3"}, Why: "more"})
	require.Error(t, err, "there is no room for it")
	told(t, a, time.Now())
	require.Len(t, box.letters, 1)
	assert.Contains(t, box.letters[0], "Ask again when there is room.")
	assert.Contains(t, box.letters[0], "ops@ribera.test")
	told(t, another(t, a), time.Now().Add(time.Hour))
	assert.Len(t, box.letters, 1, "a letter is written once")
	for _, e := range mustTrail(t, a) {
		assert.NotContains(t, e, "s3cret")
	}
}

// TestAllThatIsNotedIsSentToWhoSubscribed has a service hear of each entry of the log once, in the mode and after the handshake that its hook asks for, and one that does not want events hear nothing.
func TestAllThatIsNotedIsSentToWhoSubscribed(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"channel": "s3cret"}))
	c := newChannel(t)
	refuses := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, http.MethodOptions, r.Method, "nothing is sent to who does not want it")
		w.WriteHeader(http.StatusNoContent)
	}))
	defer refuses.Close()
	_, err := a.SetHooks(ctx, fmt.Appendf(nil, `
version: andamio.hooks/1
hooks:
- { hook: all, on: [log.noted], call: "%s/in", secret: channel, mode: binary, handshake: true }
- { hook: keys, on: [log.noted], when: 'event.act == "keep-secret"', call: "%s/in", secret: channel }
- { hook: unwanted, on: [log.noted], call: "%s", secret: channel, handshake: true }
`, c.url, c.url, refuses.URL))
	require.NoError(t, err)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"beacon": "green"}))
	told(t, a, time.Now())
	told(t, another(t, a), time.Now()) // who serves next remembers nothing
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"caf\u00e9 \u00f1": "x"}))
	told(t, a, time.Now())
	entries, err := a.LastOfTrail(ctx, 100)
	require.NoError(t, err)
	heard := map[int64]int{}
	for _, e := range c.heard {
		require.Equal(t, "example.andamio.log.noted", e.Type())
		var body hook.Event
		require.NoError(t, e.DataAs(&body))
		heard[body.Entry]++
		i := slices.IndexFunc(entries, func(x Entry) bool { return x.Seq == body.Entry })
		require.GreaterOrEqual(t, i, 0)
		assert.Equal(t, string(entries[i].Act), body.Act)
		assert.Equal(t, entries[i].On, e.Subject())
		assert.NotContains(t, string(e.Data()), "green")
	}
	assert.GreaterOrEqual(t, len(heard), 2, "both secrets")
	for n, times := range heard {
		assert.Equal(t, 1, times, "entry %d", n)
	}
	all, err := a.Deliveries(ctx, 50)
	require.NoError(t, err)
	given := 0
	for _, d := range all {
		if d.Hook == "unwanted" {
			given++
			assert.Equal(t, store.DeliveryFailed, d.State)
			assert.Contains(t, d.Note, "does not let events be sent")
		}
	}
	assert.Positive(t, given, "and that is shown")
	for _, wrong := range []string{"{ hook: x, on: [log.noted], tell: [owner] }", "{ hook: x, on: [log.noted], call: 'https://a.test', secret: s, mode: loud }", "{ hook: x, on: [run.stands], script: 'true', handshake: true }"} {
		_, err := a.SetHooks(ctx, []byte("version: andamio.hooks/1\nmail: { server: 'a:25', from: a@b.test, plain: true }\nhooks: ["+wrong+"]"))
		assert.Equal(t, fault.Invalid, fault.CodeOf(err), "%s: %v", wrong, err)
	}
}

func mustTrail(t *testing.T, a *App) []string {
	t.Helper()
	last, err := a.LastOfTrail(ctx, 100)
	require.NoError(t, err)
	var out []string
	for _, e := range last {
		text, err := json.Marshal(e)
		require.NoError(t, err)
		out = append(out, string(text))
	}
	return out
}

// TestWhatIsGivenUpIsSaid has a service refuse, and one be away for ever; what was given up is told again when somebody says so.
func TestWhatIsGivenUpIsSaid(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	c := newChannel(t)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"channel": "s3cret"}))
	_, err := a.SetHooks(ctx, fmt.Appendf(nil, "version: andamio.hooks/1\nhooks:\n- { hook: channel, on: [run.stands], call: \"%s\", secret: channel }\n- { hook: unkept, on: [run.stands], call: \"%s\", secret: none }", c.url, c.url))
	require.NoError(t, err)
	require.NoError(t, a.Gather(ctx, time.Now()))
	worked(t, a, draft(t, a, nil))
	c.says = "we do not\x1b[31m want that"
	told(t, a, time.Now())
	state := func(of string) store.Delivery {
		all, err := a.Deliveries(ctx, 10)
		require.NoError(t, err)
		for _, d := range all {
			if d.Hook == of {
				return d
			}
		}
		return store.Delivery{}
	}
	assert.Equal(t, store.DeliveryFailed, state("channel").State)
	assert.Contains(t, state("channel").Note, "403 Forbidden we do not")
	assert.NotContains(t, state("channel").Note, "\x1b")
	assert.Contains(t, state("unkept").Note, "none", "a secret that is not kept is said")
	c.mu.Lock()
	c.says, c.down = "", 1000
	c.mu.Unlock()
	require.NoError(t, a.Resend(ctx, state("channel").ID))
	require.ErrorIs(t, a.Resend(ctx, state("channel").ID), store.ErrNotFound, "it waits already")
	at := time.Now()
	for range 2 * hook.Tries {
		at = at.Add(time.Hour)
		told(t, a, at)
	}
	assert.Equal(t, []any{store.DeliveryFailed, hook.Tries}, []any{state("channel").State, state("channel").Tries})
	c.mu.Lock()
	c.down = 0
	c.mu.Unlock()
	require.NoError(t, a.Resend(ctx, state("channel").ID))
	told(t, a, at)
	assert.Equal(t, store.DeliverySent, state("channel").State)
	assert.Equal(t, "run.stands", c.types())
	_, err = a.SetHooks(ctx, []byte("version: andamio.hooks/1\nhooks: []"))
	require.NoError(t, err)
	assert.Contains(t, strings.Join(mustTrail(t, a), "\n"), "set-hooks")
}

// TestARunBeginsWhenItMay has a service be asked before anything is done: it says no, does not answer, and says yes.
func TestARunBeginsWhenItMay(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	c := newChannel(t)
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"board": "s3cret"}))
	_, err := a.SetHooks(ctx, fmt.Appendf(nil, "version: andamio.hooks/1\nhooks:\n- { hook: board, on: [run.may-begin], when: 'size(event.sites) > 1', call: \"%s\", secret: board }\n- { hook: begun, on: [run.began, run.failed], call: \"%s\", secret: board }", c.url, c.url))
	require.NoError(t, err)
	c.says = "not before the storm is over"
	id, err := a.NewRun(ctx, deployments.Order{Plan: draft(t, a, nil).Plan, For: guard.Owner{Team: "gauging"}})
	require.NoError(t, err)
	err = a.Work(ctx, id)
	require.ErrorContains(t, err, "the hook board does not let it begin: it says 403 Forbidden not before the storm is over")
	assert.Equal(t, fault.Refused, fault.CodeOf(err))
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	assert.True(t, s.Started.IsZero(), "nothing was done")
	assert.Contains(t, s.Text, "not before the storm is over", "and the journal says why")
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Failed, r.State)
	d, err := a.Deployment(ctx, 1)
	require.NoError(t, err)
	assert.True(t, d.Stand.Empty())

	c.mu.Lock()
	c.says = ""
	c.mu.Unlock()
	told(t, a, time.Now())
	assert.Equal(t, "run.failed", c.types(), "what was not let begin did not begin")
	c.mu.Lock()
	c.down, c.heard = 1, nil // it is asked again
	c.mu.Unlock()
	require.NoError(t, a.Resume(ctx, id))
	require.Eventually(t, func() bool { r, err := a.Run(ctx, id); return err == nil && r.State == run.Standing }, 2*time.Minute, 50*time.Millisecond)
	assert.Equal(t, "run.may-begin", c.types())
	told(t, a, time.Now())
	assert.Equal(t, "run.may-begin run.began", c.types())
}

// TestAHookRunsAScript has a hook run a script on what stands: once for each event, on the tiers that it names, whoever ends meanwhile; what
// the script set off sets it off no more.
func TestAHookRunsAScript(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	_, err := a.SetHooks(ctx, []byte("version: andamio.hooks/1\nhooks:\n- { hook: watch, on: [run.stands], at: [contacts*], script: 'echo \"watched $EVENT_NAME\" > /srv/watched' }"))
	require.NoError(t, err)
	require.NoError(t, a.Gather(ctx, time.Now()))
	first := worked(t, a, draft(t, a, nil))
	r, err := a.Run(ctx, first)
	require.NoError(t, err)
	assert.Equal(t, 1, told(t, a, time.Now()))
	runs, err := a.Runs(ctx)
	require.NoError(t, err)
	require.Len(t, runs, 2)
	assert.Equal(t, r.Deployment, runs[0].Deployment)
	assert.Contains(t, runs[0].Purpose, "hook watch: run-")
	require.Eventually(t, func() bool {
		r, err := a.Run(ctx, runs[0].ID)
		return err == nil && r.State != run.Planned && r.State != run.UnderWay
	}, 2*time.Minute, 10*time.Millisecond)
	s, err := a.Replay(ctx, runs[0].ID)
	require.NoError(t, err)
	assert.Equal(t, run.Standing, s.Status, explainRun(s))
	d, err := a.Deployment(ctx, r.Deployment)
	require.NoError(t, err)
	for i := range s.Steps {
		assert.Contains(t, s.Steps[i].Resource, "contacts", "on the tiers that it names")
		h, err := a.FindHost(ctx, s.Steps[i].Resource)
		require.NoError(t, err)
		var out strings.Builder
		_, err = a.Command(ctx, h, "cat /srv/watched", nil, &out, io.Discard)
		require.NoError(t, err)
		assert.Equal(t, "watched "+d.Name+"\n", out.String())
	}
	require.NotEmpty(t, s.Steps)
	assert.Equal(t, 0, told(t, a, time.Now().Add(time.Hour)), "what it set off sets off nothing")
	o, err := a.Powering(ctx, r.Deployment, "contacts-host", false)
	require.NoError(t, err)
	id, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, id))
	told(t, a, time.Now().Add(2*time.Hour))
	last, err := a.Deliveries(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, store.DeliveryFailed, last[0].State, "nothing is on that is meant")
	assert.Contains(t, last[0].Note, "no instance of")
	all, err := a.Runs(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 3)
}
