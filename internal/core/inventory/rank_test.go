package inventory

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
)

// TestWhatCountsMore has a row for whatever a rank is made of: what it is, what it costs, what suffers from it, and that a person should look.
func TestWhatCountsMore(t *testing.T) {
	paid := func(cost string) *Record { return &Record{Attributes: map[string]string{AttrCost: cost}} }
	part := &Record{Attributes: map[string]string{AttrService: "map"}}
	other := &Record{Attributes: map[string]string{AttrService: "other"}}
	differs := func(attribute, right, observed string) []Difference {
		return []Difference{{Attribute: attribute, Right: right, Observed: observed}}
	}
	for name, c := range map[string]struct {
		f       Finding
		rank    float64
		cost    float64
		suffers string
	}{
		"gone":                           {Finding{Type: Missing, Class: kinds.Instance}, 50, 0, ""},
		"gone, no machine":               {Finding{Type: Missing, Class: kinds.Volume}, 25, 0, ""},
		"gone, of a service":             {Finding{Type: Missing, Class: kinds.Instance, Recorded: part}, 110, 0, "map"},
		"gone, of the declared service":  {Finding{Type: Missing, Class: kinds.Instance, Declared: part, Recorded: other}, 110, 0, "map"},
		"elsewhere":                      {Finding{Type: Moved, Class: kinds.Instance, Recorded: part}, 90, 0, "map"},
		"nobody's, and costs":            {Finding{Type: Unmanaged, Class: kinds.Instance, Observed: paid("0.5")}, 60, 0.5, ""},
		"nobody's, of a service":         {Finding{Type: Unmanaged, Class: kinds.Instance, Observed: part}, 10, 0, ""},
		"twice at the site":              {Finding{Type: Duplicate, Class: kinds.Instance, Other: paid("0.25")}, 50, 0.25, ""},
		"twice in the records":           {Finding{Type: Duplicate, Class: kinds.Instance, Other: paid("0.25"), OtherRecorded: true}, 25, 0, ""},
		"are they one?":                  {Finding{Type: Duplicate, Class: kinds.Instance, OtherRecorded: true, Review: true}, 40, 0, ""},
		"not seen":                       {Finding{Type: Stale, Class: kinds.Instance, Recorded: part}, 5, 0, ""},
		"dearer than declared":           {Finding{Type: Changed, Class: kinds.Instance, Declared: paid("0.2"), Recorded: paid("0.1"), Observed: paid("0.5")}, 50, 0.3, ""},
		"dearer than recorded":           {Finding{Type: Changed, Class: kinds.Instance, Declared: paid("0.1"), Recorded: paid("0.2"), Observed: paid("0.5")}, 50, 0.3, ""},
		"cheaper":                        {Finding{Type: Changed, Class: kinds.Instance, Declared: paid("0.5"), Observed: paid("0.1")}, 20, 0, ""},
		"off":                            {Finding{Type: Changed, Class: kinds.Instance, Recorded: part, Differences: differs(AttrState, "active", "inactive")}, 80, 0, "map"},
		"reached elsewhere":              {Finding{Type: Changed, Class: kinds.Interface, Recorded: part, Differences: differs(AttrAddress, "a", "b")}, 70, 0, "map"},
		"less memory":                    {Finding{Type: Changed, Class: kinds.Instance, Recorded: part, Differences: differs(AttrMemory, "8", "4")}, 80, 0, "map"},
		"more memory":                    {Finding{Type: Changed, Class: kinds.Instance, Recorded: part, Differences: differs(AttrMemory, "4", "8")}, 20, 0, ""},
		"as much memory, in other words": {Finding{Type: Changed, Class: kinds.Instance, Recorded: part, Differences: differs(AttrMemory, "8", "8.0")}, 20, 0, ""},
		"called otherwise":               {Finding{Type: Changed, Class: kinds.Instance, Recorded: part, Differences: differs(AttrName, "a", "b")}, 20, 0, ""},
	} {
		f := c.f
		weighRank(&f)
		assert.InDelta(t, c.rank, f.Rank, 1e-9, name)
		assert.Equal(t, money.Of(c.cost), f.CostPerHour, name)
		assert.Equal(t, c.suffers, strings.Join(f.Endangers, " "), name)
		said := strings.Join(f.Why, "; ")
		assert.Equal(t, c.suffers != "", strings.Contains(said, "it is part of the service "+c.suffers) && c.suffers != "", name)
		assert.Equal(t, c.cost > 0, strings.Contains(said, fmt.Sprintf("it costs %.3f an hour", c.cost)), name)
	}
}

// TestNearNamesAreOneStepApart makes names by one step of writing, or by none, and holds what is near against all that one step leads to.
func TestNearNamesAreOneStepApart(t *testing.T) {
	steps := func(s string) map[string]bool {
		out := map[string]bool{s: true}
		for i := range len(s) + 1 {
			for _, c := range "abc" {
				out[s[:i]+string(c)+s[i:]] = true
				if i < len(s) {
					out[s[:i]+string(c)+s[i+1:]] = true
				}
			}
			if i < len(s) {
				out[s[:i]+s[i+1:]] = true
			}
			if i+1 < len(s) {
				out[s[:i]+s[i+1:i+2]+s[i:i+1]+s[i+2:]] = true
			}
		}
		return out
	}
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[abc]{0,6}`)
		a, b := word.Draw(t, "a"), word.Draw(t, "b")
		if rapid.Bool().Draw(t, "close") {
			b = a
			for range rapid.IntRange(0, 2).Draw(t, "steps") {
				i := rapid.IntRange(0, len(b)).Draw(t, "at")
				b = b[:i] + rapid.SampledFrom([]string{"", "a", "b"}).Draw(t, "letter") + b[min(i+rapid.IntRange(0, 1).Draw(t, "less"), len(b)):]
			}
		}
		require.Equal(t, steps(a)[b], near(a, b), "%q %q", a, b)
		require.Equal(t, near(a, b), near(b, a))
	})
	for pair, want := range map[[2]string]float64{{"contacts-db-1", "contacts-db-1"}: 1, {"Contacts_DB-1.ribera.test", "contacts-db-1"}: 0.85, {"contacts db 1", "contactsdb1"}: 0.85,
		{"contacts-db-1", "contacts-db-2"}: 0, {"contacts-db-1", "contacts-bd-1"}: 0.6, {"contact", "contacts"}: 0.6, {"map", "mop"}: 0, {"gauges", "gauger"}: 0.6, {"gauge", "gauges"}: 0} {
		assert.Equal(t, want, nameLikeness(pair[0], pair[1]), "%v", pair)
		assert.Equal(t, want, nameLikeness(pair[1], pair[0]), "%v", pair)
	}
}

// TestRelationsAreReadAsTheyAreWritten with any bytes in them.
func TestRelationsAreReadAsTheyAreWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.String().Draw(t, "text")
		e := encode(s)
		for i := range len(e) {
			require.True(t, e[i] > ' ' && e[i] < 0x7f && e[i] != '=', "%q", e)
		}
		got, ok := decode(e)
		require.True(t, ok)
		require.Equal(t, s, got)
	})
	assert.Equal(t, "a%7F%25%3D%20z~!", encode("a\x7f%= z~!"))
	for _, bad := range []string{"%", "%2", "a%", "%ZZ", "a%4"} {
		_, ok := decode(bad)
		assert.False(t, ok, bad)
	}
}

// TestWhatWasSurelySeen has a row for every coverage: nothing is gone of which nobody looked, long enough after it was there.
func TestWhatWasSurelySeen(t *testing.T) {
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	both := Coverage{{"vega", "a"}: noon, {"vega", "b"}: noon.Add(time.Hour)}
	for name, c := range map[string]struct {
		coverage Coverage
		region   string
		since    time.Time
		whole    bool
		want     bool
	}{
		"everything was":               {nil, "a", noon, false, true},
		"its region was":               {both, "a", noon, false, true},
		"its region was, before":       {both, "a", noon.Add(1), false, false},
		"its region was not":           {both, "c", noon, true, false},
		"all regions were":             {both, "", noon, true, true},
		"all were, one of them before": {both, "", noon.Add(1), true, false},
		"some were":                    {both, "", noon, false, false},
		"another site was":             {Coverage{{"presa", "a"}: noon.Add(-time.Hour)}, "", noon, true, true},
		"another site was, not this":   {Coverage{{"presa", "a"}: noon}, "a", noon, false, false},
	} {
		assert.Equal(t, c.want, c.coverage.saw(&Record{Site: "vega", Region: c.region}, c.since, map[string]bool{"vega": c.whole}), name)
	}
}
