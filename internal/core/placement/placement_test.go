package placement

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/estate"
	"andamio/internal/core/money"
)

func scenario(t *testing.T) *estate.Estate {
	t.Helper()
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	return e
}

func workload(node string, i, cores int, memory float64) Workload {
	return Workload{Name: fmt.Sprintf("%s-%d", node, i), Node: node, OS: "linux",
		Need: estate.Capacity{Cores: cores, MemoryGiB: memory, DiskGiB: 20}}
}

func TestTheCheapestSiteThatTheRulesAllow(t *testing.T) {
	p, err := Solve(Problem{Estate: scenario(t), Workloads: []Workload{workload("web", 1, 2, 4)}}, Options{})
	require.NoError(t, err)
	free := p.Choices[0]
	assert.Equal(t, "alisio-norte", free.Site)
	assert.Equal(t, "c2-4", free.Size)
	assert.Equal(t, money.Of(0.085+20*0.0002+0.005), free.CostPerHour)

	p, err = Solve(Problem{Estate: scenario(t), Workloads: []Workload{workload("web", 1, 2, 4)},
		Rules: []Rule{{Name: "home", Because: "it is ours", Kinds: []string{"private", "edge"}}}}, Options{})
	require.NoError(t, err)
	held := p.Choices[0]
	assert.Equal(t, "vega", held.Site)
	assert.Contains(t, strings.Join(held.Reasons, "; "), "rule home holds here (it is ours)")
	verdicts := map[string]Verdict{}
	for _, v := range held.Elsewhere {
		verdicts[v.Site] = v
	}
	assert.Len(t, verdicts, 4, "every other site is judged")
	assert.Equal(t, "rule home: public, not one of [private edge]", verdicts["tramonta"].Reason)
	assert.True(t, verdicts["presa"].Fits)
	assert.Contains(t, verdicts["presa"].Reason, "more")
}

func TestEachKindOfRuleExcludes(t *testing.T) {
	for name, c := range map[string]struct {
		rule Rule
		site string
	}{
		"sites":         {Rule{Sites: []string{"tramonta"}}, "tramonta"},
		"kinds":         {Rule{Kinds: []string{"edge"}}, "presa"},
		"jurisdictions": {Rule{Jurisdictions: []string{"inland"}}, "tramonta"},
		"features":      {Rule{Features: []string{"vlan", "snapshots"}}, "vega"},
		"other nodes":   {Rule{Nodes: []string{"db"}, Sites: []string{"presa"}}, "alisio-norte"},
	} {
		p, err := Solve(Problem{Estate: scenario(t), Workloads: []Workload{workload("web", 1, 2, 4)}, Rules: []Rule{c.rule}}, Options{})
		require.NoError(t, err, name)
		assert.Equal(t, c.site, p.Choices[0].Site, name)
	}
}

func TestInstancesAreKeptApart(t *testing.T) {
	var ws []Workload
	for i := range 4 {
		ws = append(ws, workload("map", i+1, 2, 4))
	}
	p, err := Solve(Problem{Estate: scenario(t), Workloads: ws, Rules: []Rule{
		{Name: "two", Sites: []string{"alisio-norte", "alisio-sur"}}, {Name: "apart", Apart: "site"}}}, Options{})
	require.NoError(t, err)
	count := map[string]int{}
	for _, c := range p.Choices {
		count[c.Site]++
	}
	assert.Equal(t, map[string]int{"alisio-norte": 2, "alisio-sur": 2}, count)

	p, err = Solve(Problem{Estate: scenario(t), Workloads: ws, Rules: []Rule{{Name: "home", Sites: []string{"vega"}}, {Name: "apart", Apart: "host", Most: 1}}}, Options{})
	require.NoError(t, err)
	hosts := map[string]int{}
	for _, c := range p.Choices {
		hosts[c.Zone+"/"+c.Host]++
	}
	assert.Len(t, hosts, 4, "one on each host")
}

func TestWhatFitsNowhereIsExplained(t *testing.T) {
	_, err := Solve(Problem{Estate: scenario(t), Workloads: []Workload{workload("giant", 1, 64, 900)},
		Rules: []Rule{{Name: "home", Sites: []string{"vega"}}}}, Options{})
	var impossible *Impossible
	require.True(t, errors.As(err, &impossible))
	assert.Equal(t, []string{"giant-1"}, impossible.Workloads)
	assert.Len(t, impossible.Verdicts, 5)
	assert.Contains(t, err.Error(), "vega: full: at most 21 cores")
	assert.Contains(t, err.Error(), "presa: rule home: not among its sites")
}

func TestEarlierWorkloadsMakeRoomForLaterOnes(t *testing.T) {
	// Two hosts of 4 cores; a large one fits only where nothing else is, so the small ones must share the other.
	room := func(name string) estate.Host {
		return estate.Host{Name: name, Free: estate.Capacity{Cores: 4, MemoryGiB: 64, DiskGiB: 999}}
	}
	e := &estate.Estate{Currency: "cr", Sites: []*estate.Site{{Name: "s", Kind: estate.Private, Pace: 1, FreeForm: true,
		Images: []estate.Image{{Name: "i", OS: "linux"}}, Zones: []estate.Zone{{Name: "a", Hosts: []estate.Host{room("h1"), room("h2")}}}}}}
	p, err := Solve(Problem{Estate: e, Workloads: []Workload{workload("a", 1, 2, 4), workload("a", 2, 2, 4), workload("big", 1, 4, 4)}}, Options{})
	require.NoError(t, err)
	assert.NotEqual(t, p.Choice("a-1").Host, p.Choice("big-1").Host)
	assert.Equal(t, p.Choice("a-1").Host, p.Choice("a-2").Host)
	assert.Nil(t, p.Choice("nobody"))
}

// TestPlacementsAreLawful checks on random problems that a placement never overfills a room or breaks a rule, that its
// costs add up, and that solving again gives the same.
func TestPlacementsAreLawful(t *testing.T) {
	e := scenario(t)
	rapid.Check(t, func(t *rapid.T) {
		p := Problem{Estate: e}
		for n := range rapid.IntRange(1, 4).Draw(t, "nodes") {
			node := fmt.Sprintf("n%d", n)
			cores := rapid.IntRange(1, 8).Draw(t, "cores")
			for i := range rapid.IntRange(1, 6).Draw(t, "count") {
				p.Workloads = append(p.Workloads, workload(node, i+1, cores, float64(2*cores)))
			}
			if rapid.Bool().Draw(t, "limited") {
				p.Rules = append(p.Rules, Rule{Name: node, Nodes: []string{node}, Kinds: []string{rapid.SampledFrom([]string{"edge", "private", "public"}).Draw(t, "kind")}})
			}
			if rapid.Bool().Draw(t, "apart") {
				p.Rules = append(p.Rules, Rule{Name: node + "-apart", Nodes: []string{node}, Apart: rapid.SampledFrom([]string{"site", "zone", "host"}).Draw(t, "scope")})
			}
		}
		got, err := Solve(p, Options{})
		again, errAgain := Solve(p, Options{})
		if fmt.Sprint(got, err) != fmt.Sprint(again, errAgain) {
			t.Fatal("equal problems give unequal placements")
		}
		if err == nil {
			lawful(t, p, got)
		}
	})
}

func lawful(t *rapid.T, p Problem, got *Placement) {
	used, sum := map[string]int{}, money.Amount(0)
	for i, c := range got.Choices {
		site := p.Estate.Site(c.Site)
		cores := p.Workloads[i].Need.Cores
		for _, s := range site.Sizes {
			if s.Name == c.Size {
				cores = s.Cores
			}
		}
		used[c.Site+"/"+c.Zone+"/"+c.Host] += cores
		sum += c.CostPerHour
		for _, r := range p.Rules {
			if r.covers(p.Workloads[i].Node) && r.lack(site) != "" {
				t.Fatalf("%s is at %s against rule %s", c.Workload, c.Site, r.Name)
			}
		}
	}
	if sum != got.CostPerHour {
		t.Fatalf("costs add up to %v, not %v", sum, got.CostPerHour)
	}
	for _, s := range p.Estate.Sites {
		for _, z := range s.Zones {
			if n := used[s.Name+"/"+z.Name+"/"]; len(z.Hosts) == 0 && n > z.Free.Cores {
				t.Fatalf("zone %s of %s has %d cores and is given %d", z.Name, s.Name, z.Free.Cores, n)
			}
			for _, h := range z.Hosts {
				if n := used[s.Name+"/"+z.Name+"/"+h.Name]; n > h.Free.Cores {
					t.Fatalf("host %s has %d cores and is given %d", h.Name, h.Free.Cores, n)
				}
			}
		}
	}
}
