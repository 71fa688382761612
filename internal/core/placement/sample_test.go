package placement_test

import (
	"bytes"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/estate"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
	"andamio/internal/core/placement/sample"
)

// drawn is a small problem by chance, tight or loose.
func drawn(t *rapid.T) placement.Problem {
	p := sample.Problem(rapid.Uint64Range(0, 1<<20).Draw(t, "seed"), sample.Shape{Workloads: rapid.IntRange(1, 14).Draw(t, "workloads"),
		Sites: rapid.IntRange(2, 5).Draw(t, "sites"), Sizes: rapid.IntRange(3, 8).Draw(t, "sizes"), Fill: rapid.SampledFrom([]float64{0, 1, 2}).Draw(t, "fill")})
	if rapid.Bool().Draw(t, "addresses") {
		p.Estate.Sites[0].Networks = []estate.Network{{Name: "lan", Pools: []estate.Pool{{From: "10.0.0.1", To: fmt.Sprintf("10.0.0.%d", rapid.IntRange(1, 6).Draw(t, "pool"))}}}}
	}
	if rapid.IntRange(0, 3).Draw(t, "near") == 0 {
		for i := range p.Traffic {
			p.Traffic[i].MaxMs = rapid.SampledFrom([]float64{0, 20, 40}).Draw(t, "ms")
		}
	}
	return p
}

// check finds what a placement breaks, from the problem alone: it shares no code with the search.
func check(p placement.Problem, got *placement.Placement) error {
	used := map[string]estate.Capacity{}
	count, addresses := map[string]int{}, map[string]int{}
	node := map[string]map[string]int{}
	for i, c := range got.Choices {
		w, site := p.Workloads[i], p.Estate.Site(c.Site)
		takes := w.Need
		if c.Size == "" != site.FreeForm {
			return fmt.Errorf("%s: size %q", c.Workload, c.Size)
		}
		for _, z := range site.Sizes {
			if z.Name == c.Size {
				takes.Cores, takes.MemoryGiB = z.Cores, z.MemoryGiB
			}
		}
		if !takes.Fits(w.Need) {
			return fmt.Errorf("%s: %s does not hold %s", c.Workload, c.Size, w.Need)
		}
		room := c.Site + "/" + c.Zone + "/" + c.Host
		used[room] = used[room].Plus(takes)
		used[c.Site] = used[c.Site].Plus(takes)
		count[c.Site]++
		addresses[c.Site] += w.Addresses
		for _, place := range []string{"site " + c.Site, "zone " + c.Site + "/" + c.Zone, "host " + room, "provider " + site.Provider} {
			if node[w.Node] == nil {
				node[w.Node] = map[string]int{}
			}
			node[w.Node][place]++
		}
		for _, r := range p.Rules {
			if r.Weight > 0 || len(r.Nodes) > 0 && r.Nodes[0] != w.Node {
				continue
			}
			if len(r.Kinds) > 0 && string(site.Kind) != r.Kinds[0] {
				return fmt.Errorf("%s is at %s against %s", c.Workload, c.Site, r.Name)
			}
		}
	}
	for _, s := range p.Estate.Sites {
		for _, r := range s.Rooms() {
			if !r.Free.Fits(used[s.Name+"/"+r.Zone+"/"+r.Host]) {
				return fmt.Errorf("%s %s holds %s and is given %s", s.Name, r.Name(), r.Free, used[s.Name+"/"+r.Zone+"/"+r.Host])
			}
		}
		if q, ok := s.Quotas[estate.QuotaInstances]; ok && float64(count[s.Name]) > q.Limit {
			return fmt.Errorf("%s: %d instances of %v", s.Name, count[s.Name], q.Limit)
		}
		if free, all := s.Addresses(); all > 0 && addresses[s.Name] > free {
			return fmt.Errorf("%s: %d addresses of %d", s.Name, addresses[s.Name], free)
		}
	}
	return checkGroups(p, got, node)
}

func checkGroups(p placement.Problem, got *placement.Placement, node map[string]map[string]int) error {
	for _, r := range p.Rules {
		if r.Weight > 0 || r.Apart == "" && r.Together == "" {
			continue
		}
		n := 0
		for _, w := range p.Workloads {
			if w.Node == r.Nodes[0] {
				n++
			}
		}
		for place, have := range node[r.Nodes[0]] {
			if r.Apart != "" && n > 1 && len(place) > len(r.Apart) && place[:len(r.Apart)+1] == r.Apart+" " && have > (n+1)/2 {
				return fmt.Errorf("rule %s: %d of %d at %s", r.Name, have, n, place)
			}
			if r.Together == "site" && place[:5] == "site " && have != n {
				return fmt.Errorf("rule %s: %d of %d at %s", r.Name, have, n, place)
			}
		}
	}
	for _, t := range p.Traffic {
		a, b := p.Estate.Site(got.Choice(t.From).Site), p.Estate.Site(got.Choice(t.To).Site)
		if ms, known := estate.Distance(a, b); t.MaxMs > 0 && (!known || ms > t.MaxMs) {
			return fmt.Errorf("%s and %s are %v ms apart, not %v", t.From, t.To, ms, t.MaxMs)
		}
	}
	return nil
}

func TestNothingIsEverBroken(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := drawn(t)
		o := placement.Options{Seed: rapid.Uint64().Draw(t, "search seed"), Effort: 0.05}
		got, err := placement.Solve(p, o)
		again, errAgain := placement.Solve(p, o)
		if fmt.Sprint(err) != fmt.Sprint(errAgain) || err == nil && fmt.Sprint(got.Choices) != fmt.Sprint(again.Choices) {
			t.Fatal("equal problems and seeds give unequal answers")
		}
		if err != nil {
			return
		}
		if err := check(p, got); err != nil {
			t.Fatal(err)
		}
		at := map[string]placement.Spot{}
		for _, c := range got.Choices {
			at[c.Workload] = placement.Spot{Site: c.Site, Zone: c.Zone, Host: c.Host}
		}
		if b := placement.Breaches(p, at); len(b) > 0 {
			t.Fatalf("what was placed by the rules is said to break them: %+v", b)
		}
		if got.Bound > got.Objective+1e-6 || got.Proven && got.Bound != got.Objective {
			t.Fatalf("the bound %v is above the objective %v", got.Bound, got.Objective)
		}
		if got.CostPerHour != got.Cost.Total() {
			t.Fatalf("the parts of the cost come to %v, the cost is %v", got.Cost.Total(), got.CostPerHour)
		}
		var sum money.Amount
		for _, c := range got.Choices {
			sum += c.CostPerHour
		}
		if sum != got.CostPerHour {
			t.Fatalf("the choices cost %v, all %v", sum, got.CostPerHour)
		}
	})
}

func TestMoreCapacityNeverCostsMore(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := drawn(t)
		before, err := placement.Solve(p, placement.Options{Brief: true, Effort: 0.1})
		if err != nil || !before.Proven {
			t.Skip("not proven")
		}
		s := p.Estate.Sites[rapid.IntRange(0, len(p.Estate.Sites)-1).Draw(t, "site")]
		z := &s.Zones[rapid.IntRange(0, len(s.Zones)-1).Draw(t, "zone")]
		more := estate.Capacity{Cores: rapid.IntRange(1, 64).Draw(t, "cores"), MemoryGiB: float64(rapid.IntRange(1, 256).Draw(t, "memory")), DiskGiB: 500}
		z.Free = z.Free.Plus(more)
		for i := range z.Hosts {
			z.Hosts[i].Free = z.Hosts[i].Free.Plus(more)
		}
		after, err := placement.Solve(p, placement.Options{Brief: true, Effort: 0.1})
		if err != nil {
			t.Fatalf("more capacity makes it impossible: %v", err)
		}
		if after.Proven && after.Objective > before.Objective+2e-6*(1+before.Objective) {
			t.Fatalf("with more capacity %v, before %v", after.Objective, before.Objective)
		}
	})
}

// TestEveryExclusionIsTrue takes each verdict by itself: what is said not to fit is pinned there and must be refused with
// everything else where it is, what is said to fit must be found there at the cost said.
func TestEveryExclusionIsTrue(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := drawn(t)
		p.Weights = placement.Weights{Cost: 1}
		got, err := placement.Solve(p, placement.Options{Effort: 0.05})
		if err != nil {
			t.Skip("impossible")
		}
		i := rapid.IntRange(0, len(p.Workloads)-1).Draw(t, "workload")
		for _, v := range got.Choices[i].Elsewhere {
			held := p
			held.Workloads = append([]placement.Workload(nil), p.Workloads...)
			for k := range held.Workloads {
				c := got.Choices[k]
				if held.Workloads[k].Node != p.Workloads[i].Node || k == i || !together(p, p.Workloads[i].Node) {
					held.Workloads[k].Pin = &placement.Spot{Site: c.Site, Zone: c.Zone, Host: c.Host, Size: c.Size}
				} else {
					held.Workloads[k].Pin = nil // what must be together moves with it
				}
			}
			held.Workloads[i].Pin = &placement.Spot{Site: v.Site}
			moved, err := placement.Solve(held, placement.Options{Brief: true})
			if v.Fits != (err == nil) {
				t.Fatalf("%s at %s: %q, and trying it says %v", p.Workloads[i].Name, v.Site, v.Reason, err)
			}
			if err == nil && math.Abs(moved.Objective-got.Objective-v.More) > 1e-5 && moved.Objective > got.Objective+v.More {
				t.Fatalf("%s at %s: %v more was said, it is %v", p.Workloads[i].Name, v.Site, v.More, moved.Objective-got.Objective)
			}
		}
	})
}

func together(p placement.Problem, node string) bool {
	for _, r := range p.Rules {
		if r.Together != "" && r.Nodes[0] == node {
			return true
		}
	}
	return false
}

var solved = regexp.MustCompile(`Objective value:\s+([-0-9.]+)`)

// TestAgainstASolver writes small problems as LP models and compares with what a solver of such models finds, where one is
// installed. `make bench` does the same with larger ones.
func TestAgainstASolver(t *testing.T) {
	cbc, err := exec.LookPath("cbc")
	if err != nil {
		t.Skip("cbc is not installed")
	}
	for n := range uint64(12 + len(tight)) {
		seed, shape := n, sample.Shape{Workloads: 9, Sites: 4, Sizes: 5, Fill: float64(n % 3)}
		if n >= 12 {
			seed = tight[n-12]
			shape = tightShape(seed)
		}
		p := sample.Problem(seed, shape)
		if n < 12 && n%2 == 0 {
			for i := range p.Traffic {
				p.Traffic[i].MaxMs = 30
			}
		}
		var b bytes.Buffer
		require.NoError(t, placement.WriteLP(&b, p))
		file := filepath.Join(t.TempDir(), "model.lp")
		require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
		out, err := exec.Command(cbc, file, "sec", "30", "solve").CombinedOutput()
		require.NoError(t, err, "%s", out)
		got, err := placement.Solve(p, placement.Options{})
		found := solved.FindSubmatch(out)
		if found == nil || bytes.Contains(out, []byte("infeasible")) {
			assert.Error(t, err, "seed %d: the solver finds none", seed)
			continue
		}
		require.NoError(t, err, "seed %d: the solver finds one", seed)
		best, err := strconv.ParseFloat(string(found[1]), 64)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, got.Objective, best-1e-5, "seed %d: better than the best", seed)
		assert.LessOrEqual(t, got.Objective, best*1.01+1e-6, "seed %d", seed)
		assert.LessOrEqual(t, got.Bound, best+1e-5, "seed %d: the bound", seed)
		if assert.True(t, got.Proven, "seed %d: what the solver proves is proven", seed) {
			assert.InDelta(t, best, got.Objective, 1e-5*(1+best), "seed %d", seed)
		}
	}
}
