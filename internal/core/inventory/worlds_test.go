package inventory_test

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/inventory"
	"andamio/internal/core/inventory/damage"
	"andamio/internal/core/kinds"
	"andamio/internal/golden"
)

// anyWorld is a world with all that a reconciliation may be told beside: what was looked at and when, whose word counts, what persons decided, and what they let be.
var anyWorld = rapid.Custom(func(t *rapid.T) inventory.Input {
	w := things(t, "vega").and(things(t, "presa"))
	for _, list := range []inventory.Records{w.d, w.r, w.o} {
		for i := range list {
			r := &list[i]
			switch rapid.IntRange(0, 11).Draw(t, "about it") {
			case 0:
				r.Region = rapid.SampledFrom([]string{"", "b"}).Draw(t, "region")
			case 1:
				r.Provider = ""
			case 2:
				r.Mark = rapid.SampledFrom([]string{"", "mark of vega-i-0", "of another"}).Draw(t, "mark")
			case 3:
				r.Name = rapid.SampledFrom([]string{"vega-i-0", "vega-i-9", "river", "rivers"}).Draw(t, "name")
			case 4:
				r.Class = rapid.SampledFrom([]kinds.Kind{kinds.Image, kinds.Host, kinds.Software, kinds.Network}).Draw(t, "class")
			case 5:
				r.Seen = rapid.SampledFrom([]time.Time{{}, noon, noon.Add(-48 * time.Hour)}).Draw(t, "seen")
			case 6:
				r.Origin.Deployment = "basin"
			}
		}
	}
	in := inventory.Input{Declared: w.d, Recorded: w.r, Observed: w.o, Now: noon, Limits: inventory.Limits{Pairs: true}}
	if rapid.IntRange(0, 2).Draw(t, "not all was seen") == 0 {
		in.Coverage = inventory.Coverage{}
		for _, r := range []inventory.Region{{Site: "vega", Region: "a"}, {Site: "vega", Region: "b"}, {Site: "presa", Region: "a"}} {
			in.Regions = append(in.Regions, r)
			if at := rapid.SampledFrom([]time.Time{{}, noon, noon.Add(-30 * time.Hour), noon.Add(-2 * time.Hour)}).Draw(t, "at"); !at.IsZero() {
				in.Coverage[r] = at
			}
		}
	}
	if rapid.IntRange(0, 2).Draw(t, "other rules") == 0 {
		in.Rules = inventory.Rules{"cores": inventory.ByRecorded, "*": rapid.SampledFrom([]inventory.Authority{inventory.ByDeclared, inventory.ByObserved, inventory.ByNobody}).Draw(t, "by")}
	}
	for range rapid.IntRange(0, 2).Draw(t, "decisions") {
		if len(w.o) > 0 && len(w.r) > 0 {
			o, r := rapid.SampledFrom(w.o).Draw(t, "of"), rapid.SampledFrom(w.r).Draw(t, "and")
			in.Decisions = append(in.Decisions, inventory.Decision{Site: o.Site, Provider: o.Provider, Record: r.ID, Same: rapid.Bool().Draw(t, "same")})
		}
	}
	for _, f := range inventory.Reconcile(in).Findings {
		if rapid.IntRange(0, 9).Draw(t, "ignored") == 0 {
			in.Ignored = append(in.Ignored, inventory.Ignored{Finding: f.ID, Until: rapid.SampledFrom([]time.Time{{}, noon.Add(time.Hour), noon.Add(-time.Hour), noon}).Draw(t, "until")})
		}
	}
	return in
})

// reported is all that a report says, and what every finding says of itself.
func reported(t *testing.T, in inventory.Input) string {
	t.Helper()
	r := inventory.Reconcile(in)
	text, err := json.MarshalIndent(r, "", " ")
	require.NoError(t, err)
	var out strings.Builder
	fmt.Fprintf(&out, "%s\npairs %v\nnew %+v\n", text, r.Pairs, r.New)
	for _, f := range r.Follows {
		fmt.Fprintf(&out, "follows %+v\n", f)
	}
	for _, f := range slices.Concat(r.Findings, r.Ignored) {
		fmt.Fprintf(&out, "%s %s %v\n", f.ID, f.Name, f.Why)
	}
	return out.String()
}

// TestReportsAreAsTheyWere holds by sums what is said of worlds that are always the same, and of inventories that were damaged. Where one is another, SHOW_WORLD=N writes it out, to
// be compared with what was said of it before.
func TestReportsAreAsTheyWere(t *testing.T) {
	t.Parallel()
	show, err := strconv.Atoi(os.Getenv("SHOW_WORLD"))
	var sums strings.Builder
	hold := func(n int, name, text string) {
		if err == nil && n == show {
			t.Log(text)
		}
		fmt.Fprintf(&sums, "%d %s: %d lines, %s\n", n, name, strings.Count(text, "\n"), golden.Sum(text))
	}
	const worlds = 200
	for n := range worlds {
		hold(n, "world", reported(t, anyWorld.Example(n)))
	}
	for n := range 8 {
		cfg := damage.Default(uint64(n))
		cfg.Things = 120
		w := damage.New(cfg)
		hold(worlds+n, "damaged", reported(t, inventory.Input{Recorded: w.Recorded, Observed: w.Observed, Limits: inventory.Limits{Pairs: true}, Now: noon}))
	}
	golden.Is(t, "testdata/reports.txt", sums.String())
}
