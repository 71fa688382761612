package money_test

import (
	"fmt"

	"andamio/internal/core/money"
)

// Costs are exact: what is added up says the same sum everywhere.
func ExampleSum() {
	tenth := money.Of(0.1)
	fmt.Println(money.Sum(tenth, tenth, tenth) == money.Of(0.3), money.Sum(tenth, tenth, tenth))
	// Output:
	// true 0.3
}
