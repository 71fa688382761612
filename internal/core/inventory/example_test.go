package inventory_test

import (
	"fmt"
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
)

// What is declared, recorded and observed is compared, and each finding says how it can be settled.
func ExampleReconcile() {
	now := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	record := inventory.Record{ID: "r-1", Class: kinds.Instance, Name: "gauge-1", Site: "vega", Region: "a", Provider: "i-1", Attributes: map[string]string{inventory.AttrCores: "2"}}.Normal()
	seen := record
	seen.ID, seen.Attributes = "vega/i-1", map[string]string{inventory.AttrCores: "4"}
	seen.Seen = now
	region := inventory.Region{Site: "vega", Region: "a"}
	report := inventory.Reconcile(inventory.Input{Recorded: inventory.Records{record}, Observed: inventory.Records{seen.Normal()}, Regions: []inventory.Region{region},
		Coverage: inventory.Coverage{region: now}, Now: now})
	for _, f := range report.Findings {
		fmt.Println(f.Type, f.Name, f.Ways)
	}
	// Output:
	// changed gauge-1 [correct-record ignore]
}
