package plan

import "slices"

// stepGraph is which steps come after which, by their places in the plan. What a step waits to fail counts as coming
// before it.
type stepGraph struct{ after [][]int32 }

// newStepGraph reads the edges of a plan; at finds its steps.
func newStepGraph(p *Plan, at map[string]int) stepGraph {
	edges := 0
	for i := range p.Steps {
		edges += len(p.Steps[i].After) + len(p.Steps[i].AfterFailure)
	}
	g := stepGraph{make([][]int32, len(p.Steps))}
	all := make([]int32, 0, edges)
	for i := range p.Steps {
		from := len(all)
		for _, list := range [2][]string{p.Steps[i].After, p.Steps[i].AfterFailure} {
			for _, a := range list {
				if k, ok := at[a]; ok {
					all = append(all, int32(k))
				}
			}
		}
		g.after[i] = all[from:len(all):len(all)]
	}
	return g
}

// arranged is the graph of the same steps in another order; was says where each was.
func (g stepGraph) arranged(was []int32) stepGraph {
	is := make([]int32, len(was))
	for i, w := range was {
		is[w] = int32(i)
	}
	out := stepGraph{make([][]int32, len(was))}
	for i, w := range was {
		out.after[i] = g.after[w]
		for k, a := range out.after[i] {
			out.after[i][k] = is[a]
		}
	}
	return out
}

// circle finds steps that wait for each other, as the path that leads back; nil if there are none.
func (g stepGraph) circle(p *Plan) []string {
	const visiting, done = 1, 2
	mark := make([]uint8, len(g.after))
	var path []int32
	var visit func(i int32) []string
	visit = func(i int32) []string {
		switch mark[i] {
		case done:
			return nil
		case visiting:
			var out []string
			for _, k := range append(slices.Clone(path[slices.Index(path, i):]), i) {
				out = append(out, p.Steps[k].ID)
			}
			return out
		}
		mark[i] = visiting
		path = append(path, i)
		for _, a := range g.after[i] {
			if c := visit(a); c != nil {
				return c
			}
		}
		mark[i], path = done, path[:len(path)-1]
		return nil
	}
	for i := range g.after {
		if c := visit(int32(i)); c != nil {
			return c
		}
	}
	return nil
}

// level gives every step the level above the highest it comes after.
func (g stepGraph) level(p *Plan) {
	var height func(i int32) int
	height = func(i int32) int {
		s := &p.Steps[i]
		if s.Level == 0 {
			s.Level = 1
			for _, a := range g.after[i] {
				s.Level = max(s.Level, height(a)+1)
			}
		}
		return s.Level
	}
	for i := range p.Steps {
		p.StepLevels = max(p.StepLevels, height(int32(i)))
	}
}
