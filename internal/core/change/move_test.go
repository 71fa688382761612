package change_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

var at = time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC)

// relocation is a design that stands, the same with some workloads at the other site, and how they are moved there.
type relocation struct {
	w          *moveWorld
	stand      change.Standing
	before, to *plan.Plan
	move       change.Moving
	picture    string
}

// relocated raises a random design in which something is on, and draws what of it is moved.
func relocated(t *rapid.T) *relocation {
	a := draw(t, "a")
	var on []int
	for i := range a.hosts {
		if !a.off[i] {
			on = append(on, i)
		}
	}
	if len(on) == 0 {
		return nil
	}
	r := &relocation{w: newMoveWorld(), before: design(a)}
	b := a
	b.site = slices.Clone(a.site)
	for _, i := range on {
		if len(r.move.Instances) > 0 && !rapid.Bool().Draw(t, "moves") {
			continue
		}
		b.site[i] = map[string]string{"vega": "presa", "presa": "vega"}[a.site[i]]
		r.move.Instances = append(r.move.Instances, fmt.Sprintf("host-%d", i))
	}
	r.to = design(b)
	r.move.Mode = rapid.SampledFrom([]change.Mode{change.Cold, change.Warm, change.Live}).Draw(t, "mode")
	raise, err := change.Compile(change.Nothing(r.before), r.before, "raise")
	if err != nil {
		t.Fatal(err)
	}
	r.stand = after(t, change.Nothing(r.before), r.w.some(t, raise, len(raise.Steps)))
	r.picture = r.w.picture()
	return r
}

// TestWorkloadsAreMovedAndCommitted moves anything of any design, and commits: what is wanted stands there, nothing was
// ever on twice or lost a write, and nothing of it is left where it was.
func TestWorkloadsAreMovedAndCommitted(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := relocated(t)
		if r == nil {
			return
		}
		move, whole, err := change.Move(r.stand, r.to, r.move, "move")
		if err != nil {
			t.Fatal(err)
		}
		s := r.w.some(t, move, len(move.Steps))
		if n := len(s.Steps) - count(s.Steps); n > 0 {
			t.Fatalf("%d steps could not be done of %v", n, ids(move))
		}
		for i := range s.Steps {
			if st := s.Steps[i].Step; st.Op == op.Stop && st.On == "" && !reaches(move, st, op.Follow) && r.move.Mode != change.Cold {
				t.Fatalf("%s stops what stays while others are copied, in %v", st.ID, ids(move))
			}
		}
		moved := after(t, r.stand, s)
		commit, err := change.Compile(moved, migrate.WithoutKept(whole, move.Renames), "commit")
		if err != nil {
			t.Fatal(err)
		}
		r.w.some(t, commit, len(commit.Steps))
		wanted := newMoveWorld()
		raise, err := change.Compile(change.Nothing(r.to), r.to, "raise")
		if err != nil {
			t.Fatal(err)
		}
		wanted.some(t, raise, len(raise.Steps))
		if r.w.picture() != wanted.picture() {
			t.Fatalf("after the move there is\n%s\nand wanted is\n%s\nby %v and %v", r.w.picture(), wanted.picture(), ids(move), ids(commit))
		}
	})
}

// TestGoingBackFromAnywhere breaks a move off after any of its steps, the last of which may be half done, and goes back:
// there is what was before, with all that was written.
func TestGoingBackFromAnywhere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := relocated(t)
		if r == nil {
			return
		}
		move, _, err := change.Move(r.stand, r.to, r.move, "move")
		if err != nil {
			t.Fatal(err)
		}
		s := r.w.some(t, move, rapid.IntRange(0, len(move.Steps)).Draw(t, "steps"))
		left := after(t, r.stand, s)
		r.w.tolerant = left.Unsure
		back, err := change.Back(left, r.before, move, r.move, "back")
		if err != nil {
			t.Fatal(err)
		}
		done := r.w.some(t, back, len(back.Steps))
		if n := len(done.Steps) - count(done.Steps); n > 0 {
			t.Fatalf("%d steps could not be done of %v", n, ids(back))
		}
		if r.w.picture() != r.picture {
			t.Fatalf("after going back there is\n%s\nand before there was\n%s\nby %v and %v", r.w.picture(), r.picture, ids(move), ids(back))
		}
	})
}

// reaches reports that a step comes after one of some operation, directly or through others.
func reaches(p *plan.Plan, s *plan.Step, op op.Op) bool {
	return slices.ContainsFunc(s.After, func(id string) bool {
		before := p.Step(id)
		return before.Op == op || reaches(p, before, op)
	})
}

// count is how many steps stand.
func count(steps []run.Step) (n int) {
	for i := range steps {
		if steps[i].Status == run.Standing {
			n++
		}
	}
	return n
}

func TestWhatIsNoMoveIsRefused(t *testing.T) {
	p := design(parts{hosts: 1, site: []string{"vega"}, cores: []int{1}, disk: []float64{1}, image: []string{"debian"}, off: []bool{true}, volume: []float64{0},
		cidr: "10.0.0.0/24", text: []string{"one"}, stop: []bool{true}, connects: []int{-1}, public: []bool{false}})
	stand := done(t, change.Nothing(p), p)
	move := func(id string) error {
		_, _, err := change.Move(stand, p, change.Moving{Instances: []string{id}, Mode: change.Warm}, "move")
		return err
	}
	require.ErrorContains(t, move("nothing"), "no instance that stands")
	require.ErrorContains(t, move("host-0"), "nothing to move")
	_, err := change.Back(stand, p, &plan.Plan{Renames: map[string]string{"host-0": "host-0@vega"}}, change.Moving{}, "back")
	require.ErrorContains(t, err, "nothing of this move stands")
	assert.Equal(t, "host-0@vega", change.KeptID("host-0", "vega"))
}
