package rules

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
)

func sites() *estate.Estate {
	return &estate.Estate{Sites: []*estate.Site{{Name: "dam", Kind: estate.Edge, Provider: "own"}, {Name: "hall", Kind: estate.Private, Provider: "own"},
		{Name: "north", Kind: estate.Public, Provider: "cloud", Features: []string{"elastic"}}}}
}

func applied(t *testing.T, f *File, w ...placement.Workload) []placement.Rule {
	t.Helper()
	p := placement.Problem{Estate: sites(), Workloads: w}
	require.NoError(t, f.Apply(&p, map[string]any{"group": "river"}))
	return p.Rules
}

func TestTheShippedRulesMeanWhatTheQuestionsAsk(t *testing.T) {
	for question, want := range map[string][]string{"latency_critical": {"dam"}, "load_varies": {"north"}, "sensitive_data": {"hall"}} {
		got := applied(t, Default(), placement.Workload{Node: "a", Answers: map[string]bool{question: true}}, placement.Workload{Node: "b"})
		require.Len(t, got, 1, question)
		assert.Equal(t, []string{"a"}, got[0].Nodes, "b answers nothing")
		assert.Equal(t, want, got[0].Sites)
		assert.True(t, got[0].Listed)
		assert.NotEmpty(t, got[0].Because)
	}
	got := applied(t, Default(), placement.Workload{Node: "a", Answers: map[string]bool{"must_survive_site": true}})
	require.Len(t, got, 2)
	assert.Equal(t, "site", got[0].Apart)
	assert.Equal(t, "provider", got[1].Apart)
	assert.Positive(t, got[1].Weight, "two providers are preferred, not demanded")
	assert.Len(t, Default().Questions, 4)
	assert.Equal(t, "sensitive data", Default().Question("sensitive_data").Word)
	assert.Nil(t, Default().Question("colour"))
}

func TestOtherQuestionsNeedNoCode(t *testing.T) {
	f, err := Read([]byte(`
version: andamio.rules/1
questions: [ { name: near_the_river, word: near the river, asks: Is it of use only near the river? } ]
rules:
  - { name: to-the-dam, when: workload.answers.near_the_river && workload.tier == "gauge", must: site.name == "dam", because: it watches the river }
  - { name: own-first, prefer: site.provider == "own", weight: 0.2, because: what is ours is paid for }
  - { name: river-people, when: 'requester.group == "river" && workload.cores > 4', must: site.kind != "edge", because: the dam is small }
`))
	require.NoError(t, err)
	got := applied(t, f, placement.Workload{Node: "a", Tier: "gauge", Answers: map[string]bool{"near_the_river": true}},
		placement.Workload{Node: "b", Need: estate.Capacity{Cores: 8}}, placement.Workload{Node: "c", Need: estate.Capacity{Cores: 8}})
	require.Len(t, got, 3)
	assert.Equal(t, []string{"dam"}, got[0].Sites)
	assert.Equal(t, []string{"a", "b", "c"}, got[1].Nodes, "a rule without when is for all")
	assert.Equal(t, 0.2, got[1].Weight)
	assert.Equal(t, []string{"b", "c"}, got[2].Nodes)
	assert.Equal(t, []string{"hall", "north"}, got[2].Sites)
}

func TestMistakesOfARuleFile(t *testing.T) {
	good := string(DefaultText())
	for change, says := range map[[2]string]string{
		{"andamio.rules/1", "andamio.rules/2"}:                         `version: "andamio.rules/2" is not read`,
		{`must: site.kind == "edge"`, `must: site.kind ==`}:            "rules[0].must (near-where-data-arises)",
		{`must: site.kind == "edge"`, `must: sight.kind == "edge"`}:    "undeclared reference to 'sight'",
		{`must: site.kind == "edge"`, `must: '"edge"'`}:                "gives string, not yes or no",
		{`must: site.kind == "edge"`, "prefer: site.kind == \"edge\""}: "what is preferred has a weight",
		{"    apart: site\n", "    apart: moon\n"}:                     `"moon" is not provider, site, zone or host`,
		{"    apart: site\n", "    apart: site\n    together: zone\n"}: "exactly one of must, prefer, apart and together",
		{"name: load_varies", "name: latency_critical"}:                `questions[1].name: "latency_critical" is empty or used twice`,
		{"because: its data is sensitive, and must stay", "b: stay"}:   `unknown field "b"`,
		{"questions:", "questions: 7\nx:"}:                             "cannot unmarshal",
	} {
		text := strings.Replace(good, change[0], change[1], 1)
		require.NotEqual(t, good, text, change[0])
		_, err := Read([]byte(text))
		if assert.Error(t, err, change[1]) {
			assert.Contains(t, err.Error(), says)
		}
	}
}

func TestARuleThatCannotBeWorkedOutSaysWhere(t *testing.T) {
	f, err := Read([]byte(`{"version": "andamio.rules/1", "rules": [{"name": "odd", "must": "site.colour == 'red'", "because": "x"}]}`))
	require.NoError(t, err)
	p := placement.Problem{Estate: sites(), Workloads: []placement.Workload{{Node: "a"}}}
	assert.ErrorContains(t, f.Apply(&p, nil), "rule odd for a at dam: no such key: colour")
	endless := `[0,1,2,3,4,5,6,7,8,9]`
	text := "true"
	for range 7 {
		text = endless + ".all(x, " + text + ")"
	}
	f, err = Read([]byte(`{"version": "andamio.rules/1", "rules": [{"name": "endless", "must": "` + text + `", "because": "x"}]}`))
	require.NoError(t, err)
	assert.ErrorContains(t, f.Apply(&p, nil), "cost limit", "an expression cannot hang the program")
}
