package search

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestTheLikeliestComesFirst(t *testing.T) {
	things := [][]string{
		{"old-register-1", "instance", "vega", "10.20.0.4"},
		{"register-1", "instance", "alisio-norte", "127.3.0.9"},
		{"register", "tier"},
		{"vega", "site", "private"},
		{"preregistered", "finding"},
	}
	for _, c := range []struct {
		query string
		want  []int
	}{
		{"register", []int{2, 1, 0, 4}}, // whole, begins, a word begins, inside
		{"REGISTER-1", []int{1, 0}},
		{"vega", []int{3, 0}}, // a name before another word
		{"register vega", []int{0}},
		{"10.20", []int{0}},
		{"0.4", []int{0}},
		{"moon", []int{}},
		{"", []int{}},
		{"   ", []int{}},
	} {
		assert.Equal(t, c.want, Rank(c.query, things), c.query)
	}
}

func TestEqualFitsKeepTheirOrder(t *testing.T) {
	assert.Equal(t, []int{1, 0, 2}, Rank("a", [][]string{{"a-bb"}, {"a-b"}, {"a-cc"}}))
}

// What is found has every word, and all that has every word is found.
func TestEveryWordCounts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[ab1.é-]{1,6}`)
		things := rapid.SliceOfN(rapid.SliceOfN(word, 1, 4), 0, 12).Draw(t, "things")
		asked := rapid.SliceOfN(rapid.StringMatching(`[ab1.é-]{1,3}`), 1, 3).Draw(t, "asked")
		found := map[int]bool{}
		for _, i := range Rank(strings.Join(asked, " "), things) {
			assert.False(t, found[i], "once")
			found[i] = true
		}
		for i, words := range things {
			all := true
			for _, q := range asked {
				all = all && strings.Contains(strings.Join(words, "\n"), q)
			}
			assert.Equal(t, all, found[i], "%v in %v", asked, words)
		}
	})
}
