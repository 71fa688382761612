package app

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/offer"
	"andamio/internal/core/quota"
	"andamio/internal/service/deployments"
)

// use is how much of an account is taken.
func use(t *testing.T, a *App, account string, m quota.Measure) quota.Use {
	t.Helper()
	uses, err := a.Uses(ctx, time.Now())
	require.NoError(t, err)
	for _, u := range uses {
		if u.Measure == m && (u.Account == account || strings.HasPrefix(u.Account, account+"#")) {
			require.Equal(t, u.Most, u.Used+u.Held+u.Paused+u.Free())
			return u.Use
		}
	}
	return quota.Use{}
}

// TestWhatStandsIsTakenOfQuotas raises workers for a team until its quota is full, stops, starts, enlarges and retires them, and looks after each.
func TestWhatStandsIsTakenOfQuotas(t *testing.T) {
	t.Parallel()
	a := offering(t)
	_, err := a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas:\n- { quota: pool, team: forecasting, most: { instances: 5, cores: 20, per_month: 5000 } }\n- { quota: each, each: person, most: { instances: 9 } }"))
	require.NoError(t, err)
	pool, err := a.Offer(ctx, "worker-pool", 0)
	require.NoError(t, err)
	order := func(name, workers string) deployments.Order {
		q, err := a.Quote(ctx, pool, offer.Answers{"workers": workers}, name, false)
		require.NoError(t, err)
		require.Empty(t, q.Cannot)
		return deployments.Order{Plan: q.Draft().Plan, For: guard.Owner{Team: "forecasting", Person: "teo"}}
	}
	four, err := a.NewRun(ctx, order("workers-1", "4"))
	require.NoError(t, err)
	assert.EqualValues(t, 4, use(t, a, "pool", quota.Instances).Held, "what is to be built is held")
	require.NoError(t, a.Work(ctx, four))
	assert.Equal(t, quota.Use{Account: "pool", Measure: quota.Cores, Most: 20, Used: 16}, use(t, a, "pool", quota.Cores))
	assert.EqualValues(t, 4, use(t, a, "each/teo", quota.Instances).Used)
	_, err = a.NewRun(ctx, order("workers-2", "2"))
	var over *quota.Overrun
	require.ErrorAs(t, err, &over)
	assert.Equal(t, fault.Refused, fault.CodeOf(err))
	require.ErrorContains(t, err, "the quota pool has 20 cores, of which 16 cores are taken: 8 cores more are too many")
	all, err := a.Deployments(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1, "nothing came of it")
	assert.EqualValues(t, 4, use(t, a, "each/teo", quota.Instances).Used, "and nothing of it is held")

	_, err = a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas: [ { quota: crew, team: forecasting, most: { cores: 8 } } ]"))
	require.NoError(t, err)
	assert.Equal(t, quota.Use{Account: "crew", Measure: quota.Cores, Most: 8, Used: 16}, use(t, a, "crew", quota.Cores), "what stands is of the new ones too, though it be more")
	_, err = a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas:\n- { quota: pool, team: forecasting, most: { instances: 5, cores: 20, per_month: 5000 } }\n- { quota: each, each: person, most: { instances: 9 } }"))
	require.NoError(t, err)
	dep := all[0].ID
	carry := func(o deployments.Order, err error) {
		t.Helper()
		require.NoError(t, err)
		id, err := a.NewRun(ctx, o)
		require.NoError(t, err)
		require.NoError(t, a.Work(ctx, id))
	}
	carry(a.Powering(ctx, dep, "", false))
	assert.Zero(t, use(t, a, "pool", quota.Cores).Used, "what is switched off takes no cores")
	month := use(t, a, "pool", quota.PerMonth)
	assert.Positive(t, month.Paused, "and what it costs so")
	two, err := a.NewRun(ctx, order("workers-2", "2"))
	require.NoError(t, err, "so there is room again")
	require.NoError(t, a.Work(ctx, two))
	on, err := a.Powering(ctx, dep, "", true)
	require.NoError(t, err)
	_, err = a.NewRun(ctx, on)
	require.ErrorAs(t, err, &over, "not for both")
	second, err := a.Run(ctx, two)
	require.NoError(t, err)
	carry(a.Retiring(ctx, second.Deployment))
	assert.Zero(t, use(t, a, "pool", quota.Instances).Used)
	carry(on, nil)
	assert.EqualValues(t, 16, use(t, a, "pool", quota.Cores).Used)
	carry(a.Retiring(ctx, dep))
	for _, m := range []quota.Measure{quota.Instances, quota.Cores} {
		assert.Zero(t, use(t, a, "pool", m).Used+use(t, a, "pool", m).Paused)
	}
	spent := use(t, a, "pool", quota.PerMonth)
	assert.Positive(t, spent.Used, "what it has cost this month stays spent")
	assert.Less(t, spent.Used, quota.PerMonth.Amount(0.01), "and that is little, for it stood for seconds")
}

// TestQuotasAreKeptIfTheyAreRight sets some that are wrong, and some of people that there are not.
func TestQuotasAreKeptIfTheyAreRight(t *testing.T) {
	t.Parallel()
	a := offering(t)
	for text, says := range map[string]string{
		"version: andamio.quotas/1\nquotas: [ { quota: a, most: { wings: 1 } } ]":               `"wings" is no measure`,
		"version: andamio.quotas/1\nquotas: [ { quota: a, team: delta, most: { cores: 1 } } ]":  `there is no team "delta"`,
		"version: andamio.quotas/1\nquotas: [ { quota: a, person: mia, most: { cores: 1 } } ]":  `nobody called "mia"`,
		"version: andamio.quotas/1\nquotas: [ { quota: a, most: { cores: 1 } }, { quota: 7 } ]": "",
	} {
		_, err := a.SetQuotas(ctx, []byte(text))
		require.ErrorContains(t, err, says)
		assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	}
	_, err := a.As(Actor{Name: "eva", Way: ByScreen}).SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas: []"))
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
	_, err = a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas: [ { quota: a, most: { cores: 4, per_month: 10 } } ]"))
	require.NoError(t, err)
	uses, err := a.Uses(ctx, time.Now())
	require.NoError(t, err)
	require.Len(t, uses, 2, "one of which nothing is taken is shown too")
	assert.EqualValues(t, 4, uses[0].Free())
	assert.Zero(t, uses[1].Forecast.RunsOut)
}

// TestABudgetThatIsSetLaterCountsWhatWasSpent sets a budget while something stands that began just now: it takes what that comes to from now on,
// and not what it would have cost from the month's beginning. What is given away is of the other's quotas from then on.
func TestABudgetThatIsSetLaterCountsWhatWasSpent(t *testing.T) {
	t.Parallel()
	a := offering(t)
	_, err := a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas: [ { quota: cores, team: forecasting, most: { cores: 40 } } ]"))
	require.NoError(t, err)
	pool, err := a.Offer(ctx, "worker-pool", 0)
	require.NoError(t, err)
	q, err := a.Quote(ctx, pool, offer.Answers{"workers": "2"}, "workers", false)
	require.NoError(t, err)
	carriedOut(t, a, deployments.Order{Plan: q.Draft().Plan, For: guard.Owner{Team: "forecasting"}})
	_, err = a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas:\n- { quota: cores, team: forecasting, most: { cores: 40 } }\n"+
		"- { quota: money, team: forecasting, most: { per_month: 90000 } }\n- { quota: maps, team: public-map, most: { cores: 40, per_month: 90000 } }"))
	require.NoError(t, err)
	now := time.Now()
	rest := quota.MonthOf(now).RestOf(int64(q.Draft().Plan.CostPerHour), now)
	second := int64(q.Draft().Plan.CostPerHour) / 3600
	assert.InDelta(t, rest, use(t, a, "money", quota.PerMonth).Used, float64(30*second), "it stood for seconds, not since the first of the month")

	cores := use(t, a, "cores", quota.Cores).Used
	require.NoError(t, a.Give(ctx, 1, guard.Owner{Team: "public-map"}))
	assert.Equal(t, []int64{0, cores}, []int64{use(t, a, "cores", quota.Cores).Used, use(t, a, "maps", quota.Cores).Used})
	assert.InDelta(t, rest, use(t, a, "maps", quota.PerMonth).Used, float64(30*second))
	assert.Less(t, use(t, a, "money", quota.PerMonth).Used, 30*second, "what it cost before stays with whose it was")
}
