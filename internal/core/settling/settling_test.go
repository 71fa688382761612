package settling_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/settling"
)

const rules = `
version: andamio.settling/1
rules:
  - {rule: owners are right, type: changed, attribute: 'tag.*', settle: correct-record}
  - {rule: trials, type: unmanaged, name: 'try-*', settle: ignore, reason: they go by themselves, days: 7}
  - {rule: the rest at presa, type: unmanaged, site: presa, settle: adopt}
`

func TestTheFirstRuleThatFitsDecides(t *testing.T) {
	f, err := settling.Read([]byte(rules))
	require.NoError(t, err)
	tag := inventory.Difference{Attribute: "tag.owner"}
	ways := []inventory.Way{inventory.CorrectRecord, inventory.Adopt, inventory.Ignore}
	for _, c := range []struct {
		f    inventory.Finding
		rule string
	}{
		{inventory.Finding{Type: inventory.Changed, Differences: []inventory.Difference{tag}}, "owners are right"},
		{inventory.Finding{Type: inventory.Changed, Differences: []inventory.Difference{tag, {Attribute: "cores"}}}, ""},
		{inventory.Finding{Type: inventory.Changed, Differences: []inventory.Difference{tag}, Endangers: []string{"map"}}, ""},
		{inventory.Finding{Type: inventory.Changed, Differences: []inventory.Difference{tag}, Review: true}, ""},
		{inventory.Finding{Type: inventory.Unmanaged, Name: "try-7", Site: "presa"}, "trials"},
		{inventory.Finding{Type: inventory.Unmanaged, Name: "copy", Site: "presa"}, "the rest at presa"},
		{inventory.Finding{Type: inventory.Unmanaged, Name: "copy", Site: "vega"}, ""},
	} {
		c.f.Ways = ways
		r := f.For(&c.f)
		if c.rule == "" {
			assert.Nil(t, r, "%+v", c.f)
			continue
		}
		require.NotNil(t, r, "%+v", c.f)
		assert.Equal(t, c.rule, r.Rule)
	}
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	assert.Equal(t, noon.AddDate(0, 0, 7), f.Rules[1].Until(noon))
	assert.True(t, f.Rules[0].Until(noon).IsZero())
}

func TestMistakesInRulesAreNamed(t *testing.T) {
	_, err := settling.Read([]byte(`
version: andamio.settling/1
rules:
  - {rule: sites, type: changed, settle: correct-site}
  - {type: unmanaged, settle: ignore}
  - {rule: all, settle: adopt}
  - {rule: pattern, name: '[', settle: adopt}
`))
	for _, says := range []string{`rules[0]: settle: "correct-site" cannot be a rule`, "rules[1]: it has no name", "rules[1]: reason", "rules[2]: it picks everything", "rules[3]"} {
		assert.ErrorContains(t, err, says)
	}
}
