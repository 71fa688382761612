package measure

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// TestSqueezedPointsSayWhatTheySaid holds that however few points are made of many, nothing that was measured is lost: neither how much of it there is, nor its mean, least and most.
func TestSqueezedPointsSayWhatTheySaid(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		points := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Point {
			n := rapid.IntRange(0, 3).Draw(t, "n")
			if n == 0 {
				return Point{}
			}
			v := rapid.Float64Range(-100, 100).Draw(t, "v")
			return Point{Min: v - 1, Mean: v, Max: v + 2, N: n}
		}), 1, 40).Draw(t, "points")
		most := rapid.IntRange(0, 50).Draw(t, "most")
		got := Squeeze(points, most)
		if most <= 0 || len(points) <= most {
			assert.Equal(t, points, got)
			return
		}
		assert.Len(t, got, most)
		sum := func(all []Point) (n int, total, low, high float64) {
			for _, p := range all {
				if p.N > 0 {
					n, total, low, high = n+p.N, total+p.Mean*float64(p.N), min(low, p.Min), max(high, p.Max)
				}
			}
			return n, total, low, high
		}
		n, total, low, high := sum(points)
		n2, total2, low2, high2 := sum(got)
		assert.Equal(t, []any{n, low, high}, []any{n2, low2, high2})
		assert.InDelta(t, total, total2, 1e-6)
	})
}
