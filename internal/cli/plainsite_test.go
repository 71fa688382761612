package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/site/occi/occitest"
)

const plainly = `tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: plainly, template_version: "1.0" }
topology_template:
  node_templates:
    lan: { type: Network, properties: { cidr: 10.9.0.0/24, network_name: lan } }
    host:
      type: Compute
      capabilities: { host: { properties: { num_cpus: 2, mem_size: 2 GiB, disk_size: 5 GiB } } }
      requirements: [ local_storage: { node: disk, relationship: { type: AttachesTo, properties: { location: /srv } } } ]
    disk: { type: BlockStorage, properties: { size: 2 GiB } }
    nic: { type: Port, requirements: [ binding: host, link: lan ] }
`

// A cloud that speaks the standard alone is connected, built at, surveyed, switched off and on, and left empty, by commands alone.
func TestACloudOfTheStandardAloneIsWorkedWith(t *testing.T) {
	t.Parallel()
	cloud := occitest.New(t, false)
	ws, folder := t.TempDir(), t.TempDir()
	token, file := filepath.Join(folder, "token"), filepath.Join(folder, "plan.json")
	require.NoError(t, os.WriteFile(token, []byte("word\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "template.yaml"), []byte(plainly), 0o600))
	run := func(args ...string) string {
		t.Helper()
		code, out := program(t, append(args, "--workspace", ws)...)
		require.Zero(t, code, "%v\n%s", args, out)
		return out
	}
	out := run("site", "add", "azud", "--kind", "private", "--url", cloud.URL, "--token-file", token)
	assert.Contains(t, out, "what its credential may do is not told")
	assert.NotContains(t, out, "credential of")
	assert.NotContains(t, out, "calls itself")
	out = run("plan", folder, "-o", file)
	assert.Regexp(t, `azud\s+instance\s+host\s+large 4 cores 8 GiB`, out, "the least of its sizes that holds what is needed")
	assert.Contains(t, run("run", file), "everything stands")
	for _, kind := range []string{"machines", "disks", "nets", "nics", "plugs"} {
		assert.Len(t, cloud.Things(kind), 1, kind)
	}
	for _, want := range []struct {
		args []string
		says string
	}{
		{[]string{"snapshot", "take", "plainly"}, "azud keeps no snapshots"},
		{[]string{"snapshot", "every", "plainly"}, "azud keeps no snapshots"},
		{[]string{"package", "export", "plainly", "host", filepath.Join(folder, "plainly.ova")}, "there are host-1"},
		{[]string{"console", "host"}, "azud has no serial consoles"},
		{[]string{"package", "export", "plainly", "host-1", "--running", filepath.Join(folder, "plainly.ova")}, "azud lets no disks be read or written"},
	} {
		code, out := program(t, append(want.args, "--workspace", ws)...)
		assert.NotZero(t, code, "%v", want.args)
		assert.Contains(t, out, want.says, "%v", want.args)
	}
	run("survey", "azud")
	assert.Contains(t, run("reconcile"), "nothing disagrees")
	run("stop", "plainly", "--confirm", "plainly")
	assert.Equal(t, "inactive", cloud.Things("machines")[0]["attributes"].(map[string]any)["occi.compute.state"])
	run("start", "plainly", "--confirm", "plainly")
	assert.Equal(t, "active", cloud.Things("machines")[0]["attributes"].(map[string]any)["occi.compute.state"])
	run("retire", "plainly", "--confirm", "plainly")
	for _, kind := range []string{"machines", "disks", "nets", "nics", "plugs"} {
		assert.Empty(t, cloud.Things(kind), kind)
	}
}
