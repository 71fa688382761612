package app

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/servicemap"
	"andamio/internal/notice"
	"andamio/internal/sandbox"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/templates"
	"andamio/internal/store"
)

// deployed is the scenario deployed and recorded.
func deployed(t *testing.T) (*App, *sandbox.Sandbox, *reconcile.Inventory) {
	t.Helper()
	a, box := aWorkspace(t, 0.003)
	worked(t, a, draft(t, a, nil))
	return a, box, surveyedAll(t, a)
}

func TestARegionThatFailsHalfWayMakesNothingMissing(t *testing.T) {
	t.Parallel()
	a, box, first := deployed(t)
	require.Empty(t, first.Findings)
	// The first page of region b is answered, everything after it is not, however often it is asked.
	box.Misbehave(sandbox.Rule{Fault: sandbox.Unavailable, Site: "vega", Call: "list", Region: "b", Skip: 1})
	s, err := a.Survey(ctx, reconcile.SurveyRequest{Site: "vega"})
	require.NoError(t, err, "one of two regions was seen")
	assert.Equal(t, store.SurveyPartial, s.State)
	for _, p := range s.Parts {
		if p.Region == "b" {
			assert.Equal(t, store.SurveyFailed, p.State)
			assert.Contains(t, p.Error, "come back later")
			continue
		}
		assert.Equal(t, store.SurveyDone, p.State)
	}
	inv, err := a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Empty(t, inv.Findings, "what was not listed is not gone")

	// What is gone in the region that answered is found all the same.
	gone := box.Drift(sandbox.DriftRequest{Seed: 3, Count: 1, Sorts: []sandbox.Change{sandbox.Created}})
	require.NotEmpty(t, gone)
	box.Misbehave()
	found(t, surveyedAll(t, a), gone)
}

func TestASurveyThatIsKilledLeavesTheRecordsAsTheyWere(t *testing.T) {
	t.Parallel()
	a, box, first := deployed(t)
	before, err := a.store.Observations(ctx)
	require.NoError(t, err)
	box.Drift(sandbox.DriftRequest{Seed: 5, Count: 8})
	slow, cancel := context.WithCancel(ctx)
	s, err := a.Survey(slow, reconcile.SurveyRequest{Site: "vega", Progress: func(s store.Survey) {
		if s.Found() > 3 { // some pages are staged by now
			cancel()
		}
	}})
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, store.SurveyStopped, s.State)
	after, err := a.store.Observations(ctx)
	require.NoError(t, err)
	assert.Equal(t, before, after, "nothing of it is observed")
	inv, err := a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Equal(t, first.RecordedRecords, inv.RecordedRecords)
	assert.Empty(t, inv.Findings)

	again, err := a.Survey(ctx, reconcile.SurveyRequest{Site: "vega"})
	require.NoError(t, err)
	assert.Equal(t, s.ID, again.ID, "it goes on where it was stopped")
	assert.Equal(t, store.SurveyDone, again.State)
}

func TestABurstOfEventsIsAppliedOnceAndForgeriesAreRefused(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	l, err := a.Listen(ctx, Listening{Address: "127.0.0.1:0"})
	require.NoError(t, err)
	defer l.Close(ctx)
	require.Contains(t, l.Sites, "vega")
	secret, err := a.secretOf("vega")
	require.NoError(t, err)
	var ids []string
	for _, h := range box.Holds() {
		if h.Site == "vega" && h.Term == "compute" {
			ids = append(ids, h.ID)
		}
	}
	require.NotEmpty(t, ids)
	changed := box.Drift(sandbox.DriftRequest{Seed: 2, Count: 2, Sorts: []sandbox.Change{sandbox.Tagged}})

	const events = 10_000
	var good, forged, accepted, refused atomic.Int64
	work := make(chan int)
	var group sync.WaitGroup
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	rng := rand.New(rand.NewPCG(1, 2))
	bad := map[int]bool{}
	for len(bad) < events/100 {
		bad[rng.IntN(events)] = true
	}
	base := l.Taken.Load()
	for range 64 {
		group.Go(func() {
			for i := range work {
				key := secret
				if bad[i] {
					key = "forged"
				}
				e, err := notice.New(notice.TypeChanged, "https://sites/vega", "compute", time.Now(), notice.Changed{Kind: "compute", ID: ids[i%len(ids)], Sequence: int64(i)})
				if err != nil {
					continue
				}
				err = notice.Send(ctx, client, "http://"+l.Address()+"/vega", key, e, time.Now())
				switch {
				case bad[i] && err != nil:
					refused.Add(1)
				case bad[i]:
					forged.Add(1)
				case err == nil:
					accepted.Add(1)
				}
				if !bad[i] {
					good.Add(1)
				}
			}
		})
	}
	for i := range events {
		work <- i
	}
	close(work)
	group.Wait()
	assert.EqualValues(t, events-len(bad), accepted.Load())
	assert.EqualValues(t, len(bad), refused.Load())
	assert.Zero(t, forged.Load())
	// Sites sent notices of the changes by hand, too.
	assert.GreaterOrEqual(t, l.Taken.Load()-base, good.Load(), "every good one was applied")
	assert.LessOrEqual(t, l.Taken.Load()-base, good.Load()+int64(len(changed))+4, "and none twice")
	require.Eventually(t, func() bool {
		inv, err := a.Reconcile(ctx)
		return err == nil && len(inv.Findings) >= countAt(changed, "vega", "alisio-norte", "alisio-sur")
	}, 2*time.Minute, 50*time.Millisecond, "what changed is known without a survey")
}

func countAt(all []sandbox.Drifted, sites ...string) int {
	n := 0
	for _, d := range all {
		for _, s := range sites {
			if d.Site == s {
				n++
			}
		}
	}
	return n
}

// TestBadNoticesAreRefused sends what no site would.
func TestBadNoticesAreRefused(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	l, err := a.Listen(ctx, Listening{Address: "127.0.0.1:0"})
	require.NoError(t, err)
	defer l.Close(ctx)
	secret, err := a.secretOf("vega")
	require.NoError(t, err)
	post := func(at time.Time, body []byte, key string) int {
		req, err := http.NewRequest(http.MethodPost, "http://"+l.Address()+"/vega", bytes.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/cloudevents+json")
		req.Header.Set(notice.HeaderTime, strconv.FormatInt(at.Unix(), 10))
		req.Header.Set(notice.HeaderSignature, notice.Sign(key, at, body))
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}
	e, err := notice.New(notice.TypeChanged, "https://sites/vega", "x", time.Now(), notice.Changed{Kind: "compute", ID: "none"})
	require.NoError(t, err)
	body, err := json.Marshal(e)
	require.NoError(t, err)
	now := time.Now()
	assert.Equal(t, http.StatusUnauthorized, post(now, body, "other"), "badly signed")
	assert.Equal(t, http.StatusUnauthorized, post(now.Add(-time.Hour), body, secret), "late")
	assert.Equal(t, http.StatusRequestEntityTooLarge, post(now, bytes.Repeat([]byte("x"), notice.MaxBody+1), secret), "oversized")
	assert.Equal(t, http.StatusBadRequest, post(now, []byte("{}"), secret), "no event")
	assert.Equal(t, http.StatusNoContent, post(now, body, secret))
	assert.Equal(t, http.StatusConflict, post(now, body, secret), "replayed")
}

// classes counts the records of each class.
func classes(inv *reconcile.Inventory) map[kinds.Kind]int {
	out := map[kinds.Kind]int{}
	for _, r := range inv.RecordedRecords {
		out[r.Class]++
	}
	return out
}

func TestADeepSurveySeesWhatRunsAndWhoTalks(t *testing.T) {
	t.Parallel()
	a, _, _ := deployed(t)
	surveys, errs := a.SurveyAll(ctx, true, nil)
	for i, err := range errs {
		require.NoError(t, err)
		require.Equal(t, store.SurveyDone, surveys[i].State, "%+v", surveys[i])
	}
	inv, err := a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Empty(t, inv.Findings)
	count := map[kinds.Kind]int{}
	talks := 0
	for _, r := range inv.RecordedRecords {
		count[r.Class]++
		if r.Class == kinds.Instance {
			assert.Contains(t, r.Attributes["os"], "Debian", r.Name)
			assert.Contains(t, r.Attributes["processes"], "sshd")
		}
	}
	for _, r := range inv.ObservedRecords {
		for _, x := range r.Relations {
			if x.Kind == inventory.ConnectsTo {
				talks++
			}
		}
	}
	assert.Positive(t, count[kinds.Software], "packages")
	assert.Positive(t, count[kinds.Service], "what listens")
	assert.Positive(t, talks, "connections")

	// A host that is lost takes its services with it, and the map knows.
	m, err := a.ServiceMap(ctx, inv)
	require.NoError(t, err)
	var down, weak int
	for _, h := range m.On(servicemap.Hosts) {
		loss := m.Losing(h.ID)
		down, weak = down+len(loss.Down), weak+len(loss.Weakened)
		assert.True(t, loss.Lost[h.ID])
	}
	assert.Positive(t, down, "some service hangs on one host")
	assert.Positive(t, weak, "some service goes on")
	// What runs no more is recorded no more, once somebody has looked again.
	h, err := a.FindHost(ctx, "forecast-host-1")
	require.NoError(t, err)
	_, err = a.Command(ctx, h, "fuser -k 8090/tcp", strings.NewReader(""), io.Discard, io.Discard)
	require.NoError(t, err)
	_, errs = a.SurveyAll(ctx, true, nil)
	for _, err := range errs {
		require.NoError(t, err)
	}
	inv, err = a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Equal(t, count[kinds.Service]-1, classes(inv)[kinds.Service])
	fmt.Fprintln(t.Output(), "down", down, "weakened", weak, "talks", talks, count)
}

// TestWhatADeploymentDoesItselfIsNoFinding changes, extends and retires a deployment between surveys: nothing disagrees at
// any time, and records go with what is retired.
func TestWhatADeploymentDoesItselfIsNoFinding(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	d := draft(t, a, nil)
	worked(t, a, d)
	surveyedAll(t, a)
	changed := func(input, text string) {
		t.Helper()
		more, err := a.Redraft(ctx, 1, d.Template, templates.DraftRequest{Preset: "drill", Inputs: given(t, input, text)})
		require.NoError(t, err)
		o, err := a.Changed(ctx, 1, more.Plan, "change")
		require.NoError(t, err)
		carriedOut(t, a, o)
	}
	agrees := func(what string) *reconcile.Inventory {
		t.Helper()
		inv, err := a.Reconcile(ctx)
		require.NoError(t, err)
		assert.Empty(t, inv.Findings, what)
		return inv
	}
	changed("store_memory", "20 GiB")
	agrees("changed, and not seen since")
	surveyedAll(t, a)
	agrees("changed, and seen")
	changed("forecast_workers", "4")
	agrees("built, and not seen yet")
	surveyedAll(t, a)
	before := len(agrees("built, and seen").RecordedRecords)
	o, err := a.Retiring(ctx, 1)
	require.NoError(t, err)
	carriedOut(t, a, o)
	agrees("retired, and not seen since")
	surveyedAll(t, a)
	inv := agrees("retired, and seen to be gone")
	assert.Less(t, len(inv.RecordedRecords), before)
	for _, r := range inv.RecordedRecords {
		assert.Empty(t, r.Origin.Deployment, "%s is recorded still", r.Name)
	}
}
