package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/tosca"
	"andamio/internal/source"
)

func TestEveryCodeIsTriggeredByItsExample(t *testing.T) {
	for _, e := range tosca.Explanations {
		diags, err := Trigger(e)
		require.NoError(t, err, e.Code)
		var codes []tosca.Code
		for _, d := range diags {
			codes = append(codes, d.Code)
		}
		assert.Equal(t, []tosca.Code{e.Code}, codes, "an example shows one thing: %s", diags.Error())
	}
}

func TestExamplesAreInTheGuide(t *testing.T) {
	guide, err := os.ReadFile("../../docs/templates.md")
	require.NoError(t, err)
	dirs, err := filepath.Glob("../../examples/*/template.yaml")
	require.NoError(t, err)
	require.Len(t, dirs, 7)
	for _, d := range dirs {
		assert.Contains(t, string(guide), "| `"+filepath.Base(filepath.Dir(d))+"` |")
	}
}

func TestTheGuidesFirstTemplateIsRight(t *testing.T) {
	guide, err := os.ReadFile("../../docs/templates.md")
	require.NoError(t, err)
	_, after, ok := strings.Cut(string(guide), "```yaml\n")
	require.True(t, ok)
	text, _, _ := strings.Cut(after, "```")
	tmpl, err := ReadTemplate(source.Memory(map[string][]byte{"template.yaml": []byte(text), "scripts/start.sh": []byte("true\n")}), "guide", "template.yaml")
	require.NoError(t, err)
	diags, err := tmpl.Check("", nil)
	require.NoError(t, err)
	assert.Empty(t, diags, diags.Error())
}

func TestWhatSitesDoNotOfferIsFoundAtItsLine(t *testing.T) {
	e, err := DemoEstate()
	require.NoError(t, err)
	check := func(change ...string) tosca.Diagnostics {
		tmpl, err := DemoTemplate()
		require.NoError(t, err)
		files, err := tmpl.all()
		require.NoError(t, err)
		files["template.yaml"] = []byte(strings.NewReplacer(change...).Replace(string(files["template.yaml"])))
		tmpl, err = ReadTemplate(source.Memory(files), "flood-watch", "template.yaml")
		require.NoError(t, err)
		diags, err := tmpl.Check("drill", e)
		require.NoError(t, err)
		return diags
	}
	assert.Empty(t, check())
	for _, c := range []struct{ from, to, says string }{
		{"num_cpus: 2, mem_size: 4 GiB, disk_size: 16 GiB", "num_cpus: 2, mem_size: 6 GiB, disk_size: 16 GiB", "no site that gauge-node may use has a size with 2 cores and 6 GiB"},
		{"network_name: gauge-lan, cidr: 10.4.1.0/24", "network_name: gauge-lan, segmentation_id: '7'", ""},
		{"        os: { properties: { type: linux } }\n      requirements:\n        - local_storage:\n            node: gauge-spool", "        os: { properties: { type: plan9 } }\n      requirements:\n        - local_storage:\n            node: gauge-spool", "has an image of plan9"},
	} {
		diags := check(c.from, c.to)
		if c.says == "" {
			assert.Empty(t, diags, "some site has VLANs")
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
	a, _ := workspace(t, pace)
	tmpl, err := DemoTemplate()
	require.NoError(t, err)
	_, err = SavePreset(tmpl, "dam", nil)
	assert.ErrorContains(t, err, "copy the template under a new name first")
	_, err = a.CopyTemplate(tmpl, "../evil")
	assert.ErrorContains(t, err, "cannot be the name")
	dir, err := a.CopyTemplate(tmpl, "mine")
	require.NoError(t, err)
	_, err = a.CopyTemplate(tmpl, "mine")
	assert.ErrorContains(t, err, "is there already")
	mine, err := OpenTemplate(ctx, source.Place{Path: dir})
	require.NoError(t, err)
	assert.Equal(t, "mine", mine.Name)
	assert.Empty(t, mine.Diagnostics, mine.Diagnostics.Error())
	inputs := tosca.Inputs{}
	for name, text := range map[string]string{"forecast_workers": "7", "store_memory": "8 GiB", "basin_title": "\"yes: #1\"", "register_key": "hush"} {
		inputs[name], _ = tosca.ParseInput(name, text)
	}
	file, err := SavePreset(mine, "dam", inputs)
	require.NoError(t, err)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.NotContains(t, string(data), "hush", "secrets are never written")
	again, err := OpenTemplate(ctx, source.Place{Path: dir})
	require.NoError(t, err)
	p, err := again.Preset("dam")
	require.NoError(t, err)
	assert.Empty(t, p.Diagnostics)
	for name, want := range map[string]any{"forecast_workers": int64(7), "store_memory": "8 GiB", "basin_title": "yes: #1"} {
		assert.Equal(t, want, p.Inputs[name].Plain(), name)
	}
}

func TestDraftsSayWhyThereIsNoPlan(t *testing.T) {
	e, err := DemoEstate()
	require.NoError(t, err)
	chain := example(t, "gauge-chain")
	d := NewDraft(chain, Wish{Preset: "nothing"}, e)
	assert.ErrorContains(t, d.Err, `there is no preset "nothing"`)
	value, _ := tosca.ParseInput("keep", "1 MB")
	d = NewDraft(chain, Wish{Inputs: tosca.Inputs{"keep": value}}, e)
	assert.Nil(t, d.Plan)
	require.NotEmpty(t, d.Diagnostics)
	assert.Contains(t, d.Diagnostics[0].Message, "keep is 1 MB, and must be: ≥ 1 GiB", "the property that it is mapped to says so")
	assert.Equal(t, tosca.CodeConstraint, d.Diagnostics[0].Code)
	d = NewDraft(example(t, "by-hand"), Wish{Workflow: "nothing"}, e)
	assert.ErrorContains(t, d.Err, `no workflow "nothing"`)
	d = NewDraft(example(t, "by-hand"), Wish{}, nil)
	assert.NotNil(t, d.Design, "without sites the design is worked out all the same")
	assert.Nil(t, d.Plan)
	assert.NoError(t, d.Err)
}

func TestExamplesAreRightWithEveryEstate(t *testing.T) {
	e, err := DemoEstate()
	require.NoError(t, err)
	for _, name := range []string{"flood-watch", "gauge-chain", "relay-tiers", "by-hand", "words"} {
		diags, err := example(t, name).Check("", e)
		require.NoError(t, err)
		assert.Empty(t, diags, "%s: %s", name, diags.Error())
		diags, err = example(t, name).Check("", nil)
		require.NoError(t, err)
		assert.Empty(t, diags, "%s: %s", name, diags.Error())
	}
	diags, err := example(t, "borrowed").Check("", e)
	require.NoError(t, err)
	require.Len(t, diags, 1, "nothing stands at the sites of the demo")
	assert.Equal(t, tosca.CodeSelect, diags[0].Code)
}
