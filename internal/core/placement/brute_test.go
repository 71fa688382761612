package placement

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/estate"
)

// tiny is a problem so small that everything can be tried: three sites, up to five workloads, with whatever rules.
func tiny(t *rapid.T) *Problem {
	e := &estate.Estate{Currency: "cr"}
	for i := range 3 {
		s := &estate.Site{Name: fmt.Sprint("s", i), Kind: []estate.Kind{estate.Private, estate.Public}[i%2], Provider: fmt.Sprint("p", i/2), FreeForm: true, Pace: 1,
			Images: []estate.Image{{Name: "i", OS: "linux"}}, Distances: map[string]float64{}}
		for k := range i {
			s.Distances[fmt.Sprint("s", k)] = float64(rapid.IntRange(1, 40).Draw(t, "ms"))
		}
		s.Prices = estate.Prices{Core: float64(rapid.IntRange(1, 9).Draw(t, "core")) / 100, Egress: map[string]float64{"*": float64(rapid.IntRange(0, 5).Draw(t, "egress")) / 100}}
		for z := range rapid.IntRange(1, 2).Draw(t, "rooms") {
			s.Zones = append(s.Zones, estate.Zone{Name: fmt.Sprint(z), Free: estate.Capacity{Cores: rapid.IntRange(1, 6).Draw(t, "free"), MemoryGiB: 99, DiskGiB: 99}})
		}
		e.Sites = append(e.Sites, s)
	}
	p := &Problem{Estate: e, Weights: Weights{Cost: 1, Latency: 0.001, Spread: float64(rapid.IntRange(0, 2).Draw(t, "spread")) / 100}}
	for i := range rapid.IntRange(1, 5).Draw(t, "workloads") {
		p.Workloads = append(p.Workloads, Workload{Name: fmt.Sprint("w", i), Node: fmt.Sprint("n", i/2), OS: "linux",
			Need: estate.Capacity{Cores: rapid.IntRange(1, 4).Draw(t, "cores"), MemoryGiB: 1, DiskGiB: 1}})
		if i > 0 && rapid.Bool().Draw(t, "talks") {
			p.Traffic = append(p.Traffic, Traffic{From: fmt.Sprint("w", rapid.IntRange(0, i-1).Draw(t, "with")), To: fmt.Sprint("w", i), Weight: 1,
				GiB: float64(rapid.IntRange(0, 3).Draw(t, "gib")), MaxMs: float64(rapid.SampledFrom([]int{0, 0, 0, 20}).Draw(t, "near"))})
		}
	}
	if n := len(p.Workloads); n > 2 && rapid.Bool().Draw(t, "circle") {
		p.Traffic = append(p.Traffic, Traffic{From: "w0", To: fmt.Sprint("w", n-1), GiB: 1, Weight: 1})
	}
	if rapid.Bool().Draw(t, "apart") {
		p.Rules = append(p.Rules, Rule{Name: "apart", Apart: rapid.SampledFrom([]string{"site", "zone", "provider"}).Draw(t, "over"), Nodes: []string{"n0"}, Weight: rapid.SampledFrom([]float64{0, 0.05}).Draw(t, "weight")})
	}
	if rapid.IntRange(0, 3).Draw(t, "together") == 0 {
		p.Rules = append(p.Rules, Rule{Name: "together", Together: rapid.SampledFrom([]string{"site", "zone"}).Draw(t, "where"), Nodes: []string{"n1"}})
	}
	return p
}

func tinyModel(t *rapid.T) (*Problem, *model) {
	p := tiny(t)
	m, err := newModel(p)
	if err != nil {
		t.Fatal(err)
	}
	return p, m
}

// tryAll is the least objective of all arrangements, worked out one by one; infinite if there is none.
func tryAll(m *model) float64 { return tryWithin(m, inf) }

// tryWithin is that of all arrangements that cost no more than a budget.
func tryWithin(m *model, budget float64) float64 {
	s, best := newState(m), inf
	var place func(w int)
	place = func(w int) {
		if w == len(m.p.Workloads) {
			if s.money() <= budget+slack {
				best = min(best, s.objective)
			}
			return
		}
		c := m.classes[m.class[w]]
		for i := range c.opts {
			for _, r := range m.roomsOf[c.opts[i].site] {
				if !s.quotaHolds(&c.opts[i]) || !s.admits(int32(w), &c.opts[i], r) || math.IsInf(s.talk(int32(w), c.opts[i].site), 1) || !s.closeTo(int32(w), r) {
					continue
				}
				s.put(int32(w), int32(i), r)
				place(w + 1)
				s.lift(int32(w))
			}
		}
	}
	place(0)
	return best
}

// closeTo reports whether a room is where the workload's unit is already.
func (s *state) closeTo(w, r int32) bool {
	un := s.m.units[s.m.unitOf[w]]
	for _, o := range un.members {
		if at := s.room[o]; at >= 0 && s.m.place(un.scope, at) != s.m.place(un.scope, r) {
			return false
		}
	}
	return true
}

func TestTheBestIsTheBestOfAll(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, m := tinyModel(t)
		want := tryAll(m)
		got, err := Solve(*p, Options{})
		if math.IsInf(want, 1) != (err != nil) {
			t.Fatalf("of all arrangements %v is the least, the search says %v", want, err)
		}
		if err != nil {
			var impossible *Impossible
			if !errors.As(err, &impossible) || len(impossible.Causes) == 0 {
				t.Fatalf("so small, and not shown to be impossible: %v", err)
			}
			return
		}
		if math.Abs(got.Objective-want) > 1e-6 {
			t.Fatalf("the least is %v, found was %v (proven: %v)", want, got.Objective, got.Proven)
		}
		if got.Bound > want+1e-6 {
			t.Fatalf("the bound %v is above the least, %v", got.Bound, want)
		}
	})
}

// TestAnyPricesGiveABound draws prices at random: whatever they are, what comes out is below everything that can be.
func TestAnyPricesGiveABound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		_, m := tinyModel(t)
		want := tryAll(m)
		b, w := newBound(m), m.newWork()
		for i := range b.lambda {
			if !math.IsInf(m.caps[i], 1) && m.caps[i] > 0 {
				b.lambda[i] = float64(rapid.IntRange(0, 50).Draw(t, "price")) / 100
			}
		}
		for g, mu := range b.mu {
			for at := range mu {
				mu[at] = float64(rapid.IntRange(0, 20).Draw(t, "price")) / 100
				if weight := m.groups[g].weight; weight > 0 {
					mu[at] = min(mu[at], weight*b.limit[g][at])
				}
			}
		}
		for i := range b.msg {
			b.msg[i] = float64(rapid.IntRange(-20, 20).Draw(t, "message")) / 100
		}
		if v := b.evaluate(w); v > want+1e-6 {
			t.Fatalf("the bound %v is above the least, %v", v, want)
		}
	})
}

// TestRoundTripsThroughTheState puts, lifts, marks and rolls back at random: the objective and what is left stay true.
func TestRoundTripsThroughTheState(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, m := tinyModel(t)
		s := newState(m)
		for u := range m.units {
			s.enter(int32(u), int32(rapid.IntRange(0, 2).Draw(t, "site")))
		}
		before, free := s.objective, fmt.Sprintf("%.6f %.6f %v", s.free, s.left, s.count)
		begin := s.mark()
		for range rapid.IntRange(1, 6).Draw(t, "changes") {
			u := int32(rapid.IntRange(0, len(m.units)-1).Draw(t, "unit"))
			if s.site[u] >= 0 {
				s.leave(u)
			}
			s.enter(u, int32(rapid.IntRange(0, 2).Draw(t, "to")))
		}
		s.rollback(begin)
		s.forget()
		if math.Abs(before-s.objective) > 1e-9 || fmt.Sprintf("%.6f %.6f %v", s.free, s.left, s.count) != free {
			t.Fatalf("rolled back %v is %v", before, s.objective)
		}
		if s.whole() {
			got := 0.0
			for w := range p.Workloads {
				got += s.costAt(int32(w), s.option(int32(w))).total()
			}
			if d := s.parts(got).Total() - s.objective; math.Abs(d) > 1e-9 {
				t.Fatalf("the parts differ from the objective by %v", d)
			}
		}
	})
}

func two(free ...int) *estate.Estate {
	e := &estate.Estate{Currency: "cr"}
	for i, n := range free {
		e.Sites = append(e.Sites, &estate.Site{Name: string(rune('a' + i)), Kind: estate.Private, FreeForm: true, Pace: 1, Images: []estate.Image{{Name: "i", OS: "linux"}},
			Zones: []estate.Zone{{Name: "z", Free: estate.Capacity{Cores: n, MemoryGiB: 999, DiskGiB: 999}}}, Prices: estate.Prices{Core: 0.01 * float64(i+1)}})
	}
	return e
}

func some(n, cores int) []Workload {
	var out []Workload
	for i := range n {
		out = append(out, Workload{Name: fmt.Sprint("w", i+1), Node: "w", OS: "linux", Need: estate.Capacity{Cores: cores, MemoryGiB: 1, DiskGiB: 1}})
	}
	return out
}

func TestTheSmallestCauseAndWhatWouldHelp(t *testing.T) {
	for name, c := range map[string]struct {
		p         Problem
		workloads int
		causes    []string
		remedies  []string
	}{
		"full": {Problem{Estate: two(4, 2), Workloads: some(7, 1)}, 7, []string{"the capacity of a", "the capacity of b"},
			[]string{"1 core, 1 GiB memory, 1 GiB disk more at a, in one place", "more at b"}},
		"a rule and a capacity": {Problem{Estate: two(4, 20), Workloads: some(5, 1), Rules: []Rule{{Name: "home", Sites: []string{"a"}, Because: "it is ours"}, {Name: "idle", Kinds: []string{"private"}}}},
			5, []string{"rule home (it is ours)", "the capacity of a"}, []string{"without rule home", "more at a"}},
		"two rules": {Problem{Estate: two(9, 9), Workloads: some(4, 1), Rules: []Rule{{Name: "apart", Apart: "site"}, {Name: "home", Sites: []string{"a"}}}},
			3, []string{"rule apart", "rule home"}, []string{"without rule apart", "without rule home"}},
		"what nobody has": {Problem{Estate: two(9), Workloads: []Workload{{Name: "x", Node: "x", OS: "plan9"}}}, 1, []string{"what x needs"}, nil},
		"a pin":           {Problem{Estate: two(1, 9), Workloads: pinned(some(2, 1), "a")}, 2, []string{"what is pinned", "the capacity of a"}, []string{"without what is pinned"}},
		"a quota":         {Problem{Estate: quota(two(9), 2), Workloads: some(3, 1)}, 3, []string{"the account's quota at a"}, []string{"without the account's quota at a"}},
		"too far": {Problem{Estate: far(two(1, 9)), Workloads: some(2, 1), Traffic: []Traffic{{From: "w1", To: "w2", MaxMs: 5}}, Rules: []Rule{{Name: "apart", Apart: "site", Most: 1}}},
			2, []string{"how near", "rule apart"}, []string{"without how near", "without rule apart"}},
	} {
		_, err := Solve(c.p, Options{})
		var got *Impossible
		require.True(t, errors.As(err, &got), "%s: %v", name, err)
		assert.Len(t, got.Workloads, c.workloads, name)
		assert.Len(t, got.Causes, len(c.causes), "%s: %v", name, got.Causes)
		for _, want := range c.causes {
			assert.Contains(t, err.Error(), want, name)
		}
		for _, want := range c.remedies {
			assert.Contains(t, strings.Join(got.Remedies, "\n"), want, name)
		}
		assert.NotContains(t, err.Error(), "idle", name)
	}
}

func pinned(ws []Workload, site string) []Workload {
	for i := range ws {
		ws[i].Pin = &Spot{Site: site}
	}
	return ws
}

func quota(e *estate.Estate, n float64) *estate.Estate {
	e.Sites[0].Quotas = map[string]estate.Quota{estate.QuotaInstances: {Limit: n + 3, Used: 3}}
	return e
}

func far(e *estate.Estate) *estate.Estate {
	e.Sites[0].Distances = map[string]float64{"b": 50}
	return e
}

func TestWhatIsAsGoodStaysWhereItWas(t *testing.T) {
	e := two(8, 8)
	e.Sites[1].Prices.Core = e.Sites[0].Prices.Core
	p := Problem{Estate: e, Workloads: some(6, 1), Weights: Weights{Cost: 1}}
	like := &Placement{}
	for i, w := range p.Workloads {
		like.Choices = append(like.Choices, Choice{Workload: w.Name, Site: []string{"a", "b"}[i%2], Zone: "z"})
	}
	like.index()
	got, err := Solve(p, Options{Like: like})
	require.NoError(t, err)
	for i, c := range got.Choices {
		assert.Equal(t, like.Choices[i].Site, c.Site, c.Workload)
	}
	e.Sites[1].Prices.Core *= 2
	got, err = Solve(p, Options{Like: like})
	require.NoError(t, err)
	for _, c := range got.Choices {
		assert.Equal(t, "a", c.Site, "what is dearer does not stay")
	}
	p.Workloads[0].Now, p.Weights.Keep = &Spot{Site: "b"}, 0.5
	got, err = Solve(p, Options{})
	require.NoError(t, err)
	assert.Equal(t, "b", got.Choices[0].Site, "what runs is not moved for so little")
	assert.Contains(t, strings.Join(got.Choices[0].Reasons, "; "), "it runs here already")
}

func TestASearchCanBeStoppedAndTellsHowFarItIs(t *testing.T) {
	p := Problem{Estate: two(40, 40), Workloads: some(50, 1)}
	asked := 0
	got, err := Solve(p, Options{Stop: func() bool { asked++; return asked > 3 }})
	require.NoError(t, err)
	assert.Len(t, got.Choices, 50)
	var last Progress
	_, err = Solve(p, Options{Progress: func(p Progress) {
		assert.LessOrEqual(t, last.Bound, p.Bound+1e-9, "the bound only rises")
		last = p
	}})
	require.NoError(t, err)
	assert.Positive(t, last.Objective)
}

func TestSizesThatAnotherBettersAreNotConsidered(t *testing.T) {
	site := &estate.Site{Name: "s", Sizes: []estate.Size{{Name: "s", Cores: 2, MemoryGiB: 4, PricePerHour: 0.1}, {Name: "dear", Cores: 2, MemoryGiB: 4, PricePerHour: 0.2},
		{Name: "wide", Cores: 4, MemoryGiB: 4, PricePerHour: 0.1}, {Name: "small", Cores: 1, MemoryGiB: 1, PricePerHour: 0.01}, {Name: "odd", Cores: 3, MemoryGiB: 3.5, PricePerHour: 0.12}}}
	var names []string
	for _, z := range shapes(&Workload{Need: estate.Capacity{Cores: 2, MemoryGiB: 3}}, site, "") {
		names = append(names, z.name)
	}
	assert.Equal(t, []string{"s", "odd"}, names)
}

// TestAModelOfNothingIsRead writes models in which there is nothing to choose, and has solvers read them.
func TestAModelOfNothingIsRead(t *testing.T) {
	for name, p := range map[string]Problem{"no workloads": {Estate: two(4, 4)}, "one that fits nowhere": {Estate: two(4, 4), Workloads: some(1, 400)}} {
		var b bytes.Buffer
		require.NoError(t, WriteLP(&b, p), name)
		assert.Contains(t, b.String(), " 0 none", name)
		file := filepath.Join(t.TempDir(), "model.lp")
		require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
		for solver, args := range map[string][]string{"cbc": {file, "solve"}, "glpsol": {"--lp", file, "--check"}} {
			if _, err := exec.LookPath(solver); err != nil {
				continue
			}
			out, err := exec.Command(solver, args...).CombinedOutput()
			require.NoError(t, err, "%s, %s: %s", name, solver, out)
			assert.NotContains(t, strings.ToLower(string(out)), "error", "%s, %s", name, solver)
		}
	}
}

func TestTheModelIsWrittenAsLPText(t *testing.T) {
	e := two(4, 4)
	e.Sites[0].Prices.Egress = map[string]float64{"*": 0.1}
	p := Problem{Estate: e, Workloads: some(2, 1), Traffic: []Traffic{{From: "w1", To: "w2", GiB: 2, Weight: 1}}, Budget: 3,
		Rules: []Rule{{Name: "apart", Apart: "site", Most: 1, Weight: 0.5}, {Name: "t", Together: "site"}}}
	p.Workloads[0].Name = "w\x1b[31m1"
	p.Traffic[0].From = p.Workloads[0].Name
	var b bytes.Buffer
	require.NoError(t, WriteLP(&b, p))
	text := b.String()
	for _, want := range []string{"Minimize", " one_0: + x_0_0_0 + x_0_1_1 = 1", "room_0_0: 1 x_0_0_0 + 1 x_1_0_0 <= 4", "- z_0_0 <= 1", "together_0_0_0: + x_0_0_0 - x_1_0_0 = 0",
		"from_0_0: + x_0_0_0 - y_0_0_0 - y_0_0_1 = 0", "0.2 y_0_0_1", "budget: ", "Binaries", "End"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "\x1b")
}

// TestARoomIsLikeNoneThatItsUnitMayNotEnter has two workloads that belong in one zone be placed where a third one has made both zones of a site as full as each other: that they might as well
// be in the other zone is no reason to leave this one out, once the first of them is in it.
func TestARoomIsLikeNoneThatItsUnitMayNotEnter(t *testing.T) {
	t.Parallel()
	site := func(name, provider string, kind estate.Kind, core float64, ms map[string]float64, cores ...int) *estate.Site {
		s := &estate.Site{Name: name, Kind: kind, Provider: provider, FreeForm: true, Pace: 1, Images: []estate.Image{{Name: "i", OS: "linux"}}, Distances: ms, Prices: estate.Prices{Core: core}}
		for i, n := range cores {
			s.Zones = append(s.Zones, estate.Zone{Name: fmt.Sprint(i), Free: estate.Capacity{Cores: n, MemoryGiB: 99, DiskGiB: 99}})
		}
		return s
	}
	p := Problem{Estate: &estate.Estate{Currency: "cr", Sites: []*estate.Site{site("s0", "p0", estate.Private, 0.02, nil, 5, 5), site("s1", "p0", estate.Public, 0.02, map[string]float64{"s0": 1}, 1),
		site("s2", "p1", estate.Private, 0.01, map[string]float64{"s0": 4, "s1": 1}, 3)}}, Weights: Weights{Cost: 1, Latency: 0.001},
		Rules: []Rule{{Name: "apart", Apart: "provider", Nodes: []string{"n0"}}, {Name: "together", Together: "zone", Nodes: []string{"n1"}}}}
	for i, cores := range []int{1, 3, 2, 2, 2} {
		p.Workloads = append(p.Workloads, Workload{Name: fmt.Sprint("w", i), Node: fmt.Sprint("n", i/2), OS: "linux", Need: estate.Capacity{Cores: cores, MemoryGiB: 1, DiskGiB: 1}})
		if i > 0 && i < 4 {
			p.Traffic = append(p.Traffic, Traffic{From: "w0", To: fmt.Sprint("w", i), Weight: 1})
		}
	}
	m, err := newModel(&p)
	require.NoError(t, err)
	got, err := Solve(p, Options{})
	require.NoError(t, err)
	assert.InDelta(t, tryAll(m), got.Objective, 1e-9)
	assert.InDelta(t, 0.173, got.Objective, 1e-9)
	assert.True(t, got.Proven)
}
