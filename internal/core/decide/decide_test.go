package decide_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/decide"
	"andamio/internal/core/guard"
)

const ribera = `
version: andamio.approvals/1
rules:
- { rule: storm-only, when: 'request.offer == "worker-pool" && size.cores > 32 && !("storm" in request.answers)', then: refuse, say: So many workers are for storms. }
- { rule: small-trials, when: 'request.stage == "trial" && price.per_hour <= 0.5 && history.standing < 3', then: approve, say: Small trials are approved at once. }
- { rule: dear, when: price.per_month > 500.0, then: ask, ask: [ lia, ana ], need: 2, say: Dear things take two., after: 24h, next: [ "team:board" ] }
- { rule: abroad, when: 'sites.exists(s, s.startsWith("alisio"))', then: ask, ask: [ lia ], say: It leaves the house. }
- { rule: broken, when: 'person.rank > 3', then: approve, say: Whoever is high. }
`

func facts(change func(*decide.Facts)) *decide.Facts {
	f := &decide.Facts{Request: map[string]any{"offer": "trial-map", "stage": "trial", "answers": map[string]string{"fronts": "1"}}, Person: map[string]any{"name": "ibo", "teams": []string{"map"}},
		Team: "map", Price: map[string]any{"per_hour": 0.2, "per_month": 146.0}, Size: map[string]any{"cores": 2, "instances": 1}, Sites: []string{"vega"},
		History: map[string]any{"asked": 0, "refused": 0, "standing": 0}}
	change(f)
	return f
}

func TestTheFirstRuleThatFitsDecides(t *testing.T) {
	f, err := decide.Read([]byte(ribera))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		change func(*decide.Facts)
		want   decide.Decision
	}{
		"a small trial": {func(*decide.Facts) {}, decide.Decision{Then: decide.Approve, Rule: "small-trials", Say: "Small trials are approved at once."}},
		"the fourth": {func(f *decide.Facts) { f.History["standing"] = 3; f.Sites = []string{"alisio-sur"} },
			decide.Decision{Then: decide.Ask, Rule: "abroad", Need: 1, Ask: []string{"lia"}, Say: "It leaves the house."}},
		"a dear one": {func(f *decide.Facts) { f.Price = map[string]any{"per_hour": 0.9, "per_month": 657.0} },
			decide.Decision{Then: decide.Ask, Rule: "dear", Need: 2, Ask: []string{"lia", "ana"}, Next: []string{"team:board"}, Wait: 24 * time.Hour, Say: "Dear things take two."}},
		"too many": {func(f *decide.Facts) { f.Request["offer"], f.Size["cores"] = "worker-pool", 64 },
			decide.Decision{Then: decide.Refuse, Rule: "storm-only", Say: "So many workers are for storms."}},
		"what cannot be worked out": {func(f *decide.Facts) { f.Request["stage"] = "production" },
			decide.Decision{Then: decide.Ask, Rule: "broken", Need: 1, Say: "The rule broken cannot be worked out, so somebody is asked: no such key: rank."}},
	} {
		assert.Equal(t, c.want, f.Decide(facts(c.change)), name)
	}
	none := (&decide.File{}).Decide(facts(func(*decide.Facts) {}))
	assert.Equal(t, decide.Ask, none.Then, "where there are no rules somebody is asked")
	assert.Equal(t, 1, none.Need)
}

func TestWhatIsWrongWithRulesIsSaid(t *testing.T) {
	for _, c := range []struct{ was, is, says string }{
		{"approvals/1", "approvals/2", `"andamio.approvals/2" is not read`},
		{"rule: dear,", "rule: '',", "rules[2]: it has no name"},
		{"rule: dear,", "rule: abroad,", "rules[3]: another is called abroad"},
		{"then: refuse", "then: shrug", `rules[0]: then: "shrug" is neither approve, refuse nor ask`},
		{"say: It leaves the house.", "say: ''", "rules[3]: say: whoever asked is to read why"},
		{"price.per_month > 500.0", "price.per_month >", "rules[2]: when: "},
		{"price.per_month > 500.0", "moon.full", "undeclared reference to 'moon'"},
		{"price.per_month > 500.0", "team", "it is of type string, and not true or false"},
		{"need: 2", "need: 3", "need: 3 of 2 cannot say yes"},
		{"after: 24h", "after: tomorrow", `after: "tomorrow" is no time`},
		{", after: 24h", "", "say after and next, or neither"},
		{"say: Small trials are approved at once.", "say: Small., ask: [ lia ]", "only a rule that asks says whom"},
		{"say: It leaves", "tell: It leaves", `unknown field "tell"`},
	} {
		require.Contains(t, ribera, c.was)
		_, err := decide.Read([]byte(strings.Replace(ribera, c.was, c.is, 1)))
		assert.ErrorContains(t, err, c.says)
	}
	f, err := decide.Read([]byte(ribera))
	require.NoError(t, err)
	d, err := guard.ReadDirectory([]byte("version: andamio.teams/1\npeople: { ana: {} }\nteams: { board: {} }\ngrants: [ { to: ana, role: engineer } ]"))
	require.NoError(t, err)
	assert.EqualError(t, f.CheckAgainst(d), `rules[2].ask: "lia" is neither a person, team:NAME of a team that there is, nor everybody`+"\n"+`rules[3].ask: "lia" is neither a person, team:NAME of a team that there is, nor everybody`)
}

// TestAConditionThatTakesTooMuchWorkDecidesNothing bounds what a rule may reckon.
func TestAConditionThatTakesTooMuchWorkDecidesNothing(t *testing.T) {
	f, err := decide.Read([]byte(`
version: andamio.approvals/1
rules: [ { rule: long, when: "sites.all(a, sites.all(b, sites.all(c, sites.all(d, a + b != c + d + 'x'))))", then: approve, say: x } ]`))
	require.NoError(t, err)
	d := f.Decide(facts(func(f *decide.Facts) { f.Sites = make([]string, 100) }))
	assert.Equal(t, decide.Ask, d.Then)
	assert.Contains(t, d.Say, "cost limit")
}

// TestARuleWithoutAConditionAlwaysFits is the last of a list; one whose facts make it neither true nor false decides nothing.
func TestARuleWithoutAConditionAlwaysFits(t *testing.T) {
	f, err := decide.Read([]byte("version: andamio.approvals/1\nrules: [ { rule: all, then: approve, say: Everything is. } ]"))
	require.NoError(t, err)
	assert.Equal(t, decide.Decision{Then: decide.Approve, Rule: "all", Say: "Everything is."}, f.Decide(facts(func(*decide.Facts) {})))
	f, err = decide.Read([]byte("version: andamio.approvals/1\nrules: [ { rule: odd, when: request.stage, then: approve, say: x } ]"))
	require.NoError(t, err, "of what type it is is known when it is asked")
	d := f.Decide(facts(func(*decide.Facts) {}))
	assert.Equal(t, decide.Ask, d.Then)
	assert.Contains(t, d.Say, "it is trial, and not true or false")
}
