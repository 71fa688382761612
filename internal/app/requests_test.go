package app

import (
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/decide"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/core/quota"
	"andamio/internal/core/run"
	"andamio/internal/service/requests"
	"andamio/internal/store"
)

// asking is a workspace with the scenario's offers, quotas and rules of approval, and as each of its people.
func asking(t *testing.T) (a *App, as func(who string) *App) {
	t.Helper()
	a = offering(t)
	for name, set := range map[string]func([]byte) error{
		"quotas":    func(text []byte) error { _, err := a.SetQuotas(ctx, text); return err },
		"approvals": func(text []byte) error { _, err := a.SetApprovals(ctx, text); return err },
	} {
		text, err := os.ReadFile("../../examples/flood-watch/" + name + ".yaml")
		require.NoError(t, err)
		require.NoError(t, set(text))
	}
	return a, func(who string) *App { return a.As(Actor{Name: who, Way: ByScreen}) }
}

// nowServing works on the run of a request to its end.
func nowServing(t *testing.T, a *App, r requests.Request) requests.View {
	t.Helper()
	require.NotZero(t, r.Run)
	require.NoError(t, a.Work(ctx, r.Run))
	v, err := a.Request(ctx, r.ID)
	require.NoError(t, err)
	return v
}

func stages(v requests.View) string {
	var out []string
	for _, s := range v.Stages {
		out = append(out, s.Stage)
	}
	return strings.Join(out, " ")
}

// TestATrialIsApprovedByRuleAndServes asks for a trial, which a rule approves, follows it until it serves, and until it is gone.
func TestATrialIsApprovedByRuleAndServes(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	r, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map", Answers: offer.Answers{"fronts": "2", "first": "level 2.30 m"}, Why: "for the open day"})
	require.NoError(t, err)
	assert.Equal(t, []any{"public-map-map-1", store.RequestBuilt, "public-map", decide.Approve, "small-trials"}, []any{r.Name, r.State, r.Owner.Team, r.Decision.Then, r.Decision.Rule})
	v, err := as("ibo").Request(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, "asked approved building", stages(v))
	assert.Equal(t, []any{"building", ""}, []any{v.Stage, v.Waits})
	assert.True(t, v.Next.After(v.Since) || v.Seconds == 0)
	assert.EqualValues(t, 2, use(t, a, "public-map", quota.Instances).Held)
	v = nowServing(t, a, r)
	assert.Equal(t, "asked approved building serving", stages(v))
	assert.Equal(t, []string{"for the open day", "Trials that cost little are approved at once, up to three a team."}, []string{v.Stages[0].Text, v.Stages[1].Text})
	assert.Equal(t, []any{"ibo", "small-trials"}, []any{v.Stages[0].By.Name, v.Stages[1].Rule})
	assert.EqualValues(t, 2, use(t, a, "public-map", quota.Instances).Used)
	d, err := a.Deployment(ctx, r.Deployment)
	require.NoError(t, err)
	assert.Equal(t, []string{"public-map", "ibo", "trial"}, []string{d.Owner.Team, d.Owner.Person, d.Owner.Stage})
	last, err := a.LastOfTrail(ctx, 3)
	require.NoError(t, err)
	assert.Contains(t, last[0].Words(), "promised of public-map-map-1: ends ", "as the offer says")
	last = last[1:]
	assert.Equal(t, []string{"ibo by rule began run 1: raise public-map-map-1", "ibo by screen asked for A map to try things on"}, []string{last[0].Actor.String() + " " + last[0].Words(), last[1].Actor.String() + " " + last[1].Words()})
	o, err := a.Retiring(ctx, r.Deployment)
	require.NoError(t, err)
	id, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, id))
	v, err = as("ibo").Request(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, "gone", v.Stage)
	assert.Zero(t, use(t, a, "public-map", quota.Instances).Used)
}

// TestEachSeesTheirOwn has people of several teams look at, decide and withdraw what is and is not theirs.
func TestEachSeesTheirOwn(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	_, err := a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas: [ { quota: forecasting, team: forecasting, most: { cores: 48 } }, { quota: gauging, team: gauging, most: { cores: 8 } }, { quota: own, each: person, most: { cores: 99 } } ]"))
	require.NoError(t, err)
	foreseen, err := as("teo").Foresee(ctx, requests.Asked{Offer: "worker-pool", Answers: offer.Answers{"workers": "8", "cores": "hurried"}})
	require.NoError(t, err)
	assert.Equal(t, []any{"workers-1", "storm", "the quota forecasting has 48 cores, of which 0 cores are taken: 64 cores more are too many"}, []any{foreseen.Name, foreseen.Decision.Rule, foreseen.Over})
	seen, err := as("eva").Uses(ctx, time.Now())
	require.NoError(t, err)
	require.Len(t, seen, 1, "no other team's quota, and nobody else's")
	assert.Equal(t, "gauging", seen[0].Account)
	r, err := as("teo").AskFor(ctx, requests.Asked{Offer: "worker-pool", Answers: offer.Answers{"workers": "8", "cores": "hurried"}})
	require.ErrorContains(t, err, "the quota forecasting has 48 cores")
	assert.Equal(t, store.RequestRefused, r.State, "no person is asked for what does not fit")
	_, err = a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas: []"))
	require.NoError(t, err)
	r, err = as("teo").AskFor(ctx, requests.Asked{Offer: "worker-pool", Answers: offer.Answers{"workers": "8", "cores": "hurried"}})
	require.NoError(t, err)
	assert.Equal(t, []any{store.RequestWaiting, "storm", []string{"lia"}}, []any{r.State, r.Decision.Rule, r.Decision.Ask})
	for who, c := range map[string]struct {
		sees string
		code fault.Code
	}{"teo": {"12", fault.NotAllowed}, "lia": {"12", ""}, "ana": {"12", fault.NotAllowed}, "ibo": {"", fault.NotFound}, "eva": {"", fault.NotFound}, "mia": {"", fault.NotFound}} {
		all, err := as(who).Requests(ctx)
		require.NoError(t, err)
		var seen string
		for i := range all {
			seen = string(rune('0'+all[i].ID)) + seen
			assert.Equal(t, who == "lia" && all[i].ID == r.ID, all[i].Mine, "%s %d", who, all[i].ID)
		}
		assert.Equal(t, c.sees, seen, who)
		_, err = as(who).Request(ctx, r.ID)
		assert.Equal(t, c.sees == "", fault.CodeOf(err) == fault.NotFound && err != nil, who)
		_, err = as(who).Thread(ctx, r.ID)
		assert.Equal(t, c.sees == "", err != nil, who)
		if who == "lia" {
			continue
		}
		_, err = as(who).Answer(ctx, r.ID, true, "")
		require.Error(t, err, who)
		assert.Equal(t, fault.NotAllowed, fault.CodeOf(err), "%s: %v", who, err)
		if who == "teo" || who == "ana" {
			continue
		}
		_, err = as(who).TakeBack(ctx, r.ID, "")
		require.Error(t, err, who)
		_, none := as(who).TakeBack(ctx, 99, "")
		if who != "lia" {
			assert.Equal(t, strings.Replace(none.Error(), "99", "2", 1), err.Error(), "what is nobody's business is as what is not there")
		}
		assert.Error(t, as(who).SayOf(ctx, r.ID, "hello"))
	}
	require.NoError(t, as("teo").SayOf(ctx, r.ID, "  the gauges rise  "))
	effect, err := as("lia").EffectOf(ctx, r)
	require.NoError(t, err)
	assert.Equal(t, 64, effect.Quote.Size.Cores)
	_, err = as("lia").Answer(ctx, r.ID, false, " ")
	require.ErrorContains(t, err, "say why")
	r, err = as("lia").Answer(ctx, r.ID, false, "it is no storm")
	require.NoError(t, err)
	assert.Equal(t, store.RequestRefused, r.State)
	thread, err := as("teo").Thread(ctx, r.ID)
	require.NoError(t, err)
	require.Len(t, thread, 4)
	assert.Equal(t, []string{"the gauges rise", "it is no storm"}, []string{thread[2].Text, thread[3].Text})
	_, err = as("lia").Answer(ctx, r.ID, true, "")
	assert.Equal(t, fault.Conflict, fault.CodeOf(err))
	_, err = as("eva").AskFor(ctx, requests.Asked{Offer: "trial-map"})
	assert.Equal(t, fault.NotFound, fault.CodeOf(err), "it is not offered to her")
	_, err = as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map", Team: "gauging"})
	assert.ErrorContains(t, err, "you are in no team called gauging")
	_, err = as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map", Answers: offer.Answers{"fronts": "9"}})
	assert.ErrorContains(t, err, "fronts: 9 is not offered")
}

// TestWhoIsAskedNextAndHowMany has a rule ask two, and others after a time.
func TestWhoIsAskedNextAndHowMany(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	_, err := a.SetApprovals(ctx, []byte(`
version: andamio.approvals/1
rules: [ { rule: two, then: ask, ask: [ lia, ana ], need: 2, say: Two say yes., after: 1ns, next: [ "team:gauging" ] } ]`))
	require.NoError(t, err)
	r, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map"})
	require.NoError(t, err)
	v, err := as("ibo").Request(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, "lia, ana, 0 of 2 have said yes; asked too: team:gauging", v.Waits)
	held := use(t, a, "public-map", quota.Instances)
	assert.EqualValues(t, 1, held.Held, "it is held while it waits")
	_, err = as("eva").Answer(ctx, r.ID, true, "")
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err), "she is asked, and may not approve what is not her team's")
	r, err = as("lia").Answer(ctx, r.ID, true, "")
	require.NoError(t, err)
	assert.Equal(t, store.RequestWaiting, r.State)
	_, err = as("lia").Answer(ctx, r.ID, true, "")
	assert.ErrorContains(t, err, "you have said yes to request 1 already; it takes 2")
	r, err = as("ana").Answer(ctx, r.ID, true, "go on")
	require.NoError(t, err)
	assert.Equal(t, store.RequestBuilt, r.State)
	assert.Equal(t, "serving", nowServing(t, a, r).Stage)
	second, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map"})
	require.NoError(t, err)
	assert.Equal(t, "public-map-map-2", second.Name, "the name of the first is taken")
	second, err = as("ibo").TakeBack(ctx, second.ID, "not needed")
	require.NoError(t, err)
	assert.Equal(t, store.RequestWithdrawn, second.State)
	assert.Zero(t, use(t, a, "public-map", quota.Instances).Held)
	_, err = as("ibo").TakeBack(ctx, second.ID, "")
	assert.Equal(t, fault.Conflict, fault.CodeOf(err))
}

// TestADearerPriceIsAskedAgain has what a request costs rise while it waits: it is built when whoever asked accepts that.
func TestADearerPriceIsAskedAgain(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	_, err := a.SetApprovals(ctx, []byte("version: andamio.approvals/1\nrules: []"))
	require.NoError(t, err)
	r, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map"})
	require.NoError(t, err)
	r.PerHour -= money.Of(0.01) // as if the sites had been cheaper when it was asked for
	done, err := a.store.ChangeRequest(ctx, r, store.RequestWaiting)
	require.NoError(t, err)
	require.True(t, done)
	effect, err := as("lia").EffectOf(ctx, r)
	require.NoError(t, err)
	assert.True(t, effect.Dearer)
	require.NotEmpty(t, effect.Left)
	r, err = as("lia").Answer(ctx, r.ID, true, "")
	require.NoError(t, err)
	assert.Equal(t, store.RequestPriced, r.State)
	v, err := as("ibo").Request(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, "its price to be accepted by ibo", v.Waits)
	assert.Regexp(t, `It costs 0\.\d{3} cr/h by now and not 0\.\d{3}`, v.Stages[len(v.Stages)-1].Text)
	_, err = as("lia").AcceptPrice(ctx, r.ID)
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
	r, err = as("ibo").AcceptPrice(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, store.RequestBuilt, r.State)
	_, err = as("ibo").AcceptPrice(ctx, r.ID)
	assert.Equal(t, fault.Conflict, fault.CodeOf(err))
}

// TestWhatBrokeOffIsTakenUp puts requests into every state that a crash between two stages may leave, and takes them up.
func TestWhatBrokeOffIsTakenUp(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	_, err := a.SetApprovals(ctx, []byte("version: andamio.approvals/1\nrules: [ { rule: all, then: approve, say: Everything is. } ]"))
	require.NoError(t, err)
	keep := func(name string, state store.RequestState, change func(*store.Request)) store.Request {
		t.Helper()
		before := time.Now().Add(-time.Hour)
		r := store.Request{Offer: "trial-map", Person: "ibo", Owner: guard.Owner{Team: "public-map", Person: "ibo", Stage: "trial"}, State: state, Created: before, Changed: before,
			RequestBody: store.RequestBody{Number: 1, Title: "A map", Name: name, PerHour: money.Of(1), Currency: "cr"}}
		change(&r)
		id, err := a.store.AddRequest(ctx, r, store.RequestEvent{At: before, Stage: "asked", Text: "asked"})
		require.NoError(t, err)
		r.ID = id
		return r
	}
	hold := func(request, deployment int64) {
		t.Helper()
		o, err := a.Offer(ctx, "trial-map", 0)
		require.NoError(t, err)
		q, err := a.Quote(ctx, o, nil, "x", false)
		require.NoError(t, err)
		err = a.Reserve(ctx, request, guard.Owner{Team: "public-map", Person: "ibo", Stage: "trial"}, q.Draft().Plan, time.Now())
		require.NoError(t, err)
		if deployment != 0 {
			require.NoError(t, a.Built(ctx, request, deployment, time.Now()))
		}
	}
	asked := keep("a", store.RequestWaiting, func(*store.Request) {})
	held := keep("b", store.RequestWaiting, func(*store.Request) {})
	hold(held.ID, 0)
	approved := keep("c", store.RequestApproved, func(r *store.Request) { r.Decision = decide.Decision{Then: decide.Approve, Rule: "x"} })
	hold(approved.ID, 0)
	refused := keep("d", store.RequestRefused, func(*store.Request) {})
	hold(refused.ID, 0)
	made, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map", Name: "e"})
	require.NoError(t, err)
	back := made
	back.State, back.Run, back.Deployment = store.RequestApproved, 0, 0
	done, err := a.store.ChangeRequest(ctx, back, store.RequestBuilt) // as if it had broken off before the run was noted
	require.NoError(t, err)
	require.True(t, done)
	require.NoError(t, a.Mend(ctx, time.Now().Add(time.Minute)))
	for id, want := range map[int64]store.RequestState{asked.ID: store.RequestBuilt, held.ID: store.RequestBuilt, approved.ID: store.RequestBuilt, refused.ID: store.RequestRefused, made.ID: store.RequestBuilt} {
		r, err := a.store.Request(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, want, r.State, r.Name)
		if id == made.ID {
			assert.Equal(t, []int64{made.Run, made.Deployment}, []int64{r.Run, r.Deployment}, "the run that was made is taken, and no other")
		}
	}
	assert.EqualValues(t, 4, use(t, a, "public-map", quota.Instances).Held, "each once, and nothing for what was refused")
	require.NoError(t, a.Mend(ctx, time.Now().Add(time.Hour)))
	all, err := a.Runs(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 4)
	for _, r := range all {
		require.Equal(t, run.Planned, r.State)
		require.NoError(t, a.Work(ctx, r.ID))
	}
	assert.EqualValues(t, 4, use(t, a, "public-map", quota.Instances).Used)
	assert.Zero(t, use(t, a, "public-map", quota.Instances).Held)
}

// TestThoseWhoAskAtOnceAreGivenNamesOfTheirOwn has several ask for the same at the same moment, from several processes.
func TestThoseWhoAskAtOnceAreGivenNamesOfTheirOwn(t *testing.T) {
	t.Parallel()
	a := offering(t)
	const each, users = 4, 3
	var mu sync.Mutex
	names := map[string]int{}
	var group sync.WaitGroup
	for range users {
		b := another(t, a)
		group.Go(func() {
			for range each {
				r, err := b.As(Actor{Name: "ibo", Way: ByScreen}).AskFor(ctx, requests.Asked{Offer: "trial-map"})
				if !assert.NoError(t, err) {
					return
				}
				mu.Lock()
				names[r.Name]++
				mu.Unlock()
			}
		})
	}
	group.Wait()
	assert.Len(t, names, each*users)
	_, err := a.As(Actor{Name: "ibo", Way: ByScreen}).AskFor(ctx, requests.Asked{Offer: "trial-map", Name: "public-map-map-1"})
	require.ErrorContains(t, err, "something is called public-map-map-1 already")
}

// TestWhatOneHasIsOnesOwnToStopAndGiveBack stops, starts and gives back a trial as whoever asked for it, who may do nothing else to it; to
// others it is not theirs.
func TestWhatOneHasIsOnesOwnToStopAndGiveBack(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	r, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map", Why: "for the open day"})
	require.NoError(t, err)
	h, err := as("ibo").Have(ctx, r.ID, time.Now())
	require.NoError(t, err)
	assert.Nil(t, h, "nothing is there yet")
	nowServing(t, a, r)
	_, err = a.SetWindows(ctx, []byte("version: andamio.windows/1\nblackouts:\n- { name: season, from: \"2020-01-01\", until: \"2100-01-01\" }\n"))
	require.NoError(t, err, "which bounds nobody who does something themselves")
	turn := func(who string, what requests.Turn) error {
		id, err := as(who).TurnIt(ctx, r.ID, what)
		if err == nil {
			err = a.Work(ctx, id)
		}
		return err
	}
	have := func(who string) *requests.Having {
		h, err := as(who).Have(ctx, r.ID, time.Now().Add(time.Hour))
		require.NoError(t, err)
		return h
	}
	full := have("ibo")
	assert.Equal(t, []any{run.Standing, false, r.PerHour, []requests.Turn{requests.Stop, requests.GiveBack}}, []any{full.Status, full.Off, full.PerHour, full.Turns})
	assert.InDelta(t, full.PerHour.Units(), full.Cost.Units(), full.PerHour.Units()/60, "an hour of it")
	assert.Empty(t, have("lia").Turns, "who decides on it has it not")
	for _, who := range []string{"teo", "lia"} {
		require.Error(t, turn(who, requests.GiveBack), who)
	}
	assert.Equal(t, fault.NotFound, fault.CodeOf(turn("teo", requests.Stop)), "another team's is not there")
	require.ErrorContains(t, turn("ibo", requests.Begin), "it is so already")
	require.ErrorContains(t, turn("ibo", "shake"), `"shake" is not what can be done to it`)

	require.NoError(t, turn("ibo", requests.Stop))
	off := have("ibo")
	assert.Equal(t, []any{true, []requests.Turn{requests.Begin, requests.GiveBack}}, []any{off.Off, off.Turns})
	assert.Less(t, off.PerHour, full.PerHour)
	v, err := as("ibo").Request(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{requests.StageServing, true}, []any{v.Stage, v.Off}, "that it serves is not said without that it is off")
	assert.EqualValues(t, 0, use(t, a, "public-map", quota.Instances).Used)
	require.NoError(t, turn("ibo", requests.Begin))
	assert.Equal(t, full.PerHour, have("ibo").PerHour)
	require.NoError(t, a.Give(ctx, r.Deployment, guard.Owner{Team: "forecasting"}))
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(turn("ibo", requests.GiveBack)), "what was given away is another's")
	assert.Nil(t, have("ibo"))
	require.NoError(t, a.Give(ctx, r.Deployment, r.Owner))
	require.NoError(t, turn("ibo", requests.GiveBack))
	assert.Nil(t, have("ibo"))
	v, err = as("ibo").Request(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, requests.StageGone, v.Stage)
	thread, err := as("ibo").Thread(ctx, r.ID)
	require.NoError(t, err)
	assert.Contains(t, thread[len(thread)-1].Text, "gave it back, run")
	require.Error(t, turn("ibo", requests.GiveBack))
	last, err := a.LastOfTrail(ctx, 50)
	require.NoError(t, err)
	var words []string
	for _, e := range last {
		words = append(words, e.Actor.String()+" "+e.Words())
	}
	assert.Contains(t, strings.Join(words, "\n"), "ibo by screen stopped, started or gave back request 1, A map to try things on")
}
