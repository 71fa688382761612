package inventory

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/kinds"
)

// TestHowEachFindingIsSettled has a row for every sort of finding: what is suggested first never takes away what only was not seen, and whatever is open is among what is known.
func TestHowEachFindingIsSettled(t *testing.T) {
	declared := &Record{ID: "d"}
	differs := func(attribute, says, is string) []Difference {
		return []Difference{{Attribute: attribute, Declared: says, Observed: is}}
	}
	for name, c := range map[string]struct {
		f    Finding
		want []Way
	}{
		"are they one?":                     {Finding{Type: Duplicate, Review: true, OtherRecorded: true}, []Way{Same, Apart, Ignore}},
		"nobody's":                          {Finding{Type: Unmanaged}, []Way{Adopt, Retire, Ignore}},
		"gone, of a deployment":             {Finding{Type: Missing, Declared: declared, Class: kinds.Instance}, []Way{CorrectSite, Retire, Ignore}},
		"gone, a snapshot":                  {Finding{Type: Missing, Declared: declared, Class: kinds.Snapshot}, []Way{Retire, Ignore}},
		"gone, a record alone":              {Finding{Type: Missing, Class: kinds.Snapshot}, []Way{Retire, Ignore}},
		"only not seen, of a deployment":    {Finding{Type: Stale, Declared: declared}, []Way{Ignore}},
		"only not seen, a record alone":     {Finding{Type: Stale}, []Way{Retire, Ignore}},
		"elsewhere":                         {Finding{Type: Moved, Declared: declared}, []Way{Adopt, Ignore}},
		"twice in the records":              {Finding{Type: Duplicate, OtherRecorded: true}, []Way{Same, Retire, Ignore}},
		"twice at the site":                 {Finding{Type: Duplicate}, []Way{Retire, Apart, Ignore}},
		"changed, and the record follows":   {Finding{Type: Changed, Class: kinds.Instance, Differences: differs(AttrName, "", "b")}, []Way{CorrectRecord, CorrectSite, Ignore}},
		"changed, as a deployment says not": {Finding{Type: Changed, Class: kinds.Instance, Declared: declared, Differences: differs("tag.tier", "a", "b")}, []Way{CorrectSite, Adopt, Ignore}},
		"called otherwise than declared":    {Finding{Type: Changed, Class: kinds.Instance, Declared: declared, Differences: differs(AttrName, "a", "b")}, []Way{CorrectRecord, CorrectSite, Ignore}},
		"as declared after all":             {Finding{Type: Changed, Class: kinds.Instance, Declared: declared, Differences: differs("tag.tier", "b", "b")}, []Way{CorrectRecord, CorrectSite, Ignore}},
		"of what no site can set":           {Finding{Type: Changed, Class: kinds.Instance, Differences: differs("serial", "", "b")}, []Way{CorrectRecord, Ignore}},
		"declared, of what none can set":    {Finding{Type: Changed, Class: kinds.Instance, Declared: declared, Differences: differs("serial", "a", "b")}, []Way{Adopt, Ignore}},
	} {
		got := ways(&c.f)
		assert.Equal(t, c.want, got, name)
		if c.f.Type == Stale && c.f.Declared != nil {
			assert.NotContains(t, got, Retire, name)
		}
	}
}
