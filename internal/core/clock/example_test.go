package clock_test

import (
	"fmt"
	"time"

	"andamio/internal/core/clock"
)

// What was due three times while nobody looked is caught up with once.
func ExampleJudge() {
	start := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	d := &clock.Due{Kind: "survey", Subject: "vega", Rule: "FREQ=HOURLY", Start: start, Seen: start}
	v, err := clock.Judge(d, clock.CatchUp, start.Add(3*time.Hour+20*time.Minute))
	fmt.Println(v.Do.Format("15:04"), v.Missed, err)
	v, err = clock.Judge(d, clock.Miss, start.Add(3*time.Hour+20*time.Minute))
	fmt.Println(v.Do.IsZero(), v.Missed, err)
	// Output:
	// 15:00 2 <nil>
	// true 3 <nil>
}
