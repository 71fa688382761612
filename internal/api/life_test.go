package api

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/guard"
	"andamio/internal/core/run"
	"andamio/internal/reply"
	"andamio/internal/service/runs"
	"andamio/internal/service/tokens"
	"andamio/internal/source"
)

// gauges is a template of machines that read gauges.
const gauges = `tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: gauges }
topology_template:
  inputs:
    many: { type: integer, default: 1, constraints: [ in_range: [ 1, 4 ] ] }
  node_templates:
    gauge:
      type: tosca.nodes.Compute
      capabilities:
        host: { properties: { num_cpus: 1, mem_size: 1 GiB, disk_size: 8 GiB } }
        os: { properties: { type: linux } }
        scalable: { properties: { min_instances: 1, max_instances: 4, default_instances: { get_input: many } } }
`

// archive is a template as programs send it.
func archive(t *testing.T, text string) string {
	t.Helper()
	data, err := source.Pack(map[string][]byte{"template.yaml": []byte(text)}, "template.yaml")
	require.NoError(t, err)
	return string(data)
}

// planOf has a template be planned.
func planOf(c client, query string) string {
	c.t.Helper()
	got := c.ask("POST", "/plans"+query, archive(c.t, gauges), "Content-Type: application/zip")
	require.Equal(c.t, http.StatusOK, got.status, got.body)
	return got.body
}

// change is what a change is answered with.
type change struct {
	Change   reply.Change
	Run      int64
	Proposal *runs.Proposal
}

// changed asks for a change, and reads what came of it.
func changed(c client, path, body string, status int) change {
	c.t.Helper()
	got := c.ask("POST", path, body)
	require.Equal(c.t, status, got.status, got.body)
	var out change
	got.value(c.t, &out)
	return out
}

// heard are the events of a run, as they happen, until it is over.
func heard(c client, id int64, after string) (events []string, last string) {
	c.t.Helper()
	req, err := http.NewRequestWithContext(c.t.Context(), http.MethodGet, fmt.Sprintf("%s/runs/%d/events", c.at, id), nil)
	require.NoError(c.t, err)
	req.Header.Set("Authorization", "Bearer "+c.secret)
	if after != "" {
		req.Header.Set("Last-Event-ID", after)
	}
	resp, err := c.over.Do(req)
	require.NoError(c.t, err)
	defer resp.Body.Close()
	require.Equal(c.t, "text/event-stream", resp.Header.Get("Content-Type"))
	lines := bufio.NewScanner(resp.Body)
	for lines.Scan() {
		if id, is := strings.CutPrefix(lines.Text(), "id: "); is {
			last = id
		}
		if data, is := strings.CutPrefix(lines.Text(), "data: "); is {
			events = append(events, data)
		}
	}
	return events, last
}

// TestAProgramLeadsAWholeLife has a program plan, raise, follow, scale, propose, stop, roll back and retire, with what commands do.
func TestAProgramLeadsAWholeLife(t *testing.T) {
	t.Parallel()
	_, _, c := opened(t, Usual)
	plan := planOf(c, "?input=many=2")
	got := c.ask("POST", "/runs", plan)
	require.Equal(t, http.StatusOK, got.status, got.body)
	assert.Contains(t, got.body, `"gauge-2"`, "what would be done is said")
	got = c.ask("GET", "/runs", "")
	assert.JSONEq(t, `{"items": []}`, got.body, "and nothing is")
	got = c.ask("POST", "/runs?confirm=other", plan)
	require.Equal(t, http.StatusBadRequest, got.status, got.body)

	got = c.ask("POST", "/runs?confirm=gauges", plan, "Idempotency-Key: first")
	require.Equal(t, http.StatusAccepted, got.status, got.body)
	assert.Equal(t, "/v1/runs/1", got.header.Get("Location"))
	again := c.ask("POST", "/runs?confirm=gauges", plan, "Idempotency-Key: first")
	assert.Equal(t, "true", again.header.Get("Idempotency-Replayed"))
	assert.Equal(t, got.body, again.body, "it is begun once")
	other := c.ask("POST", "/runs?confirm=gauges&propose=true", plan, "Idempotency-Key: first")
	assert.Equal(t, http.StatusBadRequest, other.status, other.body)

	events, last := heard(c, 1, "")
	require.Greater(t, len(events), 3, "%v", events)
	assert.Contains(t, events[len(events)-1], "the run is over")
	later, _ := heard(c, 1, last)
	assert.Len(t, later, 1, "what was heard is not heard again: %v", later)
	var shown runShown
	c.ask("GET", "/runs/1", "").value(t, &shown)
	assert.Equal(t, run.Standing, shown.State)
	for _, st := range shown.All {
		assert.Equal(t, run.Standing, st.Status, st.ID)
	}

	for _, path := range []string{"/tokens", "/sites", "/sites/vega/rotate", "/instances/gauge-1/command"} {
		kept := c.ask("POST", path, `{}`, "Idempotency-Key: second")
		assert.Equal(t, http.StatusBadRequest, kept.status, path)
		assert.Contains(t, kept.body, "nothing of it is kept", path)
	}
	ended := func(x change) {
		t.Helper()
		require.NotZero(t, x.Run)
		heard(c, x.Run, "")
	}
	would := changed(c, "/deployments/gauges/scale", `{"node": "gauge", "count": 3}`, http.StatusOK)
	assert.Zero(t, would.Run)
	assert.Contains(t, would.Change.Steps, "gauge-3/create")
	p := changed(c, "/deployments/gauges/scale", `{"node": "gauge", "count": 3, "propose": true}`, http.StatusCreated).Proposal
	require.NotNil(t, p)
	got = c.ask("POST", fmt.Sprintf("/proposals/%d/confirm", p.ID), `{"confirm": "x"}`)
	require.Equal(t, http.StatusBadRequest, got.status)
	got = c.ask("POST", fmt.Sprintf("/proposals/%d/confirm", p.ID), `{"confirm": "gauges"}`)
	require.Equal(t, http.StatusAccepted, got.status, got.body)
	var begun change
	got.value(t, &begun)
	ended(begun)
	ended(changed(c, "/deployments/gauges/stop", `{"confirm": "gauges"}`, http.StatusAccepted))
	ended(changed(c, "/deployments/1/start", `{"confirm": "gauges"}`, http.StatusAccepted))
	scaled := begun.Run
	got = c.ask("POST", fmt.Sprintf("/runs/%d/roll-back", scaled), `{}`)
	assert.NotEqual(t, http.StatusInternalServerError, got.status, got.body)
	ended(changed(c, "/deployments/gauges/update", `{"inputs": {"many": "1"}, "confirm": "gauges"}`, http.StatusAccepted))

	got = c.ask("GET", "/deployments/gauges", "")
	assert.Equal(t, 1, strings.Count(got.body, `"kind":"instance"`), got.body)
	same := c.ask("GET", "/deployments/gauges", "", "If-None-Match: "+got.header.Get("ETag"))
	assert.Equal(t, http.StatusNotModified, same.status)
	assert.Empty(t, same.body)
	ended(changed(c, "/deployments/gauges/retire", `{"confirm": "gauges"}`, http.StatusAccepted))
	got = c.ask("GET", "/deployments/gauges", "")
	assert.Equal(t, http.StatusNotFound, got.status)
	got = c.ask("GET", "/log", "")
	assert.Contains(t, got.body, `"way":"api"`)
	assert.Contains(t, got.body, "with the token ")
}

// TestWhoServesNeedNotBeKnown has a workspace be served by a user whom the directory of teams does not know: who comes with a token follows all the same.
func TestWhoServesNeedNotBeKnown(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	x := c.ask("POST", "/runs?confirm=gauges", planOf(c, ""))
	require.Equal(t, http.StatusAccepted, x.status, x.body)
	heard(c, 1, "")
	directory := `version: andamio.teams/1
people: { ana: { user: ` + a.Actor().Name + ` }, eva: { user: nobody-here } }
grants: [ { to: ana, role: engineer }, { to: eva, role: engineer } ]
`
	_, err := a.SetDirectory(t.Context(), []byte(directory))
	require.NoError(t, err)
	secret := tokenOf(t, a.As(app.Actor{Name: "ana", Way: app.ByCommand}), tokens.Wish{Name: "evas", Of: "eva"})
	text := strings.Replace(directory, "ana: { user: "+a.Actor().Name+" }", "ana: { user: somebody-else }", 1)
	require.NoError(t, os.WriteFile(filepath.Join(a.Opened().Dir, "teams.yaml"), []byte(text), 0o600))
	unknown, err := app.Open(t.Context(), a.Opened().Dir, app.Idle())
	require.NoError(t, err)
	defer unknown.Close()
	require.Empty(t, unknown.Actor().Name)
	h := httptest.NewServer(New(unknown, Usual).Handler())
	defer h.Close()
	eva := client{t, h.URL + "/" + Version, secret, h.Client()}
	events, _ := heard(eva, 1, "")
	require.Greater(t, len(events), 3, "%v", events)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	e, more := next(t, followed(ctx, eva, "/log/events"))
	assert.True(t, more)
	assert.Equal(t, "1", e.ID)
}

func TestAListIsCutIntoPages(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	for i := range 5 {
		tokenOf(t, a, tokens.Wish{Name: fmt.Sprint("t", i)})
	}
	type listed struct {
		Items []struct{ Name string }
		Next  string
	}
	var names []string
	cursor := ""
	for range 4 {
		var l listed
		c.ask("GET", "/tokens?limit=2"+cursor, "").value(t, &l)
		for _, x := range l.Items {
			names = append(names, x.Name)
		}
		if l.Next == "" {
			break
		}
		cursor = "&cursor=" + l.Next
	}
	assert.Equal(t, []string{"t4", "t3", "t2", "t1", "t0", "all"}, names)
	assert.Equal(t, http.StatusConflict, c.ask("GET", "/tokens?cursor=gone", "").status)
	assert.Equal(t, http.StatusBadRequest, c.ask("GET", "/tokens?limit=0", "").status)
	assert.Equal(t, http.StatusBadRequest, c.ask("GET", "/tokens?limits=3", "").status, "what is not known is said")
}

// TestATokenMayNoMoreThanItIsFor holds that the bounds of a token are those of what is done with it.
func TestATokenMayNoMoreThanItIsFor(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	plan := planOf(c, "")
	for _, name := range []string{"gauges", "spare"} {
		one := strings.Replace(plan, `"name": "gauges"`, `"name": "`+name+`"`, 1)
		x := c.ask("POST", "/runs?confirm="+name, one)
		require.Equal(t, http.StatusAccepted, x.status, x.body)
		var begun change
		x.value(t, &begun)
		heard(c, begun.Run, "")
	}
	within := func(l guard.Limit) client { return c.with(tokenOf(t, a, tokens.Wish{Name: "bounded", Limit: l})) }

	reader := within(guard.Limit{Rights: []guard.Right{guard.Read}})
	assert.Equal(t, http.StatusOK, reader.ask("GET", "/deployments", "").status)
	assert.Equal(t, http.StatusForbidden, reader.ask("POST", "/deployments/gauges/stop", `{"confirm": "gauges"}`).status)
	assert.Equal(t, http.StatusForbidden, reader.ask("POST", "/tokens", `{"name": "more"}`).status, "a token that may not ask makes none")

	spare := within(guard.Limit{Scope: guard.Scope{Deployments: []string{"spare"}}})
	got := spare.ask("GET", "/deployments", "")
	assert.Contains(t, got.body, `"name":"spare"`)
	assert.NotContains(t, got.body, `"name":"gauges"`)
	assert.Equal(t, http.StatusForbidden, spare.ask("POST", "/deployments/1/stop", `{"confirm": "gauges"}`).status)
	assert.Equal(t, http.StatusForbidden, spare.ask("GET", "/quotas", "").status, "what is not of one deployment")
	assert.Equal(t, http.StatusForbidden, spare.ask("GET", "/files/thresholds", "").status)
	stopped := changed(spare, "/deployments/spare/stop", `{"confirm": "spare"}`, http.StatusAccepted)
	heard(spare, stopped.Run, "")

	made := spare.ask("POST", "/tokens", `{"name": "short", "for_seconds": 600, "limit": {"rights": ["read", "ask"]}}`)
	require.Equal(t, http.StatusCreated, made.status, made.body)
	var short tokens.Made
	made.value(t, &short)
	child := c.with(short.Secret)
	var all tokens.Made
	c.ask("POST", "/tokens", `{"name": "another of theirs"}`).value(t, &all)
	assert.Equal(t, http.StatusNotFound, spare.ask("POST", "/tokens/"+all.ID+"/rotate", `{}`).status, "another's secret would let it do more")
	assert.Equal(t, http.StatusNotFound, spare.ask("DELETE", "/tokens/"+all.ID, "").status)
	assert.NotContains(t, spare.ask("GET", "/tokens", "").body, all.ID)
	assert.Equal(t, http.StatusNotFound, child.ask("POST", "/tokens/"+short.Parent+"/rotate", `{}`).status)
	rotated := child.ask("POST", "/tokens/"+short.ID+"/rotate", `{"overlap_seconds": 60}`)
	require.Equal(t, http.StatusOK, rotated.status, rotated.body)
	assert.Equal(t, http.StatusOK, child.ask("GET", "/deployments", "").status, "the secret before holds for a time")
	rotated.value(t, &short)
	child = c.with(short.Secret)
	assert.NotContains(t, child.ask("GET", "/deployments", "").body, `"name":"gauges"`, "within the bounds of what it was made by")
	assert.Equal(t, http.StatusForbidden, child.ask("POST", "/deployments/spare/start", `{"confirm": "spare"}`).status)
	assert.Equal(t, http.StatusUnprocessableEntity, child.ask("POST", "/tokens", `{"name": "shorter"}`).status)
	require.NoError(t, a.RevokeToken(t.Context(), short.Parent, time.Now()))
	assert.Equal(t, http.StatusUnauthorized, child.ask("GET", "/deployments", "").status, "with that it is none")

	elsewhere := c.with(tokenOf(t, a, tokens.Wish{Name: "elsewhere", From: []string{"192.0.2.0/24"}}))
	assert.Equal(t, http.StatusUnauthorized, elsewhere.ask("GET", "/deployments", "").status)
}

// TestAStreamEndsWithItsToken holds that whoever follows is let go within two seconds of the end of their token.
func TestAStreamEndsWithItsToken(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	x := c.ask("POST", "/runs?propose=true", planOf(c, ""))
	require.Equal(t, http.StatusCreated, x.status, x.body)
	began := make(chan bool)
	made, err := a.MakeToken(t.Context(), tokens.Wish{Name: "follows"}, time.Now())
	require.NoError(t, err)
	s := New(a, Usual)
	b, err := a.Bears(t.Context(), made.Secret, addressOf(&http.Request{RemoteAddr: "127.0.0.1:1"}), time.Now())
	require.NoError(t, err)
	ctx, cancel := s.heed(t.Context(), &visitor{a, b.Token.ID, addressOf(&http.Request{RemoteAddr: "127.0.0.1:1"})}, 0, func(context.Context) error { return nil })
	defer cancel()
	close(began)
	require.NoError(t, a.RevokeToken(t.Context(), made.ID, time.Now()))
	select {
	case <-ctx.Done():
	case <-time.After(2 * time.Second):
		t.Fatal("it goes on")
	}
}

// TestAFileIsSetOnlyWhereNobodyChangedIt sets the file of thresholds.
func TestAFileIsSetOnlyWhereNobodyChangedIt(t *testing.T) {
	t.Parallel()
	_, _, c := opened(t, Usual)
	const path, one, two = "/files/thresholds", "version: andamio.thresholds/1\n", "version: andamio.thresholds/1\nthresholds: []\n"
	put := func(text string, header ...string) answer {
		return c.ask("PUT", path, text, append(header, "Content-Type: application/yaml")...)
	}
	assert.Equal(t, http.StatusNotFound, c.ask("GET", path, "").status)
	assert.Equal(t, http.StatusPreconditionRequired, put(one).status)
	assert.Equal(t, http.StatusPreconditionFailed, put(one, "If-Match: \"x\"").status)
	assert.Equal(t, http.StatusBadRequest, put("version: 3\n", "If-None-Match: *").status)
	got := put(one, "If-None-Match: *")
	require.Equal(t, http.StatusOK, got.status, got.body)
	assert.Equal(t, http.StatusPreconditionFailed, put(two, "If-None-Match: *").status)
	read := c.ask("GET", path, "")
	assert.Equal(t, one, read.body)
	assert.Equal(t, got.header.Get("ETag"), read.header.Get("ETag"))
	assert.Equal(t, http.StatusOK, put(two, "If-Match: "+read.header.Get("ETag")).status)
	assert.Equal(t, http.StatusPreconditionFailed, put(one, "If-Match: "+read.header.Get("ETag")).status)
}
