package engine

import (
	"context"
	"crypto/ed25519"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

var ctx = context.Background()

// memory is a journal that keeps events and may fail.
type memory struct {
	mu     sync.Mutex
	events []run.Event
	// failAfter makes it fail once it holds so many; 0 never.
	failAfter int
}

func (m *memory) Append(events ...run.Event) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.failAfter > 0 && len(m.events) >= m.failAfter {
		return errors.New("disk full")
	}
	m.events = append(m.events, events...)
	return nil
}

// scripted is a site that answers as a test tells it.
type scripted struct {
	mu     sync.Mutex
	create func(site.Request) (site.Resource, error)
	read   func(id string, n int) (site.Resource, error)
	reads  map[string]int
	gone   map[string]bool
	// most is how many creates were under way at once.
	now, most int
	takes     time.Duration
}

func (s *scripted) Name() string                                              { return "vega" }
func (s *scripted) Describe(context.Context) (*estate.Site, error)            { return nil, nil }
func (s *scripted) List(context.Context, kinds.Kind) ([]site.Resource, error) { return nil, nil }
func (s *scripted) Delete(_ context.Context, _ kinds.Kind, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.gone == nil {
		s.gone = map[string]bool{}
	}
	s.gone[id] = true
	return nil
}
func (s *scripted) Invoke(context.Context, kinds.Kind, string, string) (site.Resource, error) {
	return site.Resource{}, nil
}

func (s *scripted) Change(context.Context, kinds.Kind, string, site.Request) (site.Resource, error) {
	return site.Resource{}, nil
}

func (s *scripted) Create(_ context.Context, r site.Request) (site.Resource, error) {
	s.mu.Lock()
	s.now++
	s.most = max(s.most, s.now)
	s.mu.Unlock()
	time.Sleep(s.takes)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.now--
	return s.create(r)
}

func (s *scripted) Read(_ context.Context, _ kinds.Kind, id string) (site.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.reads == nil {
		s.reads = map[string]int{}
	}
	s.reads[id]++
	if s.gone[id] {
		return site.Resource{}, &site.Error{Site: "vega", Doing: "read", Class: site.NotFound}
	}
	return s.read(id, s.reads[id])
}

func active(r site.Request) (site.Resource, error) {
	return site.Resource{Kind: r.Kind, ID: "id-" + r.Name, State: site.Active, Word: "active"}, nil
}

// networks is a plan of n networks at one site, independent of each other.
func networks(n int) *plan.Plan {
	p := &plan.Plan{Version: plan.Version, Name: "nets", Levels: 1, Sites: []plan.Site{{Name: "vega"}}}
	for i := range n {
		id := string(rune('a'+i%26)) + strings.Repeat("x", i/26)
		p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: kinds.Network, Site: "vega", Level: 1, Spec: plan.NetworkSpec{Label: id}})
		p.Steps = append(p.Steps, plan.Step{ID: id + "/create", Resource: id, Op: op.Create, Site: "vega", Level: 1, Seconds: 0.01, Check: plan.Condition{Kind: plan.CheckSite}})
	}
	return p
}

func signer(t *testing.T) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return s
}

func engineFor(t *testing.T, p *plan.Plan, s *scripted) (*Engine, *memory) {
	m := &memory{}
	return &Engine{Run: "r1", Mark: "d1", Plan: p, Sites: map[string]site.Site{"vega": s}, Journal: m, Key: signer(t)}, m
}

func state(p *plan.Plan, m *memory) *run.State {
	s := run.New(p)
	for i, e := range m.events {
		e.Seq = int64(i + 1)
		s.Apply(e)
	}
	return s
}

func TestLimitsHold(t *testing.T) {
	s := &scripted{create: active, takes: 2 * time.Millisecond}
	p := networks(60)
	e, m := engineFor(t, p, s)
	e.Limits = dispatch.Limits{Steps: 8, PerSite: 5}
	require.NoError(t, e.Execute(ctx))
	assert.Equal(t, 5, s.most, "as many as the site's limit allows, and no more")
	assert.Equal(t, run.Standing, state(p, m).Status)
}

func TestAcceptedIsNotDone(t *testing.T) {
	s := &scripted{create: func(r site.Request) (site.Resource, error) {
		return site.Resource{Kind: r.Kind, ID: "n1", State: site.Accepted, Word: "accepted"}, nil
	}, read: func(id string, n int) (site.Resource, error) {
		if n < 3 {
			return site.Resource{ID: id, State: site.Building, Word: "building"}, nil
		}
		return site.Resource{ID: id, State: site.Active, Word: "active", Attributes: map[string]string{"colour": "blue"}}, nil
	}}
	p := networks(1)
	e, m := engineFor(t, p, s)
	require.NoError(t, e.Execute(ctx))
	var words []string
	for _, ev := range m.events {
		if ev.Kind == run.SiteSays {
			words = append(words, ev.Text)
		}
	}
	assert.Equal(t, []string{"accepted", "building", "building", "active"}, words)
	assert.Equal(t, run.StepDone, m.events[len(m.events)-2].Kind)
	colour, _ := state(p, m).Attribute("a", "colour")
	assert.Equal(t, "blue", colour)
}

func TestFailuresAreTold(t *testing.T) {
	refused := &site.Error{Site: "vega", Doing: "create network a", Class: site.Refused, Detail: "no such thing"}
	for name, c := range map[string]struct {
		create func(site.Request) (site.Resource, error)
		says   string
	}{
		"refused": {func(site.Request) (site.Resource, error) { return site.Resource{}, refused }, "no such thing"},
		"built wrong": {func(site.Request) (site.Resource, error) {
			return site.Resource{ID: "n", State: site.Failed, Word: "disk broken"}, nil
		}, "vega says it failed: disk broken"},
	} {
		p := networks(2)
		e, m := engineFor(t, p, &scripted{create: func(r site.Request) (site.Resource, error) {
			if r.Name == "a" {
				return c.create(r)
			}
			return active(r)
		}})
		assert.ErrorIs(t, e.Execute(ctx), ErrUnfinished, name)
		s := state(p, m)
		assert.Contains(t, s.Step("a/create").Error, c.says)
		assert.Equal(t, run.Standing, s.Step("b/create").Status, "independent steps go on")
		assert.Zero(t, s.Step("a/create").Retries, "what is refused is not asked again")
	}
}

func TestMarksAndKeysTellWhoAsked(t *testing.T) {
	var got site.Request
	p := networks(1)
	e, _ := engineFor(t, p, &scripted{create: func(r site.Request) (site.Resource, error) { got = r; return active(r) }})
	require.NoError(t, e.Execute(ctx))
	assert.Equal(t, "andamio d1 a/create #r1", got.Mark)
	assert.Equal(t, "r1/a/create/0", got.Key)
}

func TestAJournalThatCannotBeWrittenStopsTheRun(t *testing.T) {
	p := networks(40)
	s := &scripted{create: active}
	e, m := engineFor(t, p, s)
	m.failAfter = 30
	err := e.Execute(ctx)
	assert.ErrorContains(t, err, "the journal cannot be written")
	assert.ErrorContains(t, err, "disk full")
}

func TestExecuteRefusesWhatCannotGoWell(t *testing.T) {
	p := networks(1)
	e, _ := engineFor(t, p, &scripted{create: active})
	e.Sites = nil
	assert.ErrorContains(t, e.Execute(ctx), "vega, which is not connected")
	e, m := engineFor(t, p, &scripted{create: active})
	p.Secrets = []string{"key"}
	assert.ErrorContains(t, e.Execute(ctx), "secret key, which was not given")
	assert.Empty(t, m.events)
}

func TestSecretsAreMasked(t *testing.T) {
	m := newMasker(map[string]string{"a": "hunter22", "b": "hunter22-long", "short": "ab", "lines": "first line\nsecond line"})
	for in, want := range map[string]string{
		"it is hunter22.":              "it is •••.",
		"hunter22-long and hunter22":   "••• and •••",
		"hun\x1b[0mter22":              "•••",
		"ab stays, being too common":   "ab stays, being too common",
		"the first line, second line!": "the •••, •••!",
	} {
		assert.Equal(t, want, m.clean(in))
	}
}

func TestAskTellsWhatReallyCameBack(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/good":
			_, _ = w.Write([]byte("<h1>the   basin</h1>\n"))
		case "/moved":
			http.Redirect(w, r, "/good", http.StatusFound)
		default:
			w.WriteHeader(http.StatusTeapot)
		}
	}))
	defer server.Close()
	where := strings.TrimPrefix(server.URL, "http://")
	said, good := Ask(ctx, plan.Condition{Kind: plan.CheckHTTP, Path: "/good"}, where)
	assert.True(t, good)
	_, asked := Ask(ctx, plan.Condition{Kind: plan.CheckHTTP, Path: "/bad", Status: 418}, where)
	assert.True(t, asked, "as the condition asks for it")
	without, asked := Ask(ctx, plan.Condition{Kind: plan.CheckHTTP, Path: "/good", Contains: "the river"}, where)
	assert.False(t, asked)
	assert.Contains(t, without, `(without "the river")`)
	assert.Equal(t, "200 · "+server.URL+"/good · 21 bytes: <h1>the basin</h1>", said)
	said, good = Ask(ctx, plan.Condition{Kind: plan.CheckHTTP, Path: "/bad"}, where)
	assert.False(t, good)
	assert.Contains(t, said, "418")
	_, good = Ask(ctx, plan.Condition{Kind: plan.CheckHTTP, Path: "/moved"}, where)
	assert.False(t, good, "a redirect is not the page")
	said, good = Ask(ctx, plan.Condition{Kind: plan.CheckTCP}, where)
	assert.True(t, good)
	assert.Equal(t, "open · tcp "+where, said)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l.Close()
	said, good = Ask(ctx, plan.Condition{Kind: plan.CheckTCP}, l.Addr().String())
	assert.False(t, good)
	assert.Equal(t, "refused · tcp "+l.Addr().String(), said)
	said, _ = Ask(ctx, plan.Condition{Kind: plan.CheckHTTP, Path: "/"}, l.Addr().String())
	assert.Contains(t, said, "refused")
}

func TestDeadlinesLeaveRoom(t *testing.T) {
	e := &Engine{Patience: usual, Plan: &plan.Plan{}}
	assert.Equal(t, time.Minute, e.deadline(&plan.Step{Seconds: 1}))
	assert.Equal(t, 450*time.Second, e.deadline(&plan.Step{Seconds: 30}))
	assert.Equal(t, 7*time.Second, e.deadline(&plan.Step{Seconds: 30, Script: &plan.Script{Timeout: 7}}))
}

func TestAStepThatTakesTooLongSaysSo(t *testing.T) {
	s := &scripted{create: func(r site.Request) (site.Resource, error) {
		return site.Resource{ID: "n", State: site.Building, Word: "building"}, nil
	}, read: func(id string, _ int) (site.Resource, error) {
		return site.Resource{ID: id, State: site.Building, Word: "building"}, nil
	}}
	p := networks(1)
	p.Scripts = map[string]string{"x": ""}
	p.Steps[0].Script = nil
	e, _ := engineFor(t, p, s)
	require.NoError(t, e.ready())
	defer e.pool.close()
	short, cancel := context.WithTimeoutCause(ctx, 50*time.Millisecond, errors.New("not done in time"))
	defer cancel()
	assert.ErrorIs(t, e.perform(short, &p.Steps[0]), context.DeadlineExceeded)
}

func TestScenarioPlanIsReadable(t *testing.T) {
	p := plantest.Plan(t, "drill")
	e, _ := engineFor(t, p, &scripted{})
	for _, s := range p.Sites {
		e.Sites[s.Name] = &scripted{}
	}
	e.Secrets = map[string]string{"register_key": "sesame-sesame"}
	require.NoError(t, e.ready())
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Check.Kind != plan.CheckSite || s.Op == op.Attach || s.Op == op.Plug {
			continue
		}
		_, err := e.request(s, p.Resource(s.Resource))
		assert.NoError(t, err, s.ID)
	}
	_, _, err := e.ends("readings-host-1", "readings-vol-1")
	assert.ErrorContains(t, err, "not known", "a link needs both ends to be there")
}
