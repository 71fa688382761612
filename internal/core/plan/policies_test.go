package plan_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/rules"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

// answers are those of a policy.
func answers(of map[string]any) map[string]any { return map[string]any{"answers": of} }

// small is a design of two hosts and a network, of which one is named lan.
func small(t *testing.T) *topology.Design {
	t.Helper()
	const text = "tosca_definitions_version: tosca_simple_yaml_1_3\ntopology_template:\n  node_templates:\n    host: { type: tosca.nodes.Compute }\n    other: { type: tosca.nodes.Compute }\n" +
		"    lan: { type: tosca.nodes.network.Network, properties: { network_name: lan } }\n"
	tmpl, diags := tosca.Read("t.yaml", func(string) ([]byte, error) { return []byte(text), nil })
	require.Zero(t, diags.Errors(), diags.Error())
	d, diags := topology.Build(tmpl, tosca.Inputs{}, topology.Options{})
	require.Zero(t, diags.Errors(), diags.Error())
	return d
}

// TestPoliciesThatAreVoidAreSaid has a row for every way in which a policy says nothing, beside one that does.
func TestPoliciesThatAreVoidAreSaid(t *testing.T) {
	t.Parallel()
	d := small(t)
	asked := []string{"personal_data", "survives_a_site"}
	for name, c := range map[string]struct {
		rule     topology.Rule
		code     tosca.Code
		severity tosca.Severity
		says     string
		hint     string
	}{
		"answers nothing":              {rule: topology.Rule{Kind: "answers"}, code: tosca.CodeMissingKey, severity: tosca.Mistake, says: "answers no question, so it has no effect", hint: "answer one of personal_data, survives_a_site"},
		"answers what nobody asks":     {rule: topology.Rule{Kind: "answers", Properties: answers(map[string]any{"colour": true})}, code: tosca.CodeUnknownKey, severity: tosca.Mistake, says: "answers colour, which no rule asks", hint: "there are personal_data, survives_a_site"},
		"answers what was misspelt":    {rule: topology.Rule{Kind: "answers", Properties: answers(map[string]any{"personal_date": true, "survives_a_site": true})}, code: tosca.CodeUnknownKey, severity: tosca.Mistake, says: "answers personal_date, which no rule asks", hint: "write personal_data"},
		"answers":                      {rule: topology.Rule{Kind: "answers", Properties: answers(map[string]any{"personal_data": false})}},
		"demands nothing":              {rule: topology.Rule{Kind: "allow", Properties: map[string]any{"sites": []any{}}}, code: tosca.CodeMissingKey, severity: tosca.Mistake, says: "demands nothing of a site, so it has no effect", hint: "give sites, site_kinds, jurisdictions or features"},
		"demands one thing of several": {rule: topology.Rule{Kind: "allow", Properties: map[string]any{"sites": []any{"vega"}, "features": []any{}}}},
		"of nothing that is placed":    {rule: topology.Rule{Kind: "spread", Targets: []string{"lan"}}, code: tosca.CodeUnused, severity: tosca.Doubt, says: "has targets of which none is placed, so it has no effect", hint: "name compute nodes, or software on them"},
		"together, of nothing placed":  {rule: topology.Rule{Kind: "together", Targets: []string{"lan"}}, code: tosca.CodeUnused, severity: tosca.Doubt, says: "has targets of which none is placed", hint: "name compute nodes, or software on them"},
		"of one that is placed":        {rule: topology.Rule{Kind: "spread", Targets: []string{"lan", "host"}}},
		"of everything":                {rule: topology.Rule{Kind: "together"}},
		"of another sort":              {rule: topology.Rule{Kind: "scaling", Targets: []string{"lan"}}},
	} {
		c.rule.Name, c.rule.Pos = "wish", tosca.Pos{File: "t.yaml", Line: 7, Col: 5}
		d.Rules = []topology.Rule{{Name: "before", Kind: "scaling"}, c.rule}
		got := plan.Policies(d, asked)
		if c.says == "" {
			assert.Empty(t, got, name)
			continue
		}
		require.Len(t, got, 1, name)
		assert.Equal(t, []any{c.code, c.severity, c.hint, c.rule.Pos, 4}, []any{got[0].Code, got[0].Severity, got[0].Hint, got[0].Pos, got[0].Width}, name)
		assert.Contains(t, got[0].Message, "policy wish "+c.says, name)
	}
	d.Rules = []topology.Rule{{Kind: "answers"}}
	assert.Equal(t, 1, plan.Policies(d, asked)[0].Width, "one that has no name is marked all the same")
}

// TestWhatPoliciesChangeIsSaid has a row for every sort of policy, and for what becomes of it.
func TestWhatPoliciesChangeIsSaid(t *testing.T) {
	t.Parallel()
	d := small(t)
	asking := func(q string) []string {
		return map[string][]string{"personal_data": {"at-home", "in-the-basin"}, "night": {"quiet"}}[q]
	}
	verdicts := []placement.Verdict{{Site: "tramonta", Rules: []string{"other", "wish"}}, {Site: "alisio", Rules: []string{"at-home"}}, {Site: "vega"}, {Site: "presa", Rules: []string{"in-the-basin", "wish"}}}
	for name, c := range map[string]struct {
		rule topology.Rule
		want string
	}{
		"answered, which two rules ask": {topology.Rule{Kind: "answers", Properties: answers(map[string]any{"personal_data": true})},
			"policy wish: answers that personal data is yes; so rules at-home, in-the-basin counts: 2 sites ruled out by it: alisio, presa"},
		"answered, which one rule asks": {topology.Rule{Kind: "answers", Properties: answers(map[string]any{"night": false})},
			"policy wish: answers that night is no; so rule quiet counts: no site is ruled out by it as things are"},
		"answered, which nobody asks": {topology.Rule{Kind: "answers", Properties: answers(map[string]any{"colour": true, "night": true, "a": false})},
			"policy wish: answers that a is no, colour is yes, night is yes; so rule quiet counts: no site is ruled out by it as things are"},
		"asked by nobody at all": {topology.Rule{Kind: "answers", Properties: answers(map[string]any{"colour": true})}, "policy wish: answers that colour is yes, which no rule asks"},
		"allowed":                {topology.Rule{Kind: "allow", Because: "people live there"}, "policy wish (people live there): 2 sites ruled out by it: tramonta, presa"},
		"apart":                  {topology.Rule{Kind: "spread", Properties: map[string]any{"over": "zone"}}, "policy wish: instances stand apart, by zone; 2 sites ruled out by it: tramonta, presa"},
		"together":               {topology.Rule{Kind: "together", Properties: map[string]any{"over": "site"}, Targets: []string{"host"}}, "policy wish: instances stand together, by site; 2 sites ruled out by it: tramonta, presa"},
		"traffic":                {topology.Rule{Kind: "traffic"}, "policy wish: what passes between them draws them to each other, and costs where it leaves a site"},
		"another":                {topology.Rule{Kind: "scaling"}, ""},
		"of another":             {topology.Rule{Kind: "allow", Targets: []string{"other"}}, ""},
	} {
		c.rule.Name = "wish"
		d.Rules = []topology.Rule{{Name: "not here", Kind: "allow", Targets: []string{"other"}}, c.rule}
		var want []string
		if c.want != "" {
			want = []string{c.want}
		}
		assert.Equal(t, want, plan.Effects(d, "host", asking, verdicts), name)
	}
}

// TestACircleIsArrangedByNobody: steps that wait for each other are said, and a plan that was put together anew knows its parts.
func TestACircleIsArrangedByNobody(t *testing.T) {
	t.Parallel()
	lan := func(id string) plan.Resource {
		return plan.Resource{ID: id, Node: id, Title: id, Kind: kinds.Network, Site: "vega", Spec: plan.NetworkSpec{Label: id}}
	}
	step := func(id string, after ...string) plan.Step {
		return plan.Step{ID: id + "/create", Resource: id, Op: op.Create, Title: "create " + id, Site: "vega", Seconds: 1, After: after, Check: plan.Condition{Kind: plan.CheckSite}}
	}
	p := &plan.Plan{Version: plan.Version, Name: "lans", Currency: "cr", Sites: []plan.Site{{Name: "vega", Kind: "private"}}, Resources: []plan.Resource{lan("a"), lan("b")}, Steps: []plan.Step{step("a", "b/create"), step("b", "a/create")}}
	assert.ErrorContains(t, p.Arrange(), "wait for each other in a circle: ")
	p.Steps = []plan.Step{step("b", "a/create"), step("a")}
	require.NoError(t, p.Arrange())
	assert.Equal(t, []string{"a/create", "b/create"}, p.CriticalPath)
	assert.InDelta(t, 2, p.Seconds, 1e-9)
	assert.Equal(t, "b", p.Step("b/create").Resource)
	p.Resources, p.Steps = []plan.Resource{lan("c")}, []plan.Step{step("c")}
	plan.Reindexed(p)
	assert.Nil(t, p.Resource("a"))
	assert.NotNil(t, p.Resource("c"))
	assert.NotNil(t, p.Step("c/create"))
	assert.Nil(t, p.Step("a/create"))
}

// TestWhatAnExpressionAsksFor names attributes, and outputs of operations, of a resource and of another.
func TestWhatAnExpressionAsksFor(t *testing.T) {
	t.Parallel()
	word := func(s string) plan.Expr { return plan.Expr{Literal: s} }
	asks := plan.Expr{Func: "concat", Args: []plan.Expr{word("http://"), {Func: "get_attribute", Args: []plan.Expr{word("host-1"), word("address")}}}}
	out := plan.Expr{Func: "get_operation_output", Args: []plan.Expr{word("host-1"), word("configure"), word("port")}}
	assert.True(t, asks.Asks("host-1", "address"))
	assert.False(t, asks.Asks("host-2", "address"))
	assert.False(t, asks.Asks("host-1", "port"))
	assert.True(t, out.Asks("host-1", plan.OutputAttribute("configure", "port")))
	assert.False(t, out.Asks("host-1", plan.OutputAttribute("configure", "name")))
	assert.False(t, out.Asks("host-1", "port"))
	both := plan.Expr{Func: "concat", Args: []plan.Expr{asks, out, {Func: "get_attribute", Args: []plan.Expr{word("host-2"), word("address")}}}}
	assert.True(t, both.Asks("host-1", "address"), "whichever is asked for last")
	assert.False(t, word("address").Asks("host-1", "address"))
}

// TestWhatStandsKeepsWhatItHas compiles a design again for what stands, in which interfaces have addresses that others would be given: nobody takes another's.
func TestWhatStandsKeepsWhatItHas(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile(example + "/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	const relays = "../../../examples/relay-tiers"
	first := compile(t, relays, "")
	last := map[string]int{}
	swapped := 0
	for i := range first.Resources {
		s, is := first.Resources[i].Spec.(plan.InterfaceSpec)
		if !is || s.Address == "" {
			continue
		}
		if before, any := last[s.Network]; any {
			other := first.Resources[before].AsInterface()
			other.Address, s.Address = s.Address, other.Address
			first.Resources[before].Spec, first.Resources[i].Spec = other, s
			swapped++
		}
		last[s.Network] = i
	}
	require.Positive(t, swapped)
	tmpl, diags := tosca.Read("template.yaml", func(p string) ([]byte, error) { return os.ReadFile(filepath.Join(relays, p)) })
	require.Zero(t, diags.Errors())
	design, diags := topology.Build(tmpl, tosca.Inputs{}, topology.Options{Standing: standing(e)})
	require.Zero(t, diags.Errors())
	problem := plan.Problem(design, e)
	require.NoError(t, rules.Default().Apply(&problem, nil))
	placed, err := placement.Solve(problem, placement.Options{})
	require.NoError(t, err)
	fresh := slices.IndexFunc(first.Resources, func(r plan.Resource) bool { return r.AsInterface().Address != "" }) // which is built before those that stand are looked at
	first.Resources = slices.Delete(first.Resources, fresh, fresh+1)
	again, err := plan.Compile(design, placed, e, plan.Options{Like: plan.Reindexed(first)})
	require.NoError(t, err)
	for i := range first.Resources {
		if s, is := first.Resources[i].Spec.(plan.InterfaceSpec); is {
			assert.Equal(t, s.Address, again.Resource(first.Resources[i].ID).AsInterface().Address, first.Resources[i].ID)
		}
	}
}
