package plan_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
)

// anySpec draws a specification of any kind.
var anySpec = rapid.Custom(func(t *rapid.T) plan.Spec {
	word, n := rapid.StringMatching(`[a-z]{0,8}`), rapid.IntRange(0, 64)
	switch rapid.IntRange(0, 6).Draw(t, "kind") {
	case 0:
		return plan.InstanceSpec{Hostname: word.Draw(t, "hostname"), Cores: n.Draw(t, "cores"), MemoryGiB: float64(n.Draw(t, "memory")), DiskGiB: float64(n.Draw(t, "disk")),
			Size: word.Draw(t, "size"), Image: word.Draw(t, "image"), Class: word.Draw(t, "class"), Asleep: rapid.Bool().Draw(t, "asleep")}
	case 1:
		return plan.VolumeSpec{DiskGiB: float64(n.Draw(t, "disk")), Label: word.Draw(t, "label"), Class: word.Draw(t, "class")}
	case 2:
		return plan.NetworkSpec{Label: word.Draw(t, "label"), CIDR: word.Draw(t, "cidr"), VLAN: word.Draw(t, "vlan"), Existing: word.Draw(t, "existing")}
	case 3:
		return plan.InterfaceSpec{Address: word.Draw(t, "address"), MAC: word.Draw(t, "mac"), Ports: rapid.SliceOfN(rapid.IntRange(1, 65535), 1, 3).Draw(t, "ports")}
	case 4:
		return plan.EndpointSpec{Protocol: word.Draw(t, "protocol"), Port: n.Draw(t, "port"), Path: word.Draw(t, "path")}
	case 5:
		return plan.SoftwareSpec{LeadsTo: rapid.SliceOfN(word, 1, 3).Draw(t, "members")}
	}
	return plan.NoSpec{}
})

// TestASpecificationIsReadAsItWasWritten holds that of what kind a specification is follows from its resource alone.
func TestASpecificationIsReadAsItWasWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := anySpec.Draw(t, "spec")
		p := &plan.Plan{Version: plan.Version, Name: "x", Levels: 1, Inputs: map[string]any{}, Sites: []plan.Site{{Name: "vega"}},
			Resources: []plan.Resource{{ID: "a", Kind: kindOf(want), Site: "vega", Level: 1, Spec: want}}}
		data, err := p.Write()
		require.NoError(t, err)
		again, err := plan.Read(data)
		require.NoError(t, err)
		assert.Equal(t, want, again.Resources[0].Spec)
	})
}

func kindOf(s plan.Spec) kinds.Kind {
	switch s.(type) {
	case plan.InstanceSpec:
		return kinds.Instance
	case plan.VolumeSpec:
		return kinds.Volume
	case plan.NetworkSpec:
		return kinds.Network
	case plan.InterfaceSpec:
		return kinds.Interface
	case plan.EndpointSpec:
		return kinds.Endpoint
	case plan.SoftwareSpec:
		return kinds.Software
	}
	return kinds.Action
}

// TestASpecificationOfAnotherKindIsRefused reads of every kind what only another has.
func TestASpecificationOfAnotherKindIsRefused(t *testing.T) {
	for kind, field := range map[kinds.Kind]string{kinds.Instance: "cidr", kinds.Volume: "cores", kinds.Network: "hostname", kinds.Interface: "disk_gib",
		kinds.Endpoint: "mac", kinds.Software: "label"} {
		_, err := plan.SpecOf(kind, []byte(`{"`+field+`": null}`))
		require.ErrorContains(t, err, `unknown field "`+field+`"`, string(kind))
		require.ErrorContains(t, err, "a thing of kind "+string(kind))
		_, err = plan.SpecOf(kind, nil)
		require.NoError(t, err, "nothing is asked of it")
	}
	text := `{"version": "andamio.plan/1", "resources": [{"id": "vol", "kind": "volume", "spec": {"cores": 2}}]}`
	_, err := plan.Read([]byte(strings.ReplaceAll(text, "andamio.plan/1", plan.Version)))
	require.ErrorContains(t, err, "resource vol: its specification is not that of a thing of kind volume")
}

// TestACopyKeepsItsSpecification changes a copy of a resource, and one of another kind, which is not touched.
func TestACopyKeepsItsSpecification(t *testing.T) {
	was := plan.Resource{ID: "a", Kind: kinds.Instance, Spec: plan.InstanceSpec{Cores: 2, DiskGiB: 8}}
	now := was
	plan.Respec(&now, func(s *plan.InstanceSpec) { s.Cores = 4 })
	plan.Respec(&now, func(s *plan.VolumeSpec) { s.DiskGiB = 9 })
	assert.Equal(t, 2, was.AsInstance().Cores)
	assert.Equal(t, plan.InstanceSpec{Cores: 4, DiskGiB: 8}, now.Spec)
	assert.Equal(t, plan.VolumeSpec{}, now.AsVolume(), "it is none")
	assert.Equal(t, 8.0, now.DiskGiB())
	assert.Equal(t, 5.0, (&plan.Resource{Spec: plan.Sized(kinds.Volume, 5)}).DiskGiB())
	assert.Zero(t, (&plan.Resource{Spec: plan.Sized(kinds.Network, 5)}).DiskGiB())
}

// TestWhatIsGoneIsReferredToNoMore takes away what resources name.
func TestWhatIsGoneIsReferredToNoMore(t *testing.T) {
	r := plan.Resource{PartOf: "host", On: "host", Spec: plan.InterfaceSpec{Network: "lan", Instance: "host", Address: "10.0.0.5"}}
	r.Dangle(func(id string) bool { return id == "host" })
	assert.Equal(t, plan.Resource{Spec: plan.InterfaceSpec{Network: "lan", Address: "10.0.0.5"}}, r)
	end := plan.Resource{Spec: plan.EndpointSpec{Interface: "if", EndpointOf: "soft"}}
	end.Dangle(func(string) bool { return true })
	assert.Equal(t, plan.EndpointSpec{EndpointOf: "soft"}, end.Spec)
	data, err := json.Marshal(plan.Resource{Spec: plan.NoSpec{}})
	require.NoError(t, err)
	assert.Contains(t, string(data), `"spec":{}`)
}
