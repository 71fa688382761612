package reach_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/reach"
)

func TestThroughWhom(t *testing.T) {
	for _, c := range []struct{ text, says string }{
		{"", ""}, {"dam", ""}, {"dam  rack=7 floor=2", ""}, {"dam floor", `"floor" is no label`}, {"Dam", "no name of a pool"}, {"dam floor=", "not chosen by the label"}, {"dam =2", "not chosen by the label"},
		{"dam floor=2 floor=3", "there twice"}, {"floor=2", "no name of a pool"}, {"dam fl\x1boor=2", "not chosen by the label"},
		{"dam wait 30m", ""}, {"dam floor=2 wait 0s", ""}, {"dam wait soon", `"soon" is not how long`}, {"dam wait -1s", "is not how long"}, {"dam wait 999h", "is not how long"}, {"dam wait", `"wait" is no label`}, {"wait 30m", `"30m" is no label`},
	} {
		got, err := reach.ReadThrough(c.text)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, c.text)
			continue
		}
		require.NoError(t, err, c.text)
		again, err := reach.ReadThrough(got.String())
		require.NoError(t, err)
		assert.Equal(t, got, again)
	}
	assert.Equal(t, "dam floor=2 rack=7", reach.Through{Pool: "dam", Labels: map[string]string{"rack": "7", "floor": "2"}}.String())
	assert.Equal(t, "dam floor=2 wait 1h30m0s", reach.Through{Pool: "dam", Labels: map[string]string{"floor": "2"}, Wait: 90 * time.Minute}.String())
	for wait, patience := range map[time.Duration]time.Duration{0: reach.UsualWait, reach.NoWait: 0, time.Hour: time.Hour} {
		assert.Equal(t, patience, reach.Through{Pool: "dam", Wait: wait}.Patience())
	}
	assert.Error(t, reach.Through{Pool: "dam", Wait: reach.MostWait + 1}.Check())
	assert.Error(t, reach.Through{Wait: time.Hour}.Check(), "for nobody")
	assert.Error(t, reach.Through{Labels: map[string]string{"floor": "2"}}.Check(), "labels of no pool")
}

// TestLabelsChoose: whom it means has each of the labels, and the pool; nobody is meant from here.
func TestLabelsChoose(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		some := rapid.MapOfN(rapid.SampledFrom([]string{"floor", "rack", "net"}), rapid.SampledFrom([]string{"1", "2"}), 0, 3)
		pools := rapid.SampledFrom([]string{"", "dam", "weir"})
		through, pool, has := reach.Through{Pool: pools.Draw(t, "pool"), Labels: some.Draw(t, "labels")}, pools.Draw(t, "of"), some.Draw(t, "has")
		want := through.Pool != "" && through.Pool == pool
		for _, name := range []string{"floor", "rack", "net"} {
			if v, asked := through.Labels[name]; asked && has[name] != v {
				want = false
			}
		}
		assert.Equal(t, want, through.Means(pool, has))
	})
}
