package app

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/measure"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/core/react"
	"andamio/internal/core/trail"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reactions"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/service/watch"
	"andamio/internal/site"
	"andamio/internal/store"
)

// reacting is a deployment of the scenario with reactions, by a clock of its own.
type reacting struct {
	*watching
	id int64
}

func reactTo(t *testing.T, text string) *reacting {
	t.Helper()
	a, _, _, id := raised(t)
	r := &reacting{&watching{a, t, time.Now().UTC().Truncate(watch.Every).Add(time.Hour)}, id}
	r.rules(text)
	return r
}

// rules sets reactions, as ana does.
func (r *reacting) rules(text string) {
	r.t.Helper()
	ana := r.As(guard.Actor{Name: "ana", Way: guard.Command})
	_, err := ana.SetReactions(ctx, []byte("version: andamio.reactions/1\nreactions:\n"+text))
	require.NoError(r.t, err)
}

// goes measures and reacts for a while, as who serves does.
func (r *reacting) goes(long time.Duration) {
	r.t.Helper()
	for range long / watch.Every {
		require.NoError(r.t, r.MeasureAll(ctx, r.now))
		require.NoError(r.t, r.React(ctx, r.now))
		r.now = r.now.Add(watch.Every)
	}
}

// runs are how many the deployment has had.
func (r *reacting) runs() []store.Run {
	r.t.Helper()
	all, err := r.store.RunsOf(ctx, r.id)
	require.NoError(r.t, err)
	return all
}

// acts goes on until a run begins, waits for its end, and returns it; the clock is beyond that then.
func (r *reacting) acts(within time.Duration) store.Run {
	r.t.Helper()
	before := len(r.runs())
	for range within / watch.Every {
		r.goes(watch.Every)
		if all := r.runs(); len(all) > before {
			ended(r.t, r.App, all[len(all)-1].ID)
			return all[len(all)-1]
		}
	}
	r.t.Fatalf("nothing was done: %+v", r.states())
	return store.Run{}
}

func (r *reacting) states() []reactions.Status {
	r.t.Helper()
	all, err := r.Reacting(ctx)
	require.NoError(r.t, err)
	return all
}

// machines are those of a node.
func (r *reacting) machines(node string) (out []string) {
	r.t.Helper()
	d, err := r.Deployment(ctx, r.id)
	require.NoError(r.t, err)
	for i := range d.Stand.Plan.Resources {
		if x := &d.Stand.Plan.Resources[i]; x.Kind == kinds.Instance && x.Node == node {
			out = append(out, x.ID)
		}
	}
	return out
}

// uses shapes how much of its cores each machine of a node uses.
func (r *reacting) uses(node string, share float64) {
	r.t.Helper()
	d, err := r.Deployment(ctx, r.id)
	require.NoError(r.t, err)
	for _, m := range r.machines(node) {
		require.NoError(r.t, r.Load(ctx, sites.LoadRequest{Site: d.Stand.Plan.Resource(m).Site, Name: m, Shares: map[string]float64{measure.CoresUsed: share}, Until: time.Now().Add(24 * time.Hour)}))
	}
}

// logged is the last entry of the log about a run being made.
func (r *reacting) logged() trail.Entry {
	r.t.Helper()
	all, err := r.LastOfTrail(ctx, 50)
	require.NoError(r.t, err)
	for _, e := range all {
		if e.Act == guard.ChangeRun || e.Act == guard.Propose {
			return e
		}
	}
	r.t.Fatal("it is not in the log")
	return trail.Entry{}
}

// gone has a machine be deleted at its site by hand.
func (r *reacting) gone(machine string) {
	r.t.Helper()
	f := &fallen{t: r.t, a: r.App, id: r.id}
	at, id := f.at(machine)
	require.NoError(r.t, at.Delete(ctx, kinds.Instance, id))
	require.Eventually(r.t, func() bool { _, err := at.Read(ctx, kinds.Instance, id); return site.ClassOf(err) == site.NotFound }, 20*time.Second, 20*time.Millisecond)
}

func TestATierGrowsAndShrinksByItselfAndTheLogSaysWhy(t *testing.T) {
	t.Parallel()
	r := reactTo(t, "- { name: forecasts, mode: do, cool_down: 2m, scale: { tier: forecasting, use: 50%, least: 2, most: 5 } }\n")
	r.goes(watch.Every)
	assert.Contains(t, r.states()[0].State.Says, "the service forecasting has the tiers [forecast-host readings-host]: name one")
	r.rules("- { name: forecasts, mode: do, cool_down: 2m, scale: { tier: forecast-host, use: 50%, least: 2, most: 5 } }\n")
	require.Len(t, r.machines("forecast-host"), 3)
	r.uses("forecast-host", 0.6) // 7.2 of 12 cores: four machines would use 7.2 of 16
	did := r.acts(10 * time.Minute)
	assert.Equal(t, "scale forecast-host to 4", did.Purpose)
	assert.Len(t, r.machines("forecast-host"), 4)
	e := r.logged()
	assert.Equal(t, guard.Actor{Name: "ana", Way: guard.Rule}, e.Actor)
	assert.Regexp(t, `\(reaction forecasts: \d\.\d\d cores are used.*: 4 of forecast-host would do with 50% of each, and there are 3\)`, e.Note)
	assert.Contains(t, r.states()[0].State.Says, "run ")

	r.uses("forecast-host", 0.44)
	r.goes(6 * time.Minute)
	assert.Len(t, r.runs(), 2, "within the margin nothing is done: %s", r.logged().Note)

	r.uses("forecast-host", 0.05)
	did = r.acts(15 * time.Minute)
	assert.Equal(t, "scale forecast-host to 3", did.Purpose)
	did = r.acts(15 * time.Minute)
	assert.Equal(t, "scale forecast-host to 2", did.Purpose)
	r.goes(10 * time.Minute)
	assert.Len(t, r.runs(), 4, "there are to be so many at least")

	r.uses("forecast-host", 0.9)
	r.rules("- { name: forecasts, scale: { tier: forecast-host, use: 20%, least: 2, most: 3 } }\n")
	r.goes(15 * time.Minute)
	assert.Len(t, r.runs(), 4)
	open, err := r.OpenProposals(ctx)
	require.NoError(t, err)
	require.Len(t, open, 1, "it is proposed, and once")
	assert.Equal(t, "scale forecast-host to 3 of flood-watch", open[0].Purpose)
	assert.Equal(t, guard.Actor{Name: "ana", Way: guard.Rule}, open[0].By)
	assert.Contains(t, r.logged().Note, "(reaction forecasts: ")
	r.rules("- { name: forecasts, mode: do, scale: { tier: forecast-host, use: 20%, least: 1, most: 2 } }\n")
	r.goes(15 * time.Minute)
	called := r.states()[0].State
	assert.False(t, called.Called.IsZero())
	assert.Contains(t, called.CalledFor, "more than 2 may not be, by this reaction")
	require.NoError(t, r.ResumeReaction(ctx, "forecasts", r.id))
	assert.Zero(t, r.states()[0].State)
	assert.Equal(t, fault.NotFound, fault.CodeOf(r.ResumeReaction(ctx, "other", r.id)))
}

func TestWhatFallsIsRaisedByAReaction(t *testing.T) {
	t.Parallel()
	r := reactTo(t, "- { name: fell, mode: do, raise: { after: 1m, rebuild: true, elsewhere: true } }\n")
	r.goes(time.Minute)
	require.Len(t, r.runs(), 1, "all is well")
	r.gone("map-host-1")
	did := r.acts(5 * time.Minute)
	assert.Equal(t, "raise map-host-1 again", did.Purpose)
	assert.Contains(t, r.logged().Note, "(reaction fell: map-host-1 is gone since ")
	r.goes(time.Minute)
	open, err := r.Alerts(ctx)
	require.NoError(t, err)
	assert.Empty(t, open)

	terms, err := promise.Recovering("5m", 4, true)
	require.NoError(t, err)
	_, err = r.SetPromise(ctx, promise.Promise{Deployment: r.id, Kind: promise.Recovered, Recovered: terms}, time.Now())
	require.NoError(t, err)
	r.gone("map-host-2")
	r.goes(10 * time.Minute)
	assert.Len(t, r.runs(), 2, "the promise sees to it")
	require.NoError(t, r.DropPromise(ctx, r.id, promise.Recovered))
	r.rules("- { name: fell, raise: { after: 1m, rebuild: true } }\n")
	r.goes(10 * time.Minute)
	assert.Len(t, r.runs(), 2, "it is proposed")
	open2, err := r.OpenProposals(ctx)
	require.NoError(t, err)
	require.Len(t, open2, 1)
	done, err := r.Confirm(ctx, open2[0].ID)
	require.NoError(t, err)
	ended(t, r.App, done.Run)
	r.goes(2 * time.Minute)
	assert.Len(t, r.runs(), 3)
}

// TestABlackoutHoldsAReaction holds that what is held is not counted as done, and is done once it may be.
func TestABlackoutHoldsAReaction(t *testing.T) {
	t.Parallel()
	r := reactTo(t, "- { name: fell, mode: do, raise: { after: 1m, rebuild: true } }\n")
	_, err := r.SetWindows(ctx, []byte("version: andamio.windows/1\nblackouts: [{ name: floods, from: '2020-01-01', until: '2090-01-01' }]\n"))
	require.NoError(t, err)
	r.gone("map-host-1")
	r.goes(5 * time.Minute)
	require.Len(t, r.runs(), 1)
	st := r.states()[0].State
	assert.Empty(t, st.Acts)
	assert.Contains(t, st.Says, "held by the blackout floods")
	_, err = r.SetWindows(ctx, []byte("version: andamio.windows/1\n"))
	require.NoError(t, err)
	r.acts(5 * time.Minute)
}

func TestReactionsAreForWhoMaySetThem(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	_, err := a.SetReactions(ctx, []byte("version: andamio.reactions/1\nreactions: [{ name: x }]"))
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	require.ErrorContains(t, err, "line 2")
	f, err := a.Reactions(ctx)
	require.NoError(t, err)
	assert.Empty(t, f.Reactions)
	require.NoError(t, a.React(ctx, time.Now()), "nothing is to be done where there are none")
}

// TestMachinesAreBuiltElsewhereAlone holds that building a machine elsewhere takes it away before, and takes away nothing else.
func TestMachinesAreBuiltElsewhereAlone(t *testing.T) {
	t.Parallel()
	a, _, _, id := raised(t)
	o, err := a.Rebuilding(ctx, id, []string{"dispatch-host-1"}, templates.Choices{Pins: map[string]placement.Spot{"dispatch-host-1": {Site: "vega", Zone: "a"}}}, "build it there")
	require.NoError(t, err)
	assert.Equal(t, "build it there", o.Plan.Purpose)
	removed := slices.IndexFunc(o.Plan.Steps, func(s plan.Step) bool { return s.ID == "dispatch-host-1/remove" })
	created := slices.IndexFunc(o.Plan.Steps, func(s plan.Step) bool { return s.ID == "dispatch-host-1/create" })
	require.True(t, removed >= 0 && created > removed)
	assert.Contains(t, o.Plan.Steps[created].After, o.Plan.Steps[removed].ID, "never two copies")
	for name, c := range map[string]struct {
		machine string
		choices templates.Choices
		says    string
	}{
		"others too": {"map-host-1", templates.Choices{Forbids: map[string][]string{"map-host-1": {"alisio-norte", "tramonta"}}}, "map-host-2 would have to be built anew as well"},
		"disks":      {"readings-host-1", templates.Choices{Pins: map[string]placement.Spot{"readings-host-1": {Site: "vega", Zone: "a"}}}, "has disks, which would come up empty"},
		"nowhere":    {"forecast-host-2", templates.Choices{Pins: map[string]placement.Spot{"forecast-host-2": {Site: "alisio-norte", Zone: "b"}}}, "there is no place for forecast-host-2"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := a.Rebuilding(ctx, id, []string{c.machine}, c.choices, "x")
			require.Error(t, err)
			assert.True(t, strings.Contains(err.Error(), c.says), "%v", err)
		})
	}
}

// TestASiteInTroubleIsLeftByAMove has a site answer too slowly, and looks that a move off it is proposed.
func TestASiteInTroubleIsLeftByAMove(t *testing.T) {
	t.Parallel()
	r := reactTo(t, "- { name: off it, leave: { after: 1m } }\n")
	for _, to := range []string{"alisio-sur", "tramonta", "vega", "presa"} {
		_, err := r.MakePair(ctx, "alisio-norte", to, sites.Both)
		require.NoError(t, err)
	}
	_, err := r.SetThresholds(ctx, []byte("version: andamio.thresholds/1\nthresholds: [{ name: slow, measure: site_time, when: thing.site == \"alisio-norte\", critical: { above: 1us } }]\n"))
	require.NoError(t, err)
	r.goes(20 * time.Minute)
	open, err := r.OpenProposals(ctx)
	require.NoError(t, err)
	require.Len(t, open, 1, "%+v", r.states())
	assert.Equal(t, store.ProposalMove, open[0].Kind)
	st := r.states()[0].State
	require.Len(t, st.Acts, 1)
	assert.Equal(t, react.Leaving, st.Acts[0].Do)
	assert.Equal(t, []string{"forecast-host-1", "forecast-host-2", "forecast-host-3", "map-host-1"}, st.Acts[0].On)
}

// TestABusyHostIsRelievedByAReaction has a host be much busier than others of its site, and looks that what may be is built on another one, once.
func TestABusyHostIsRelievedByAReaction(t *testing.T) {
	t.Parallel()
	r := reactTo(t, "- { name: evenly, mode: do, spread: { above: 10%, apart: 10%, after: 1m } }\n")
	d, err := r.Deployment(ctx, r.id)
	require.NoError(t, err)
	require.Equal(t, "b-1", d.Stand.Plan.Resource("dispatch-host-1").Host)
	r.uses("contacts-host", 0.01)
	r.uses("readings-host", 0.6)
	r.uses("dispatch-host", 1)
	did := r.acts(20 * time.Minute)
	assert.Regexp(t, "^build dispatch-host-1 on host [ab]-[12]$", did.Purpose)
	assert.Regexp(t, `\(reaction evenly: host b-1 is used to \d+% and [ab]-\d to \d+%: with dispatch-host-1 there the busier one is at \d+%\)`, r.logged().Note)
	d, err = r.Deployment(ctx, r.id)
	require.NoError(t, err)
	assert.NotEqual(t, "b-1", d.Stand.Plan.Resource("dispatch-host-1").Host)
	r.uses("dispatch-host", 1)
	r.goes(30 * time.Minute)
	assert.Len(t, r.runs(), 2, "and not back again")
}

// TestWhatAReactionDidIsNotForgottenByAMistake holds that where it cannot be worked out for which deployments a reaction is, what it did stays known; and that it does not once there is none of that name.
func TestWhatAReactionDidIsNotForgottenByAMistake(t *testing.T) {
	t.Parallel()
	r := reactTo(t, "- { name: fell, mode: do, raise: {} }\n- { name: other, leave: {}, when: deployment.size > 1 }\n")
	require.NoError(t, r.store.KeepReactionState(ctx, react.Kept{Reaction: "fell", Deployment: r.id, State: react.State{Called: r.now, CalledFor: "it has disks"}}))
	require.ErrorContains(t, r.React(ctx, r.now), "no such key")
	states, err := r.store.ReactionStates(ctx)
	require.NoError(t, err)
	require.Len(t, states, 1)
	assert.Equal(t, "it has disks", states[0].State.CalledFor)
	r.rules("- { name: another, mode: do, raise: {} }\n")
	require.NoError(t, r.React(ctx, r.now))
	states, err = r.store.ReactionStates(ctx)
	require.NoError(t, err)
	assert.Empty(t, states)
}

// TestWhatIsKnownIsReadAnewOnceSomethingIsDone holds that deployments are read again alone where something was done, also while that goes on, and are as they are now.
func TestWhatIsKnownIsReadAnewOnceSomethingIsDone(t *testing.T) {
	t.Parallel()
	a, _, _, id := raised(t)
	var known deployments.Known
	of := func() *deployments.Deployment {
		all, err := a.Refreshed(ctx, &known)
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0]
	}
	first := of()
	assert.Same(t, first, of(), "nothing was done")
	o, err := a.Scaling(ctx, id, "dispatch-host", 1)
	require.NoError(t, err)
	made, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	going := of()
	assert.NotSame(t, first, going)
	assert.NotSame(t, going, of(), "while it goes on it is read each time")
	require.NoError(t, a.Work(ctx, made))
	after := of()
	now, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, now.Stand.Plan.Resources, after.Stand.Plan.Resources)
	assert.Same(t, after, of())
	require.NoError(t, a.store.Own(ctx, id, guard.Owner{Team: "map"}))
	assert.Equal(t, "map", of().Owner.Team, "whose it is is so as well")
}
