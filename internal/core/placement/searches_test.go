package placement_test

import (
	"crypto/sha256"
	"fmt"
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

// pursued are the problems whose searches are held: drawn ones of few workloads, and sorts of larger ones.
func pursued() (names []string, problems []placement.Problem) {
	add := func(name string, p placement.Problem) { names, problems = append(names, name), append(problems, p) }
	few := rapid.Custom(drawn)
	for n := range 60 {
		add(fmt.Sprintf("drawn %d", n), few.Example(n))
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
				if err == nil && show == i {
					t.Log(text)
				}
				sums[i] = fmt.Sprintf("%d %s: %.6x\n", i, names[i], sha256.Sum256([]byte(text)))
			})
		}
	})
	golden.Is(t, "testdata/searches.txt", strings.Join(sums, ""))
}
