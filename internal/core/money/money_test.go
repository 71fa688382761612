package money

import (
	"encoding/json"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestAmountsAreWrittenAsUnits(t *testing.T) {
	for _, c := range []struct {
		amount       Amount
		v, f3, plus3 string
	}{
		{0, "0", "0.000", "+0.000"},
		{Of(0.1084), "0.1084", "0.108", "+0.108"},
		{Of(0.1) + Of(0.0084), "0.1084", "0.108", "+0.108"},
		{Of(2), "2", "2.000", "+2.000"},
		{Of(-0.0005), "-0.0005", "-0.001", "-0.001"},
		{-1, "-0.000001", "0.000", "+0.000"},
		{Of(1.9996), "1.9996", "2.000", "+2.000"},
		{Of(12345.678901), "12345.678901", "12345.679", "+12345.679"},
		{math.MinInt64, "-9223372036854.775808", "-9223372036854.776", "-9223372036854.776"},
	} {
		assert.Equal(t, c.v, fmt.Sprint(c.amount))
		assert.Equal(t, c.v, fmt.Sprintf("%s", c.amount))
		assert.Equal(t, c.f3, fmt.Sprintf("%.3f", c.amount))
		assert.Equal(t, c.plus3, fmt.Sprintf("%+.3f", c.amount))
	}
	assert.Equal(t, "   0.108|0.108   |0.108400|0|1", fmt.Sprintf("%8.3f|%-8.3f|%f|%.0f|%.0f", Of(0.1084), Of(0.1084), Of(0.1084), Of(0.4), Of(0.5)))
	assert.Equal(t, "0.108400", fmt.Sprintf("%.9f", Of(0.1084)), "no finer than it is counted")
}

func TestNumbersThatAreNoMoney(t *testing.T) {
	assert.Zero(t, Of(math.NaN()))
	assert.Equal(t, Amount(math.MaxInt64), Of(math.Inf(1)))
	assert.Equal(t, Amount(math.MinInt64), Of(-1e300))
	var a Amount
	require.ErrorContains(t, json.Unmarshal([]byte(`"1"`), &a), "an amount of money is a number")
	require.ErrorContains(t, json.Unmarshal([]byte(`1e30`), &a), "more money than can be counted")
	require.NoError(t, json.Unmarshal([]byte(`null`), &a))
	assert.Zero(t, a)
}

func TestTimesRoundsToTheMillionth(t *testing.T) {
	assert.Equal(t, Of(0.3), Of(0.1).Times(3))
	assert.Equal(t, Of(0.333333), Of(1).Times(1.0/3))
	assert.Equal(t, Of(1541.76), Of(2.112).Times(730))
	assert.Equal(t, Of(3.5), Sum(Of(1), Of(2), Of(0.5)))
	assert.InDelta(t, 2.112, Of(2.112).Units(), 1e-12)
}

// TestSumsAreTheSameInEveryOrder adds amounts in two orders, writes and reads them, and loses nothing.
func TestSumsAreTheSameInEveryOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := rapid.SliceOfN(rapid.Int64Range(-5_000_000_000, 5_000_000_000), 1, 40).Draw(t, "millionths")
		var forth, back Amount
		for i := range all {
			forth += Amount(all[i])
			back += Amount(all[len(all)-1-i])
		}
		require.Equal(t, forth, back)
		text, err := json.Marshal(forth)
		require.NoError(t, err)
		var again Amount
		require.NoError(t, json.Unmarshal(text, &again))
		require.Equal(t, forth, again, "%s", text)
		require.Equal(t, forth, Of(forth.Units()))
	})
}
