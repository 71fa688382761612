package placement_test

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/placement/sample"
)

var update = flag.Bool("update", false, "rewrite the golden files")

// explained writes down all that a placement says.
func explained(p placement.Problem) string {
	got, err := placement.Solve(p, placement.Options{Seed: 3})
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
			file := "testdata/" + strings.NewReplacer(" ", "-", ",", "").Replace(c.name) + ".txt"
			got := explained(p)
			if *update {
				require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, string(want), got)
		})
	}
}
