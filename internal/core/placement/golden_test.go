package placement_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/placement/sample"
	"andamio/internal/golden"
)

// explained writes down all that a placement says.
func explained(p placement.Problem) string { return explainedWith(p, placement.Options{Seed: 3}) }

func explainedWith(p placement.Problem, o placement.Options) string {
	got, err := placement.Solve(p, o)
	var out strings.Builder
	if err != nil {
		var no *placement.Impossible
		fmt.Fprintf(&out, "%v\n", err)
		if errors.As(err, &no) {
			fmt.Fprintf(&out, "%+v\n", *no)
		}
		return out.String()
	}
	fmt.Fprintf(&out, "%.5f, bound %.5f, proven %v; %v an hour: %+v; %.5f\n", got.Objective, got.Bound, got.Proven, got.CostPerHour, got.Cost, got.Parts)
	for _, b := range got.Broken {
		fmt.Fprintf(&out, "broken: %s (%s) by %s, %.4f\n", b.Rule, b.Because, strings.Join(b.Workloads, " "), b.Weight)
	}
	for _, c := range got.Choices {
		fmt.Fprintf(&out, "%s at %s %s %s %s: %s, %v %+v\n", c.Workload, c.Site, c.Zone, c.Host, c.Size, c.Takes, c.CostPerHour, c.Cost)
		for _, r := range c.Reasons {
			fmt.Fprintf(&out, "  because %s\n", r)
		}
		for _, v := range c.Verdicts {
			fmt.Fprintf(&out, "  %s: %v %s · %s, %v, %+.5f, %g ms %s\n", v.Site, v.Fits, v.Short, v.Reason, v.CostPerHour, v.More, v.Ms, strings.Join(v.Rules, " "))
		}
	}
	return out.String()
}

// talking is a problem of two services at four sites, to which variants add.
func talking() placement.Problem {
	p := sample.Problem(21, sample.Shape{Workloads: 7, Sites: 4, Sizes: 4})
	p.Rules = nil
	return p
}

// TestEveryPlacementIsExplained writes down where everything goes, why, and why not elsewhere, in problems that have a reason of each sort.
func TestEveryPlacementIsExplained(t *testing.T) {
	first := func(p *placement.Problem) *placement.Workload { return &p.Workloads[0] }
	node := func(p *placement.Problem) string { return p.Workloads[len(p.Workloads)-1].Node }
	for _, c := range []struct {
		name   string
		change func(p *placement.Problem)
	}{
		{"as it is", func(*placement.Problem) {}},
		{"pinned, forbidden, stays", func(p *placement.Problem) {
			first(p).Pin = &placement.Spot{Site: "site-2"}
			p.Workloads[1].Forbid = []string{"site-1", "site-3"}
			p.Workloads[2].Pin, p.Workloads[2].Stays, p.Workloads[2].Now = &placement.Spot{Site: "site-1"}, true, &placement.Spot{Site: "site-1"}
			p.Workloads[3].Now = &placement.Spot{Site: "site-4"}
		}},
		{"runs elsewhere, and moving counts for nothing", func(p *placement.Problem) {
			p.Weights.Keep = 0
			for i := range p.Workloads {
				p.Workloads[i].Now = &placement.Spot{Site: "site-4"}
			}
		}},
		{"near what it talks to", func(p *placement.Problem) {
			for i := range p.Traffic {
				p.Traffic[i].MaxMs = 30
			}
		}},
		{"how far is not known", func(p *placement.Problem) {
			delete(p.Estate.Sites[3].Distances, "site-1")
			delete(p.Estate.Sites[2].Distances, "site-2")
			for i := range p.Traffic {
				p.Traffic[i].MaxMs = 90
			}
			first(p).Ends = []placement.End{{Site: "site-4", ToGiB: 3, FrGiB: 1, MaxMs: 50, Weight: 2}}
		}},
		{"fixed ends", func(p *placement.Problem) {
			first(p).Ends = []placement.End{{Site: "site-3", ToGiB: 30, FrGiB: 2, Weight: 1}, {Site: "site-2", FrGiB: 7, MaxMs: 25}, {Site: "atlantis", MaxMs: 1}}
			p.Workloads[4].Ends = []placement.End{{Site: "site-1", ToGiB: 1, MaxMs: 40, Weight: 9}}
		}},
		{"rules of sites", func(p *placement.Problem) {
			p.Estate.Sites[1].Jurisdiction, p.Estate.Sites[2].Features = "coast", []string{"vlan"}
			p.Rules = []placement.Rule{{Name: "own", Nodes: []string{first(p).Node}, Kinds: []string{"private"}, Because: "it is ours"}, {Name: "two", Nodes: []string{node(p)}, Sites: []string{"site-1", "site-2"}, Short: "two of them"},
				{Name: "here", Nodes: []string{node(p)}, Jurisdictions: []string{"coast"}}, {Name: "wired", Nodes: []string{p.Workloads[3].Node}, Features: []string{"vlan"}}}
			p.Workloads[len(p.Workloads)-1].Exempt = []string{"here"}
		}},
		{"preferences", func(p *placement.Problem) {
			p.Rules = []placement.Rule{{Name: "rather", Kinds: []string{"public"}, Weight: 0.02, Because: "it is nearer"}, {Name: "much rather", Nodes: []string{node(p)}, Sites: []string{"site-4"}, Weight: 9},
				{Name: "spread", Nodes: []string{node(p)}, Apart: "site", Weight: 0.01}}
		}},
		{"apart and together", func(p *placement.Problem) {
			p.Rules = []placement.Rule{{Name: "apart", Nodes: []string{node(p)}, Apart: "zone", Most: 1, Because: "one may fail"}, {Name: "joint", Nodes: []string{first(p).Node, node(p)}, Apart: "provider", Jointly: true, Most: 4},
				{Name: "lonely", Nodes: []string{first(p).Node}, Apart: "host"}, {Name: "close", Nodes: []string{p.Workloads[2].Node, p.Workloads[3].Node}, Together: "site"}}
		}},
		{"quotas, and little room", func(p *placement.Problem) {
			for _, s := range p.Estate.Sites[1:] {
				s.Quotas = map[string]estate.Quota{estate.QuotaInstances: {Limit: 3, Used: 2}, estate.QuotaCores: {Limit: 9.5}}
			}
			for i := range p.Estate.Sites[0].Zones {
				for k := range p.Estate.Sites[0].Zones[i].Hosts {
					p.Estate.Sites[0].Zones[i].Hosts[k].Free = estate.Capacity{Cores: 9, MemoryGiB: 40, DiskGiB: 300}
				}
			}
		}},
		{"images and storage", func(p *placement.Problem) {
			p.Estate.Sites[1].Images = append(p.Estate.Sites[1].Images, estate.Image{Name: "safe", OS: "linux", Capabilities: []string{"encrypted"}})
			first(p).Image = "safe"
			p.Workloads[1].Capabilities = []string{"encrypted"}
			p.Workloads[2].OS = ""
		}},
		{"paid for by the year, in a budget", func(p *placement.Problem) {
			p.Payment, p.Budget = estate.Reserved1, 3
		}},
		{"more than the budget", func(p *placement.Problem) { p.Budget = 0.1 }},
		{"no room at all", func(p *placement.Problem) { first(p).Need.Cores = 900 }},
		{"rules that contradict", func(p *placement.Problem) {
			p.Rules = []placement.Rule{{Name: "own", Kinds: []string{"private"}}, {Name: "coast", Nodes: []string{first(p).Node}, Jurisdictions: []string{"coast"}, Because: "the law says so"}}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := talking()
			c.change(&p)
			recorded(t, c.name, explained(p))
		})
	}
}

// recorded compares a text with its golden file.
func recorded(t *testing.T, name, got string) {
	t.Helper()
	golden.Is(t, "testdata/"+strings.NewReplacer(" ", "-", ",", "").Replace(name)+".txt", got)
}

// TestTheModelForSolversIsAsRecorded writes the model of a problem that has one of each sort of constraint.
func TestTheModelForSolversIsAsRecorded(t *testing.T) {
	p := sample.Problem(21, sample.Shape{Workloads: 5, Sites: 3, Sizes: 2})
	last := p.Workloads[4].Node
	p.Estate.Sites[0].Zones = p.Estate.Sites[0].Zones[:1]
	p.Estate.Sites[1].Quotas = map[string]estate.Quota{estate.QuotaCores: {Limit: 12, Used: 2}}
	p.Traffic[0].MaxMs = 40
	p.Workloads[0].Now = &placement.Spot{Site: "site-2"}
	p.Budget = 4
	p.Rules = []placement.Rule{{Name: "apart", Nodes: []string{last}, Apart: "zone"}, {Name: "close", Nodes: []string{p.Workloads[0].Node}, Together: "site"},
		{Name: "spread", Nodes: []string{p.Workloads[0].Node}, Apart: "provider", Weight: 0.01}, {Name: "rather", Kinds: []string{"private"}, Weight: 0.02}}
	var out strings.Builder
	require.NoError(t, placement.WriteLP(&out, p))
	recorded(t, "model.lp", out.String())
}

// TestProblemsThatAreNoneAreRefused: what is wrong with them is named, by all that read them.
func TestProblemsThatAreNoneAreRefused(t *testing.T) {
	for says, change := range map[string]func(p *placement.Problem){
		`workload "s1-t1-1" is there twice`:       func(p *placement.Problem) { p.Workloads = append(p.Workloads, p.Workloads[0]) },
		`workload "" is there twice, or has no n`: func(p *placement.Problem) { p.Workloads[0].Name = "" },
		`traffic from "nobody" to`:                func(p *placement.Problem) { p.Traffic[0].From = "nobody" },
		`to "nobody": these are not two workload`: func(p *placement.Problem) { p.Traffic[0].To = "nobody" },
		`traffic from "s1-t1-1" to "s1-t1-1"`:     func(p *placement.Problem) { p.Traffic[0].To, p.Traffic[0].From = "s1-t1-1", "s1-t1-1" },
		"rule close: workloads are kept together": func(p *placement.Problem) { p.Rules = []placement.Rule{{Name: "close", Together: "planet"}} },
		"rule loose: workloads are kept together": func(p *placement.Problem) {
			p.Rules = []placement.Rule{{Name: "loose", Together: "site", Weight: 1}}
		},
	} {
		p := talking()
		change(&p)
		got, err := placement.Solve(p, placement.Options{})
		require.ErrorContains(t, err, says)
		assert.Nil(t, got)
		var out strings.Builder
		require.ErrorContains(t, placement.WriteLP(&out, p), says)
		assert.Empty(t, out.String())
	}
}

// TestWhereANodeIsAllowed: by rules alone, each site that is left out with the first that keeps it out.
func TestWhereANodeIsAllowed(t *testing.T) {
	e := talking().Estate
	sites := func(rules ...placement.Rule) (out []string, why []string) {
		all, why := placement.Allowed(e, rules, "store")
		for _, s := range all {
			out = append(out, s.Name)
		}
		return out, why
	}
	own := placement.Rule{Name: "own", Kinds: []string{"private"}}
	got, why := sites(own, placement.Rule{Name: "second", Sites: []string{"site-1"}})
	assert.Equal(t, []string{"site-1"}, got)
	assert.Equal(t, []string{"site-2: rule own, public, not private", "site-3: rule own, public, not private", "site-4: rule own, public, not private"}, why)
	for name, r := range map[string]placement.Rule{"of others": {Name: "x", Kinds: []string{"private"}, Nodes: []string{"page"}}, "a preference": {Name: "x", Kinds: []string{"private"}, Weight: 1}, "apart": {Name: "x", Apart: "site"}} {
		got, why = sites(r)
		assert.Len(t, got, 4, name)
		assert.Empty(t, why, name)
	}
}
