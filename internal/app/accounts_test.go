package app

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/ledger"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/service/accounts"
	"andamio/internal/service/deployments"
	"andamio/internal/service/requests"
	"andamio/internal/store"
)

// today is an account of the time around now.
func today(by string) ledger.Query {
	return ledger.Query{From: time.Now().UTC().Add(-time.Hour), To: time.Now().UTC().Add(time.Hour), By: by}
}

// accountOf is what somebody sees of an account, as of a time after now.
func accountOf(t *testing.T, a *App, who string, q ledger.Query, later time.Duration) *accounts.Account {
	t.Helper()
	out, err := a.As(Actor{Name: who, Way: ByCommand}).Account(ctx, q, time.Now().Add(later))
	require.NoError(t, err)
	return out
}

// TestAnAccountFollowsWhatStands raises workers for a team, stops them, gives them away, enlarges and retires them, and has the account
// say at each moment what they cost then, to whom; from the journals alone, and to nobody whom it does not concern.
func TestAnAccountFollowsWhatStands(t *testing.T) {
	t.Parallel()
	a := offering(t)
	pool, err := a.Offer(ctx, "worker-pool", 0)
	require.NoError(t, err)
	q, err := a.Quote(ctx, pool, offer.Answers{"workers": "2"}, "workers", false)
	require.NoError(t, err)
	require.Empty(t, q.Cannot)
	id, err := a.NewRun(ctx, deployments.Order{Plan: q.Draft().Plan, For: guard.Owner{Team: "forecasting", Person: "teo", Tags: map[string]string{"fund": "7"}}})
	require.NoError(t, err)
	assert.Empty(t, accountOf(t, a, "ana", today("team"), 0).Lines, "what is not begun costs nothing")
	require.NoError(t, a.Work(ctx, id))
	costs := func() money.Amount {
		d, err := a.Deployment(ctx, 1)
		require.NoError(t, err)
		return d.CostPerHour()
	}
	full := costs()
	got := accountOf(t, a, "ana", today("team"), time.Minute)
	require.Len(t, got.Lines, 1)
	assert.Equal(t, []any{"forecasting", full, full}, []any{got.Lines[0].Key, got.Lines[0].Now, got.Total.Now})
	assert.Positive(t, got.Total.Cost)

	o, err := a.Powering(ctx, 1, "", false)
	require.NoError(t, err)
	carriedOut(t, a, o)
	assert.Less(t, costs(), full)
	assert.Equal(t, costs(), accountOf(t, a, "ana", today("team"), time.Minute).Total.Now, "off it costs what that costs")
	stood := time.Now().Unix()
	require.Eventually(t, func() bool { return time.Now().Unix() > stood+1 }, 2*time.Minute, 50*time.Millisecond, "a ledger counts whole seconds")
	require.NoError(t, a.Give(ctx, 1, guard.Owner{Team: "public-map"}))
	got = accountOf(t, a, "ana", today("team"), time.Minute)
	now := map[string]money.Amount{}
	for _, l := range got.Lines {
		now[l.Key] = l.Now
	}
	assert.Equal(t, map[string]money.Amount{"forecasting": 0, "public-map": costs()}, now, "what it cost before stays with whom it was")

	assert.Equal(t, "public-map", keys(accountOf(t, a, "ibo", today("team"), time.Minute)), "each sees what is theirs")
	assert.Equal(t, "forecasting", keys(accountOf(t, a, "teo", today("team"), time.Minute)))
	assert.Empty(t, keys(accountOf(t, a, "mia", today("team"), time.Minute)))

	o, err = a.Retiring(ctx, 1)
	require.NoError(t, err)
	carriedOut(t, a, o)
	end := accountOf(t, a, "ana", today("tag:fund"), time.Minute)
	assert.Zero(t, end.Total.Now)
	assert.Equal(t, end.Total.Cost, accountOf(t, a, "ana", today("site"), 40*time.Minute).Total.Cost, "what is gone costs no more")

	// The books are kept, and if they are lost or wrong the journals say the same.
	for name, b := range map[string]store.Book{"kept": {}, "lost": {Runs: "x", Body: []byte("{}")}, "broken": {Runs: "x", Body: []byte("{")}} {
		if b.Runs != "" {
			require.NoError(t, a.store.KeepBook(ctx, 1, b), name)
		}
		again := another(t, a)
		got, err := again.Account(ctx, end.Query, time.Now().Add(time.Minute))
		require.NoError(t, err, name)
		was, _ := json.Marshal(end.Lines)
		is, _ := json.Marshal(got.Lines)
		assert.JSONEq(t, string(was), string(is), name)
	}
}

func keys(a *accounts.Account) string {
	var out []string
	for _, l := range a.Lines {
		out = append(out, l.Key)
	}
	return strings.Join(out, " ")
}

// TestPricesAndRatesDecideWhatItCosts has sites ask more from a moment on, says what the unit is worth, and exports that.
func TestPricesAndRatesDecideWhatItCosts(t *testing.T) {
	t.Parallel()
	a, _, _ := deployed(t)
	lists, err := a.store.PriceLists(ctx)
	require.NoError(t, err)
	require.Len(t, lists, 5, "a survey keeps what each site asks")
	n, err := a.RefreshPrices(ctx)
	require.NoError(t, err)
	assert.Equal(t, 5, n)
	lists, err = a.store.PriceLists(ctx)
	require.NoError(t, err)
	require.Len(t, lists, 5, "the same again is no other list")

	before := accountOf(t, a, "", today("site"), time.Minute)
	var vega estate.Site
	for _, l := range lists {
		if l.Site == "vega" {
			require.NoError(t, json.Unmarshal(l.Body, &vega))
		}
	}
	vega.Prices.Disk += 0.01
	require.NoError(t, accounts.KeepPrices(ctx, a.store, "vega", &vega, time.Now().Add(10*time.Second)))
	d, err := a.Deployment(ctx, 1)
	require.NoError(t, err)
	var gib float64
	for i := range d.Stand.Plan.Resources {
		if r := &d.Stand.Plan.Resources[i]; r.Site == "vega" {
			gib += r.DiskGiB()
		}
	}
	after := accountOf(t, a, "", today("site"), time.Minute)
	assert.InDelta(t, before.Total.Now.Units()+gib*0.01, after.Total.Now.Units(), 1e-6, "each GiB at vega is dearer by a hundredth")
	assert.Less(t, before.Total.Cost, after.Total.Cost)

	var out bytes.Buffer
	_, err = a.ExportAccount(ctx, today("site"), &out, time.Now())
	require.ErrorContains(t, err, "andamio account rates set FILE")
	_, err = a.SetRates(ctx, []byte("version: andamio.rates/1\nunit: EUR\ncurrency: EUR\nrates: [{from: 2026-01-01, value: 1}]"))
	require.NoError(t, err)
	_, err = a.Account(ctx, today("site"), time.Now())
	require.ErrorContains(t, err, "prices are in cr")
	_, err = a.SetRates(ctx, []byte("version: andamio.rates/1\nunit: cr\ncurrency: EUR\nrates: [{from: 2026-01-01, value: 2}]"))
	require.NoError(t, err)
	euros := accountOf(t, a, "", today("site"), time.Minute)
	assert.Equal(t, "EUR", euros.Currency)
	assert.InDelta(t, 2*after.Total.Now.Units(), euros.Total.Now.Units(), 1e-5)
	rows, err := a.ExportAccount(ctx, today("site"), &out, time.Now().Add(time.Minute))
	require.NoError(t, err)
	all, err := csv.NewReader(&out).ReadAll()
	require.NoError(t, err)
	assert.Len(t, all, rows+1)
	saved, err := a.Savings(ctx, today("site"), time.Now().Add(time.Minute))
	require.NoError(t, err)
	assert.NotEmpty(t, saved)
	_, err = a.Account(ctx, ledger.Query{From: time.Now(), To: time.Now().Add(time.Hour), By: "team"}, time.Now().Add(-time.Hour))
	assert.Equal(t, fault.Invalid, fault.CodeOf(err), "nothing was yet")
	_, err = a.As(Actor{Name: "mia", Way: ByCommand}).SetRates(ctx, []byte("version: x"))
	require.Error(t, err)
}

// TestAPriceThatIsNotShownIsNotInTheAccount asks for something whose offer shows no price: whoever asked learns it nowhere.
func TestAPriceThatIsNotShownIsNotInTheAccount(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	_, _, err := a.Publish(ctx, append(offerFile(t, "trial-map"), []byte("\nprice: { hidden: true }\n")...), offersDir)
	require.NoError(t, err)
	r, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "trial-map"})
	require.NoError(t, err)
	nowServing(t, a, r)
	h, err := as("ibo").Have(ctx, r.ID, time.Now().Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, []any{true, money.Amount(0), money.Amount(0)}, []any{h.Hidden, h.Cost, h.PerHour})
	assert.Empty(t, accountOf(t, a, "ibo", today("deployment"), time.Minute).Lines)
	assert.Equal(t, "public-map-map-1", keys(accountOf(t, a, "ana", today("deployment"), time.Minute)))
}
