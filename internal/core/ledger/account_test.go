package ledger_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/ledger"
	"andamio/internal/core/money"
)

func day(n int) time.Time { return time.Date(2026, 11, n, 0, 0, 0, 0, time.UTC) }

// instance is one of 2 cores and 4 GiB at vega, at 0.1 an hour and 0.01 when off, from one day to another; 0 is no end.
func instance(id string, from, to int) ledger.Charge {
	c := ledger.Charge{Deployment: 1, Resource: id, Title: id, Kind: kinds.Instance, Service: "map", Site: "vega", Zone: "a", Cores: 2, MemoryGiB: 4, DiskGiB: 10,
		PerHour: money.Of(0.1), PerHourOff: money.Of(0.01), Agreed: day(1), From: day(from)}
	if to > 0 {
		c.To = day(to)
	}
	return c
}

func vega(core float64) *estate.Site {
	return &estate.Site{Name: "vega", Provider: "Vega", Prices: estate.Prices{Core: core, Memory: 0.005, Disk: 0.001}}
}

func of(d ledger.Deployed, all ...ledger.Charge) []ledger.Entry { return d.Entries(all) }

// TestAPriceThatChangesHoldsFromThen has a site ask more from a day on; what the plan agreed beside the list stays.
func TestAPriceThatChangesHoldsFromThen(t *testing.T) {
	p := ledger.Prices{}
	p.Add(ledger.List{From: day(1), Site: vega(0.03)})
	p.Add(ledger.List{From: day(2), Site: vega(0.03)})
	require.Len(t, p["vega"], 1, "the same prices are no other list")
	p.Add(ledger.List{From: day(3), Site: vega(0.05)})
	other := vega(9)
	other.Prices.Currency = "EUR"
	p.Add(ledger.List{From: day(4), Site: other})
	got := p.Priced([]ledger.Charge{instance("a", 2, 5)})
	require.Len(t, got, 3)
	assert.Equal(t, []money.Amount{money.Of(0.1), money.Of(0.14), money.Of(0.1)}, []money.Amount{got[0].PerHour, got[1].PerHour, got[2].PerHour},
		"two cores, each 0.02 dearer; what is in another currency is not compared")
	assert.Equal(t, []time.Time{day(2), day(3), day(4)}, []time.Time{got[0].From, got[1].From, got[2].From})
	assert.Equal(t, money.Of(0.01), got[1].PerHourOff, "off it costs its disk")
	late := instance("b", 4, 0)
	late.Agreed = day(3)
	assert.Equal(t, money.Of(0.1), p.Priced([]ledger.Charge{late})[0].PerHour, "what was agreed by the newer list is by it")
	assert.Equal(t, []ledger.Charge{instance("a", 2, 5)}, ledger.Prices{}.Priced([]ledger.Charge{instance("a", 2, 5)}), "without lists it is as agreed")
}

// TestAnAccountIsByWhatIsAsked has two deployments of two teams, of which one is given away.
func TestAnAccountIsByWhatIsAsked(t *testing.T) {
	maps := ledger.Deployed{Name: "trial-7", Application: "trial-map", Owners: []ledger.Owned{{From: day(1), Owner: guard.Owner{Team: "public-map", Person: "ibo", Stage: "trial", Tags: map[string]string{"fund": "7"}}},
		{From: day(4), Owner: guard.Owner{Team: "gauging", Person: "ana"}}}}
	off := instance("b", 2, 4)
	off.Off, off.PerHour = true, off.PerHourOff
	all := append(of(maps, instance("a", 2, 6)), of(ledger.Deployed{Name: "pool"}, off)...)
	for by, want := range map[string]string{
		"team": "gauging 4.8, public-map 4.8,  0.48", "person": "ana 4.8, ibo 4.8,  0.48", "deployment": "trial-7 9.6, pool 0.48", "application": "trial-map 9.6,  0.48",
		"tag:fund": " 5.28, 7 4.8", "site": "vega 10.08", "zone": "vega/a 10.08", "size": "2 × 4 GiB 10.08", "kind": "instance 10.08", "service": "map 10.08", "stage": " 5.28, trial 4.8",
	} {
		q := ledger.Query{From: day(1), To: day(10), By: by}
		require.NoError(t, q.Check())
		a := ledger.Sum(all, q, "cr", nil)
		var got []string
		for _, l := range a.Lines {
			got = append(got, fmt.Sprint(l.Key, " ", l.Cost))
		}
		assert.Equal(t, want, strings.Join(got, ", "), by)
		assert.Equal(t, []any{96.0, 48.0, money.Of(10.08), "cr"}, []any{a.Total.Hours, a.Total.HoursOff, a.Total.Cost, a.Currency}, by)
	}
	a := ledger.Sum(all, ledger.Query{From: day(3), To: day(5), By: "team", Every: "day", Only: map[string]string{"team": "g*"}}, "cr", nil)
	assert.Equal(t, []money.Amount{0, money.Of(2.4)}, a.Total.Each)
	assert.Equal(t, money.Of(0.1), a.Total.Now)
	rates, err := ledger.ReadRates([]byte(`{"version":"andamio.rates/1","unit":"cr","currency":"EUR","rates":[{"from":"2026-01-01","value":0.5},{"from":"2026-11-04","value":2}]}`))
	require.NoError(t, err)
	a = ledger.Sum(all, ledger.Query{From: day(3), To: day(5), By: "team", Only: map[string]string{"deployment": "trial-*"}}, "cr", rates)
	assert.Equal(t, []any{"EUR", money.Of(2.4*0.5 + 2.4*2), money.Of(0.2)}, []any{a.Currency, a.Total.Cost, a.Total.Now})
}

// TestWhatIsNoQueryOrRateIsRefused says what is wrong with each.
func TestWhatIsNoQueryOrRateIsRefused(t *testing.T) {
	for says, q := range map[string]ledger.Query{
		"has to begin before":       {From: day(2), To: day(2), By: "team"},
		`not by "colour"`:           {From: day(2), To: day(3), By: "colour"},
		`not by "tag:"`:             {From: day(2), To: day(3), By: "tag:"},
		"is no pattern":             {From: day(2), To: day(3), By: "team", Only: map[string]string{"team": "["}},
		`not by "fortnight"`:        {From: day(2), To: day(3), By: "team", Every: "fortnight"},
		"more than 2000 hours":      {From: day(2), To: day(2).AddDate(1, 0, 0), By: "team", Every: "hour"},
		`not by "team-of-somebody"`: {From: day(2), To: day(3), By: "team", Only: map[string]string{"team-of-somebody": "x"}},
	} {
		err := q.Check()
		require.ErrorContains(t, err, says)
		assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	}
	for text, says := range map[string]string{
		`{`:                          "these are no rates",
		`{"version":"x"}`:            `"x" is not read`,
		`{"version":"V","rates":[]}`: "unit: it is not said\ncurrency: \"\" is no code\nrates: there is none",
		`{"version":"V","unit":"cr","currency":"eur","rates":[{"from":"1 May","value":1}]}`:                                        "currency: \"eur\" is no code\nrates[0].from: \"1 May\" is no day",
		`{"version":"V","unit":"cr","currency":"EUR","rates":[{"from":"2026-01-01","value":0},{"from":"2026-01-01","value":1e9}]}`: "rates[0].value: 0 is not\nrates[1].value: 1e+09 is not\nrates[1].from: 2026-01-01 does not come after",
		`{"version":"V","unit":"cr","currency":"EUR","rates":[],"more":1}`:                                                         "more",
	} {
		_, err := ledger.ReadRates([]byte(strings.ReplaceAll(text, `"V"`, `"`+ledger.RatesVersion+`"`)))
		require.Error(t, err, text)
		for _, x := range strings.Split(says, "\n") {
			assert.ErrorContains(t, err, x, text)
		}
	}
}

// TestWhatWouldHaveCostLess is a week of an instance, from a Monday on.
func TestWhatWouldHaveCostLess(t *testing.T) {
	p := ledger.Prices{}
	p.Add(ledger.List{From: day(1), Site: vega(0.03)})
	p.Add(ledger.List{From: day(1), Site: &estate.Site{Name: "alisio", Sizes: []estate.Size{{Name: "s", Cores: 1, MemoryGiB: 2, PricePerHour: 0.01}, {Name: "m", Cores: 2, MemoryGiB: 4, PricePerHour: 0.02}, {Name: "l", Cores: 4, MemoryGiB: 8, PricePerHour: 0.05}}}})
	p.Add(ledger.List{From: day(1), Site: &estate.Site{Name: "tiny", Sizes: []estate.Size{{Name: "s", Cores: 1, MemoryGiB: 2, PricePerHour: 0.001}}}})
	p.Add(ledger.List{From: day(1), Site: &estate.Site{Name: "afar", Prices: estate.Prices{Currency: "EUR"}}})
	q := ledger.Query{From: day(2), To: day(9), By: "site"}
	all := of(ledger.Deployed{Name: "trial"}, instance("a", 2, 9))
	got := ledger.Savings(all, q, p, []string{"vega", "alisio", "tiny", "afar"}, nil)
	require.Len(t, got, 1)
	hours := money.Amount(7*24 - 5*13) // nights and a weekend
	assert.Equal(t, []any{money.Of(16.8), hours * money.Of(0.09)}, []any{got[0].Cost, got[0].Stopping})
	assert.Equal(t, &ledger.Instead{What: "1 × 2 GiB", Saved: 168 * money.Of(0.04)}, got[0].Smaller)
	assert.Equal(t, &ledger.Instead{What: "alisio", Saved: 168 * money.Of(0.09-0.02)}, got[0].Elsewhere, "its cores and memory at vega cost 0.08, its disk 0.01; at alisio all of it 0.02")
	assert.Equal(t, got[0].Elsewhere.Saved, got[0].Most())
	there := instance("b", 2, 9)
	there.Site, there.Size = "alisio", "m"
	got = ledger.Savings(of(ledger.Deployed{Name: "trial"}, there), q, p, []string{"alisio"}, nil)
	assert.Equal(t, "s", got[0].Smaller.What)
	assert.Nil(t, got[0].Elsewhere)
	off := instance("c", 2, 9)
	off.Off = true
	assert.Empty(t, ledger.Savings(of(ledger.Deployed{}, off), q, p, []string{"alisio"}, nil), "what is off cannot be stopped")
}

// Allowed values of FOCUS 1.0, and which columns must have a value (section 2: "allows nulls").
var (
	focusAllowed = map[string][]string{"ChargeCategory": {"Usage", "Purchase", "Tax", "Credit", "Adjustment"}, "ChargeClass": {"", "Correction"},
		"ChargeFrequency": {"One-Time", "Recurring", "Usage-Based"}, "PricingCategory": {"Standard", "Dynamic", "Committed", "Other"},
		"ServiceCategory": {"AI and Machine Learning", "Analytics", "Business Applications", "Compute", "Databases", "Developer Tools", "Multicloud", "Identity",
			"Integration", "Internet of Things", "Management and Governance", "Media", "Migration", "Mobile", "Networking", "Security", "Storage", "Web", "Other"}}
	focusMust = []string{"BilledCost", "BillingAccountId", "BillingAccountName", "BillingCurrency", "BillingPeriodEnd", "BillingPeriodStart", "ChargeCategory",
		"ChargePeriodEnd", "ChargePeriodStart", "ContractedCost", "EffectiveCost", "InvoiceIssuerName", "ListCost", "ProviderName", "PublisherName",
		"ServiceCategory", "ServiceName", "PricingQuantity", "PricingUnit", "ListUnitPrice", "ContractedUnitPrice", "SkuId", "SkuPriceId", "ConsumedQuantity", "ConsumedUnit"}
)

// focusRows reads an export, and holds it against the rules of the specification.
func focusRows(t *testing.T, data []byte) []map[string]string {
	t.Helper()
	all, err := csv.NewReader(bytes.NewReader(data)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, ledger.FocusColumns, all[0])
	assert.Len(t, all[0], 43)
	assert.True(t, slices.IsSorted(all[0]))
	var out []map[string]string
	for _, record := range all[1:] {
		row := map[string]string{}
		for i, name := range all[0] {
			row[name] = record[i]
		}
		out = append(out, row)
		for _, name := range focusMust {
			assert.NotEmpty(t, row[name], name)
		}
		for name, allowed := range focusAllowed {
			assert.Contains(t, allowed, row[name], name)
		}
		assert.Regexp(t, `^[A-Z]{3}$`, row["BillingCurrency"])
		at := func(name string) time.Time {
			when, err := time.Parse("2006-01-02T15:04:05Z", row[name])
			require.NoError(t, err, name)
			return when
		}
		assert.True(t, at("ChargePeriodStart").Before(at("ChargePeriodEnd")), "the end is exclusive")
		assert.False(t, at("ChargePeriodStart").Before(at("BillingPeriodStart")) || at("ChargePeriodEnd").After(at("BillingPeriodEnd")), "a charge lies within its billing period")
		n := func(name string) float64 {
			x, err := strconv.ParseFloat(row[name], 64)
			require.NoError(t, err, name)
			return x
		}
		assert.InDelta(t, n("ListCost"), n("ListUnitPrice")*n("PricingQuantity"), 1.5e-6, "the list cost is the unit price times the quantity")
		assert.InDelta(t, n("ContractedCost"), n("ContractedUnitPrice")*n("PricingQuantity"), 1.5e-6)
		assert.NoError(t, json.Unmarshal([]byte(row["Tags"]), &map[string]string{}), "tags are a JSON object")
	}
	return out
}

// TestTheExportIsFOCUS holds an export against the columns and rules of the specification, and against the account.
func TestTheExportIsFOCUS(t *testing.T) {
	rates, err := ledger.ReadRates([]byte(`{"version":"andamio.rates/1","unit":"cr","currency":"EUR","rates":[{"from":"2026-01-01","value":0.8731},{"from":"2026-11-30","value":0.91}]}`))
	require.NoError(t, err)
	a, vol := instance("a, \"b\"\n", 2, 0), instance("v", 3, 5)
	a.From = a.From.Add(13*time.Hour + 7*time.Second)
	vol.Kind, vol.DiskGiB, vol.Cores = kinds.Volume, 50, 0
	d := ledger.Deployed{Name: "trial-7", Application: "trial-map", Owners: []ledger.Owned{{From: day(1), Owner: guard.Owner{Team: "public-map", Person: "ibo", Stage: "trial", Tags: map[string]string{"fund": "7"}}}}}
	all := d.Entries([]ledger.Charge{a, vol})
	q := ledger.Query{From: day(1), To: day(33).Add(5 * time.Hour), By: "team"}
	p := ledger.Prices{}
	p.Add(ledger.List{From: day(1), Site: vega(0.03)})
	var out bytes.Buffer
	n, err := ledger.WriteFocus(&out, all, q, p, rates)
	require.NoError(t, err)
	rows := focusRows(t, out.Bytes())
	require.Len(t, rows, n)
	assert.Equal(t, 32+2, n, "a day a row")
	var billed float64
	for _, r := range rows {
		x, _ := strconv.ParseFloat(r["BilledCost"], 64)
		billed += x
	}
	sum := ledger.Sum(all, q, "cr", rates)
	assert.Equal(t, sum.Total.Cost, money.Amount(math.Round(billed*1e6)), "what is exported is the account, to the last millionth")
	assert.Equal(t, []string{"Vega", "public-map", "Compute", "trial-7/a, \"b\"\n", "2026-11-02T13:00:07Z"}, []string{rows[0]["ProviderName"], rows[0]["SubAccountId"], rows[0]["ServiceCategory"], rows[0]["ResourceId"], rows[0]["ChargePeriodStart"]})
	assert.Contains(t, rows[0]["Tags"], `"fund":"7"`)
	_, err = ledger.WriteFocus(&out, all, q, p, nil)
	require.ErrorContains(t, err, "andamio account rates set FILE")
	q.Only = map[string]string{"team": "nobody"}
	n, err = ledger.WriteFocus(&out, all, q, p, rates)
	require.NoError(t, err)
	assert.Zero(t, n)
}
