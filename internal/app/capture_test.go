package app

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/capture"
	"andamio/internal/core/change"
	"andamio/internal/core/plan"
	"andamio/internal/source"
)

// drafted works an example out for the demo's estate.
func drafted(t *testing.T, files capture.Files, root string, w Wish) *Draft {
	t.Helper()
	tmpl, err := ReadTemplate(source.Memory(files), "captured", root)
	require.NoError(t, err)
	require.Zero(t, tmpl.Diagnostics.Errors(), tmpl.Diagnostics.Error())
	e, err := DemoEstate()
	require.NoError(t, err)
	d := NewDraft(tmpl, w, e)
	require.NotNil(t, d.Plan, "%v %v", d.Err, d.Diagnostics)
	return d
}

// likes are what a plan has of each kind and how much of it, by node: what its like has too.
func likes(p *plan.Plan) []string {
	var out []string
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind == plan.Network {
			continue
		}
		out = append(out, strings.Join([]string{string(r.Kind), r.ID, r.Detail, r.On}, " "))
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Op != plan.Name && s.Script != nil {
			out = append(out, s.ID+" "+p.Scripts[s.Script.Path])
		}
	}
	slices.Sort(out)
	return out
}

// TestWhatWasMadeFromATemplateIsCapturedWhole fills every example in with other inputs than its own, and raises that.
func TestWhatWasMadeFromATemplateIsCapturedWhole(t *testing.T) {
	t.Parallel()
	folders, err := filepath.Glob("../../examples/*/template.yaml")
	require.NoError(t, err)
	for _, file := range folders {
		dir := filepath.Dir(file)
		name := filepath.Base(dir)
		if name == "borrowed" { // it takes what only its own estate has
			continue
		}
		t.Run(name, func(t *testing.T) {
			all, err := source.All(os.DirFS(dir))
			require.NoError(t, err)
			tmpl, err := ReadTemplate(source.Memory(all), name, "template.yaml")
			require.NoError(t, err)
			preset := ""
			if len(tmpl.Presets) > 0 {
				preset = tmpl.Presets[0].Name
			}
			was := drafted(t, all, "template.yaml", Wish{Preset: preset})
			files, err := withInputs(source.Memory(all), "template.yaml", was.Plan.Inputs)
			require.NoError(t, err)
			again := drafted(t, files, "template.yaml", Wish{Name: "another", Like: was.Placement})
			assert.Equal(t, likes(was.Plan), likes(again.Plan))
			assert.Equal(t, len(was.Plan.Outputs), len(again.Plan.Outputs))
			assert.Equal(t, was.Plan.CostPerHour, again.Plan.CostPerHour)
			assert.Equal(t, "another", again.Plan.Name)
		})
	}
}

// TestPartsAreCapturedAsTheyStand makes templates of what stands alone, of which nobody has the template.
func TestPartsAreCapturedAsTheyStand(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"level-log", "flood-watch"} {
		t.Run(name, func(t *testing.T) {
			all, err := source.All(os.DirFS("../../examples/" + name))
			require.NoError(t, err)
			was := drafted(t, all, "template.yaml", Wish{Preset: map[string]string{"flood-watch": "drill"}[name]})
			stands, err := change.Done(change.Nothing(was.Plan), was.Plan)
			require.NoError(t, err)
			require.NoError(t, stands.Plan.Arrange())
			files, err := capture.Template(stands.Plan)
			require.NoError(t, err)
			again := drafted(t, files, "template.yaml", Wish{Name: "another", Like: was.Placement})
			count := func(p *plan.Plan) map[plan.Kind]int {
				out := map[plan.Kind]int{}
				for i := range p.Resources {
					out[p.Resources[i].Kind]++
				}
				delete(out, plan.Network) // where they are follows the placement, whose rules do not stand
				return out
			}
			assert.Equal(t, count(was.Plan), count(again.Plan))
			assert.Equal(t, len(was.Plan.Outputs), len(again.Plan.Outputs))
		})
	}
}

// TestAnInstanceWithoutAPortIsCapturedOnce looks at the interface that nobody asked for.
func TestAnInstanceWithoutAPortIsCapturedOnce(t *testing.T) {
	t.Parallel()
	was := drafted(t, capture.Files{"template.yaml": []byte(`tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: alone }
topology_template:
  node_templates:
    host: { type: Compute }
    part: { type: SoftwareComponent, requirements: [ host: host ], interfaces: { Standard: { create: x.sh } } }
`), "x.sh": []byte("true\n")}, "template.yaml", Wish{})
	stands, err := change.Done(change.Nothing(was.Plan), was.Plan)
	require.NoError(t, err)
	require.NoError(t, stands.Plan.Arrange())
	files, err := capture.Template(stands.Plan)
	require.NoError(t, err)
	again := drafted(t, files, "template.yaml", Wish{})
	assert.Equal(t, likes(was.Plan), likes(again.Plan))
	assert.NotContains(t, string(files["template.yaml"]), "scalable")
	assert.NotContains(t, string(files["template.yaml"]), "site-lan")
}
