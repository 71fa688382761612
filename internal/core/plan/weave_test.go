package plan_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// woven is a row of tiers of some instances each, every one connected to the one before by a relationship that has all
// operations of the standard.
func woven(counts []int) string {
	var b strings.Builder
	b.WriteString("  node_templates:\n")
	for i, n := range counts {
		fmt.Fprintf(&b, "    h%d: { type: Compute, capabilities: { scalable: { properties: { min_instances: %d, max_instances: %d } } } }\n", i, n, n)
		fmt.Fprintf(&b, "    t%d:\n      type: own.Part\n      requirements:\n        - host: h%d\n", i, i)
		if i > 0 {
			fmt.Fprintf(&b, "        - peer: { node: t%d, relationship: tie }\n", i-1)
		}
	}
	b.WriteString("  relationship_templates:\n    tie:\n      type: ConnectsTo\n      interfaces:\n        Configure:\n")
	for _, op := range []string{"pre_configure_source", "pre_configure_target", "post_configure_source", "post_configure_target", "add_target", "add_source"} {
		fmt.Fprintf(&b, "          %s: { implementation: x.sh, inputs: { WHO: { get_attribute: [ SOURCE, tosca_id ] }, AT: { get_attribute: [ TARGET, api, ip_address ] } } }\n", op)
	}
	return b.String()
}

// ancestors are all steps that a step comes after.
func ancestors(p *plan.Plan, id string) map[string]bool {
	out := map[string]bool{}
	queue := []string{id}
	for len(queue) > 0 {
		s := p.Step(queue[0])
		queue = queue[1:]
		for _, a := range s.After {
			if !out[a] {
				out[a] = true
				queue = append(queue, a)
			}
		}
	}
	return out
}

// TestAnyWeaveFollowsTheStandard checks, for tiers of any sizes, that every pair of instances has each operation once, on
// the right side, and in the order of the standard (section 5.8.5).
func TestAnyWeaveFollowsTheStandard(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		counts := rapid.SliceOfN(rapid.IntRange(1, 4), 2, 3).Draw(t, "tiers")
		p, err := tryCompile(t, woven(counts))
		if err != nil {
			t.Fatal(err)
		}
		lawful(t, p)
		for i := 1; i < len(counts); i++ {
			for k := range counts[i] {
				for j := range counts[i-1] {
					if j%counts[i-1] != k%counts[i-1] && k != j%counts[i] {
						continue // this source is not tied to this target
					}
					checkPair(t, p, fmt.Sprintf("t%d-%d", i, k+1), fmt.Sprintf("t%d-%d", i-1, j+1))
				}
			}
		}
	})
}

// checkPair checks the operations between a source and a target.
func checkPair(t *rapid.T, p *plan.Plan, source, target string) {
	find := func(on, name, other string) string {
		var found []string
		for _, s := range p.Steps {
			if s.Resource == on && s.Op == op.Connect && strings.Contains(s.ID, ":peer."+name) && (strings.HasSuffix(s.ID, "."+other) || strings.HasSuffix(s.ID, "."+name)) {
				found = append(found, s.ID)
			}
		}
		if len(found) != 1 {
			t.Fatalf("%s of %s → %s is there %d times on %s", name, source, target, len(found), on)
		}
		return found[0]
	}
	order := []string{target + "/create", find(target, "pre_configure_target", source), target + "/configure", find(target, "post_configure_target", source),
		target + "/start", target + "/check:api", find(source, "pre_configure_source", target), source + "/configure", find(source, "post_configure_source", target),
		source + "/start", source + "/check:api", find(source, "add_target", target), find(target, "add_source", source)}
	for i := 1; i < len(order); i++ {
		if !ancestors(p, order[i])[order[i-1]] {
			t.Fatalf("%s does not come after %s", order[i], order[i-1])
		}
	}
}

func TestRelationshipOperationsAreGivenTheirPair(t *testing.T) {
	p := mustCompile(t, woven([]int{2, 3}))
	for step, want := range map[string][2]string{
		"t1-3/connect:peer.pre_configure_source.t0-1": {"t1-3", "‹address of h0-1.if›"},
		"t0-2/connect:peer.add_source.t1-2":           {"t1-2", "‹address of h0-2.if›"},
		"t0-1/connect:peer.pre_configure_target.t1-3": {"t1-3", "‹address of h0-1.if›"},
	} {
		s := p.Step(step)
		require.NotNil(t, s, "%s in %v", step, ids(p))
		got := map[string]string{}
		for _, in := range s.Script.Inputs {
			got[in.Name] = in.Value.String()
		}
		assert.Equal(t, map[string]string{"WHO": want[0], "AT": want[1]}, got, step)
	}
}

func TestWhatNothingProvidesIsRefused(t *testing.T) {
	_, err := tryCompile(t, `  node_templates:
    h: { type: Compute }
    a: { type: own.Part, requirements: [ host: h ], interfaces: { Standard: { start: { implementation: x.sh, inputs: { K: { get_attribute: [ h, networks ] } } } } } }
`)
	assert.ErrorContains(t, err, "a-1/start is given networks of h-1, and nothing puts that out")
	_, err = tryCompile(t, `  node_templates:
    lan: { type: network.Network, interfaces: { Standard: { create: x.sh } } }
    h: { type: Compute }
    p: { type: network.Port, requirements: [ binding: h, link: lan ] }
`)
	assert.ErrorContains(t, err, "lan has operations, and a network has no shell to run them in")
}

func TestAnInstancesOwnScriptsRunInIt(t *testing.T) {
	p := mustCompile(t, `  node_templates:
    vol: { type: BlockStorage, properties: { size: 1 GB } }
    h:
      type: Compute
      requirements: [ local_storage: { node: vol, relationship: { type: AttachesTo, properties: { location: /srv } } } ]
      interfaces: { Standard: { configure: x.sh } }
    a: { type: own.Part, requirements: [ host: h ] }
`)
	s := p.Step("h-1/configure:script")
	require.NotNil(t, s, "%v", ids(p))
	before := ancestors(p, s.ID)
	for _, want := range []string{"h-1/create", "h-1/attach:vol-1", "h-1.if/plug"} {
		assert.True(t, before[want], want)
	}
	assert.True(t, slices.Contains(p.Step("a-1/create").After, s.ID), "nothing is put on it before")
}
