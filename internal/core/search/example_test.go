package search_test

import (
	"fmt"

	"andamio/internal/core/search"
)

// What is meant comes first.
func ExampleRank() {
	things := [][]string{{"readings-host", "vega"}, {"gauge-host", "presa"}, {"gauge", "presa"}}
	for _, i := range search.Rank("gauge", things) {
		fmt.Println(things[i])
	}
	// Output:
	// [gauge presa]
	// [gauge-host presa]
}
