package plan_test

import (
	"os"
	"testing"

	"andamio/internal/core/estate"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/core/timeline"
	"time"

	"andamio/internal/core/elevation"
)

// FuzzRead reads plans of any content: what is accepted can be written again, shown and forecast.
func FuzzRead(f *testing.F) {
	f.Add(`{"version": "andamio.plan/1", "name": "n", "currency": "cr", "levels": 2, "sites": [{"name": "s"}], "critical_path": ["a/create"],
 "resources": [{"id": "a", "node": "a", "site": "s", "kind": "network", "level": 1}, {"id": "b", "site": "s", "kind": "instance", "level": 2, "stands_on": ["a"]}],
 "steps": [{"id": "a/create", "resource": "a", "op": "create", "site": "s", "level": 1, "seconds": 2, "check": {"kind": "site"}},
  {"id": "b/create", "resource": "b", "op": "create", "site": "s", "level": 2, "after": ["a/create"], "check": {"kind": "tcp", "address": {"get_attribute": ["a", "x"]}, "port": 7}}]}`)
	f.Add(`{"version": "andamio.plan/1"}`)
	f.Add(`{"version": "andamio.plan/1", "resources": [{"id": "a", "level": 99999}], "levels": 1999999999}`)
	f.Fuzz(func(t *testing.T, text string) {
		p, err := plan.Read([]byte(text))
		if err != nil {
			return
		}
		if _, err := p.Write(); err != nil {
			t.Fatal(err)
		}
		s := run.New(p)
		elevation.New(s, elevation.BySite, true)
		timeline.New(s, time.Unix(0, 0), 9)
	})
}

// FuzzEstate reads estates of any content: what is accepted passes its own check.
func FuzzEstate(f *testing.F) {
	data, err := os.ReadFile(example + "/estate.json")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(string(data))
	f.Add(`{"version": "andamio.estate/1", "sites": [{}]}`)
	f.Fuzz(func(t *testing.T, text string) {
		if e, err := estate.Read([]byte(text)); err == nil && e.Check() != nil {
			t.Fatal(e.Check())
		}
	})
}
