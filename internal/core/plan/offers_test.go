package plan_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/plan"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

// twoSites are one with named sizes and a strict naming rule, and one without VLANs whose rule only advises.
func twoSites() *estate.Estate {
	room := estate.Capacity{Cores: 100, MemoryGiB: 400, DiskGiB: 9000}
	return &estate.Estate{Version: estate.Version, Currency: "cr", Sites: []*estate.Site{
		{Name: "vega", Kind: estate.Private, Network: estate.Address, Pace: 1, Features: []string{"vlan"}, Jurisdiction: "ribera", Zones: []estate.Zone{{Name: "a", Free: room}},
			Sizes: []estate.Size{{Name: "s", Cores: 2, MemoryGiB: 4}}, Images: []estate.Image{{Name: "debian-12", OS: "linux", Release: estate.Release{Architecture: "x86_64", Distribution: "debian", Version: "12"}}}, Naming: &estate.Naming{Pattern: "[a-z][a-z0-9-]*", Example: "gauge-1"}},
		{Name: "alisio", Kind: estate.Public, Network: estate.Address, Pace: 1, Zones: []estate.Zone{{Name: "1", Free: room}},
			Sizes: []estate.Size{{Name: "l", Cores: 8, MemoryGiB: 32}}, Images: []estate.Image{{Name: "cloud", OS: "linux"}}, Naming: &estate.Naming{Pattern: "[a-z0-9-]{1,12}", Advisory: true}},
	}}
}

func offered(t *testing.T, text string, e *estate.Estate) tosca.Diagnostics {
	t.Helper()
	tmpl, diags := tosca.Read("t.yaml", func(name string) ([]byte, error) {
		if name != "t.yaml" {
			return nil, errors.New("no such file")
		}
		return []byte(preamble + "  node_templates:\n" + text), nil
	})
	require.Zero(t, diags.Errors(), diags.Error())
	d, diags := topology.Build(tmpl, nil, topology.Options{})
	require.NotNil(t, d, diags.Error())
	return plan.Offers(d, plan.Problem(d, e))
}

const privateOnly = "  policies: [ here: { type: andamio.policies.Allow, properties: { site_kinds: [ private ] } } ]\n"

func TestOffersAreHeldAgainstTheSitesThatMayBeUsed(t *testing.T) {
	for name, c := range map[string]struct {
		text, says, hint string
		code             tosca.Code
		severity         tosca.Severity
		col              int
	}{
		"fits somewhere":            {text: "    gauge: { type: Compute, capabilities: { host: { properties: { num_cpus: 8, mem_size: 32 GiB } } } }\n"},
		"too much memory":           {"    gauge: { type: Compute, capabilities: { host: { properties: { num_cpus: 8, mem_size: 33 GiB } } } }\n", "no site that gauge may use has a size with 8 cores and 33 GiB", "alisio has l (8 cores 32 GiB)", tosca.CodeNotOffered, tosca.Mistake, 90},
		"too many cores":            {"    gauge: { type: Compute, capabilities: { host: { properties: { num_cpus: 9, mem_size: 1 GiB } } } }\n", "9 cores", "vega has s", tosca.CodeNotOffered, tosca.Mistake, 77},
		"not where it may go":       {"    gauge: { type: Compute, capabilities: { host: { properties: { num_cpus: 8, mem_size: 32 GiB } } } }\n" + privateOnly, "8 cores", "vega has s (2 cores 4 GiB)", tosca.CodeNotOffered, tosca.Mistake, 77},
		"an image":                  {"    gauge: { type: Compute, artifacts: { disk: { file: cloud, type: tosca.artifacts.Deployment.Image.VM } } }\n" + privateOnly, "has the image cloud", "vega has debian-12", tosca.CodeNotOffered, tosca.Mistake, 56},
		"an image that is there":    {text: "    gauge: { type: Compute, artifacts: { disk: { file: cloud, type: tosca.artifacts.Deployment.Image.VM } } }\n"},
		"a system":                  {"    gauge: { type: Compute, capabilities: { os: { properties: { type: plan9 } } } }\n", "has an image of plan9", "alisio has cloud", tosca.CodeNotOffered, tosca.Mistake, 71},
		"a distribution":            {"    gauge: { type: Compute, capabilities: { os: { properties: { distribution: Fedora } } } }\n" + privateOnly, "has an image of Fedora", "vega has debian-12 (debian 12 x86_64)", tosca.CodeNotOffered, tosca.Mistake, 79},
		"a version":                 {"    gauge: { type: Compute, capabilities: { os: { properties: { distribution: debian, version: 13.1 } } } }\n" + privateOnly, "has an image of debian 13.1", "vega has debian-12", tosca.CodeNotOffered, tosca.Mistake, 96},
		"an architecture":           {"    gauge: { type: Compute, capabilities: { os: { properties: { architecture: arm64 } } } }\n" + privateOnly, "has an image of arm64", "vega has debian-12", tosca.CodeNotOffered, tosca.Mistake, 79},
		"a release that is there":   {text: "    gauge: { type: Compute, capabilities: { os: { properties: { distribution: Debian, version: 12.0, architecture: x86_64 } } } }\n" + privateOnly},
		"a release nobody denies":   {text: "    gauge: { type: Compute, capabilities: { os: { properties: { distribution: fedora, version: 40.1 } } } }\n"},
		"no site at all":            {"    gauge: { type: Compute }\n  policies: [ here: { type: andamio.policies.Allow, properties: { site_kinds: [ edge ] } } ]\n", "no site may take gauge", "vega: rule here, private, not edge", tosca.CodeNotOffered, tosca.Mistake, 5},
		"a name that is advised":    {"    gauge-of-the-upper-dam: { type: Compute }\n", "the name gauge-of-the-upper-dam-1 is not one that alisio takes", "[a-z0-9-]{1,12}", tosca.CodeNaming, tosca.Doubt, 5},
		"a name that is forbidden":  {"    Gauge: { type: Compute }\n" + privateOnly, "the name Gauge-1 is not one that vega takes", "for example gauge-1", tosca.CodeNaming, tosca.Mistake, 5},
		"a name forbidden at a few": {"    1gauge: { type: Compute }\n", "is not one that vega takes", "", tosca.CodeNaming, tosca.Doubt, 5},
	} {
		diags := offered(t, c.text, twoSites())
		if c.says == "" {
			assert.Empty(t, diags, name)
			continue
		}
		require.Len(t, diags, 1, "%s: %s", name, diags.Error())
		d := diags[0]
		assert.Equal(t, c.code, d.Code, name)
		assert.Equal(t, c.severity, d.Severity, name)
		assert.Contains(t, d.Message, c.says, name)
		assert.Contains(t, d.Hint, c.hint, name)
		assert.Equal(t, c.col, d.Col, name)
	}
}

func TestOptionsNeedFeatures(t *testing.T) {
	text := "    lan: { type: tosca.nodes.network.Network, properties: { segmentation_id: '7' } }\n"
	assert.Empty(t, offered(t, text, twoSites()), "vega has VLANs")
	bare := twoSites()
	bare.Sites[0].Features = nil
	diags := offered(t, text, bare)
	require.Len(t, diags, 1)
	assert.Contains(t, diags[0].Message, "segmentation_id of lan needs a site with vlan, and it may use only vega, alisio")
}

// TestSitesAndVLANsThatThereAreNot names sites that are nearly there, are of elsewhere, and are there; and asks for VLANs within and outside of ranges.
func TestSitesAndVLANsThatThereAreNot(t *testing.T) {
	e := twoSites()
	e.Sites[0].Networks = []estate.Network{{Name: "lan", VLANs: &estate.VLANRange{From: 200, To: 260}}}
	allow := func(sites string) string {
		return "    gauge: { type: Compute }\n  policies: [ here: { type: andamio.policies.Allow, properties: { sites: [ " + sites + " ] } } ]\n"
	}
	vlan := func(number string) string {
		return "    lan: { type: tosca.nodes.network.Network, properties: { segmentation_id: \"" + number + "\" } }\n"
	}
	for name, c := range map[string]struct {
		text, says, hint string
		severity         tosca.Severity
	}{
		"both are there":       {text: allow("vega, alisio")},
		"one is nearly there":  {allow("vega, alisoi"), `policy here names the site "alisoi", which there is not`, `did you mean "alisio"?`, tosca.Mistake},
		"one is of elsewhere":  {allow("vega, tramonta"), `names the site "tramonta"`, "there are vega, alisio", tosca.Doubt},
		"a VLAN that there is": {text: vlan("200")},
		"the last":             {text: vlan("260")},
		"one after it":         {vlan("261"), "no site has the VLAN 261, which lan asks for", "vega has 200 to 260", tosca.Mistake},
		"one before the first": {vlan("199"), "no site has the VLAN 199", "vega has 200 to 260", tosca.Mistake},
		"what is no number":    {text: vlan("green")},
	} {
		diags := offered(t, c.text, e)
		if c.says == "" {
			assert.Empty(t, diags, name)
			continue
		}
		require.Len(t, diags, 1, "%s: %s", name, diags.Error())
		assert.Contains(t, diags[0].Message, c.says, name)
		assert.Contains(t, diags[0].Hint, c.hint, name)
		assert.Equal(t, c.severity, diags[0].Severity, name)
	}
	diags := offered(t, allow("tramonta"), e)
	require.NotEmpty(t, diags)
	assert.Equal(t, tosca.Mistake, diags[len(diags)-1].Severity, "none of them is there")
	assert.Empty(t, offered(t, vlan("4000"), twoSites()), "nobody says which there are")
}
