// Package search finds things by their words: what goes in is what was typed and the words of each thing, what comes out is
// which of them it may mean, the likeliest first.
//
// For "vega 10" a thing with the words "register", "10.20.0.4", "vega" is found, one without "vega" is not.
package search

import (
	"cmp"
	"slices"
	"strings"
	"unicode"
)

// How well a word fits, the best last. A thing's first word is its name; the others count for less.
const (
	none = iota
	inside
	wordBegins
	begins
	whole
)

// nameCounts makes a fit of the name better than the same of any other word, and worse than the next better one.
const nameCounts = 2

// Rank returns the indices of the things in which every word of the query occurs, the best fitting first, then the shorter
// name, then the earlier one. Case does not matter. An empty query finds nothing.
func Rank(query string, things [][]string) []int {
	asked := strings.Fields(strings.ToLower(query))
	type hit struct{ index, score, length int }
	var hits []hit
	for i, words := range things {
		if score := fit(asked, words); score > 0 {
			hits = append(hits, hit{i, score, len([]rune(words[0]))})
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int {
		return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(a.length, b.length))
	})
	out := make([]int, len(hits))
	for i, h := range hits {
		out[i] = h.index
	}
	return out
}

// fit sums how well each word that was asked for fits best; 0 if one fits nowhere.
func fit(asked, words []string) int {
	sum := 0
	for _, q := range asked {
		best := 0
		for i, w := range words {
			score := 2 * quality(q, strings.ToLower(w))
			if score > 0 && i == 0 {
				score += nameCounts - 1
			}
			best = max(best, score)
		}
		if best == 0 {
			return 0
		}
		sum += best
	}
	return sum
}

// quality is how well a word that was asked for fits one.
func quality(asked, word string) int {
	at := strings.Index(word, asked)
	switch {
	case at < 0:
		return none
	case word == asked:
		return whole
	case at == 0:
		return begins
	}
	for rest, from := word, 0; ; {
		i := strings.Index(rest, asked)
		if i < 0 {
			return inside
		}
		if before := []rune(word[:from+i]); !letter(before[max(len(before)-1, 0):]) {
			return wordBegins
		}
		from += i + len(asked)
		rest = word[from:]
	}
}

// letter reports whether a piece ends in what words are made of.
func letter(piece []rune) bool {
	return len(piece) > 0 && (unicode.IsLetter(piece[0]) || unicode.IsDigit(piece[0]))
}
