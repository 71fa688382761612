package calendar_test

import (
	"fmt"
	"time"

	"andamio/internal/core/calendar"
)

// A rule is counted from its start, in its zone.
func ExampleParse() {
	zone, _ := calendar.Zone("Europe/Lisbon")
	start := time.Date(2026, 3, 27, 0, 0, 0, 0, zone)
	r, err := calendar.Parse("FREQ=DAILY;BYHOUR=8", zone, start)
	if err != nil {
		panic(err)
	}
	for _, at := range r.After(start, 3) {
		fmt.Println(at.Format(time.RFC3339))
	}
	_, err = calendar.Parse("FREQ=DAILY;INTERVAL=0", zone, start)
	fmt.Println(err)
	// Output:
	// 2026-03-27T08:00:00Z
	// 2026-03-28T08:00:00Z
	// 2026-03-29T08:00:00+01:00
	// "FREQ=DAILY;INTERVAL=0" has an INTERVAL of 0: it is 1 or more
}
