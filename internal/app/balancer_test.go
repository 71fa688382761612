package app

import (
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/alarm"
	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/measure"
	"andamio/internal/core/placement"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/core/servicemap"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/templates"
	"andamio/internal/service/watch"
	"andamio/internal/site"
)

// knock asks at an address once, on a conversation of its own as another client would.
func knock(at string) (string, error) {
	client := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	resp, err := client.Get(at)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if resp.StatusCode != http.StatusOK {
		return resp.Status, err
	}
	return strings.TrimPrefix(strings.TrimSpace(string(body)), "answered by "), err
}

// atTheDoor is who answers at an address, asked so often that each that is well has its turn; "nobody" where it is shut.
func atTheDoor(at string) string {
	seen := map[string]bool{}
	for range 12 {
		who, err := knock(at)
		if err != nil {
			who = "nobody"
		}
		seen[who] = true
	}
	var out []string
	for who := range seen {
		out = append(out, who)
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// TestABalancerFollowsItsMembers raises a load balancer of the standard, for which the template that comes with Andamio stands, and looks who answers
// there while its members grow, go, fall and are elsewhere.
func TestABalancerFollowsItsMembers(t *testing.T) {
	t.Parallel()
	a, box := paired(t, pace)
	e, err := a.Estate(ctx)
	require.NoError(t, err)
	d := templates.NewDraft(example(t, "one-door"), templates.DraftRequest{Choices: templates.Choices{Pins: map[string]placement.Spot{"door.host-1": {Site: "vega"}}}}, e)
	require.NoError(t, d.Err)
	id := worked(t, a, d)
	state, err := a.Replay(ctx, id)
	require.NoError(t, err)
	require.Equal(t, run.Standing, state.Status, explainRun(state))
	at := state.Outputs["at"]
	mapped := func(m *servicemap.Map, err error) []int {
		require.NoError(t, err)
		return []int{len(m.On(servicemap.Services)), len(m.On(servicemap.Parts)), len(m.On(servicemap.Instances))}
	}
	inv, err := a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 3, 3}, mapped(a.ServiceMap(ctx, inv)), "no survey has seen its machines, and they are what it runs on all the same")
	assert.Equal(t, []int{0, 0, 0}, mapped(a.ServiceMapAt(ctx, inv, time.Now().Add(-time.Hour))), "an hour ago there was nothing of it")
	raised := time.Now()
	assert.Equal(t, "page-host-1 page-host-2", atTheDoor(at))

	scaled := func(n int) {
		t.Helper()
		o, err := a.Scaling(ctx, id, "page-host", n)
		require.NoError(t, err)
		allGood(t, carriedOut(t, a, o))
	}
	scaled(3)
	assert.Equal(t, "page-host-1 page-host-2 page-host-3", atTheDoor(at))
	_, errs := a.SurveyAll(ctx, false, nil)
	require.NoError(t, errors.Join(errs...))
	inv, err = a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 4, 4}, mapped(a.ServiceMap(ctx, inv)))
	assert.Equal(t, []int{2, 3, 3}, mapped(a.ServiceMapAt(ctx, inv, raised)), "as it was before it grew")
	scaled(1)
	assert.Equal(t, "page-host-1", atTheDoor(at))
	scaled(2)
	assert.Equal(t, "page-host-1 page-host-2", atTheDoor(at))

	dep, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	onMachine(t, a, "page-host-1", "fuser -k 8080/tcp")
	eventuallyAtTheDoor(t, at, "page-host-2")
	onMachine(t, a, "page-host-1", "httpd -p 8080 -h /srv/www")
	eventuallyAtTheDoor(t, at, "page-host-1 page-host-2")

	from := dep.Stand.Plan.Resource("page-host-1").Site
	to := "alisio-sur"
	require.NotEqual(t, from, to)
	m, err := a.DraftMove(ctx, id, moves.Request{What: []string{"page-host"}, To: to, Mode: change.Cold, AtOnce: true})
	require.NoError(t, err)
	moved, over, err := a.StartMove(ctx, m, nil)
	require.NoError(t, err)
	ended(t, a, over)
	state, err = a.Replay(ctx, over)
	require.NoError(t, err)
	allGood(t, state)
	eventuallyAtTheDoor(t, at, "page-host-1 page-host-2")

	commit, err := a.Commit(ctx, moved, 0)
	require.NoError(t, err)
	ended(t, a, commit)
	o, err := a.Powering(ctx, id, "door", false)
	require.NoError(t, err)
	carriedOut(t, a, o)
	_, err = knock(at)
	require.Error(t, err, "the door is shut")
	o, err = a.Powering(ctx, id, "door", true)
	require.NoError(t, err)
	state = carriedOut(t, a, o)
	allGood(t, state)
	assert.Equal(t, "page-host-1 page-host-2", atTheDoor(at), "it knows its members when it is on again")
	refusesWhileItsMembersRest(t, a, id, at)

	_, unchanged, err := a.Updating(ctx, id, templates.Place{}, templates.DraftRequest{})
	require.NoError(t, err)
	assert.Empty(t, changes(unchanged.Plan), "nothing is otherwise")
	o, err = a.Retiring(ctx, id)
	require.NoError(t, err)
	carriedOut(t, a, o)
	assert.Empty(t, box.Holds())
}

// refusesWhileItsMembersRest switches off all that a door leads to: it refuses whoever comes, as it should, also when it is switched off and on, or built
// anew, meanwhile; nobody is told that it does, and it answers again once the first of them is on.
func refusesWhileItsMembersRest(t *testing.T, a *App, id int64, at string) {
	t.Helper()
	const door = "door.host-1"
	power := func(tier string, on bool) *run.State {
		t.Helper()
		o, err := a.Powering(ctx, id, tier, on)
		require.NoError(t, err)
		state := carriedOut(t, a, o)
		allGood(t, state)
		return state
	}
	stands := func() *deployments.Deployment {
		t.Helper()
		d, err := a.Deployment(ctx, id)
		require.NoError(t, err)
		require.Equal(t, run.Standing, d.State())
		return d
	}
	power("page-host", false)
	who, err := knock(at)
	require.NoError(t, err)
	assert.Contains(t, who, "50", "no gateway, or no service")
	power("door", false)
	power("door", true)
	sights, err := a.Sights(ctx, id)
	require.NoError(t, err)
	require.Len(t, sights, 1, "only the door is to be on")
	assert.True(t, sights[0].On && sights[0].Answered, "it is asked whether it is there, and not for what it cannot give")

	d := stands()
	clouds, err := a.Sites()
	require.NoError(t, err)
	cloud, gone := clouds[d.Stand.Plan.Resource(door).Site], d.Stand.Plan.Known[door]["site.id"]
	require.NoError(t, cloud.Delete(ctx, kinds.Instance, gone))
	require.Eventually(t, func() bool {
		_, err := cloud.Read(ctx, kinds.Instance, gone)
		return site.ClassOf(err) == site.NotFound
	}, 20*time.Second, 20*time.Millisecond)
	o, err := a.RaisingAgain(ctx, id, []promise.Fall{{Machine: door, How: promise.FellGone}})
	require.NoError(t, err)
	allGood(t, carriedOut(t, a, o))
	stands()

	again := power("page-host", true)
	require.NotNil(t, again.Plan.Step("door.balancer-1.client/answer"), "it is asked again")
	stands()
	eventuallyAtTheDoor(t, again.Outputs["at"], "page-host-1 page-host-2")
}

// TestABalancerOfTheSitesOwnFollowsItsMembers raises the same where a site runs balancers itself: nothing is installed, and what is told to it follows as well, also when its cloud
// goes away and comes back, and when it is built elsewhere as an instance.
func TestABalancerOfTheSitesOwnFollowsItsMembers(t *testing.T) {
	t.Parallel()
	a, box := paired(t, pace)
	e, err := a.Estate(ctx)
	require.NoError(t, err)
	d := templates.NewDraft(example(t, "one-door"), templates.DraftRequest{}, e)
	require.NoError(t, d.Err)
	require.Equal(t, "load-balancer", d.Plan.Resource("door.host-1").AsInstance().Appliance)
	id := worked(t, a, d)
	state, err := a.Replay(ctx, id)
	require.NoError(t, err)
	require.Equal(t, run.Standing, state.Status, explainRun(state))
	allGood(t, state)
	at := state.Outputs["at"]
	eventuallyAtTheDoor(t, at, "page-host-1 page-host-2")
	_, unchanged, err := a.Updating(ctx, id, templates.Place{}, templates.DraftRequest{})
	require.NoError(t, err)
	assert.Empty(t, changes(unchanged.Plan), "nothing is otherwise")

	for _, n := range []int{3, 1, 2} {
		o, err := a.Scaling(ctx, id, "page-host", n)
		require.NoError(t, err)
		allGood(t, carriedOut(t, a, o))
		eventuallyAtTheDoor(t, at, strings.Join([]string{"page-host-1", "page-host-2", "page-host-3"}[:n], " "))
	}
	onMachine(t, a, "page-host-1", "fuser -k 8080/tcp")
	eventuallyAtTheDoor(t, at, "page-host-2")
	onMachine(t, a, "page-host-1", "httpd -p 8080 -h /srv/www")
	eventuallyAtTheDoor(t, at, "page-host-1 page-host-2")

	_, errs := a.SurveyAll(ctx, true, nil)
	require.NoError(t, errors.Join(errs...))
	inv, err := a.Reconcile(ctx)
	require.NoError(t, err)
	for _, f := range inv.Findings {
		assert.NotContains(t, f.Name, "door", "%s %v", f.Type, f.Why)
	}
	_, err = a.DraftMove(ctx, id, moves.Request{What: []string{"door.host"}, To: "vega", Mode: change.Cold})
	require.ErrorContains(t, err, "alisio-norte runs itself, and has no disks that could be copied")
	_, err = a.FindHost(ctx, "door.host-1")
	require.Error(t, err, "nobody logs in to it")
	o, err := a.Powering(ctx, id, "door", false)
	require.NoError(t, err)
	carriedOut(t, a, o)
	_, err = knock(at)
	require.Error(t, err)
	o, err = a.Powering(ctx, id, "door", true)
	require.NoError(t, err)
	allGood(t, carriedOut(t, a, o))
	eventuallyAtTheDoor(t, at, "page-host-1 page-host-2")
	refusesWhileItsMembersRest(t, a, id, at)

	elsewhere, err := a.Redraft(ctx, id, d.Template, templates.DraftRequest{Choices: templates.Choices{Pins: map[string]placement.Spot{"door.host-1": {Site: "vega"}}}})
	require.NoError(t, err)
	require.NoError(t, elsewhere.Err)
	o, err = a.Changed(ctx, id, elsewhere.Plan, "as an instance")
	require.NoError(t, err)
	state = carriedOut(t, a, o)
	allGood(t, state)
	eventuallyAtTheDoor(t, state.Outputs["at"], "page-host-1 page-host-2")
	o, err = a.Retiring(ctx, id)
	require.NoError(t, err)
	carriedOut(t, a, o)
	assert.Empty(t, box.Holds())
}

// eventuallyAtTheDoor waits for who answers at an address.
func eventuallyAtTheDoor(t *testing.T, at, want string) {
	t.Helper()
	require.Eventually(t, func() bool { return atTheDoor(at) == want }, 20*time.Second, 50*time.Millisecond, "who answers is to be %s", want)
}

// onMachine runs a command on a machine of a deployment.
func onMachine(t *testing.T, a *App, resource, command string) {
	t.Helper()
	h, err := a.FindHost(ctx, resource)
	require.NoError(t, err)
	code, err := a.Inside(ctx, h, command, nil, io.Discard, io.Discard)
	require.NoError(t, err)
	require.Zero(t, code, command)
}

// TestWhatSoftwareAndMachinesTellOfThemselvesIsWatched measures pages that tell figures, and machines from inside, has a service of one fail, and its disk be nearly full.
func TestWhatSoftwareAndMachinesTellOfThemselvesIsWatched(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	e, err := a.Estate(ctx)
	require.NoError(t, err)
	id := worked(t, a, templates.NewDraft(example(t, "one-door"), templates.DraftRequest{}, e))
	w := watchOver(t, a)
	require.Empty(t, w.measures(3), "all is well")
	figures := func(thing measure.Thing) map[string]float64 {
		latest, err := a.Figures(ctx, []measure.Thing{thing}, w.now)
		require.NoError(t, err)
		out := map[string]float64{}
		for _, l := range latest[thing.Key] {
			out[l.Name] = l.Value
		}
		return out
	}
	page := figures(w.thing(measure.OfEndpoint, "page 1"))
	assert.Equal(t, []float64{1, 3, 24, 0}, []float64{page[measure.Answers], page["page_words"], page[`page_size_bytes{language="en"}`], page["page_asked_per_second"]})
	host := w.thing(measure.OfInstance, "page-host 1")
	inside := figures(host)
	assert.Positive(t, inside[measure.Load])
	assert.Contains(t, inside, measure.ServicesDown)
	assert.InDelta(t, inside[measure.DiskUsed]/inside[measure.DiskHeld], inside[measure.Fullest], 0.01, "the site and the machine say the same")
	seen, err := a.Overview(ctx, id, "", time.Hour, 30, w.now)
	require.NoError(t, err)
	i := slices.IndexFunc(seen, func(o watch.Overview) bool { return o.Name == "page 1" })
	require.NotNil(t, seen[i].Line("page_words"), "it is among what is seen")

	onMachine(t, a, "page-host-1", "mkdir -p /run; echo levels.service > /run/failed")
	open := w.measures(16)
	require.Len(t, open, 1)
	assert.Equal(t, []any{host.Key, "service failed", alarm.Warning}, []any{open[0].Cause, open[0].Alarms[0].Threshold, open[0].Severity})
	onMachine(t, a, "page-host-1", "rm /run/failed; rm /srv/www/metrics")
	open = w.measures(12)
	require.Len(t, open, 1)
	assert.Equal(t, w.thing(measure.OfEndpoint, "page 1").Key, open[0].Cause)
	assert.Contains(t, open[0].Words, "it tells no figures: it answered 404")
	onMachine(t, a, "page-host-1", "echo 'page_words 3' > /srv/www/metrics")
	assert.Empty(t, w.measures(3))
}
