package dispatch

import (
	"fmt"
	"math/bits"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// TestPopsComeOutSorted pushes and pops in any order: what comes out is always the first of what is in.
func TestPopsComeOutSorted(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := Heap[int]{Before: func(a, b int) bool { return a < b }}
		var in []int
		for range rapid.IntRange(1, 60).Draw(t, "times") {
			if len(in) > 0 && rapid.IntRange(0, 2).Draw(t, "pop") == 0 {
				slices.Sort(in)
				require.Equal(t, in[0], h.Pop())
				in = in[1:]
			} else {
				x := rapid.IntRange(0, 20).Draw(t, "item")
				h.Push(x)
				in = append(in, x)
			}
			require.Equal(t, len(in), h.Len())
		}
		slices.Sort(in)
		for _, want := range in {
			require.Equal(t, want, h.Pop())
		}
	})
}

// rescued is a plan of steps of which some are called for by the failure of others.
func rescued(t *rapid.T, most int) *plan.Plan {
	p := &plan.Plan{Version: plan.Version, Name: "graph", Sites: []plan.Site{{Name: "vega"}}}
	for i := range rapid.IntRange(1, most).Draw(t, "steps") {
		id := fmt.Sprint("r", i)
		s := plan.Step{ID: id + "/create", Resource: id, Op: op.Create, Site: "vega", Seconds: float64(rapid.IntRange(0, 9).Draw(t, "seconds"))}
		for j := range i {
			switch rapid.IntRange(0, 9).Draw(t, "edge") {
			case 0, 1:
				s.After = append(s.After, p.Steps[j].ID)
			case 2:
				s.AfterFailure = append(s.AfterFailure, p.Steps[j].ID)
			}
		}
		p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: kinds.Network, Site: "vega"})
		p.Steps = append(p.Steps, s)
	}
	require.NoError(t, p.Arrange())
	return p
}

// TestWhatRemainsIsTheLongestPathOrTheSharedWork works out what remains after each step path by path, and set by set.
func TestWhatRemainsIsTheLongestPathOrTheSharedWork(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := rescued(t, 90) // more than a word of a set has
		limit := rapid.IntRange(0, 4).Draw(t, "limit")
		d := New(p, Limits{Steps: limit}, func(int) bool { return false }, func(int) bool { return false })
		after := map[string][]int{}
		called := map[string][]int{}
		for i := range p.Steps {
			for _, a := range p.Steps[i].After {
				after[a] = append(after[a], i)
			}
			for _, a := range p.Steps[i].AfterFailure {
				called[a] = append(called[a], i)
			}
		}
		var over func(i int, seen map[int]bool)
		over = func(i int, seen map[int]bool) {
			for _, a := range after[p.Steps[i].ID] {
				if !seen[a] {
					seen[a] = true
					over(a, seen)
				}
			}
		}
		want := make([]float64, len(p.Steps))
		for i := len(p.Steps) - 1; i >= 0; i-- {
			for _, a := range slices.Concat(after[p.Steps[i].ID], called[p.Steps[i].ID]) {
				want[i] = max(want[i], want[a])
			}
			if limit > 0 {
				seen, work := map[int]bool{}, 0.0
				over(i, seen)
				for a := range seen {
					work += p.Steps[a].Seconds
				}
				want[i] = max(want[i], work/float64(limit))
			}
			want[i] += p.Steps[i].Seconds
			assert.InDelta(t, want[i], d.steps[i].remaining, 1e-9, p.Steps[i].ID)
		}
		assert.Equal(t, 64, bits.UintSize, "the sets are of words of this size")
	})
}

// TestAForkIsInTheSameStateAndGoesOnByItself runs a plan half, and both halves of it then to their ends.
func TestAForkIsInTheSameStateAndGoesOnByItself(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := rescued(t, 30)
		no := func(int) bool { return false }
		d := New(p, Limits{Steps: 2, PerSite: 2}, no, no)
		var going []int
		step := func(d *Dispatcher, going []int) []int {
			for {
				i, ok := d.Next()
				if !ok {
					break
				}
				going = append(going, i)
			}
			if len(going) == 0 {
				return nil
			}
			d.Done(going[0])
			return going[1:]
		}
		for range rapid.IntRange(0, len(p.Steps)).Draw(t, "before") {
			going = step(d, going)
		}
		var old *Dispatcher
		if rapid.Bool().Draw(t, "into one that was used") {
			old = d.Fork(nil)
			step(old, nil)
		}
		f := d.Fork(old)
		require.Equal(t, d.Running(), f.Running())
		require.Equal(t, d.Needless(), f.Needless())
		var ends [2][]int
		for k, x := range []*Dispatcher{f, d} { // the fork first: the other is as it was
			left := slices.Clone(going)
			for n := 0; n <= len(p.Steps); n++ {
				if left = step(x, left); left == nil && x.Running() == 0 {
					break
				}
				ends[k] = append(ends[k], left...)
			}
		}
		assert.Equal(t, ends[0], ends[1])
	})
}
