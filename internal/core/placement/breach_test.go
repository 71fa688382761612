package placement

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
)

func TestWhatIsBrokenByPlacesIsSaid(t *testing.T) {
	e := &estate.Estate{Sites: []*estate.Site{{Name: "vega", Kind: estate.Private, Jurisdiction: "ES", Distances: map[string]float64{"norte": 12}},
		{Name: "norte", Kind: estate.Public, Provider: "alisio"}, {Name: "sur", Kind: estate.Public, Provider: "alisio"}}}
	ws := []Workload{{Name: "a-1", Node: "a"}, {Name: "a-2", Node: "a"}, {Name: "b-1", Node: "b"}}
	at := func(sites ...string) map[string]Spot {
		out := map[string]Spot{}
		for i, s := range sites {
			out[ws[i].Name] = Spot{Site: s, Zone: "z"}
		}
		return out
	}
	home := Rule{Name: "home", Because: "it is sensitive", Nodes: []string{"a"}, Kinds: []string{"private"}}
	apart := Rule{Name: "apart", Nodes: []string{"a"}, Apart: "provider"}
	together := Rule{Name: "together", Together: "site"}
	for name, c := range map[string]struct {
		rule Rule
		at   map[string]Spot
		want []Breach
	}{
		"kept":                   {home, at("vega", "vega", "norte"), nil},
		"a site that is no home": {home, at("vega", "norte", "norte"), []Breach{{"home", "it is sensitive", []string{"a-2"}, "norte: public, not private"}}},
		"apart":                  {apart, at("vega", "norte", "norte"), nil},
		"two at one provider":    {apart, at("sur", "norte", "vega"), []Breach{{"apart", "", []string{"a-1", "a-2"}, "2 at one provider, alisio, where 1 may be"}}},
		"together":               {together, at("sur", "sur", "sur"), nil},
		"torn apart":             {together, at("sur", "sur", "vega"), []Breach{{"together", "", []string{"a-1", "a-2", "b-1"}, "at 2 of what is to be one site"}}},
		"a preference":           {Rule{Name: "liked", Kinds: []string{"edge"}, Weight: 1}, at("vega", "vega", "vega"), nil},
		"nowhere":                {home, map[string]Spot{}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, Breaches(Problem{Estate: e, Workloads: ws, Rules: []Rule{c.rule}}, c.at))
		})
	}
	p := Problem{Estate: e, Workloads: ws, Traffic: []Traffic{{From: "a-1", To: "b-1", MaxMs: 5}}}
	p.Workloads[1].Forbid = []string{"sur"}
	got := Breaches(p, at("vega", "sur", "norte"))
	require.Len(t, got, 2)
	assert.Equal(t, "sur was forbidden to it", got[0].How)
	assert.Equal(t, "12 ms between vega and norte, where 5 may be", got[1].How)
}
