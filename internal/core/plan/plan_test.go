package plan_test

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

var update = flag.Bool("update", false, "rewrite the golden files")

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
	design, diags := topology.Build(tmpl, inputs, topology.Options{})
	require.Zero(t, diags.Errors(), diags.Error())
	data, err := os.ReadFile(example + "/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	placed, err := placement.Solve(plan.Problem(design, e))
	require.NoError(t, err)
	p, err := plan.Compile(design, placed, e, plan.Options{Preset: preset})
	require.NoError(t, err)
	return p
}

func TestScenarioPlanIsAsRecorded(t *testing.T) {
	for _, preset := range []string{"drill", "storm-season"} {
		p := compile(t, example, preset)
		data, err := p.Write()
		require.NoError(t, err)
		golden := filepath.Join("plantest", preset+".plan.json")
		if *update {
			require.NoError(t, os.WriteFile(golden, data, 0o644))
		}
		want, err := os.ReadFile(golden)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(data), "%s: run with -update if the change is meant", preset)
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
