package estate_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/estate"
)

// TestSumsOfMoneyHaveNoDust adds costs in two orders: the sum is the same, and is written without dust.
func TestSumsOfMoneyHaveNoDust(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := rapid.SliceOfN(rapid.IntRange(0, 5_000_000), 1, 40).Draw(t, "costs, in millionths")
		forth, back := 0.0, 0.0
		for i := range all {
			forth = estate.Money(forth + float64(all[i])/1e6)
			back = estate.Money(back + float64(all[len(all)-1-i])/1e6)
		}
		assert.Equal(t, forth, back)
		text, err := json.Marshal(forth)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(text), len("200.123456"), "%s", text)
	})
	assert.Equal(t, 0.1084, estate.Money(0.1+0.0084))
}
