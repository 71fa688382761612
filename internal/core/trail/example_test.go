package trail_test

import (
	"fmt"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/trail"
)

// A trail whose entries were changed says so.
func ExampleVerifier() {
	at := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	first := trail.Entry{At: at, Actor: guard.Actor{Name: "ana", Way: guard.Screen}, Act: guard.BeginRun, On: "gauge"}.After(trail.Entry{})
	second := trail.Entry{At: at, Actor: guard.Actor{Name: "eva", Way: guard.Command}, Act: guard.Confirm, On: "proposal 3"}.After(first)
	first.Name = "somebody"
	var v trail.Verifier
	v.Next(first)
	v.Next(second)
	v.End(2)
	fmt.Println(v.Wrong)
	// Output:
	// [entry 1 was changed]
}
