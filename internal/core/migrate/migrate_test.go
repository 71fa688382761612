package migrate

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
)

func TestHowCopyingIsForetold(t *testing.T) {
	mb := 1e6
	for name, c := range map[string]struct {
		load      Load
		rounds    int
		copy      float64
		down      float64
		converges bool
	}{
		"cold: all while it stands still":    {Load{Used: 100e6, Size: 1e9, Bandwidth: 10 * mb, Mode: change.Cold, Stop: 1, Start: 2}, 0, 0, 13, true},
		"warm, nothing changes":              {Load{Used: 100e6, Size: 1e9, Bandwidth: 10 * mb, Mode: change.Warm}, 1, 10, 0, true},
		"warm, a tenth of what gets through": {Load{Used: 100e6, Size: 1e9, Bandwidth: 10 * mb, Rate: 1 * mb, Mode: change.Warm}, 2, 11, 0.1, true},
		"live at half":                       {Load{Used: 160e6, Size: 1e9, Bandwidth: 10 * mb, Rate: 5 * mb, Pause: 0.5, Mode: change.Live}, 5, 31, 0.5, true},
		"more changes than gets through":     {Load{Used: 100e6, Size: 1e9, Bandwidth: 10 * mb, Rate: 20 * mb, Pause: 1, Mode: change.Live}, 2, 30, 40, false},
		"a small set again and again":        {Load{Used: 100e6, Size: 1e9, Bandwidth: 10 * mb, Rate: 20 * mb, Set: 2e6, Pause: 1, Mode: change.Live}, 1, 10, 0.2, true},
		"compressed to half":                 {Load{Used: 100e6, Size: 1e9, Bandwidth: 10 * mb, Squeeze: 0.5, Mode: change.Warm}, 1, 5, 0, true},
		"nothing gets through":               {Load{Used: 100e6, Size: 1e9, Mode: change.Warm}, 0, 0, 0, false},
	} {
		t.Run(name, func(t *testing.T) {
			f := Predict(c.load)
			assert.Len(t, f.Rounds, c.rounds)
			assert.InDelta(t, c.copy, f.Copy, 0.6)
			assert.InDelta(t, c.down, f.Down, 0.6)
			assert.Equal(t, c.converges, f.Converges)
			assert.InDelta(t, f.Copy+f.Down, f.Total, 1e-9)
		})
	}
}

func TestRoundsNeverGrowAndNeverEndless(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := Load{Used: rapid.Int64Range(0, 1<<40).Draw(t, "used"), Size: 1 << 40, Rate: rapid.Float64Range(0, 1e9).Draw(t, "rate"),
			Bandwidth: rapid.Float64Range(1, 1e9).Draw(t, "bandwidth"), Pause: rapid.Float64Range(0, 10).Draw(t, "pause"),
			Mode: rapid.SampledFrom([]change.Mode{change.Cold, change.Warm, change.Live}).Draw(t, "mode")}
		f := Predict(l)
		if len(f.Rounds) > maxRounds {
			t.Fatalf("%d rounds", len(f.Rounds))
		}
		for i := 3; i < len(f.Rounds); i++ {
			if f.Rounds[i].Bytes > f.Rounds[i-1].Bytes {
				t.Fatalf("round %d copies more than the one before", i)
			}
		}
		if f.Converges && l.Pause > 0 && l.Mode == change.Live && f.Last.Seconds > l.Pause {
			t.Fatalf("it converges and stands still for %g of %g s", f.Last.Seconds, l.Pause)
		}
	})
}

func TestWhetherItFitsTheWindow(t *testing.T) {
	at := func(hour int) time.Time { return time.Date(2026, 11, 28, hour, 0, 0, 0, time.UTC) }
	night := []plan.Window{{From: at(20), To: at(22)}, {From: at(44), To: at(46)}}
	fit := FitInto(night, at(18), 3600)
	assert.Equal(t, Fit{at(20), at(21), 0.5, 1}, fit)
	fit = FitInto(night, at(21), 7200)
	assert.Equal(t, Fit{at(21), at(45), 0.5, 2}, fit, "it goes on in the next")
	assert.True(t, FitInto(night, at(18), 5*3600).End.IsZero(), "both are too short")
	assert.True(t, FitInto(night, at(47), 1).End.IsZero(), "they are over")
	assert.Equal(t, at(19), FitInto(nil, at(18), 3600).End)
}

func TestWaves(t *testing.T) {
	all := []Candidate{{Instance: "web", Seconds: 10, Needs: []string{"store"}}, {Instance: "store", Seconds: 30}, {Instance: "spare", Seconds: 25}, {Instance: "huge", Seconds: 500}}
	waves := Waves(all, nil, 45)
	assert.Equal(t, []Wave{{[]string{"huge"}, 500, true}, {[]string{"spare", "web"}, 35, false}, {[]string{"store"}, 30, false}}, Waves([]Candidate{all[3], all[2], all[1], {Instance: "web", Seconds: 10}}, nil, 45))
	assert.Equal(t, []Wave{{[]string{"huge"}, 500, true}, {[]string{"spare"}, 25, false}, {[]string{"store", "web"}, 40, false}}, waves)
	ways := []Candidate{{Instance: "a", Way: "vega → presa", Seconds: 40}, {Instance: "b", Way: "vega → tramonta", Seconds: 30}, {Instance: "c", Way: "vega → presa", Seconds: 10}}
	assert.Equal(t, []Wave{{[]string{"a", "b"}, 40, false}, {[]string{"c"}, 10, false}}, Waves(ways, nil, 45), "ways beside each other do not add up")
	assert.Len(t, Waves(all, nil, 0), 1, "without windows all go at once")
	together := Waves(all, [][]string{{"web", "spare"}}, 45)
	for _, w := range together {
		assert.Equal(t, slices.Contains(w.Instances, "web"), slices.Contains(w.Instances, "spare"))
	}
}

func TestWavesKeepTheOrderAndTheGroups(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 30).Draw(t, "n")
		var all []Candidate
		for i := range n {
			c := Candidate{Instance: fmt.Sprint("w", i), Way: rapid.SampledFrom([]string{"x", "y"}).Draw(t, "way"), Seconds: rapid.Float64Range(1, 100).Draw(t, "seconds")}
			if i > 0 && rapid.Bool().Draw(t, "needs") {
				c.Needs = []string{fmt.Sprint("w", rapid.IntRange(0, i-1).Draw(t, "which"))}
			}
			all = append(all, c)
		}
		window := rapid.Float64Range(0, 300).Draw(t, "window")
		waves := Waves(all, nil, window)
		at := map[string]int{}
		for i, w := range waves {
			if window > 0 && w.Seconds > window && !w.TooLong {
				t.Fatalf("wave %d takes %g s of %g", i, w.Seconds, window)
			}
			for _, id := range w.Instances {
				if _, twice := at[id]; twice {
					t.Fatalf("%s moves twice", id)
				}
				at[id] = i
			}
		}
		for _, c := range all {
			where, there := at[c.Instance]
			if !there {
				t.Fatalf("%s moves never", c.Instance)
			}
			for _, need := range c.Needs {
				if at[need] > where {
					t.Fatalf("%s moves before %s, which it needs", c.Instance, need)
				}
			}
		}
	})
}

func TestWhatCannotBeThereIsRefused(t *testing.T) {
	s := &estate.Site{Name: "b", Storage: []estate.StorageClass{{Name: "fast"}}}
	for text, c := range map[string]Choice{"no host name": {Hostname: "Seer_1"}, "no hardware address": {MAC: "zz"}, "not both": {MAC: "02:00:5e:00:53:01", KeepMAC: true}, "there are fast": {Class: "slow"}} {
		require.ErrorContains(t, c.check(s), text)
	}
	require.ErrorContains(t, Choice{Class: "fast"}.check(&estate.Site{}), "no classes of storage")
	require.NoError(t, Choice{Hostname: "seer-1", MAC: "02:00:5e:00:53:01", Class: "fast"}.check(s))
}

func TestWhatIsKeptIsLeftOut(t *testing.T) {
	p := plan.Reindexed(&plan.Plan{Resources: []plan.Resource{
		{ID: "net@a", Kind: kinds.Network, Site: "a"}, {ID: "net@b", Kind: kinds.Network, Site: "b"},
		{ID: "h", Kind: kinds.Instance, Site: "b", CostPerHour: 2}, {ID: "h@a", Kind: kinds.Instance, Site: "a", CostPerHour: 1},
		{ID: "i", Kind: kinds.Interface, Site: "b", Spec: plan.InterfaceSpec{Network: "net@b"}}, {ID: "i@a", Kind: kinds.Interface, Site: "a", Spec: plan.InterfaceSpec{Network: "net@a"}}},
		Steps: []plan.Step{{ID: "h/create", Resource: "h"}, {ID: "h@a/create", Resource: "h@a"}, {ID: "i/plug", Resource: "i", After: []string{"h/create", "net@a/create"}}}})
	out := WithoutKept(p, map[string]string{"h": "h@a", "i": "i@a"})
	var ids []string
	for _, r := range out.Resources {
		ids = append(ids, r.ID)
	}
	assert.Equal(t, []string{"net@b", "h", "i"}, ids)
	assert.EqualValues(t, 2, out.CostPerHour)
	require.NotNil(t, out.Step("i/plug"))
	assert.Equal(t, []string{"h/create"}, out.Step("i/plug").After)
	assert.Len(t, p.Resources, 6, "the original stays as it is")
}
