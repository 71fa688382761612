package dispatch_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// graph makes a plan of steps that wait for each other as drawn.
func graph(t *rapid.T, most int) *plan.Plan {
	p := &plan.Plan{Version: plan.Version, Name: "graph", Sites: []plan.Site{{Name: "vega"}, {Name: "presa"}}}
	kinds := []kinds.Kind{kinds.Network, kinds.Volume, kinds.Instance}
	for i := range rapid.IntRange(1, most).Draw(t, "steps") {
		id := fmt.Sprint("r", i)
		site := rapid.SampledFrom([]string{"vega", "presa"}).Draw(t, "site")
		s := plan.Step{ID: id + "/create", Resource: id, Op: rapid.SampledFrom([]op.Op{op.Create, op.Create, op.Hold}).Draw(t, "op"), Site: site, Seconds: float64(rapid.IntRange(0, 9).Draw(t, "seconds")), Copying: &plan.Copying{}}
		for j := range i {
			if rapid.IntRange(0, 6).Draw(t, "edge") == 0 {
				s.After = append(s.After, p.Steps[j].ID)
			}
		}
		p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: rapid.SampledFrom(kinds).Draw(t, "kind"), Site: site})
		p.Steps = append(p.Steps, s)
	}
	if err := p.Arrange(); err != nil {
		t.Fatal(err)
	}
	return p
}

func none(int) bool { return false }

// TestAnyDispatchKeepsOrderAndLimits ends steps in any order and checks what may begin.
func TestAnyDispatchKeepsOrderAndLimits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := graph(t, 30)
		l := dispatch.Limits{Steps: rapid.IntRange(0, 6).Draw(t, "limit"), PerSite: rapid.IntRange(0, 4).Draw(t, "per site"),
			Sites: map[string]int{"presa": rapid.IntRange(1, 3).Draw(t, "presa")}, Kinds: map[kinds.Kind]int{kinds.Volume: 1}}
		d := dispatch.New(p, l, none, none)
		var running []int
		done := map[string]bool{}
		for {
			for {
				i, ok := d.Next()
				if !ok {
					break
				}
				running = append(running, i)
				for _, a := range p.Steps[i].After {
					if !done[a] {
						t.Fatalf("%s begins before %s is done", p.Steps[i].ID, a)
					}
				}
			}
			check(t, p, l, running)
			if d.Running() != len(running) {
				t.Fatalf("%d run, and it counts %d", len(running), d.Running())
			}
			if len(running) == 0 {
				break
			}
			k := rapid.IntRange(0, len(running)-1).Draw(t, "ends")
			done[p.Steps[running[k]].ID] = true
			d.Done(running[k])
			running = append(running[:k], running[k+1:]...)
		}
		if len(done) != len(p.Steps) {
			t.Fatalf("%d of %d steps were begun", len(done), len(p.Steps))
		}
	})
}

func check(t *rapid.T, p *plan.Plan, l dispatch.Limits, running []int) {
	site, volumes := map[string]int{}, map[string]int{}
	count := 0
	for _, i := range running {
		if p.Steps[i].Op == op.Hold { // it waits, and keeps nobody out
			continue
		}
		count++
		site[p.Steps[i].Site]++
		if p.Resource(p.Steps[i].Resource).Kind == kinds.Volume {
			volumes[p.Steps[i].Site]++
		}
	}
	over := l.Steps > 0 && count > l.Steps || l.PerSite > 0 && site["vega"] > l.PerSite || site["presa"] > l.Sites["presa"] ||
		volumes["vega"] > 1 || volumes["presa"] > 1
	if over {
		t.Fatalf("%v run at once, with the limits %+v", running, l)
	}
}

// TestWhatWaitsKeepsNobodyOut begins all steps that wait for a person at once, and one of the others beside them.
func TestWhatWaitsKeepsNobodyOut(t *testing.T) {
	p := &plan.Plan{Version: plan.Version, Sites: []plan.Site{{Name: "vega"}}}
	for i := range 5 {
		id := fmt.Sprint("w", i)
		p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: kinds.Instance, Site: "vega"})
		terms := &plan.Copying{From: "vega", Disks: []plan.DiskCopy{{From: id, To: id}}}
		p.Steps = append(p.Steps, plan.Step{ID: id + "/replicate", Resource: id, Site: "vega", Op: op.Replicate, Seconds: 1, Copying: terms},
			plan.Step{ID: id + "/follow", Resource: id, Site: "vega", Op: op.Follow, After: []string{id + "/replicate"}, Copying: terms})
	}
	assert.NoError(t, p.Arrange())
	d := dispatch.New(p, dispatch.Limits{Steps: 1, PerSite: 1}, none, none)
	waiting := 0
	for copying := -1; waiting < 5; {
		i, ok := d.Next()
		switch {
		case ok && p.Steps[i].Op == op.Follow:
			waiting++
		case ok:
			assert.Negative(t, copying, "one is copied at once")
			copying = i
		default:
			assert.GreaterOrEqual(t, copying, 0, "those that wait keep the others out")
			d.Done(copying)
			copying = -1
		}
	}
	assert.Equal(t, 5, d.Running())
}

func TestTheLongestRemainingPathGoesFirst(t *testing.T) {
	p := &plan.Plan{Version: plan.Version, Sites: []plan.Site{{Name: "vega"}}}
	for _, s := range []struct {
		id      string
		seconds float64
		after   []string
	}{{"a", 5, nil}, {"b", 1, nil}, {"c", 9, []string{"b"}}, {"d", 2, nil}} {
		p.Resources = append(p.Resources, plan.Resource{ID: s.id, Kind: kinds.Network, Site: "vega"})
		p.Steps = append(p.Steps, plan.Step{ID: s.id, Resource: s.id, Op: op.Barrier, Site: "vega", Seconds: s.seconds, After: s.after})
	}
	assert.NoError(t, p.Arrange())
	d := dispatch.New(p, dispatch.Limits{Steps: 1}, none, none)
	var order []string
	for {
		i, ok := d.Next()
		if !ok {
			break
		}
		order = append(order, p.Steps[i].ID)
		d.Done(i)
	}
	assert.Equal(t, []string{"b", "c", "a", "d"}, order, "b is short, and what stands on it is long")
}

func TestWhatMuchWaitsForGoesBeforeWhatIsLong(t *testing.T) {
	p := &plan.Plan{Version: plan.Version, Sites: []plan.Site{{Name: "vega"}}}
	add := func(id string, seconds float64, after ...string) {
		p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: kinds.Network, Site: "vega"})
		p.Steps = append(p.Steps, plan.Step{ID: id, Resource: id, Op: op.Barrier, Site: "vega", Seconds: seconds, After: after})
	}
	add("lan", 1)
	for i := range 20 {
		host := fmt.Sprint("host", i)
		add(host, 5)
		add(fmt.Sprint("port", i), 1, "lan", host)
	}
	assert.NoError(t, p.Arrange())
	d := dispatch.New(p, dispatch.Limits{Steps: 2}, none, none)
	i, _ := d.Next()
	assert.Equal(t, "lan", p.Steps[i].ID)
}

func TestWhatWasDoneIsNotBegunAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := graph(t, 15)
		// A set that is closed: what a done step came after is done.
		done := make([]bool, len(p.Steps))
		at := map[string]int{}
		for i := range p.Steps {
			at[p.Steps[i].ID] = i
			done[i] = rapid.Bool().Draw(t, "done")
			for _, a := range p.Steps[i].After {
				done[i] = done[i] && done[at[a]]
			}
		}
		d := dispatch.New(p, dispatch.Limits{}, func(i int) bool { return done[i] }, none)
		begun := 0
		for i, ok := d.Next(); ok; i, ok = d.Next() {
			if done[i] {
				t.Fatalf("%s was done", p.Steps[i].ID)
			}
			begun++
			d.Done(i)
		}
		for _, x := range done {
			if x {
				begun++
			}
		}
		if begun != len(p.Steps) {
			t.Fatal("not every step that was left was begun")
		}
	})
}

func TestAFailureHoldsAndARetryOrSkipFrees(t *testing.T) {
	p := &plan.Plan{Version: plan.Version, Sites: []plan.Site{{Name: "vega"}}}
	for i, id := range []string{"a", "b", "mend"} {
		p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: kinds.Network, Site: "vega"})
		s := plan.Step{ID: id, Resource: id, Op: op.Barrier, Site: "vega"}
		if i == 1 {
			s.After = []string{"a"}
		}
		if i == 2 {
			s.AfterFailure = []string{"a"}
		}
		p.Steps = append(p.Steps, s)
	}
	assert.NoError(t, p.Arrange())
	next := func(d *dispatch.Dispatcher) string {
		if i, ok := d.Next(); ok {
			return p.Steps[i].ID
		}
		return ""
	}
	at := func(id string) int {
		for i := range p.Steps {
			if p.Steps[i].ID == id {
				return i
			}
		}
		return -1
	}
	d := dispatch.New(p, dispatch.Limits{}, none, none)
	assert.Equal(t, "a", next(d))
	d.Failed(at("a"))
	assert.Equal(t, "mend", next(d), "a failure calls for it")
	d.Done(at("mend"))
	assert.Empty(t, next(d), "b is held")
	d.Again(at("a"))
	assert.Equal(t, "a", next(d))
	d.Failed(at("a"))
	d.Skip(at("a"))
	assert.Equal(t, "b", next(d))
	assert.Empty(t, d.Needless())

	d = dispatch.New(p, dispatch.Limits{}, none, none)
	assert.Equal(t, "a", next(d))
	d.Done(at("a"))
	assert.Equal(t, "b", next(d))
	d.Done(at("b"))
	assert.Equal(t, []int{at("mend")}, d.Needless(), "nothing failed")
}
