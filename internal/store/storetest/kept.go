package storetest

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/guard"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

func deploymentsAreListedTheNewestFirst(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	none, err := s.Deployments(ctx)
	require.NoError(t, err)
	assert.Empty(t, none)
	var ids []int64
	for _, name := range []string{"first", "second"} {
		id, err := s.CreateDeployment(ctx, name, "/templates/"+name, guard.Owner{})
		require.NoError(t, err)
		ids = append(ids, id)
	}
	all, err := s.Deployments(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []string{"second", "first"}, []string{all[0].Name, all[1].Name})
	one, err := s.Deployment(ctx, ids[0])
	require.NoError(t, err)
	assert.Equal(t, all[1], one)
	assert.Equal(t, "/templates/first", one.Template)
	assert.WithinDuration(t, time.Now(), one.Created, time.Minute)
	assert.NotEqual(t, all[0].Mark, all[1].Mark, "each has a mark of its own")
	assert.NotEmpty(t, one.Mark)
	_, err = s.Deployment(ctx, 99)
	assert.ErrorIs(t, err, store.ErrNotFound)
	assert.ErrorContains(t, err, "deployment 99")
}

func aRunThatNeverBeganIsForgottenWithItsDeployment(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	id := newRun(t, s)
	r, err := s.Run(ctx, id)
	require.NoError(t, err)
	dep, err := s.CreateDeployment(ctx, "alone", "", guard.Owner{})
	require.NoError(t, err)
	lone := anotherRun(t, s, r.Plan, dep)
	require.NoError(t, s.Forget(ctx, lone))
	_, err = s.Run(ctx, lone)
	assert.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.Deployment(ctx, dep)
	assert.ErrorIs(t, err, store.ErrNotFound, "nothing was ever made of it")
	_, err = s.Claim(ctx, id, 0, "host/1", dead)
	require.NoError(t, err)
	require.NoError(t, s.Forget(ctx, id))
	_, err = s.Run(ctx, id)
	assert.NoError(t, err, "one that has begun is never forgotten")
}

// whatAForgottenRunHadIsTheOneBeforesAgain gives addresses to runs that are forgotten: they are the run's before it, or nobody's.
func whatAForgottenRunHadIsTheOneBeforesAgain(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	first := newRun(t, s)
	r, err := s.Run(ctx, first)
	require.NoError(t, err)
	address := []store.Reservation{{Site: "vega", Value: "10.0.0.5"}}
	require.NoError(t, s.Reserve(ctx, first, address))
	second := anotherRun(t, s, r.Plan, r.Deployment)
	require.NoError(t, s.Reserve(ctx, second, address))
	other, err := s.CreateDeployment(ctx, "not begun yet", "", guard.Owner{})
	require.NoError(t, err)
	require.NoError(t, s.Forget(ctx, second))
	held, err := s.Reservations(ctx)
	require.NoError(t, err)
	assert.Equal(t, []store.Reservation{{Site: "vega", Value: "10.0.0.5", Run: first}}, held)
	_, err = s.Deployment(ctx, other)
	require.NoError(t, err, "one that somebody else is just making a run of stays")
	require.NoError(t, s.Forget(ctx, first))
	held, err = s.Reservations(ctx)
	require.NoError(t, err)
	assert.Empty(t, held)
}

func whatWasWrittenComesBackWhole(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	got, err := s.Source(ctx, "sha256:none")
	require.NoError(t, err)
	assert.Nil(t, got)
	files := store.Source{Root: "template.yaml", Files: map[string][]byte{"template.yaml": []byte("a: b\n"), "data/x.bin": {0, 1, 255}}}
	require.NoError(t, s.KeepSource(ctx, "sha256:1", files))
	require.NoError(t, s.KeepSource(ctx, "sha256:1", store.Source{Root: "other"}), "what is kept stays")
	got, err = s.Source(ctx, "sha256:1")
	require.NoError(t, err)
	assert.Equal(t, &files, got)

	require.NoError(t, s.KeepFacts(ctx, "vega", []byte(`{"a":1}`), noon))
	require.NoError(t, s.KeepFacts(ctx, "vega", []byte(`{"a":2}`), noon))
	require.NoError(t, s.KeepFacts(ctx, "presa", []byte(`{}`), noon))
	facts, err := s.Facts(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string][]byte{"vega": []byte(`{"a":2}`), "presa": []byte(`{}`)}, facts)

	for i := range 3 {
		require.NoError(t, s.KeepTrend(ctx, noon.Add(time.Duration(i)*time.Hour), map[inventory.Type]int{inventory.Changed: i}))
	}
	trend, err := s.Trend(ctx, noon.Add(time.Hour))
	require.NoError(t, err)
	require.Len(t, trend, 2, "of then and later")
	assert.Equal(t, store.TrendPoint{At: noon.Add(time.Hour), Counts: map[inventory.Type]int{inventory.Changed: 1}}, trend[0])
	assert.Equal(t, 2, trend[1].Counts[inventory.Changed])
}

func surveysAreListedAndEnded(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	_, err := s.LastSurvey(ctx, "vega")
	assert.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.Survey(ctx, 7)
	assert.ErrorIs(t, err, store.ErrNotFound)
	assert.ErrorContains(t, err, "survey 7")
	first, err := s.BeginSurvey(ctx, "vega", true, []string{"b", "a"}, noon)
	require.NoError(t, err)
	_, err = s.BeginSurvey(ctx, "presa", false, []string{""}, noon.Add(time.Minute))
	require.NoError(t, err)
	all, err := s.Surveys(ctx, 10)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "presa", all[0].Site, "the newest first")
	assert.Equal(t, store.SurveyGoing, all[1].State)
	assert.True(t, all[1].Deep)
	assert.Equal(t, []string{"a", "b"}, []string{all[1].Parts[0].Region, all[1].Parts[1].Region})
	one, err := s.Surveys(ctx, 1)
	require.NoError(t, err)
	assert.Len(t, one, 1)
	last, err := s.LastSurvey(ctx, "vega")
	require.NoError(t, err)
	assert.Equal(t, first, last.ID)
	assert.True(t, last.Ended.IsZero())

	require.NoError(t, s.Stage(ctx, first, store.SurveyPart{Region: "a", Kind: "volume", Cursor: "v-1"}, seen("v-1")))
	require.NoError(t, s.EndSurvey(ctx, first, store.SurveyStopped, noon.Add(time.Hour)))
	require.NoError(t, s.EndSurvey(ctx, first, store.SurveyDone, noon.Add(2*time.Hour)))
	last, err = s.LastSurvey(ctx, "vega")
	require.NoError(t, err)
	assert.Equal(t, store.SurveyDone, last.State)
	assert.Equal(t, noon.Add(2*time.Hour), last.Ended)
}

// whole surveys a region and ends it well.
func whole(t *testing.T, s store.Store, site, region string, ids ...string) {
	t.Helper()
	id, err := s.BeginSurvey(ctx, site, false, []string{region}, noon)
	require.NoError(t, err)
	var all []mapping.Observation
	for _, x := range ids {
		all = append(all, mapping.Observation{Site: site, Region: region, Type: "compute", ID: x, Name: x})
	}
	require.NoError(t, s.Stage(ctx, id, store.SurveyPart{Region: region}, all))
	require.NoError(t, s.EndRegion(ctx, id, site, region, nil, noon))
	require.NoError(t, s.EndSurvey(ctx, id, store.SurveyDone, noon))
}

func regionsAndSitesStandByThemselves(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	whole(t, s, "vega", "a", "i-1", "i-2")
	whole(t, s, "vega", "b", "i-3")
	whole(t, s, "presa", "a", "i-4")
	assert.ElementsMatch(t, []string{"i-1", "i-2", "i-3", "i-4"}, observed(t, s))
	whole(t, s, "vega", "a", "i-2", "i-5")
	assert.ElementsMatch(t, []string{"i-2", "i-3", "i-4", "i-5"}, observed(t, s), "what is gone of that region is gone, and nothing else")
	id, err := s.BeginSurvey(ctx, "vega", false, []string{"b"}, noon)
	require.NoError(t, err)
	require.NoError(t, s.Stage(ctx, id, store.SurveyPart{Region: "b"}, nil))
	require.NoError(t, s.ForgetSite(ctx, "vega"))
	assert.Equal(t, []string{"i-4"}, observed(t, s))
	covered, err := s.Coverage(ctx)
	require.NoError(t, err)
	require.Len(t, covered, 1)
	assert.Equal(t, "presa", covered[0].Site)
}

// noticesAreTakenOnce tells of things twice, of things that are gone, and of a thing in a region that is known.
func noticesAreTakenOnce(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	whole(t, s, "vega", "north", "i-1")
	tell := func(id, notice string, o *mapping.Observation) int {
		n, err := s.Observed(ctx, []store.Sight{{Site: "vega", ID: id, Observation: o, Notices: []string{notice}}}, noon.Add(time.Minute))
		require.NoError(t, err)
		return n
	}
	named := func(id, name string) *mapping.Observation {
		return &mapping.Observation{Site: "vega", Region: "elsewhere", Type: "compute", ID: id, Name: name}
	}
	assert.Equal(t, 1, tell("i-1", "n-1", named("i-1", "renamed")))
	all, err := s.Observations(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "renamed", all[0].Name)
	assert.Equal(t, "north", all[0].Region, "it stays in the region that listed it")
	assert.Equal(t, noon.Add(time.Minute), all[0].Seen)
	assert.Zero(t, tell("i-1", "n-1", named("i-1", "again")), "a notice that came before says nothing new")
	all, err = s.Observations(ctx)
	require.NoError(t, err)
	assert.Equal(t, "renamed", all[0].Name)
	assert.Equal(t, 1, tell("i-2", "n-2", named("i-2", "new")))
	assert.Equal(t, []string{"i-1", "i-2"}, observed(t, s))
	assert.Equal(t, 1, tell("i-1", "n-3", nil))
	assert.Equal(t, []string{"i-2"}, observed(t, s), "one that is gone is gone")
	n, err := s.Observed(ctx, []store.Sight{{Site: "vega", ID: "i-2", Observation: named("i-2", "late"), Notices: []string{"n-2"}}}, noon.Add(3*time.Hour))
	require.NoError(t, err)
	assert.Zero(t, n)
	n, err = s.Observed(ctx, []store.Sight{{Site: "vega", ID: "i-2", Observation: named("i-2", "late"), Notices: []string{"n-2"}}}, noon.Add(3*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, 1, n, "what was heard is forgotten after an hour")
}

func decisionsOnIdentityComeBackAsTheyWere(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	want := []inventory.Decision{{Site: "vega", Provider: "i-1", Record: "r-1", Same: true}, {Site: "vega", Provider: "i-1", Record: "r-2", Same: false}}
	act, err := s.RecordSettlement(ctx, "operator", noon, store.SettlementChanges{Body: []byte("{}"), Decide: want,
		Ignore: []store.Ignoring{{Ignored: inventory.Ignored{Finding: "f-1", Until: noon.Add(time.Hour)}, Reason: "later"}, {Ignored: inventory.Ignored{Finding: "f-2"}, Reason: "never"}}})
	require.NoError(t, err)
	got, err := s.Identities(ctx)
	require.NoError(t, err)
	assert.ElementsMatch(t, want, got)
	ignored, err := s.Ignored(ctx)
	require.NoError(t, err)
	require.Len(t, ignored, 2)
	slices.SortFunc(ignored, func(a, b store.Ignoring) int { return int(a.Finding[2]) - int(b.Finding[2]) })
	assert.Equal(t, noon.Add(time.Hour), ignored[0].Until)
	assert.True(t, ignored[1].Until.IsZero(), "without an end")
	assert.Equal(t, []string{"later", "never"}, []string{ignored[0].Reason, ignored[1].Reason})
	assert.Equal(t, act, ignored[0].Act)
	acts, err := s.Settlements(ctx, 10)
	require.NoError(t, err)
	require.Len(t, acts, 1)
	assert.Equal(t, store.Settlement{ID: act, At: noon, Who: "operator", Body: []byte("{}")}, acts[0])
	require.NoError(t, s.UndoSettlement(ctx, act, "operator", noon))
	got, err = s.Identities(ctx)
	require.NoError(t, err)
	assert.Empty(t, got)
	assert.ErrorIs(t, s.UndoSettlement(ctx, act, "operator", noon), store.ErrNotFound, "once")
}

func reservationsAreGivenBackByTheirRun(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	id := newRun(t, s)
	r, err := s.Run(ctx, id)
	require.NoError(t, err)
	dep, err := s.CreateDeployment(ctx, "other", "", guard.Owner{})
	require.NoError(t, err)
	other := anotherRun(t, s, r.Plan, dep)
	require.NoError(t, s.Reserve(ctx, id, []store.Reservation{{Site: "vega", Value: "10.0.0.1"}, {Site: "vega", Value: "10.0.0.2"}}))
	require.NoError(t, s.Reserve(ctx, other, []store.Reservation{{Site: "vega", Value: "10.0.0.3"}}))
	err = s.Reserve(ctx, other, []store.Reservation{{Site: "vega", Value: "10.0.0.9"}, {Site: "vega", Value: "10.0.0.1"}})
	require.ErrorContains(t, err, "10.0.0.1 at vega is held by run")
	held, err := s.Reservations(ctx)
	require.NoError(t, err)
	assert.Len(t, held, 3, "all or nothing: what could have been had was not taken either")
	n, err := s.Release(ctx, 4711)
	require.NoError(t, err)
	assert.Zero(t, n)
	n, err = s.Release(ctx, id)
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	held, err = s.Reservations(ctx)
	require.NoError(t, err)
	assert.Equal(t, []store.Reservation{{Site: "vega", Value: "10.0.0.3", Run: other}}, held)
}

// nothingIsDoneOnAClosedStore has every call say so: none counts as done.
func nothingIsDoneOnAClosedStore(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	id := newRun(t, s)
	require.NoError(t, s.Close())
	calls := map[string]func() error{
		"deployments":  func() error { _, err := s.Deployments(ctx); return err },
		"deployment":   func() error { _, err := s.Deployment(ctx, 1); return err },
		"create":       func() error { _, err := s.CreateDeployment(ctx, "x", "", guard.Owner{}); return err },
		"own":          func() error { return s.Own(ctx, 1, guard.Owner{}) },
		"enlist":       func() error { _, err := s.Enlist(ctx, store.Delivery{}); return err },
		"take":         func() error { _, err := s.TakeDelivery(ctx, noon, noon); return err },
		"take more":    func() error { _, err := s.TakeDeliveriesOf(ctx, "a", 1, noon); return err },
		"settle":       func() error { return s.SettleDelivery(ctx, store.Delivery{}) },
		"resend":       func() error { return s.ResendDelivery(ctx, 1, noon) },
		"deliveries":   func() error { _, err := s.Deliveries(ctx, 1); return err },
		"set hooks":    func() error { return s.SetHooks(ctx, []string{"a"}, noon) },
		"set promise":  func() error { return s.SetPromise(ctx, promise.Promise{}, nil) },
		"drop promise": func() error { return s.DropPromise(ctx, 1, promise.Lease, nil) },
		"promises":     func() error { _, err := s.Promises(ctx); return err },
		"was kept":     func() error { _, err := s.PromiseFirings(ctx, 1, promise.Lease, 1); return err },
		"hooks since":  func() error { _, err := s.HooksSince(ctx); return err },
		"keep book":    func() error { return s.KeepBook(ctx, 1, store.Book{}) },
		"books":        func() error { _, err := s.Books(ctx); return err },
		"keep prices":  func() error { return s.KeepPrices(ctx, store.PriceList{}) },
		"price lists":  func() error { _, err := s.PriceLists(ctx); return err },
		"owners":       func() error { _, err := s.Owners(ctx); return err },
		"publish":      func() error { _, err := s.PublishOffer(ctx, store.Offer{}); return err },
		"withdraw":     func() error { return s.WithdrawOffer(ctx, "x") },
		"hold":         func() error { _, err := s.HoldQuota(ctx, store.Hold{}, nil); return err },
		"change hold":  func() error { return s.ChangeHold(ctx, store.Hold{}, nil, false) },
		"holds":        func() error { _, err := s.Holds(ctx); return err },
		"hold of":      func() error { _, err := s.HoldOf(ctx, 1, 0); return err },
		"ask":          func() error { _, err := s.AddRequest(ctx, store.Request{}); return err },
		"change ask":   func() error { _, err := s.ChangeRequest(ctx, store.Request{}, store.RequestWaiting); return err },
		"requests":     func() error { _, err := s.Requests(ctx); return err },
		"request":      func() error { _, err := s.Request(ctx, 1); return err },
		"thread":       func() error { _, err := s.RequestThread(ctx, 1); return err },
		"takes of":     func() error { _, err := s.TakesOf(ctx, 1); return err },
		"takes":        func() error { _, err := s.Takes(ctx); return err },
		"offers":       func() error { _, err := s.Offers(ctx); return err },
		"offer":        func() error { _, err := s.Offer(ctx, "x", 1); return err },
		"versions":     func() error { _, err := s.OfferVersions(ctx, "x"); return err },
		"runs":         func() error { _, err := s.Runs(ctx); return err },
		"run":          func() error { _, err := s.Run(ctx, id); return err },
		"new run":      func() error { _, err := s.CreateRun(ctx, store.Run{Plan: 1}); return err },
		"runs of":      func() error { _, err := s.RunsOf(ctx, 1); return err },
		"plan":         func() error { _, err := s.Plan(ctx, 1); return err },
		"forget":       func() error { return s.Forget(ctx, id) },
		"claim":        func() error { _, err := s.Claim(ctx, id, 0, "host/1", dead); return err },
		"beat":         func() error { _, err := s.Beat(ctx, id, 0); return err },
		"finish":       func() error { return s.Finish(ctx, id, 0, run.Standing) },
		"cancel":       func() error { return s.Cancel(ctx, id) },
		"events":       func() error { _, err := s.Events(ctx, id, 0, 1); return err },
		"decide":       func() error { return s.Decide(ctx, id, store.Decision{}) },
		"decisions":    func() error { _, err := s.Decisions(ctx, id); return err },
		"taken":        func() error { return s.Taken(ctx, 1) },
		"leave":        func() error { return s.Leave(ctx, id) },
		"void":         func() error { return s.Void(ctx, id) },
		"learn":        func() error { return s.Learn(ctx, id, nil) },
		"durations":    func() error { _, err := s.Durations(ctx, 1); return err },
		"reserve":      func() error { return s.Reserve(ctx, id, nil) },
		"keep":         func() error { return s.Keep(ctx, 1, nil) },
		"release":      func() error { _, err := s.Release(ctx, id); return err },
		"held":         func() error { _, err := s.Reservations(ctx); return err },
		"records":      func() error { _, err := s.Records(ctx); return err },
		"revise":       func() error { return s.Revise(ctx, 0, "x", noon, nil) },
		"touch":        func() error { return s.Touch(ctx, nil) },
		"history":      func() error { _, err := s.History(ctx, "r"); return err },
		"act":          func() error { _, err := s.RecordSettlement(ctx, "x", noon, store.SettlementChanges{}); return err },
		"undo":         func() error { return s.UndoSettlement(ctx, 1, "x", noon) },
		"acts":         func() error { _, err := s.Settlements(ctx, 1); return err },
		"ignored":      func() error { _, err := s.Ignored(ctx); return err },
		"identities":   func() error { _, err := s.Identities(ctx); return err },
		"survey":       func() error { _, err := s.BeginSurvey(ctx, "x", false, nil, noon); return err },
		"surveys":      func() error { _, err := s.Surveys(ctx, 1); return err },
		"one survey":   func() error { _, err := s.Survey(ctx, 1); return err },
		"last survey":  func() error { _, err := s.LastSurvey(ctx, "x"); return err },
		"stage":        func() error { return s.Stage(ctx, 1, store.SurveyPart{}, nil) },
		"end region":   func() error { return s.EndRegion(ctx, 1, "x", "", nil, noon) },
		"fail region":  func() error { return s.EndRegion(ctx, 1, "x", "", errors.New("no"), noon) },
		"end survey":   func() error { return s.EndSurvey(ctx, 1, store.SurveyDone, noon) },
		"seen":         func() error { _, err := s.Observations(ctx); return err },
		"observed":     func() error { _, err := s.Observed(ctx, nil, noon); return err },
		"coverage":     func() error { _, err := s.Coverage(ctx); return err },
		"forget site":  func() error { return s.ForgetSite(ctx, "x") },
		"keep trend":   func() error { return s.KeepTrend(ctx, noon, nil) },
		"trend":        func() error { _, err := s.Trend(ctx, noon); return err },
		"keep facts":   func() error { return s.KeepFacts(ctx, "x", nil, noon) },
		"facts":        func() error { _, err := s.Facts(ctx); return err },
		"stamp":        func() error { _, err := s.InventoryStamp(ctx); return err },
		"moves":        func() error { _, err := s.Moves(ctx); return err },
		"source":       func() error { _, err := s.Source(ctx, "x"); return err },
		"keep source":  func() error { return s.KeepSource(ctx, "x", store.Source{}) },
	}
	for _, name := range slices.Sorted(maps.Keys(calls)) {
		assert.Error(t, calls[name](), name)
	}
}

// everyCallHeedsItsContext has the time of each call be over before it begins.
func everyCallHeedsItsContext(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	over, cancel := context.WithCancel(ctx)
	cancel()
	_, err := s.Runs(over)
	assert.ErrorIs(t, err, context.Canceled)
	_, err = s.RecordSettlement(over, "x", noon, store.SettlementChanges{})
	assert.ErrorIs(t, err, context.Canceled)
	assert.ErrorIs(t, s.EndRegion(over, 1, "x", "", nil, noon), context.Canceled)
	_, err = s.Observations(over)
	assert.ErrorIs(t, err, context.Canceled)
}

// Whatever records become, one after another, what is kept is what they became last, and undoing an act leads back.
func recordsAreWhatTheyBecameLast(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	rapid.Check(t, func(rt *rapid.T) {
		before, err := s.Records(ctx)
		require.NoError(rt, err)
		want := map[string]string{}
		for i := range before {
			want[before[i].ID] = before[i].Name
		}
		var changes []store.RecordChange
		for range rapid.IntRange(1, 6).Draw(rt, "changes") {
			id := fmt.Sprintf("r-%d", rapid.IntRange(1, 4).Draw(rt, "record"))
			c := store.RecordChange{ID: id, Why: "drawn"}
			if name, known := want[id]; known {
				c.Before = &inventory.Record{ID: id, Name: name, Class: kinds.Instance, Site: "vega"}
			}
			if rapid.Bool().Draw(rt, "goes") {
				delete(want, id)
			} else {
				name := rapid.StringMatching(`[a-z]{1,8}`).Draw(rt, "name")
				c.After = &inventory.Record{ID: id, Name: name, Class: kinds.Instance, Site: "vega"}
				want[id] = name
			}
			changes = append(changes, c)
		}
		act, err := s.RecordSettlement(ctx, "operator", noon, store.SettlementChanges{Body: []byte("{}"), Changes: changes})
		require.NoError(rt, err)
		got, err := s.Records(ctx)
		require.NoError(rt, err)
		names := map[string]string{}
		for i := range got {
			names[got[i].ID] = got[i].Name
		}
		require.Equal(rt, want, names)
		if rapid.Bool().Draw(rt, "undone") {
			require.NoError(rt, s.UndoSettlement(ctx, act, "operator", noon))
			back, err := s.Records(ctx)
			require.NoError(rt, err)
			require.Equal(rt, before, back)
		}
	})
}

// aDeploymentIsSomebodys makes one of nobody in particular and one of a team, and gives both away.
func aDeploymentIsSomebodys(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	eva := guard.Owner{Team: "gauging", Person: "eva", Service: "gauge-intake", Stage: "trial", Tags: map[string]string{"river": "ebro"}}
	nobodys, err := s.CreateDeployment(ctx, "free", "", guard.Owner{})
	require.NoError(t, err)
	hers, err := s.CreateDeployment(ctx, "hers", "", eva)
	require.NoError(t, err)
	require.NoError(t, s.Own(ctx, nobodys, guard.Owner{Team: "map"}))
	d, err := s.Deployment(ctx, hers)
	require.NoError(t, err)
	assert.Equal(t, eva, d.Owner)
	require.NoError(t, s.Own(ctx, hers, guard.Owner{}))
	all, err := s.Deployments(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, guard.Owner{}, all[0].Owner)
	assert.Equal(t, guard.Owner{Team: "map"}, all[1].Owner)
	assert.ErrorIs(t, s.Own(ctx, 99, eva), store.ErrNotFound)
}
