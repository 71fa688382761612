package plan_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/rules"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
	"andamio/internal/golden"
)

const example = "../../../examples/flood-watch"

// compile takes a template all the way to a plan.
func compile(t testing.TB, dir, preset string) *plan.Plan {
	t.Helper()
	open := func(p string) ([]byte, error) { return os.ReadFile(filepath.Join(dir, p)) }
	tmpl, diags := tosca.Read("template.yaml", open)
	require.Zero(t, diags.Errors(), diags.Error())
	inputs := tosca.Inputs{}
	if preset != "" {
		data, err := open("presets/" + preset + ".yaml")
		require.NoError(t, err)
		inputs, diags = tosca.ReadInputs(preset, data)
		require.Empty(t, diags)
	}
	data, err := open("estate.json")
	if err != nil {
		data, err = os.ReadFile(example + "/estate.json")
	}
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	design, diags := topology.Build(tmpl, inputs, topology.Options{Standing: standing(e)})
	require.Zero(t, diags.Errors(), diags.Error())
	return finish(t, design, e, preset)
}

// standing is what templates may take at the sites.
func standing(e *estate.Estate) []topology.Existing {
	var out []topology.Existing
	for _, site := range e.Sites {
		for _, s := range site.Standing {
			out = append(out, topology.Existing{Name: s.Name, Type: s.Type, Site: site.Name, Properties: s.Properties, Attributes: s.Attributes})
		}
	}
	return out
}

func finish(t testing.TB, design *topology.Design, e *estate.Estate, preset string) *plan.Plan {
	t.Helper()
	problem := plan.Problem(design, e)
	require.NoError(t, rules.Default().Apply(&problem, nil))
	placed, err := placement.Solve(problem, placement.Options{})
	require.NoError(t, err)
	p, err := plan.Compile(design, placed, e, plan.Options{Preset: preset})
	require.NoError(t, err)
	return p
}

func TestExamplePlansAreAsRecorded(t *testing.T) {
	for _, name := range []string{"gauge-chain", "relay-tiers", "by-hand", "borrowed", "words", "one-door"} {
		data, err := compile(t, "../../../examples/"+name, "").Write()
		require.NoError(t, err)
		golden.Is(t, "testdata/"+name+".plan.json", string(data))
		again, err := plan.Read(data)
		require.NoError(t, err, "a plan is read as it is written")
		back, err := again.Write()
		require.NoError(t, err)
		assert.Equal(t, string(data), string(back))
	}
}

// What every valid construct comes to: its steps, and what each waits for.
func TestConstructsPlanAsRecorded(t *testing.T) {
	data, err := os.ReadFile(example + "/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	cases, err := filepath.Glob("../topology/testdata/valid/*.yaml")
	require.NoError(t, err)
	var all strings.Builder
	for _, path := range cases {
		tmpl, diags := tosca.Read(filepath.Base(path), func(name string) ([]byte, error) {
			if name == filepath.Base(path) {
				return os.ReadFile(path)
			}
			return os.ReadFile(filepath.Join("../topology/testdata/lib", name))
		})
		require.Zero(t, diags.Errors(), diags.Error())
		design, _ := topology.Build(tmpl, nil, topology.Options{NoSites: true})
		if design == nil || len(design.Nodes) == 0 {
			continue
		}
		all.WriteString("# " + strings.TrimSuffix(filepath.Base(path), ".yaml") + "\n")
		for _, s := range finish(t, design, e, "").Steps {
			all.WriteString(s.ID)
			if len(s.After) > 0 {
				all.WriteString(" < " + strings.Join(s.After, ", "))
			}
			all.WriteString("\n")
		}
	}
	golden.Is(t, "testdata/constructs.txt", all.String())
}

func TestScenarioPlanIsAsRecorded(t *testing.T) {
	for _, preset := range []string{"drill", "storm-season"} {
		p := compile(t, example, preset)
		data, err := p.Write()
		require.NoError(t, err)
		golden.Is(t, filepath.Join("plantest", preset+".plan.json"), string(data))
	}
}

func TestEveryEdgeRises(t *testing.T) {
	p := compile(t, example, "storm-season")
	assert.Greater(t, len(p.Steps), 100)
	for _, s := range p.Steps {
		for _, a := range s.After {
			assert.Less(t, p.Step(a).Level, s.Level, "%s after %s", s.ID, a)
		}
	}
	for _, r := range p.Resources {
		for _, on := range r.StandsOn {
			if p.Plank(on) != p.Plank(r.ID) {
				assert.Less(t, p.Resource(on).Level, r.Level, "%s on %s", r.ID, on)
			}
		}
	}
}

func TestLifecycleFollowsTheStandard(t *testing.T) {
	p := compile(t, example, "drill")
	before := func(a, b string) {
		t.Helper()
		require.NotNil(t, p.Step(a), a)
		require.NotNil(t, p.Step(b), b)
		assert.True(t, reaches(p, b, a), "%s must wait for %s", b, a)
	}
	before("app-lan@vega/create", "readings-port-1/plug")
	before("readings-vol-1/create", "readings-host-1/attach:readings-vol-1")
	before("readings-host-1/create", "readings-1/create")
	before("readings-1/create", "readings-1/configure")
	before("readings-1/configure", "readings-1/start")
	before("readings-1/start", "readings-1/check:store")
	before("readings-1/check:store", "gauge-intake-1/configure")
	before("map-server-1/start", "river-map-1/create")
	before("river-map-1/check:app_endpoint", "river-map-1.app_endpoint/answer")
	assert.False(t, reaches(p, "gauge-intake-1/create", "readings-1/create"), "installing waits for no connection")
}

// reaches reports whether step id waits, directly or through others, for step goal.
func reaches(p *plan.Plan, id, goal string) bool {
	for _, a := range p.Step(id).After {
		if a == goal || reaches(p, a, goal) {
			return true
		}
	}
	return false
}

func TestCriticalPathIsTheDuration(t *testing.T) {
	p := compile(t, example, "drill")
	sum := 0.0
	for i, id := range p.CriticalPath {
		s := p.Step(id)
		sum += s.Seconds
		assert.True(t, s.Critical)
		assert.InDelta(t, 0, s.Slack, 0.002, id)
		if i > 0 {
			assert.Contains(t, s.After, p.CriticalPath[i-1])
		}
	}
	assert.InDelta(t, p.Seconds, sum, 0.01)
}

func TestSecretsStayOutOfPlans(t *testing.T) {
	p := compile(t, example, "drill")
	assert.Equal(t, []string{"register_key"}, p.Secrets)
	assert.NotContains(t, p.Inputs, "register_key")
	data, _ := p.Write()
	assert.Contains(t, string(data), `"get_secret": [`)
}

func TestReadRefusesWhatCannotRun(t *testing.T) {
	good, err := compile(t, example, "drill").Write()
	require.NoError(t, err)
	_, err = plan.Read(good)
	require.NoError(t, err)
	for name, change := range map[string][2]string{
		"version":      {plan.Version, "andamio.plan/9"},
		"unknown key":  {`"currency"`, `"courtesy"`},
		"no such step": {`"readings-1/create"`, `"readings-9/create"`},
		"not JSON":     {"{", "["},
		"levels":       {`"levels": 7`, `"levels": 700`},
		"a level":      {`"level": 2`, `"level": 0`},
		"no such site": {`"site": "vega",
      "level"`, `"site": "vegas",
      "level"`},
		"arguments":  {`"get_secret": [`, `"get_secret": [1, `},
		"no address": {`"address": {`, `"path": "", "x": {`},
	} {
		_, err := plan.Read([]byte(strings.Replace(string(good), change[0], change[1], 1)))
		assert.Error(t, err, name)
	}
}

func TestExprRoundTrip(t *testing.T) {
	p := compile(t, example, "drill")
	data, err := p.Write()
	require.NoError(t, err)
	again, err := plan.Read(data)
	require.NoError(t, err)
	twice, err := again.Write()
	require.NoError(t, err)
	assert.Equal(t, string(data), string(twice))
}

// TestWhatAStepWaitsForComesBeforeIt has lists be in the order of levels, whatever kinds there are: what reads a plan from its beginning counts on it.
func TestWhatAStepWaitsForComesBeforeIt(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := &plan.Plan{Version: plan.Version, Name: "any", Sites: []plan.Site{{Name: "vega"}}}
		for i := range rapid.IntRange(1, 12).Draw(t, "steps") {
			id := fmt.Sprint("r", i)
			s := plan.Step{ID: id + "/alter", Resource: id, Op: op.Alter, Site: "vega", Seconds: 1}
			for j := range i {
				if rapid.IntRange(0, 3).Draw(t, "edge") == 0 {
					s.After = append(s.After, p.Steps[j].ID)
				}
			}
			kind := rapid.SampledFrom([]kinds.Kind{kinds.Network, kinds.Volume, kinds.Instance, kinds.Snapshot, kinds.Object, kinds.Software, kinds.Balancer, kinds.Address}).Draw(t, "kind")
			p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: kind, Site: "vega"})
			p.Steps = append(p.Steps, s)
		}
		slices.Reverse(p.Steps)
		slices.Reverse(p.Resources)
		require.NoError(t, p.Arrange())
		for i := range p.Steps {
			for _, a := range p.Steps[i].After {
				if at := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.ID == a }); at >= i {
					t.Fatalf("%s comes after %s, and is listed before it", p.Steps[i].ID, a)
				}
			}
		}
	})
}
