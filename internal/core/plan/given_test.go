package plan_test

import (
	"fmt"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

// before reports that a step comes after another, directly or through others.
func before(p *plan.Plan, first, then string) bool {
	seen := map[string]bool{}
	queue := slices.Clone(p.Step(then).After)
	for len(queue) > 0 {
		id := queue[0]
		queue = queue[1:]
		if id == first {
			return true
		}
		if !seen[id] {
			seen[id] = true
			queue = append(queue, p.Step(id).After...)
		}
	}
	return false
}

// TestWhoIsGivenAValueComesAfterItsProvider gives parts outputs and addresses of others with which no relationship ties them, in both orders of their names.
func TestWhoIsGivenAValueComesAfterItsProvider(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(2, 6).Draw(t, "parts")
		order := rapid.Permutation(seq(n)).Draw(t, "names")
		text := "  node_templates:\n"
		type tie struct{ by, to int }
		var outputs, addresses []tie
		for i := range n {
			name := fmt.Sprintf("p%d", order[i])
			inputs, out := "", ""
			if i > 0 && rapid.Bool().Draw(t, "is given an output") {
				by := rapid.IntRange(0, i-1).Draw(t, "of")
				outputs = append(outputs, tie{order[by], order[i]})
				inputs += fmt.Sprintf(", A: { get_operation_output: [ p%d, Standard, create, WORD ] }", order[by])
			}
			if i > 0 && rapid.Bool().Draw(t, "is given an address") {
				by := rapid.IntRange(0, i-1).Draw(t, "whose")
				addresses = append(addresses, tie{order[by], order[i]})
				inputs += fmt.Sprintf(", B: { get_attribute: [ n%d, ip_address ] }", order[by])
			}
			text += fmt.Sprintf("    h%s: { type: Compute }\n    n%s: { type: tosca.nodes.network.Port, requirements: [ binding: hp%d, link: lan ] }\n", name, name[1:], order[i])
			text += fmt.Sprintf("    %s: { type: own.Part, requirements: [ host: h%s ], interfaces: { Standard: { configure: { implementation: x.sh, inputs: { Z: z%s } } } } }\n", name, name, inputs+out)
		}
		text += "    lan: { type: tosca.nodes.network.Network }\n"
		p, err := tryCompile(t, text)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range outputs {
			assert.True(t, before(p, fmt.Sprintf("p%d-1/create", x.by), fmt.Sprintf("p%d-1/configure", x.to)), "%v", x)
		}
		for _, x := range addresses {
			assert.True(t, before(p, fmt.Sprintf("n%d-1/plug", x.by), fmt.Sprintf("p%d-1/configure", x.to)), "%v", x)
		}
		tied := map[tie]bool{}
		for _, x := range append(outputs, addresses...) {
			tied[x] = true
		}
		for i := range n {
			for k := range n {
				if i != k && before(p, fmt.Sprintf("p%d-1/start", i), fmt.Sprintf("p%d-1/create", k)) {
					t.Fatalf("p%d waits for p%d to start, and nothing ties them", k, i)
				}
			}
		}
	})
}

func seq(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// TestEveryPolicyOfAPlaceBinds has every policy of ours that names something change the problem that is placed, in the way that it says, or be a mistake.
func TestEveryPolicyOfAPlaceBinds(t *testing.T) {
	const nodes = "  node_templates:\n    h: { type: Compute }\n    g: { type: Compute }\n    a: { type: own.Part, requirements: [ host: h ] }\n"
	problem := func(policy string) placement.Problem {
		text := preamble + nodes
		if policy != "" {
			text += "  policies:\n    - p: { " + policy + " }\n"
		}
		tmpl, diags := tosca.Read("t.yaml", func(name string) ([]byte, error) {
			if name == "x.sh" {
				return []byte("true\n"), nil
			}
			return []byte(text), nil
		})
		require.Zero(t, diags.Errors(), "%s: %s", policy, diags.Error())
		design, diags := topology.Build(tmpl, nil, topology.Options{})
		require.Zero(t, diags.Errors(), "%s: %s", policy, diags.Error())
		return plan.Problem(design, roomy(t))
	}
	none := problem("")
	for policy, want := range map[string]placement.Rule{
		"type: andamio.policies.Allow, targets: [ h ], properties: { sites: [ vega ] }":                              {Name: "p", Nodes: []string{"h"}, Sites: []string{"vega"}},
		"type: andamio.policies.Allow, targets: [ a ], properties: { site_kinds: [ edge, private ], because: why }":  {Name: "p", Nodes: []string{"h"}, Kinds: []string{"edge", "private"}, Because: "why"},
		"type: andamio.policies.Allow, properties: { jurisdictions: [ ribera ], features: [ vlan ], weight: 0.5 }":   {Name: "p", Jurisdictions: []string{"ribera"}, Features: []string{"vlan"}, Weight: 0.5},
		"type: andamio.policies.Spread, targets: [ h, g ], properties: { over: zone, most: 2, jointly: true }":       {Name: "p", Nodes: []string{"h", "g"}, Apart: "zone", Most: 2, Jointly: true},
		"type: andamio.policies.Spread, targets: [ h ]":                                                              {Name: "p", Nodes: []string{"h"}, Apart: "site"},
		"type: andamio.policies.Together, targets: [ h, g ]":                                                         {Name: "p", Nodes: []string{"h", "g"}, Together: "site"},
		"type: andamio.policies.Together, targets: [ h, g ], properties: { over: host, because: they share a disk }": {Name: "p", Nodes: []string{"h", "g"}, Together: "host", Because: "they share a disk"},
	} {
		got := problem(policy)
		assert.Equal(t, append(slices.Clone(none.Rules), want), got.Rules, policy)
	}
	for _, policy := range []string{"type: andamio.policies.Answers, targets: [ h ], properties: { answers: { sensitive_data: true } }",
		"type: andamio.policies.Traffic, targets: [ h, g ], properties: { gib_per_hour: 2.0, max_ms: 20.0 }"} {
		got := problem(policy)
		assert.False(t, reflect.DeepEqual([]any{none.Workloads, none.Traffic}, []any{got.Workloads, got.Traffic}), policy)
	}
}
