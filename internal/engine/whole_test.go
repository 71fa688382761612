package engine_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/names"
	"andamio/internal/sandbox"
	"andamio/internal/service/templates"
	"andamio/internal/site"
	"andamio/internal/site/driver"
	"andamio/internal/site/drivers"
)

// journal keeps what is journalled.
type journal struct {
	mu     sync.Mutex
	events []run.Event
	// heard, if given, is told of each.
	heard func(run.Event)
}

func (j *journal) Append(events ...run.Event) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, e := range events {
		e.Seq = int64(len(j.events) + 1)
		j.events = append(j.events, e)
		if j.heard != nil {
			j.heard(e)
		}
	}
	return nil
}

// stage is stand-ins with the engine over them, without anything between.
type stage struct {
	*testing.T
	box   *sandbox.Sandbox
	sites map[string]site.Site
	zone  *names.Zone
	key   ssh.Signer
	n     int
	stand change.Standing
	// outputs are those of the last run that had some.
	outputs map[string]string
	secret  string
	// patience is that of the engine.
	patience engine.Patience
	// heard, if given, is told of each event, and decisions are what somebody decides meanwhile.
	heard     func(run.Event)
	decisions chan engine.Decision

	mu sync.Mutex
	// refusals are what sites refused.
	refusals []string
}

func newStage(t *testing.T) *stage {
	t.Helper()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: 0.003, Seed: 3, Zone: "ribera.test"})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, box.Close()) })
	s := &stage{T: t, box: box, sites: map[string]site.Site{}, secret: "w4ter-level",
		patience: engine.Patience{Least: time.Minute, Times: 15, Wait: 5 * time.Millisecond, Most: 50 * time.Millisecond, Tries: 8}}
	s.opens(20 * time.Second)
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	s.key, err = ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return s
}

// opens opens the sites; an answer is waited for so long.
func (s *stage) opens(patience time.Duration) {
	s.Helper()
	d, err := drivers.Named("")
	require.NoError(s, err)
	for _, at := range s.box.Endpoints {
		s.sites[at.Site], err = d.Open(driver.Terms{Site: at.Site, Values: driver.Values{"url": s.overheard(at.URL), "token": at.Token}, Patience: patience})
		require.NoError(s, err)
	}
}

// overheard leads to a site, and notes what it refuses: where sites do as they are asked there is no reason to ask them for what cannot be done yet.
func (s *stage) overheard(at string) string {
	s.Helper()
	to, err := url.Parse(at)
	require.NoError(s, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.ErrorLog = log.New(io.Discard, "", 0) // who breaks a call off knows
	proxy.ModifyResponse = func(r *http.Response) error {
		if r.StatusCode < http.StatusBadRequest || r.StatusCode == http.StatusNotFound && r.Request.Method == http.MethodGet { // looking that something is gone
			return nil
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return err
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		s.mu.Lock()
		defer s.mu.Unlock()
		s.refusals = append(s.refusals, fmt.Sprintf("%s %s: %d %s", r.Request.Method, r.Request.URL, r.StatusCode, strings.TrimSpace(string(body))))
		return nil
	}
	server := httptest.NewServer(proxy)
	s.Cleanup(server.Close)
	return server.URL
}

// refused is what sites refused since it was last asked.
func (s *stage) refused() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.refusals
	s.refusals = nil
	return out
}

// engineOf is the engine for a run of a plan.
func (s *stage) engineOf(p *plan.Plan, j *journal) *engine.Engine {
	for i := range p.Steps { // the stand-ins are faster than what is expected of sites, and are looked at as often
		p.Steps[i].Seconds = min(p.Steps[i].Seconds, 0.1)
	}
	return &engine.Engine{Run: fmt.Sprint("r", s.n), Mark: "d1", Plan: p, Sites: s.sites, Zone: s.zone, Key: s.key, Journal: j, Secrets: map[string]string{"register_key": s.secret},
		Patience: s.patience, Decisions: s.decisions}
}

// tries executes a plan, and holds that nothing secret was journalled.
func (s *stage) tries(p *plan.Plan, heard func(run.Event)) (*run.State, error) {
	s.Helper()
	require.NoError(s, p.Check())
	s.n++
	j := &journal{heard: heard}
	ctx, cancel := context.WithTimeout(s.Context(), 3*time.Minute)
	defer cancel()
	err := s.engineOf(p, j).Execute(ctx)
	state := run.New(p)
	for _, x := range j.events {
		state.Apply(x)
		assert.NotContains(s, x.Text, s.secret)
	}
	return state, err
}

// runs executes a plan to its end.
func (s *stage) runs(p *plan.Plan) *run.State {
	s.Helper()
	state, err := s.tries(p, s.heard)
	if err != nil {
		for i := range state.Steps {
			if state.Steps[i].Status == run.Failed {
				s.Logf("%s: %s", state.Steps[i].ID, state.Steps[i].Error)
			}
		}
	}
	require.NoError(s, err, p.Purpose)
	require.Equal(s, run.Standing, state.Status)
	if len(state.Outputs) > 0 {
		s.outputs = state.Outputs
	}
	s.Logf("%s: %d steps in %s", p.Purpose, len(p.Steps), state.Ended.Sub(state.Started))
	return state
}

// to changes what stands to something else.
func (s *stage) to(wanted *plan.Plan, purpose string) *run.State {
	s.Helper()
	p, err := change.Compile(s.stand, wanted, purpose)
	require.NoError(s, err)
	return s.does(p)
}

// does executes a plan over what stands.
func (s *stage) does(p *plan.Plan) *run.State {
	s.Helper()
	state := s.runs(p)
	var err error
	s.stand, err = change.After(s.stand, state)
	require.NoError(s, err)
	return state
}

// pages are what the pages say that a run named, asked from outside.
func (s *stage) pages() map[string]string {
	s.Helper()
	out := map[string]string{}
	for name, url := range s.outputs {
		resp, err := (&http.Client{Timeout: 10 * time.Second}).Get(url)
		require.NoError(s, err, name)
		text, err := io.ReadAll(resp.Body)
		require.NoError(s, err)
		require.NoError(s, resp.Body.Close())
		require.Equal(s, http.StatusOK, resp.StatusCode, name)
		out[name] = string(text)
	}
	return out
}

// held is how many things the stand-ins hold of a term.
func (s *stage) held(term string) (n int) {
	for _, h := range s.box.Holds() {
		if h.Term == term {
			n++
		}
	}
	return n
}

// TestTheEngineDoesAWholeLife raises the scenario over stand-ins, stops it and starts it, bounds it, keeps what is on a disk and has it back, runs a script on it, takes a part away and brings it back, and retires it: each
// time the sites and the endpoints say that it is so.
func TestTheEngineDoesAWholeLife(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	wanted := plantest.Plan(t, "drill")
	s.stand = change.Nothing(wanted)
	s.does(wanted)
	machines := 0
	for i := range wanted.Resources {
		if wanted.Resources[i].Kind == kinds.Instance {
			machines++
		}
	}
	assert.Equal(t, machines, s.held("compute"))
	pages := s.pages()
	assert.Len(t, pages, 2)

	s.to(change.Rest(wanted, func(*plan.Resource) bool { return true }), "stop")
	assert.Equal(t, machines, s.held("compute"), "they are there, and off")
	s.to(wanted, "start")
	assert.Equal(t, pages, s.pages(), "and serve again what they served")

	bound, err := change.Limit(s.stand, change.Limiting{PerSecond: 500}, "bound")
	require.NoError(t, err)
	s.does(bound)
	assert.Empty(t, change.Limiting{PerSecond: 500}.Unlimited(s.stand))

	disks := []string{"contacts-vol-1"}
	kept, err := change.Snapshot(s.stand, change.Snapping{Set: "before", Disks: disks}, "snapshot")
	require.NoError(t, err)
	s.does(kept)
	script := func(name, text string) *run.State {
		p, err := change.Do(s.stand, change.Doing{Name: name, Path: name + ".sh", Text: text, Instances: []string{"contacts-host-1"}, Inputs: []plan.Input{{Name: "LEVEL", Value: plan.Expr{Literal: "2.10"}}}}, name)
		require.NoError(t, err)
		return s.does(p)
	}
	said := script("say", "echo \"the level is $LEVEL\"\n")
	var lines []string
	for _, l := range said.Step(op.Do.For("contacts-host-1", "say")).Log {
		lines = append(lines, l.Text)
	}
	assert.Contains(t, strings.Join(lines, "\n"), "the level is 2.10")
	back, err := change.Restored(s.stand, wanted, change.Restoring{Set: "before", Disks: disks}, "restore")
	require.NoError(t, err)
	s.does(back)
	assert.Equal(t, pages, s.pages())

	s.to(change.Nothing(s.stand.Plan).Plan, "retire")
	assert.Empty(t, s.box.Holds())
	assert.Empty(t, s.refused(), "all was asked for when it could be done")
}
