package app

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/decide"
	"andamio/internal/core/fault"
	"andamio/internal/core/offer"
	"andamio/internal/core/quota"
	"andamio/internal/service/requests"
	"andamio/internal/store"
)

// TestARequestIsAnsweredOtherwise has a request that waits be given other answers: what is held and who decides follow, and what cannot be
// leaves it as it was.
func TestARequestIsAnsweredOtherwise(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	_, err := a.SetApprovals(ctx, []byte(`
version: andamio.approvals/1
rules:
  - { rule: few, when: "size.cores <= 16", then: approve, say: Few are approved at once. }
  - { rule: storm, when: "true", then: ask, ask: [lia, ana], need: 2, say: Lia and Ana decide. }`))
	require.NoError(t, err)
	teo := as("teo")
	r, err := teo.AskFor(ctx, requests.Asked{Offer: "worker-pool", Answers: offer.Answers{"workers": "6", "cores": "4"}})
	require.NoError(t, err)
	r, err = as("lia").Answer(ctx, r.ID, true, "")
	require.NoError(t, err)
	require.Equal(t, []any{store.RequestWaiting, []string{"lia"}}, []any{r.State, r.Yes})
	cores := func() int64 { return use(t, a, "forecasting", quota.Cores).Held }
	assert.EqualValues(t, 24, cores())

	for name, c := range map[string]struct {
		who     string
		answers offer.Answers
		code    fault.Code
		want    string
	}{
		"as it was":      {"teo", offer.Answers{"workers": "6", "cores": "4"}, fault.Invalid, "these are the answers that request 1 has"},
		"no answer":      {"teo", offer.Answers{"workers": "7"}, fault.Invalid, "workers: "},
		"not asked":      {"teo", offer.Answers{"workers": "4", "weather": "fair"}, fault.Invalid, "weather"},
		"too many":       {"teo", offer.Answers{"workers": "8", "cores": "hurried"}, fault.Refused, ""},
		"somebody else":  {"lia", offer.Answers{"workers": "2"}, fault.NotAllowed, "request 1 is not yours"},
		"nobody's to do": {"ibo", offer.Answers{"workers": "2"}, fault.NotFound, "there is no request 1 of yours"},
	} {
		if name == "too many" {
			_, err := a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas: [ { quota: forecasting, team: forecasting, most: { cores: 48 } } ]"))
			require.NoError(t, err)
		}
		_, err := as(c.who).Reanswer(ctx, r.ID, c.answers, "")
		require.ErrorContains(t, err, c.want, name)
		assert.Equal(t, c.code, fault.CodeOf(err), "%s: %v", name, err)
		now, err := a.store.Request(ctx, r.ID)
		require.NoError(t, err)
		assert.Equal(t, r, now, name)
		assert.EqualValues(t, 24, cores(), name)
	}

	f, err := teo.Foresee(ctx, requests.Asked{Offer: "worker-pool", Answers: offer.Answers{"workers": "8", "cores": "4"}, Instead: r.ID})
	require.NoError(t, err)
	assert.Equal(t, []any{"workers-1", "storm", ""}, []any{f.Name, f.Decision.Rule, f.Over}, "what it holds is not counted twice")
	larger, err := teo.Reanswer(ctx, r.ID, offer.Answers{"workers": "8", "cores": "4"}, "for two basins")
	require.NoError(t, err)
	assert.Equal(t, []any{store.RequestWaiting, "storm", 0}, []any{larger.State, larger.Decision.Rule, len(larger.Yes)}, "who said yes said it to something else")
	assert.EqualValues(t, 32, cores())
	assert.Greater(t, larger.PerHour, r.PerHour)
	thread, err := teo.Thread(ctx, r.ID)
	require.NoError(t, err)
	var words []string
	for _, e := range thread {
		words = append(words, e.Text)
	}
	assert.Regexp(t, `^answered otherwise: workers 8, not 6; \d\.\d{3} cr/h, not \d\.\d{3}\. for two basins$`, words[3])

	few, err := teo.Reanswer(ctx, r.ID, offer.Answers{"workers": "4", "cores": "4"}, "")
	require.NoError(t, err)
	assert.Equal(t, []any{store.RequestBuilt, "few", decide.Approve}, []any{few.State, few.Decision.Rule, few.Decision.Then}, "it is decided by rule now")
	assert.EqualValues(t, 16, cores())
	_, err = teo.Reanswer(ctx, r.ID, offer.Answers{"workers": "2"}, "")
	assert.ErrorContains(t, err, "request 1 is built: its answers are not changed any more")
	assert.Equal(t, "serving", nowServing(t, a, few).Stage)
	assert.EqualValues(t, 16, use(t, a, "forecasting", quota.Cores).Used)
}

// TestAnswersThatWereNeverKeptAreNotHeldFor breaks a change of answers off after what it needs was held.
func TestAnswersThatWereNeverKeptAreNotHeldFor(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	_, err := a.SetApprovals(ctx, []byte("version: andamio.approvals/1\nrules: []"))
	require.NoError(t, err)
	r, err := as("teo").AskFor(ctx, requests.Asked{Offer: "worker-pool", Answers: offer.Answers{"workers": "4", "cores": "4"}})
	require.NoError(t, err)
	o, err := a.Offer(ctx, "worker-pool", 0)
	require.NoError(t, err)
	q, err := a.Quote(ctx, o, offer.Answers{"workers": "2", "cores": "4"}, "x", false)
	require.NoError(t, err)
	cores := func() int64 { return use(t, a, "forecasting", quota.Cores).Held }
	require.NoError(t, a.Mend(ctx, time.Now().Add(time.Minute)))
	assert.EqualValues(t, 16, cores())
	require.NoError(t, a.Reserve(ctx, r.ID, r.Owner, q.Draft().Plan, time.Now()))
	assert.EqualValues(t, 8, cores())
	require.NoError(t, a.Mend(ctx, time.Now().Add(time.Minute)))
	assert.EqualValues(t, 16, cores(), "what is held is what is asked for")
	r, err = as("lia").Answer(ctx, r.ID, true, "")
	require.NoError(t, err)
	assert.Equal(t, store.RequestBuilt, r.State)
}

// TestAnswersAreSavedAndGivenAgain asks for the same once more, of an offer that asks otherwise by then.
func TestAnswersAreSavedAndGivenAgain(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	_, err := a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas: []"))
	require.NoError(t, err)
	ask := func(who string, answers offer.Answers) requests.Request {
		t.Helper()
		r, err := as(who).AskFor(ctx, requests.Asked{Offer: "trial-map", Answers: answers})
		require.NoError(t, err)
		return r
	}
	first := ask("ibo", offer.Answers{"fronts": "2", "first": "level 2.30 m"})
	ask("ibo", offer.Answers{"fronts": "1"})
	ask("ibo", offer.Answers{"fronts": "2", "first": "level 2.30 m"})
	saved, err := as("ibo").Saved(ctx, "trial-map")
	require.NoError(t, err)
	assert.Equal(t, []offer.Answers{{"fronts": "2", "first": "level 2.30 m"}, {"fronts": "1"}}, saved)
	_, err = as("eva").Saved(ctx, "trial-map")
	assert.Equal(t, fault.NotFound, fault.CodeOf(err), "to whom it is not offered there is none")
	again, err := as("ibo").Again(ctx, first.ID)
	require.NoError(t, err)
	assert.Equal(t, requests.Asked{Offer: "trial-map", Answers: offer.Answers{"fronts": "2", "first": "level 2.30 m"}, Team: "public-map"}, again)
	_, err = as("teo").Again(ctx, first.ID)
	assert.Equal(t, fault.NotFound, fault.CodeOf(err))
}
