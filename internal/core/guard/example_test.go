package guard_test

import (
	"fmt"

	"andamio/internal/core/guard"
)

// Every act is asked for.
func ExampleAllow() {
	fmt.Println(guard.Allow(guard.Actor{Name: "ana", Way: guard.Screen}, guard.BeginRun, "gauge"))
	fmt.Println(guard.Allow(guard.Actor{Way: guard.API}, guard.BeginRun, "gauge"))
	// Output:
	// <nil>
	// nobody may not do that (begin-run, gauge): it is not known who asks
}
