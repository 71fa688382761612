package capture

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

func lit(v any) plan.Expr { return plan.Expr{Literal: v} }

func call(name string, args ...plan.Expr) plan.Expr { return plan.Expr{Func: name, Args: args} }

// pair is two tiers: fronts that use a store, with a script on each side of their relationship.
func pair() *plan.Plan {
	host := func(id, node, site string) plan.Resource {
		return plan.Resource{ID: id, Node: node, Kind: kinds.Instance, Site: site, Spec: plan.InstanceSpec{Cores: 2, MemoryGiB: 4, DiskGiB: 8}}
	}
	port := func(of string) plan.Resource {
		return plan.Resource{ID: of + ".if", Node: "front-host", Kind: kinds.Interface, Site: "vega", Spec: plan.InterfaceSpec{Instance: of, Network: "lan@vega"}}
	}
	store := port("store-host-1")
	store.Node = "store-host"
	p := &plan.Plan{Name: "pair", Scripts: map[string]string{"s.sh": "true\n", "let-in.sh": "true\n", "go.sh": "true\n"}, Files: map[string][]byte{"data/t.csv": []byte("a,b\n")}, Secrets: []string{"key"},
		Resources: []plan.Resource{
			{ID: "lan@vega", Node: "lan", Kind: kinds.Network, Site: "vega", Spec: plan.NetworkSpec{Label: "lan", CIDR: "10.0.0.0/24"}},
			host("store-host-1", "store-host", "vega"), host("front-host-1", "front-host", "vega"), host("front-host-2", "front-host", "presa"), store, port("front-host-1"), port("front-host-2"),
			{ID: "store-1", Node: "store", Kind: kinds.Software, Site: "vega", On: "store-host-1", Detail: "tcp 5432"},
			{ID: "front-1", Node: "front", Kind: kinds.Software, Site: "vega", On: "front-host-1", Detail: "http 8080", StandsOn: []string{"store-1"}},
			{ID: "front-2", Node: "front", Kind: kinds.Software, Site: "presa", On: "front-host-2", Detail: "http 8080", StandsOn: []string{"store-1"}},
			{ID: "front-1.page", Node: "front", Kind: kinds.Endpoint, Site: "vega", Spec: plan.EndpointSpec{EndpointOf: "front-1", Protocol: "http", Path: "/map/"}},
		},
		Steps: []plan.Step{
			{ID: "store-1/configure", Resource: "store-1", Op: op.Configure, Script: &plan.Script{Path: "s.sh", Inputs: []plan.Input{
				{Name: "KEY", Value: call("get_secret", lit("key"))},
				{Name: "ALL", Value: call("join", call("list", lit("a"), call("get_attribute", lit("store-1"), lit("motto"))), lit(","))},
				{Name: "FILE", Value: call("get_artifact", lit("data/t.csv"), lit("/srv/t.csv"))},
				{Name: "SUM", Value: call("get_operation_output", lit("store-1"), lit("Standard.create"), lit("SUM"))},
			}}},
			{ID: "store-1/check:p", Resource: "store-1", Op: op.Check, Check: checked(5432, "store-host-1.if", plan.CheckTCP)},
			{ID: "front-1/check:p", Resource: "front-1", Op: op.Check, Check: checked(8080, "front-host-1.if", plan.CheckTCP)},
			{ID: "store-1/connect:asks.pre_configure_target.front-1", Resource: "store-1", Op: op.Connect, Title: "pre_configure_target front", Script: &plan.Script{Path: "let-in.sh", Inputs: []plan.Input{{Name: "WHO", Value: lit("front-1")}}}},
			{ID: "front-1/connect:asks.add_target", Resource: "front-1", Op: op.Connect, Title: "add_target store", Script: &plan.Script{Path: "go.sh", Inputs: []plan.Input{{Name: "WHERE", Value: call("get_attribute", lit("store-host-1.if"), lit("address"))}}}},
			{ID: "store-1/call:x", Resource: "store-1", Op: op.Call, Title: "call Drill.shout", Script: &plan.Script{Path: "s.sh"}},
		}}
	return plan.Reindexed(p)
}

func checked(port int, iface string, kind string) plan.Condition {
	address, at := call("get_attribute", lit(iface), lit("address")), call("get_attribute", lit(iface), lit("port."+itoa(port)))
	return plan.Condition{Kind: kind, Address: &address, Port: &at}
}

func itoa(n int) string {
	text, _ := yaml.Marshal(n)
	return string(text[:len(text)-1])
}

// dig follows keys into a template that was made.
func dig(t *testing.T, text []byte, keys ...any) any {
	t.Helper()
	var v any
	require.NoError(t, yaml.Unmarshal(text, &v))
	for _, k := range keys {
		switch k := k.(type) {
		case int:
			list, ok := v.([]any)
			require.True(t, ok && k < len(list), "%v of %v", k, v)
			v = list[k]
		case string:
			m, ok := v.(map[string]any)
			require.True(t, ok, "%v of %v", k, v)
			v = m[k]
		}
	}
	return v
}

func TestAPlanBecomesATemplateOfItsParts(t *testing.T) {
	files, err := Template(pair())
	require.NoError(t, err)
	text := files["template.yaml"]
	at := func(keys ...any) any {
		return dig(t, text, append([]any{"topology_template", "node_templates"}, keys...)...)
	}
	assert.Equal(t, "pair", dig(t, text, "metadata", "template_name"))
	assert.Equal(t, "true", dig(t, text, "topology_template", "inputs", "key", "metadata", "secret"), "secrets become inputs")
	assert.Nil(t, at("lan"), "a network that nobody asked for is built by itself")
	assert.Equal(t, 2, at("front-host", "capabilities", "scalable", "properties", "default_instances"))
	assert.Nil(t, at("store-host", "capabilities").(map[string]any)["scalable"], "one is one")
	assert.Equal(t, 5432, at("store", "capabilities", "service", "properties", "port"))
	assert.Equal(t, map[string]any{"port": 8080, "protocol": "http", "url_path": "/map/"}, at("front", "capabilities", "page", "properties"))
	assert.Equal(t, "store-host", at("store", "requirements", 0, "host"))
	in := func(name string) any { return at("store", "interfaces", "Standard", "configure", "inputs", name) }
	assert.Equal(t, map[string]any{"get_input": "key"}, in("KEY"))
	assert.Equal(t, map[string]any{"join": []any{[]any{"a", map[string]any{"get_attribute": []any{"store", "motto"}}}, ","}}, in("ALL"))
	assert.Equal(t, map[string]any{"get_artifact": []any{"SELF", "t_csv"}}, in("FILE"))
	assert.Equal(t, map[string]any{"get_operation_output": []any{"store", "Standard", "create", "SUM"}}, in("SUM"))
	assert.Equal(t, map[string]any{"file": "data/t.csv", "type": "tosca.artifacts.File", "deploy_path": "/srv/t.csv"}, at("store", "artifacts", "t_csv"))
	assert.Equal(t, "true\n", string(files["s.sh"]))
}

func TestRelationshipsKeepWhatTheyDo(t *testing.T) {
	files, err := Template(pair())
	require.NoError(t, err)
	at := func(keys ...any) any {
		return dig(t, files["template.yaml"], append([]any{"topology_template", "node_templates", "front", "requirements", 1, "uses"}, keys...)...)
	}
	assert.Equal(t, "store", at("node"))
	op := func(name string) any { return at("relationship", "interfaces", "Configure", name) }
	assert.Equal(t, map[string]any{"implementation": "let-in.sh", "inputs": map[string]any{"WHO": map[string]any{"get_attribute": []any{"SOURCE", "tosca_id"}}}}, op("pre_configure_target"),
		"the name of the first is that of every one")
	assert.Equal(t, map[string]any{"implementation": "go.sh", "inputs": map[string]any{"WHERE": map[string]any{"get_attribute": []any{"TARGET", "service", "ip_address"}}}}, op("add_target"))
	assert.Equal(t, "true\n", string(files["let-in.sh"]))
}

func TestWhereItStoodIsKeptAndWhatIsLeftOutIsSaid(t *testing.T) {
	files, err := Template(pair())
	require.NoError(t, err)
	policies := dig(t, files["template.yaml"], "topology_template", "policies").([]any)
	sites := map[string]any{}
	for _, p := range policies {
		for name, def := range p.(map[string]any) {
			sites[name] = def.(map[string]any)["properties"].(map[string]any)["sites"]
		}
	}
	assert.Equal(t, []any{"vega"}, sites["store-host-where-it-stood"])
	assert.Equal(t, []any{"presa", "vega"}, sites["front-host-where-it-stood"])
	assert.Contains(t, sites, "front-host-spread-as-it-was")
	assert.Contains(t, dig(t, files["template.yaml"], "description"), "Not in it, for a template of parts cannot say it: call Drill.shout.")
}

func TestWhatWasAskedForIsCapturedNotWhatWasGiven(t *testing.T) {
	p := pair()
	for i := range p.Resources {
		if p.Resources[i].ID == "store-host-1" {
			p.Resources[i].Need = &plan.Need{Cores: 1, MemoryGiB: 3, DiskGiB: 8}
		}
	}
	files, err := Template(p)
	require.NoError(t, err)
	host := dig(t, files["template.yaml"], "topology_template", "node_templates", "store-host", "capabilities", "host", "properties").(map[string]any)
	assert.Equal(t, map[string]any{"num_cpus": 1, "mem_size": "3 GiB", "disk_size": "8 GiB"}, host)
}

func TestGivenValuesBecomeDefaults(t *testing.T) {
	text := []byte("# why\ntopology_template:\n  inputs:\n    count: { type: integer, default: 1 } # how many\n    word:\n      type: string\n    other: { type: string, default: kept }\n")
	got, err := Given(text, map[string]any{"count": 3, "word": "dam", "unknown": true})
	require.NoError(t, err)
	assert.Equal(t, 3, dig(t, got, "topology_template", "inputs", "count", "default"))
	assert.Equal(t, "dam", dig(t, got, "topology_template", "inputs", "word", "default"))
	assert.Equal(t, "kept", dig(t, got, "topology_template", "inputs", "other", "default"))
	assert.Contains(t, string(got), "# why")
	assert.NotContains(t, string(got), "unknown")
	for _, bad := range []string{"", "a: [", "- x"} {
		same, err := Given([]byte(bad), map[string]any{"count": 3})
		if err == nil {
			assert.Equal(t, bad, string(same), "what has no inputs stays as it is")
		}
	}
	_, err = Given([]byte("a: ["), nil)
	assert.ErrorContains(t, err, "cannot be read")
	_, err = Given(nil, nil)
	assert.ErrorContains(t, err, "empty")
}

func TestARecordBecomesAPartOfATemplate(t *testing.T) {
	for name, c := range map[string]struct {
		r    inventory.Record
		want []string
	}{
		"an instance": {inventory.Record{Class: kinds.Instance, Name: "Old Box!", Site: "vega", Provider: "i-1", Attributes: map[string]string{inventory.AttrCores: "2", inventory.AttrMemory: "4", inventory.AttrDisk: "10"}},
			[]string{"old-box:", "num_cpus: 2", "mem_size: 4 GiB", "disk_size: 10 GiB", "taken over from vega, where it is i-1"}},
		"a volume":                  {inventory.Record{Class: kinds.Volume, Name: "v", Attributes: map[string]string{inventory.AttrDisk: "20"}}, []string{"v:", "size: 20 GiB"}},
		"a network":                 {inventory.Record{Class: kinds.Network, Name: "lan", Attributes: map[string]string{"cidr": "10.0.0.0/24"}}, []string{"network_name: lan", "cidr: 10.0.0.0/24"}},
		"without a name":            {inventory.Record{Class: kinds.Volume, Name: "!!!"}, []string{"volume:"}},
		"little is known":           {inventory.Record{Class: kinds.Instance, Name: "x"}, []string{"type: tosca.nodes.Compute"}},
		"a network without a range": {inventory.Record{Class: kinds.Network, Name: "lan-2"}, []string{"network_name: lan-2"}},
	} {
		text, err := Fragment(&c.r)
		require.NoError(t, err, name)
		for _, want := range c.want {
			assert.Contains(t, text, want, name)
		}
	}
	_, err := Fragment(&inventory.Record{Class: kinds.Host, Name: "h"})
	assert.ErrorContains(t, err, "does not declare a host by itself")
}
