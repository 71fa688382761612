package app

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/capture"
	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// drafted works an example out for the demo's estate.
func drafted(t *testing.T, files capture.Files, root string, w templates.DraftRequest) *templates.Draft {
	t.Helper()
	tmpl, err := templates.ReadTemplate(source.Memory(files), "captured", root)
	require.NoError(t, err)
	require.Zero(t, tmpl.Diagnostics.Errors(), tmpl.Diagnostics.Error())
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	d := templates.NewDraft(tmpl, w, e)
	require.NotNil(t, d.Plan, "%v %v", d.Err, d.Diagnostics)
	return d
}

// likes are what a plan has of each kind and how much of it, by node: what its like has too. Addresses follow the order of
// nodes, and relationships the names of requirements: they are left out.
func likes(p *plan.Plan) []string {
	var out []string
	for i := range p.Resources {
		r := &p.Resources[i]
		detail := r.Detail
		if r.Kind == kinds.Network || r.Kind == kinds.Action {
			continue
		}
		if r.Kind == kinds.Interface {
			detail = ""
		}
		out = append(out, strings.Join([]string{string(r.Kind), r.ID, r.Site, detail, r.On}, " "))
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Op == op.Name || s.Op == op.Call || s.Script == nil {
			continue
		}
		undo := ""
		if s.Undo != nil {
			undo = p.Scripts[s.Undo.Path]
		}
		out = append(out, connecting.ReplaceAllString(s.ID, "/connect:")+" "+p.Scripts[s.Script.Path]+undo)
	}
	slices.Sort(out)
	return out
}

var connecting = regexp.MustCompile(`/connect:[a-z_-]+\.`)

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
			tmpl, err := templates.ReadTemplate(source.Memory(all), name, "template.yaml")
			require.NoError(t, err)
			preset := ""
			if len(tmpl.Presets) > 0 {
				preset = tmpl.Presets[0].Name
			}
			was := drafted(t, all, "template.yaml", templates.DraftRequest{Preset: preset})
			files, err := deployments.FilledIn(tmpl, was.Plan.Inputs)
			require.NoError(t, err)
			again := drafted(t, files, "template.yaml", templates.DraftRequest{Name: "another", Like: was.Placement})
			assert.Equal(t, likes(was.Plan), likes(again.Plan))
			assert.Equal(t, len(was.Plan.Outputs), len(again.Plan.Outputs))
			assert.Equal(t, was.Plan.CostPerHour, again.Plan.CostPerHour)
			assert.Equal(t, "another", again.Plan.Name)
		})
	}
}

// capturedParts is the draft of what is made of the parts of a plan alone, as it would stand.
func capturedParts(t *testing.T, was *templates.Draft) (*templates.Draft, capture.Files) {
	t.Helper()
	stands, err := change.Done(change.Nothing(was.Plan), was.Plan)
	require.NoError(t, err)
	require.NoError(t, stands.Plan.Arrange())
	files, err := capture.Template(stands.Plan)
	require.NoError(t, err)
	return drafted(t, files, "template.yaml", templates.DraftRequest{Name: "another", Like: was.Placement}), files
}

// TestPartsAreCapturedAsTheyStand makes templates of what stands alone, of which nobody has the template: of each example.
func TestPartsAreCapturedAsTheyStand(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"by-hand", "flood-watch", "gauge-chain", "level-log", "one-door", "relay-tiers", "words"} {
		t.Run(name, func(t *testing.T) {
			all, err := source.All(os.DirFS("../../examples/" + name))
			require.NoError(t, err)
			was := drafted(t, all, "template.yaml", templates.DraftRequest{Preset: map[string]string{"flood-watch": "drill"}[name]})
			again, files := capturedParts(t, was)
			assert.Equal(t, likes(was.Plan), likes(again.Plan))
			assert.Equal(t, len(was.Plan.Outputs), len(again.Plan.Outputs))
			if name == "by-hand" {
				assert.Contains(t, string(files["template.yaml"]), "Not in it", "what a template of parts cannot say is said")
			}
		})
	}
}

// drawTiers draws a design of some tiers, each with or without each thing that a tier may have.
func drawTiers(t *rapid.T) capture.Files {
	files := capture.Files{}
	var types, nodes strings.Builder
	outputs := ""
	n := rapid.IntRange(1, 4).Draw(t, "tiers")
	ports := make([]int, n)
	for i := range n {
		with := func(what string) bool { return rapid.Bool().Draw(t, fmt.Sprint(what, i)) }
		name := fmt.Sprintf("tier%d", i)
		kind := "tosca.nodes.SoftwareComponent"
		needs := "host: " + name + "-host"
		if with("answers") {
			kind, ports[i] = "drawn.nodes.Tier"+fmt.Sprint(i), 8000+i
			public := map[bool]string{true: ".Public", false: ""}[with("public")]
			fmt.Fprintf(&types, "  %s:\n    derived_from: tosca.nodes.SoftwareComponent\n    attributes: { word: { type: string } }\n    capabilities:\n      page%d: { type: tosca.capabilities.Endpoint%s, properties: { port: { type: PortDef, default: %d }, protocol: { type: string, default: http }, url_path: { type: string, default: /p%d } } }\n    requirements:\n      - asks: { capability: tosca.capabilities.Endpoint, relationship: tosca.relationships.ConnectsTo, occurrences: [ 0, UNBOUNDED ] }\n", kind, i, public, ports[i], i)
		}
		var ops []string
		script := func(op, text string) { files["scripts/"+name+"-"+op+".sh"] = []byte(text); ops = append(ops, op+": ") }
		body := ""
		for _, op := range []string{"create", "configure", "start", "stop", "delete"} {
			if (op == "stop" && !strings.Contains(body, "start")) || (op == "delete" && !strings.Contains(body, "create")) || !with(op) {
				continue
			}
			script(op, "echo "+op+" of "+name+"\n")
			more := ""
			if op == "configure" && i > 0 && ports[i-1] > 0 && ports[i] > 0 {
				more = ", inputs: { WHERE: { get_attribute: [ SELF, asks, ip_address ] }, KEY: { get_input: key } }, outputs: { WORD: [ SELF, word ] }"
				needs = fmt.Sprintf("host: %s-host, asks: tier%d", name, i-1)
				outputs = fmt.Sprintf("  outputs:\n    word: { value: { get_attribute: [ %s, word ] } }\n", name)
			}
			body += fmt.Sprintf("          %s: { implementation: scripts/%s-%s.sh%s }\n", op, name, op, more)
		}
		fmt.Fprintf(&nodes, "    %s-host:\n      type: tosca.nodes.Compute\n      capabilities:\n        host: { properties: { num_cpus: %d, mem_size: %d GiB, disk_size: 8 GiB } }\n", name, rapid.IntRange(1, 3).Draw(t, "cores"), rapid.IntRange(1, 3).Draw(t, "GiB"))
		if count := rapid.IntRange(1, 3).Draw(t, "count"); count > 1 {
			fmt.Fprintf(&nodes, "        scalable: { properties: { min_instances: 1, max_instances: 4, default_instances: %d } }\n", count)
		}
		if with("volume") {
			fmt.Fprintf(&nodes, "      requirements:\n        - local_storage: { node: %s-disk, relationship: { type: tosca.relationships.AttachesTo, properties: { location: /srv/kept } } }\n    %s-disk: { type: tosca.nodes.Storage.BlockStorage, properties: { size: %d GiB } }\n", name, name, rapid.IntRange(1, 9).Draw(t, "size"))
		}
		fmt.Fprintf(&nodes, "    %s:\n      type: %s\n      requirements: [ %s ]\n", name, kind, needs)
		if body != "" {
			fmt.Fprintf(&nodes, "      interfaces:\n        Standard:\n%s", body)
		}
	}
	text := "tosca_definitions_version: tosca_simple_yaml_1_3\nmetadata: { template_name: drawn }\n"
	if types.Len() > 0 {
		text += "node_types:\n" + types.String()
	}
	files["template.yaml"] = []byte(text + "topology_template:\n  inputs: { key: { type: string, metadata: { secret: \"true\" } } }\n  node_templates:\n" + nodes.String() + outputs)
	return files
}

// TestDrawnDesignsAreCapturedAsTheyStand draws designs, makes templates of what would stand of them, and compares what
// those would raise.
func TestDrawnDesignsAreCapturedAsTheyStand(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		files := drawTiers(rt)
		was := drafted(t, files, "template.yaml", templates.DraftRequest{})
		again, made := capturedParts(t, was)
		if !assert.Equal(t, likes(was.Plan), likes(again.Plan)) {
			rt.Fatalf("%s\n---\n%s", files["template.yaml"], made["template.yaml"])
		}
		assert.Equal(t, was.Plan.CostPerHour, again.Plan.CostPerHour)
		assert.Equal(t, was.Plan.SecretsAsked(), again.Plan.SecretsAsked())
	})
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
`), "x.sh": []byte("true\n")}, "template.yaml", templates.DraftRequest{})
	stands, err := change.Done(change.Nothing(was.Plan), was.Plan)
	require.NoError(t, err)
	require.NoError(t, stands.Plan.Arrange())
	files, err := capture.Template(stands.Plan)
	require.NoError(t, err)
	again := drafted(t, files, "template.yaml", templates.DraftRequest{})
	assert.Equal(t, likes(was.Plan), likes(again.Plan))
	assert.NotContains(t, string(files["template.yaml"]), "scalable")
	assert.NotContains(t, string(files["template.yaml"]), "site-lan")
}

// TestWhatStandsIsCapturedThoughItsTemplateIsGone raises a folder's template, takes the folder away, and captures what
// stands: the policies and bounds of the template are in it, and what it raises differs by its name alone.
func TestWhatStandsIsCapturedThoughItsTemplateIsGone(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	from := t.TempDir()
	require.NoError(t, os.CopyFS(from, os.DirFS("../../examples/flood-watch")))
	tmpl, err := templates.OpenTemplate(ctx, source.Place{Path: from})
	require.NoError(t, err)
	d, err := a.Drafting(ctx, tmpl, templates.DraftRequest{Preset: "drill"})
	require.NoError(t, err)
	o, err := a.OrderOf(ctx, d)
	require.NoError(t, err)
	carriedOut(t, a, o)
	require.NoError(t, os.RemoveAll(from))
	all, err := a.Deployments(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	dir := filepath.Join(t.TempDir(), "captured")
	_, err = a.Capture(ctx, all[0].ID, dir)
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(dir, "template.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "personal-data", "its policies")
	assert.Contains(t, string(text), "in_range: [1, 32]", "its bounds")
	made, err := templates.OpenTemplate(ctx, source.Place{Path: dir})
	require.NoError(t, err)
	require.Zero(t, made.Diagnostics.Errors(), made.Diagnostics.Error())
	again, err := a.Drafting(ctx, made, templates.DraftRequest{})
	require.NoError(t, err)
	require.NotNil(t, again.Plan)
	same, err := a.OrderOf(ctx, again)
	require.NoError(t, err)
	assert.Empty(t, same.Plan.Steps, "what it would make of what stands is what stands")
}
