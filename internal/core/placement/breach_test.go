package placement

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

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

// TestBreachesAreThoseThatAreCounted puts workloads anywhere, and counts what each rule forbids by itself: pair by pair, place by place.
func TestBreachesAreThoseThatAreCounted(t *testing.T) {
	places := []string{"vega", "norte", "sur", "gone"}
	e := &estate.Estate{Sites: []*estate.Site{{Name: "vega", Kind: estate.Private, Distances: map[string]float64{"norte": 12, "sur": 30}}, {Name: "norte", Kind: estate.Public, Provider: "alisio", Distances: map[string]float64{"sur": 7}},
		{Name: "sur", Kind: estate.Public, Provider: "alisio"}}}
	rapid.Check(t, func(t *rapid.T) {
		p := Problem{Estate: e}
		at := map[string]Spot{}
		for i := range rapid.IntRange(1, 8).Draw(t, "workloads") {
			node := rapid.SampledFrom([]string{"a", "b"}).Draw(t, "node")
			w := Workload{Name: fmt.Sprint(node, "-", i), Node: node}
			if rapid.IntRange(0, 3).Draw(t, "exempt") == 0 {
				w.Exempt = []string{"apart"}
			}
			p.Workloads = append(p.Workloads, w)
			at[w.Name] = Spot{Site: rapid.SampledFrom(places).Draw(t, "site"), Zone: rapid.SampledFrom([]string{"1", "2"}).Draw(t, "zone")}
		}
		for range rapid.IntRange(0, 3).Draw(t, "traffic") {
			name := rapid.Custom(func(t *rapid.T) string { return rapid.SampledFrom(p.Workloads).Draw(t, "w").Name })
			p.Traffic = append(p.Traffic, Traffic{From: name.Draw(t, "from"), To: name.Draw(t, "to"), MaxMs: rapid.SampledFrom([]float64{0, 7, 20}).Draw(t, "ms")})
		}
		apart := Rule{Name: "apart", Nodes: []string{"a"}, Apart: rapid.SampledFrom([]string{"site", "zone", "provider"}).Draw(t, "scope"), Most: rapid.IntRange(0, 2).Draw(t, "most"), Jointly: rapid.Bool().Draw(t, "jointly")}
		if rapid.Bool().Draw(t, "all nodes") {
			apart.Nodes = nil
		}
		p.Rules = []Rule{apart}

		where := func(name string) string {
			spot := at[name]
			switch {
			case apart.Apart == "provider" && spot.Site != "vega":
				return "alisio"
			case apart.Apart == "zone":
				return spot.Site + spot.Zone
			}
			return spot.Site
		}
		crowded := map[string]bool{}
		for _, w := range p.Workloads {
			same, here := 0, 0
			for _, x := range p.Workloads {
				bound := len(x.Exempt) == 0 && len(w.Exempt) == 0 && at[x.Name].Site != "gone" && at[w.Name].Site != "gone" && (apart.Nodes == nil || x.Node == "a" && w.Node == "a")
				if !bound || !apart.Jointly && x.Node != w.Node {
					continue
				}
				same++
				if where(x.Name) == where(w.Name) {
					here++
				}
			}
			most := apart.Most
			if most == 0 {
				most = (same + 1) / 2
			}
			if here > most {
				crowded[w.Name] = true
			}
		}
		far := 0
		distance := map[string]float64{"veganorte": 12, "nortevega": 12, "vegasur": 30, "survega": 30, "nortesur": 7, "surnorte": 7}
		for _, x := range p.Traffic {
			if d := distance[at[x.From].Site+at[x.To].Site]; x.MaxMs > 0 && d > x.MaxMs {
				far++
			}
		}
		said := map[string]bool{}
		for _, b := range Breaches(p, at) {
			if b.Rule == "distance" {
				far--
				continue
			}
			for _, w := range b.Workloads {
				require.False(t, said[w], "%s is said twice", w)
				said[w] = true
			}
		}
		require.Equal(t, crowded, said)
		require.Zero(t, far, "distances")
	})
}
