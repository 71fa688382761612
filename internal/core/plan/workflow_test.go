package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// tiers is a template with two tiers of two and three instances, whose relationship has operations.
const tiers = `  node_templates:
    lan: { type: tosca.nodes.network.Network }
    ah: { type: Compute, capabilities: { scalable: { properties: { min_instances: 2, max_instances: 2 } } } }
    ap: { type: tosca.nodes.network.Port, requirements: [ binding: ah, link: lan ] }
    a: { type: WebServer, requirements: [ host: ah ], capabilities: { data_endpoint: { properties: { port: 80 } } }, interfaces: { Standard: { create: x.sh, configure: x.sh, start: x.sh } } }
    bh: { type: Compute, capabilities: { scalable: { properties: { min_instances: 3, max_instances: 3 } } } }
    b:
      type: SoftwareComponent
      interfaces: { Standard: { create: x.sh, start: x.sh } }
      requirements:
        - host: bh
        - dependency: { node: a, relationship: { type: DependsOn, interfaces: { Configure: { pre_configure_source: x.sh, add_source: x.sh } } } }
  groups: { hosts: { type: tosca.groups.Root, members: [ ah, bh ] } }
`

// levels are the heights of all steps, so that order can be compared.
func levels(p *plan.Plan) map[string]int {
	out := map[string]int{}
	for _, s := range p.Steps {
		out[s.ID] = s.Level
	}
	return out
}

func TestWorkflowsGoOverInstancesAndGroups(t *testing.T) {
	p := mustCompile(t, tiers+`  workflows:
    deploy:
      steps:
        net: { target: lan, activities: [ delegate: deploy ], on_success: [ hosts ] }
        hosts: { target: hosts, activities: [ call_operation: Standard.create ], on_success: [ ports ] }
        ports: { target: ap, activities: [ call_operation: Standard.create ], on_success: [ first ] }
        first: { target: b, activities: [ call_operation: Standard.create, call_operation: Standard.start ], on_success: [ second ], on_failure: [ sorry ] }
        second: { target: a, activities: [ delegate: deploy ], on_success: [ tie ] }
        tie: { target: b, target_relationship: dependency, activities: [ call_operation: Configure.pre_configure_source, call_operation: Configure.add_source ] }
        sorry: { target: b, activities: [ set_state: error ], on_success: [ after ] }
        after: { target: a, activities: [ set_state: error ] }
`)
	at := levels(p)
	for _, order := range [][]string{
		{"lan@vega/create", "ah-1/create", "ap-1/plug", "b-1/create", "b-1/start", "a-1/create", "a-1/configure", "a-1/start", "a-1/check:data_endpoint", "b-1/connect:dependency.pre_configure_source.a-1"},
		{"bh-3/create", "bh-3.if/plug", "b-3/create", "b-3/start", "a-2/create"},
	} {
		for i := 1; i < len(order); i++ {
			require.Positive(t, at[order[i-1]], order[i-1])
			assert.Less(t, at[order[i-1]], at[order[i]], "%s before %s", order[i-1], order[i])
		}
	}
	sorry := p.Step("b-2/settle:error.2")
	require.NotNil(t, sorry, "%v", ids(p))
	assert.Contains(t, sorry.AfterFailure, "b-1/create")
	assert.Contains(t, sorry.AfterFailure, "b-3/start", "any of its steps may fail")
	assert.Equal(t, map[string]string{"state": "error"}, sorry.Sets)
	assert.Equal(t, map[string]string{"state": "configured"}, p.Step("a-1/configure").Sets)
	assert.Equal(t, "deploy", p.Workflow)
	ends := 0
	for _, s := range p.Steps {
		if s.Op == op.Connect && s.Resource == "a-1" {
			ends++
		}
	}
	assert.Equal(t, 2, ends, "the target's operation of the sources b-1 and b-3 runs on a-1")
}

func TestWorkflowsThatCannotBe(t *testing.T) {
	for says, steps := range map[string]string{
		"is done twice":          "one: { target: lan, activities: [ delegate: deploy, delegate: deploy ] }",
		"on which it stands":     "one: { target: ap, activities: [ call_operation: Standard.create ] }",
		"both on success and on": "one: { target: lan, activities: [ delegate: deploy ], on_success: [ two ], on_failure: [ two ] }, two: { target: ah, activities: [ call_operation: Standard.create ] }",
	} {
		_, err := tryCompile(t, tiers+"  workflows: { deploy: { steps: { "+steps+" } } }\n")
		assert.ErrorContains(t, err, says)
	}
}

func TestConditionsArePlainData(t *testing.T) {
	p := mustCompile(t, tiers+`  workflows:
    deploy:
      steps:
        one: { target: lan, filter: [ or: [ { state: [ { equal: initial } ] }, { not: [ { state: [ { valid_values: [ a, b ] } ] } ] } ] ], activities: [ delegate: deploy ] }
`)
	when := p.Step("lan@vega/create").When
	require.NotNil(t, when)
	assert.Equal(t, "or", when.Clauses[0].Op)
	assert.Equal(t, plan.Clause{Attribute: "state", Test: "equal", Values: []any{"initial"}}, when.Clauses[0].Clauses[0].Clauses[0])
	assert.NotEmpty(t, p.Notes, "what it does not build is said")
	for _, c := range []struct {
		test, text string
		values     []any
		want       bool
	}{{"equal", "initial", []any{"initial"}, true}, {"in_range", "5", []any{1, 8}, true}, {"in_range", "9", []any{1, 8}, false}, {"greater_than", "2 GiB", []any{"2 GB"}, true},
		{"valid_values", "b", []any{"a", "b"}, true}, {"pattern", "loud-3", []any{"loud-.*"}, true}, {"min_length", "ab", []any{3}, false}, {"nonsense", "a", []any{"a"}, false}, {"equal", "a", nil, false}, {"pattern", "a", []any{"("}, false}} {
		assert.Equal(t, c.want, plan.Satisfies(c.test, c.text, c.values), "%v", c)
	}
}

func TestDifferencesAreInWords(t *testing.T) {
	small := mustCompile(t, tiers)
	d := plan.Compare(small, mustCompile(t, tiers))
	assert.Equal(t, map[plan.Change]int{plan.Keep: len(small.Resources)}, d.Count())
	more := mustCompile(t, replaced(tiers, "min_instances: 3, max_instances: 3", "min_instances: 4, max_instances: 4"))
	d = plan.Compare(small, more)
	assert.Equal(t, plan.Build, d["bh-4"])
	assert.Equal(t, plan.Keep, d["bh-1"])
	assert.Equal(t, plan.Retire, plan.Compare(more, small)["b-4"])
	other := mustCompile(t, replaced(tiers, "port: 80 }", "port: 81 }"))
	assert.Equal(t, plan.Amend, plan.Compare(small, other)["a-1"])
}

func replaced(text, from, to string) string { return strings.Replace(text, from, to, 1) }
