package servicemap_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/servicemap"
)

// two services over three instances on two hosts: a is a pair on both hosts, b one alone, and a asks b.
func sample() *servicemap.Map {
	host := func(id, host string) inventory.Record {
		return inventory.Record{ID: "r/" + id, Class: kinds.Instance, Name: id, Site: "vega", Provider: id,
			Attributes: map[string]string{"zone": "z", "host": host}}
	}
	part := func(id, node, on, service string, needs ...string) plan.Resource {
		return plan.Resource{ID: id, Node: node, Kind: kinds.Software, On: on, Service: service, Site: "vega", StandsOn: needs}
	}
	p := &plan.Plan{Services: []plan.Service{{Name: "a", Title: "service a"}, {Name: "b", Title: "service b"}},
		Resources: []plan.Resource{{ID: "i1", Kind: kinds.Instance, Site: "vega"}, {ID: "i2", Kind: kinds.Instance, Site: "vega"}, {ID: "i3", Kind: kinds.Instance, Site: "vega"},
			part("a-1", "a", "i1", "a", "b-port"), part("a-2", "a", "i2", "a", "b-port"), part("b-1", "b", "i3", "b"),
			{ID: "b-port", Kind: kinds.Endpoint, Spec: plan.EndpointSpec{EndpointOf: "b-1"}}},
		Known: map[string]map[string]string{"i1": {"site.id": "1"}, "i2": {"site.id": "2"}, "i3": {"site.id": "3"}}}
	return servicemap.New(servicemap.Input{Records: inventory.Records{host("1", "h1"), host("2", "h2"), host("3", "h2"),
		{ID: "r/4", Class: kinds.Instance, Name: "4", Site: "presa", Provider: "4", Attributes: map[string]string{"tag.service": "old"}}},
		Deployments: []servicemap.Deployment{{ID: 1, Name: "d", Plan: p}}, Talks: [][2]string{{"vega/1", "vega/3"}, {"vega/2", "presa/4"}, {"vega/2", "nowhere/9"}},
		Gone: map[string]bool{"r/2": true}})
}

func TestTheMapCanBeWalkedBothWays(t *testing.T) {
	m := sample()
	under := m.Under("service a")
	for _, id := range []string{"part d1/a-1", "part d1/a-2", "instance r/1", "host vega/z/h1", "site vega"} {
		assert.True(t, under[id], id)
	}
	assert.False(t, under["part d1/b-1"], "a asks b, and does not stand on it")
	over := m.Over("host vega/z/h2")
	assert.True(t, over["service a"] && over["service b"] && over["instance r/3"])
	assert.False(t, over["instance r/1"])
	assert.True(t, m.Node("instance r/2").Missing)
	assert.Nil(t, m.Node("nothing"))
	to, from := m.Peers("part d1/b-1")
	assert.Empty(t, to)
	require.Len(t, from, 2, "declared, through its endpoint; what was observed says the same")
	assert.Equal(t, servicemap.Declared, from[0].Basis)
	to, _ = m.Peers("instance r/2")
	require.Len(t, to, 1)
	assert.Equal(t, servicemap.Observed, to[0].Basis, "seen, and declared by nobody")
	assert.True(t, m.Over("instance r/4")["service old"], "by its tag")
}

func TestWhatALossTakesDown(t *testing.T) {
	m := sample()
	for lost, want := range map[string][2][]string{
		"host vega/z/h1": {nil, {"service a"}},
		"host vega/z/h2": {{"service b"}, {"service a"}},
		"site vega":      {{"service a", "service b"}, nil},
		"site presa":     {{"old"}, nil},
		"instance r/3":   {{"service b"}, {"service a"}}, // whose part asks what is lost
		"part d1/a-1":    {nil, {"service a"}},
		"service a":      {{"service a"}, nil},
	} {
		loss := m.Losing(lost)
		assert.Equal(t, want[0], loss.Down, lost)
		assert.Equal(t, want[1], loss.Weakened, lost)
		assert.True(t, loss.Lost[lost])
	}
	loss := m.Losing("instance r/3")
	assert.Equal(t, map[string]bool{"part d1/a-1": true, "part d1/a-2": true}, loss.Cut, "what connects to what is lost is marked")
	assert.Empty(t, m.Losing("host vega/z/h1").Cut, "nothing connects to a")
}
