package plan

import "slices"

// stepGraph is which steps come after which, by their places in the plan. What a step waits to fail counts as coming
// before it.
type stepGraph struct{ after [][]int32 }

func newStepGraph(p *Plan) stepGraph {
	at := make(map[string]int32, len(p.Steps))
	edges := 0
	for i := range p.Steps {
		at[p.Steps[i].ID] = int32(i)
		edges += len(p.Steps[i].After) + len(p.Steps[i].AfterFailure)
	}
	g := stepGraph{make([][]int32, len(p.Steps))}
	all := make([]int32, 0, edges)
	for i := range p.Steps {
		from := len(all)
		for _, list := range [2][]string{p.Steps[i].After, p.Steps[i].AfterFailure} {
			for _, a := range list {
				if k, ok := at[a]; ok {
					all = append(all, k)
				}
			}
		}
		g.after[i] = all[from:len(all):len(all)]
	}
	return g
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
