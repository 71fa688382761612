package placement_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/placement/sample"
	"andamio/internal/golden"
)

// searched is how a search goes and what comes of it: how often it asked whether to stop, what it told of its progress, and the placement with all its reasons.
func searched(p placement.Problem, o placement.Options) string {
	var out strings.Builder
	asked := 0
	o.Stop = func() bool { asked++; return false }
	o.Progress = func(at placement.Progress) { fmt.Fprintf(&out, "%s %.9g %.9g\n", at.Phase, at.Objective, at.Bound) }
	out.WriteString(explainedWith(p, o))
	fmt.Fprintf(&out, "asked %d times whether to stop\n", asked)
	return out.String()
}

// after is what comes of a problem for which prices have changed, where what was found before is kept to, and of the problem for other solvers.
func after(p placement.Problem, o placement.Options) string {
	var out bytes.Buffer
	if err := placement.WriteLP(&out, p); err != nil {
		out.WriteString(err.Error())
	}
	before, err := placement.Solve(p, o)
	if err != nil {
		return out.String()
	}
	o.Like = before
	same := searched(p, o)
	for i, s := range p.Estate.Sites {
		s.Prices.Core *= 1 + float64(i%3)/10
	}
	return out.String() + same + searched(p, o)
}

// varied is a problem with more asked of it: where workloads must be, must not be and are, what they need of a site, and rules of every sort, some of them preferences.
func varied(p placement.Problem, seed uint64) placement.Problem {
	r := rand.New(rand.NewPCG(seed, 3))
	sites := p.Estate.Sites
	site := func() *estate.Site { return sites[r.IntN(len(sites))] }
	spot := func() *placement.Spot {
		s := site()
		at := &placement.Spot{Site: s.Name}
		if rooms := s.Rooms(); len(rooms) > 0 && r.IntN(2) == 0 {
			room := rooms[r.IntN(len(rooms))]
			if at.Zone = room.Zone; r.IntN(2) == 0 {
				at.Host = room.Host
			}
		}
		return at
	}
	for _, s := range sites {
		if r.IntN(3) == 0 {
			s.Features = append(s.Features, "mirrored")
		}
		if r.IntN(3) == 0 {
			s.Jurisdiction = "ribera"
		}
		if r.IntN(4) == 0 {
			s.Networks = []estate.Network{{Name: "lan", Pools: []estate.Pool{{From: "10.0.0.1", To: fmt.Sprintf("10.0.0.%d", 1+r.IntN(9))}}}}
		}
		if r.IntN(4) == 0 {
			s.Images = append(s.Images, estate.Image{Name: "rolling", OS: "bsd"})
		}
	}
	var nodes []string
	for i := range p.Workloads {
		w := &p.Workloads[i]
		nodes = append(nodes, w.Node)
		switch r.IntN(9) {
		case 0:
			w.Pin = spot()
		case 1:
			w.Forbid = []string{site().Name}
		case 2:
			w.OS = []string{"linux", "bsd"}[r.IntN(2)]
		case 3:
			w.Addresses = r.IntN(3)
		case 4:
			w.Ends = append(w.Ends, placement.End{Site: site().Name, ToGiB: float64(r.IntN(3)), FrGiB: 1, MaxMs: []float64{0, 30}[r.IntN(2)], Weight: 1})
		case 5:
			w.Exempt = []string{"r0", "r1"}
		}
		if seed%2 == 0 && r.IntN(2) == 0 {
			w.Now = spot()
			w.Stays = w.Pin != nil && r.IntN(2) == 0
		}
	}
	for i := range 1 + r.IntN(4) {
		rule := placement.Rule{Name: fmt.Sprint("r", i), Because: "of the river", Weight: []float64{0, 0.03, 0.2}[r.IntN(3)]}
		if r.IntN(3) > 0 {
			rule.Nodes = []string{nodes[r.IntN(len(nodes))], nodes[r.IntN(len(nodes))]}
		}
		switch r.IntN(7) {
		case 0:
			rule.Sites, rule.Listed = []string{site().Name, site().Name, site().Name}, r.IntN(2) == 0
		case 1:
			rule.Kinds = []string{"public"}
		case 2:
			rule.Jurisdictions = []string{"ribera"}
		case 3:
			rule.Features = []string{"mirrored"}
		case 4:
			rule.Apart, rule.Most, rule.Jointly = []string{"provider", "site", "zone", "host"}[r.IntN(4)], r.IntN(3), r.IntN(2) == 0
		default:
			rule.Together, rule.Weight = []string{"site", "zone", "host"}[r.IntN(3)], 0
			if rule.Nodes == nil {
				rule.Nodes = nodes[:1]
			}
		}
		p.Rules = append(p.Rules, rule)
	}
	return p
}

// pursued are the problems whose searches are held: drawn ones of few workloads, and sorts of larger ones.
func pursued() (names []string, problems []placement.Problem) {
	add := func(name string, p placement.Problem) { names, problems = append(names, name), append(problems, p) }
	few := rapid.Custom(drawn)
	for n := range 60 {
		add(fmt.Sprintf("drawn %d", n), few.Example(n))
	}
	for n := range 120 {
		add(fmt.Sprintf("varied %d", n), varied(few.Example(100+n), uint64(n)))
	}
	for n := range uint64(12) {
		shape := sample.Shape{Workloads: 20 + 10*int(n), Sites: 3 + int(n)%4, Sizes: 3 + int(n)%5, Hosts: int(n) % 3 * 8, Fill: []float64{0, 0.7, 0.95}[n%3]}
		p := sample.Problem(900+n, shape)
		add(fmt.Sprintf("%d workloads", shape.Workloads), p)
		if n%3 == 0 {
			p.Budget = 0.4 * float64(n+1)
			add(fmt.Sprintf("%d workloads and a budget", shape.Workloads), p)
			p.Budget, p.Payment = 0, estate.Reserved1
			p.Weights = placement.Weights{Cost: 1, Latency: 3}
			add(fmt.Sprintf("%d workloads, paid ahead and near", shape.Workloads), p)
		}
	}
	add("1600 workloads", sample.Problem(7, sample.Shape{Workloads: 1600, Sites: 5, Sizes: 4, Hosts: 300}))
	return names, problems
}

// TestSearchesGoAsTheyWent holds by sums how searches go and what comes of them, so that what makes them go another way is seen, where what is found is as good. Where one is another,
// SHOW_SEARCH=N writes the N-th out, to be compared with how it went before. The sums are those of one sort of processor: others round otherwise.
func TestSearchesGoAsTheyWent(t *testing.T) {
	if runtime.GOARCH != "amd64" {
		t.Skip("these sums are of amd64")
	}
	t.Parallel()
	show, err := strconv.Atoi(os.Getenv("SHOW_SEARCH"))
	names, problems := pursued()
	sums := make([]string, len(names))
	t.Run("all", func(t *testing.T) {
		for i, p := range problems {
			t.Run(names[i], func(t *testing.T) {
				t.Parallel()
				text := searched(p, placement.Options{Seed: uint64(i), Effort: 0.02})
				if len(p.Workloads) < 40 {
					text += after(p, placement.Options{Seed: uint64(i), Effort: 0.02})
				}
				if err == nil && show == i {
					t.Log(text)
				}
				sums[i] = fmt.Sprintf("%d %s: %s\n", i, names[i], golden.Sum(text))
			})
		}
	})
	golden.Is(t, "testdata/searches.txt", strings.Join(sums, ""))
}
