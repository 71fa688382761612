package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

func TestEveryCodeIsTriggeredByItsExample(t *testing.T) {
	t.Parallel()
	for _, e := range tosca.Explanations {
		diags, err := templates.Trigger(e)
		require.NoError(t, err, e.Code)
		var codes []tosca.Code
		for _, d := range diags {
			codes = append(codes, d.Code)
		}
		assert.Equal(t, []tosca.Code{e.Code}, codes, "an example shows one thing: %s", diags.Error())
	}
}

func TestExamplesAreInTheGuide(t *testing.T) {
	t.Parallel()
	guide, err := os.ReadFile("../../docs/templates.md")
	require.NoError(t, err)
	dirs, err := filepath.Glob("../../examples/*/template.yaml")
	require.NoError(t, err)
	require.Len(t, dirs, 8)
	for _, d := range dirs {
		assert.Contains(t, string(guide), "| `"+filepath.Base(filepath.Dir(d))+"` |")
	}
}

func TestTheGuidesFirstTemplateIsRight(t *testing.T) {
	t.Parallel()
	guide, err := os.ReadFile("../../docs/templates.md")
	require.NoError(t, err)
	_, after, ok := strings.Cut(string(guide), "```yaml\n")
	require.True(t, ok)
	text, _, _ := strings.Cut(after, "```")
	tmpl, err := templates.ReadTemplate(source.Memory(map[string][]byte{"template.yaml": []byte(text), "scripts/start.sh": []byte("true\n")}), "guide", "template.yaml")
	require.NoError(t, err)
	diags, err := tmpl.Check("", nil, nil)
	require.NoError(t, err)
	assert.Empty(t, diags, diags.Error())
}

func TestWhatSitesDoNotOfferIsFoundAtItsLine(t *testing.T) {
	t.Parallel()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	check := func(change ...string) tosca.Diagnostics {
		tmpl, err := templates.DemoTemplate()
		require.NoError(t, err)
		files, err := tmpl.AllFiles()
		require.NoError(t, err)
		files["template.yaml"] = []byte(strings.NewReplacer(change...).Replace(string(files["template.yaml"])))
		tmpl, err = templates.ReadTemplate(source.Memory(files), "flood-watch", "template.yaml")
		require.NoError(t, err)
		diags, err := tmpl.Check("drill", e, nil)
		require.NoError(t, err)
		return diags
	}
	assert.Empty(t, check())
	for _, c := range []struct{ from, to, says string }{
		{"num_cpus: 2, mem_size: 4 GiB, disk_size: 16 GiB", "num_cpus: 2, mem_size: 6 GiB, disk_size: 16 GiB", "no site that gauge-node may use has a size with 2 cores and 6 GiB"},
		{"network_name: gauge-lan, cidr: 10.4.1.0/24", "network_name: gauge-lan, segmentation_id: '7'", "no site has the VLAN 7, which gauge-lan asks for"},
		{"network_name: gauge-lan, cidr: 10.4.1.0/24", "network_name: gauge-lan, segmentation_id: '210'", ""},
		{"        os: { properties: { type: linux } }\n      requirements:\n        - local_storage:\n            node: gauge-spool", "        os: { properties: { type: plan9 } }\n      requirements:\n        - local_storage:\n            node: gauge-spool", "has an image of plan9"},
	} {
		diags := check(c.from, c.to)
		if c.says == "" {
			assert.Empty(t, diags, "some site has it")
			continue
		}
		require.Len(t, diags, 1, "%s: %s", c.to, diags.Error())
		assert.Equal(t, tosca.CodeNotOffered, diags[0].Code)
		assert.Contains(t, diags[0].Message, c.says)
		assert.Greater(t, diags[0].Col, 10, "at the value")
		assert.NotEmpty(t, diags[0].Hint)
	}
}

func TestPresetsAndCopiesAreWritten(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	_, err = templates.SavePreset(tmpl, "dam", nil)
	assert.ErrorContains(t, err, "copy the template under a new name first")
	tmpl.Folder = t.TempDir()
	_, err = templates.SavePreset(tmpl, "dam", nil)
	assert.ErrorContains(t, err, "differs from the template's own defaults")
	tmpl.Folder = ""
	_, err = a.CopyTemplate(tmpl, "../evil")
	assert.ErrorContains(t, err, "cannot be the name")
	dir, err := a.CopyTemplate(tmpl, "mine")
	require.NoError(t, err)
	_, err = a.CopyTemplate(tmpl, "mine")
	assert.ErrorContains(t, err, "is there already")
	mine, err := templates.OpenTemplate(ctx, source.Place{Path: dir})
	require.NoError(t, err)
	assert.Equal(t, "mine", mine.Name)
	assert.Empty(t, mine.Diagnostics, mine.Diagnostics.Error())
	inputs := tosca.Inputs{}
	for name, text := range map[string]string{"forecast_workers": "7", "store_memory": "8 GiB", "basin_title": "\"yes: #1\"", "register_key": "hush"} {
		inputs[name], _ = tosca.ParseInput(name, text)
	}
	file, err := templates.SavePreset(mine, "dam", inputs)
	require.NoError(t, err)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.NotContains(t, string(data), "hush", "secrets are never written")
	again, err := templates.OpenTemplate(ctx, source.Place{Path: dir})
	require.NoError(t, err)
	p, err := again.Preset("dam")
	require.NoError(t, err)
	assert.Empty(t, p.Diagnostics)
	for name, want := range map[string]any{"forecast_workers": int64(7), "store_memory": "8 GiB", "basin_title": "yes: #1"} {
		assert.Equal(t, want, p.Inputs[name].Plain(), name)
	}
}

func TestDraftsSayWhyThereIsNoPlan(t *testing.T) {
	t.Parallel()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	chain := example(t, "gauge-chain")
	d := templates.NewDraft(chain, templates.DraftRequest{Preset: "nothing"}, e)
	assert.ErrorContains(t, d.Err, `there is no preset "nothing"`)
	value, _ := tosca.ParseInput("keep", "1 MB")
	d = templates.NewDraft(chain, templates.DraftRequest{Inputs: tosca.Inputs{"keep": value}}, e)
	assert.Nil(t, d.Plan)
	require.NotEmpty(t, d.Diagnostics)
	assert.Contains(t, d.Diagnostics[0].Message, "keep is 1 MB, and must be: ≥ 1 GiB", "the property that it is mapped to says so")
	assert.Equal(t, tosca.CodeConstraint, d.Diagnostics[0].Code)
	d = templates.NewDraft(example(t, "by-hand"), templates.DraftRequest{Workflow: "nothing"}, e)
	assert.ErrorContains(t, d.Err, `no workflow "nothing"`)
	d = templates.NewDraft(example(t, "by-hand"), templates.DraftRequest{}, nil)
	assert.NotNil(t, d.Design, "without sites the design is worked out all the same")
	assert.Nil(t, d.Plan)
	assert.NoError(t, d.Err)
}

func TestExamplesAreRightWithEveryEstate(t *testing.T) {
	t.Parallel()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	for _, name := range []string{"flood-watch", "gauge-chain", "relay-tiers", "by-hand", "words"} {
		diags, err := example(t, name).Check("", e, nil)
		require.NoError(t, err)
		assert.Empty(t, diags, "%s: %s", name, diags.Error())
		diags, err = example(t, name).Check("", nil, nil)
		require.NoError(t, err)
		assert.Empty(t, diags, "%s: %s", name, diags.Error())
	}
	diags, err := example(t, "borrowed").Check("", e, nil)
	require.NoError(t, err)
	require.Len(t, diags, 1, "nothing stands at the sites of the demo")
	assert.Equal(t, tosca.CodeSelect, diags[0].Code)
}

// TestAVoidPolicyIsRefused writes policies that would change nothing, each a way to have a register go to a public site.
func TestAVoidPolicyIsRefused(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		policy, says, hint string
		mistakes           int
	}{
		"unknown question": {"quiet: { type: andamio.policies.Answers, targets: [ host ], properties: { answers: { sensitive_dat: true } } }",
			"answers sensitive_dat, which no rule asks", "write sensitive_data", 1},
		"no answer":    {"quiet: { type: andamio.policies.Answers, targets: [ host ], properties: { answers: {} } }", "answers no question", "answer one of", 1},
		"no demand":    {"quiet: { type: andamio.policies.Allow, targets: [ host ] }", "demands nothing of a site", "give sites", 1},
		"no target":    {"quiet: { type: andamio.policies.Spread, targets: [ lan ], properties: { over: site } }", "none is placed", "name compute nodes", 0},
		"good answers": {"quiet: { type: andamio.policies.Answers, targets: [ host ], properties: { answers: { sensitive_data: true } } }", "", "", 0},
	} {
		d := draftOf(t, `tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: register }
topology_template:
  node_templates:
    host: { type: Compute }
    lan: { type: tosca.nodes.network.Network, properties: { network_name: lan } }
    port: { type: tosca.nodes.network.Port, requirements: [ binding: host, link: lan ] }
  policies:
    - `+c.policy+"\n")
		assert.Equal(t, c.mistakes, d.Diagnostics.Errors(), "%s: %s", name, d.Diagnostics.Error())
		if c.says == "" {
			assert.Empty(t, d.Diagnostics, name)
			continue
		}
		require.NotEmpty(t, d.Diagnostics, name)
		assert.Contains(t, d.Diagnostics[0].Message, c.says, name)
		assert.Contains(t, d.Diagnostics[0].Hint, c.hint, name)
		assert.Equal(t, 9, d.Diagnostics[0].Line, name)
		assert.Equal(t, c.mistakes == 0, d.Plan != nil, name)
	}
}

// draftOf works a template of one file out for the demo's estate.
func draftOf(t *testing.T, text string) *templates.Draft {
	t.Helper()
	tmpl, err := templates.ReadTemplate(fstest.MapFS{"template.yaml": &fstest.MapFile{Data: []byte(text)}}, "x", "template.yaml")
	require.NoError(t, err)
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	return templates.NewDraft(tmpl, templates.DraftRequest{}, e)
}
