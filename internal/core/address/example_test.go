package address_test

import (
	"fmt"

	"andamio/internal/core/address"
	"andamio/internal/core/estate"
)

// Nothing is handed out twice.
func ExampleBook_Address() {
	b := address.NewBook(&estate.Site{Name: "presa", Networks: []estate.Network{{Name: "lan", Pools: []estate.Pool{{From: "10.0.0.10", To: "10.0.0.11", Taken: []string{"10.0.0.10"}}}}}})
	for _, who := range []string{"gauge-1", "gauge-2"} {
		fmt.Println(b.Address(who, "", ""))
	}
	// Output:
	// 10.0.0.11 <nil>
	//  presa has no address left for gauge-2; give one back, or add a pool
}
