package quota_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/guard"
	"andamio/internal/core/money"
	"andamio/internal/core/quota"
)

const ribera = `
version: andamio.quotas/1
quotas:
- { quota: all, team: ribera, most: { cores: 100, per_month: 1000 } }
- { quota: map, team: map, stage: trial, most: { instances: 6, memory_gib: 48 } }
- { quota: own, each: person, stage: "t*", most: { instances: 3 } }
- { quota: teams, each: team, most: { addresses: 10 } }
- { quota: dam, site: presa, most: { cores: 8, per_hour: 2.5 } }
`

var noon = time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)

func file(t require.TestingT) *quota.File {
	f, err := quota.Read([]byte(ribera))
	require.NoError(t, err)
	return f
}

func TestWhatIsTakenFromWhichAccount(t *testing.T) {
	f := file(t)
	parts := []quota.Part{
		{Site: "vega", Amounts: quota.Amounts{quota.Instances: 2, quota.Cores: 4, quota.MemoryGiB: quota.MemoryGiB.Amount(8), quota.Addresses: 2, quota.PerHour: int64(money.Of(0.5))}},
		{Site: "presa", Amounts: quota.Amounts{quota.Instances: 1, quota.Cores: 2, quota.MemoryGiB: quota.MemoryGiB.Amount(2.5), quota.PerHour: int64(money.Of(0.1))}},
	}
	say := func(of guard.Owner, around ...string) string {
		var out []string
		for _, x := range f.Takes(parts, of, around, noon) {
			out = append(out, x.Account+" "+x.Measure.Says(x.Amount, "cr"))
		}
		return strings.Join(out, "; ")
	}
	assert.Equal(t, "all 6 cores; all#2026-12 439.20 cr this month; dam 2 cores; dam 0.100 cr/h; map 3 instances; map 10.5 GiB of memory; own/ibo 3 instances; teams/map 2 addresses",
		say(guard.Owner{Team: "map", Person: "ibo", Stage: "trial"}, "map", "ribera"))
	assert.Equal(t, "all 6 cores; all#2026-12 439.20 cr this month; dam 2 cores; dam 0.100 cr/h; teams/gauging 2 addresses",
		say(guard.Owner{Team: "gauging", Person: "eva", Stage: "production"}, "gauging", "ribera"))
	assert.Equal(t, "dam 2 cores; dam 0.100 cr/h", say(guard.Owner{}), "what is nobody's is limited by the site alone")
	takes := f.Takes(parts, guard.Owner{Team: "map", Person: "ibo", Stage: "trial"}, []string{"map"}, noon)
	assert.Equal(t, quota.MemoryGiB.Amount(48), takes[3].Most)
}

// TestAMonthsBudgetIsTakenToItsEnd holds that the longer a thing stands in a month the more it takes, and that nothing of it is lost between
// two months.
func TestAMonthsBudgetIsTakenToItsEnd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		price := money.Amount(rapid.Int64Range(0, 50_000_000).Draw(t, "price"))
		at := noon.Add(time.Duration(rapid.Int64Range(0, int64(60*24*time.Hour)).Draw(t, "at")))
		m := quota.MonthOf(at)
		require.False(t, at.Before(m.Start))
		require.True(t, at.Before(m.Ends))
		spent := m.Rest(price, m.Start) - m.Rest(price, at)
		assert.InDelta(t, float64(price)*at.Sub(m.Start).Hours(), float64(spent), 1, "what is given back when it goes leaves what it has cost")
		assert.Zero(t, m.Rest(price, m.Ends))
		assert.Equal(t, m.Rest(price, m.Start), m.Rest(price, m.Start.AddDate(0, -2, 0)), "what began before takes the whole month")
	})
}

// TestUsedHeldPausedAndFreeAddUp sums what is taken in any order.
func TestUsedHeldPausedAndFreeAddUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		states := []quota.State{quota.Held, quota.Used, quota.Paused}
		all := rapid.SliceOf(rapid.Custom(func(t *rapid.T) quota.Taken {
			return quota.Taken{Take: quota.Take{Account: rapid.SampledFrom([]string{"a", "b", "c#2026-12", "c#2026-11"}).Draw(t, "account"),
				Measure: rapid.SampledFrom(quota.Measures).Draw(t, "measure"), Amount: rapid.Int64Range(0, 1000).Draw(t, "amount"), Most: 5000}, State: rapid.SampledFrom(states).Draw(t, "state")}
		})).Draw(t, "all")
		var sum, want int64
		for _, u := range quota.Uses(all, noon) {
			require.NotEqual(t, "c#2026-11", u.Account, "another month's")
			require.Equal(t, u.Most, u.Used+u.Held+u.Paused+u.Free())
			sum += u.Used + u.Held + u.Paused
		}
		for _, x := range all {
			if x.Account != "c#2026-11" {
				want += x.Amount
			}
		}
		require.Equal(t, want, sum)
	})
}

func TestWhoseBusinessAnAccountIs(t *testing.T) {
	f := file(t)
	for account, want := range map[string]bool{"all": true, "all#2026-12": true, "map": false, "own/eva": true, "own/ibo": false, "teams/gauging": true, "teams/map": false, "dam": true, "none": false} {
		assert.Equal(t, want, f.Concerns(account, "eva", []string{"gauging"}, []string{"gauging", "ribera"}), account)
	}
}

func TestAmountsAreWholeNumbers(t *testing.T) {
	for m, want := range map[quota.Measure]int64{quota.Cores: 2, quota.Instances: 2, quota.Addresses: 2, quota.MemoryGiB: 2048, quota.DiskGiB: 2048, quota.PerHour: 2_000_000, quota.PerMonth: 2_000_000} {
		assert.Equal(t, want, m.Amount(2), m)
		assert.Equal(t, 2.0, m.Value(want), m)
	}
	for m, want := range map[quota.Measure]string{quota.Instances: "1 instance", quota.Addresses: "1 address", quota.Cores: "1 core"} {
		assert.Equal(t, want, m.Says(1, "cr"))
	}
	assert.Equal(t, "2 addresses", quota.Addresses.Says(2, "cr"))
	f := file(t)
	most, limited := f.Most("own/eva", quota.Instances)
	assert.Equal(t, []any{int64(3), true}, []any{most, limited})
	_, limited = f.Most("none", quota.Cores)
	assert.False(t, limited)
	_, limited = f.Most("map", quota.Cores)
	assert.False(t, limited, "it limits something else")
}

// TestUsesAreInOrder has what is taken come in any order: it is listed by account, then by measure as they are shown.
func TestUsesAreInOrder(t *testing.T) {
	of := func(account string, m quota.Measure) quota.Taken {
		return quota.Taken{Take: quota.Take{Account: account, Measure: m, Amount: 1, Most: 9}, State: quota.Used}
	}
	var got []string
	for _, u := range quota.Uses([]quota.Taken{of("b", quota.Cores), of("a", quota.PerHour), of("b", quota.Instances), of("a", quota.Cores), of("b", quota.Cores)}, noon) {
		got = append(got, u.Account+" "+string(u.Measure))
	}
	assert.Equal(t, []string{"a cores", "a per_hour", "b instances", "b cores"}, got)
}

func TestForecasts(t *testing.T) {
	hour := int64(money.Of(1))
	f := quota.Forecasts(1000*hour, 100*hour, 2*hour, noon)
	assert.Equal(t, (100+2*732)*hour, f.AtEnd)
	assert.Equal(t, noon.Add(450*time.Hour), f.RunsOut)
	f = quota.Forecasts(2000*hour, 100*hour, 2*hour, noon)
	assert.Zero(t, f.RunsOut)
	assert.Equal(t, noon, quota.Forecasts(100*hour, 200*hour, hour, noon).RunsOut, "it has run out")
	assert.Zero(t, quota.Forecasts(100*hour, 200*hour, 0, noon).RunsOut, "nothing is spent any more")
}

func TestWhatIsWrongWithQuotasIsSaid(t *testing.T) {
	for _, c := range []struct{ was, is, says string }{
		{"quotas/1", "quotas/2", `"andamio.quotas/2" is not read`},
		{"quota: map,", "quota: a b,", `quotas[1]: quota: "a b" is no name`},
		{"quota: map,", "quota: all,", "quotas[1]: another is called all"},
		{"{ instances: 3 }", "{}", "quotas[2]: most: it limits nothing"},
		{"instances: 3", "wings: 3", `most: "wings" is no measure`},
		{"instances: 3", "instances: -3", "most.instances: -3 is no limit"},
		{"each: team", "each: site", `each: "site" is neither person nor team`},
		{"stage: trial,", "stage: '[',", `quotas[1]: "[" is no pattern`},
		{"site: presa", "site: '['", `"[" is no pattern`},
		{"site: presa", "sight: presa", `unknown field "sight"`},
	} {
		require.Contains(t, ribera, c.was)
		_, err := quota.Read([]byte(strings.Replace(ribera, c.was, c.is, 1)))
		assert.ErrorContains(t, err, c.says)
	}
	d, err := guard.ReadDirectory([]byte("version: andamio.teams/1\npeople: { ana: {} }\nteams: { ribera: {} }\ngrants: [ { to: ana, role: engineer } ]"))
	require.NoError(t, err)
	f := file(t)
	f.Quotas[2].Person = "mia"
	err = f.CheckAgainst(d)
	assert.ErrorContains(t, err, `quotas[1].team: there is no team "map"`)
	assert.ErrorContains(t, err, `quotas[2].person: there is nobody called "mia"`)
	assert.NotContains(t, err.Error(), "ribera")
	o := &quota.Overrun{Take: quota.Take{Account: "map", Measure: quota.MemoryGiB, Amount: 2048, Most: 4096}, Taken: 3072}
	assert.EqualError(t, o, "the quota map has 4 GiB of memory, of which 3 GiB of memory are taken: 2 GiB of memory more are too many")
}
