package plan

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
)

// finish works out what follows from the whole: levels, times, critical path, totals, and the order of the lists.
func (c *compiler) finish() error {
	p := c.plan
	g := newStepGraph(p, c.stepAt)
	if circle := g.circle(p); len(circle) > 0 {
		return fmt.Errorf("these steps wait for each other in a circle: %s", strings.Join(circle, " → "))
	}
	for _, o := range c.design.Outputs {
		p.Outputs = append(p.Outputs, Output{o.Name, o.Description, c.expr(o.Value, at(0))})
	}
	for _, s := range c.design.Services {
		p.Services = append(p.Services, Service{s.Name, s.Title})
	}
	beside(func() { p.levelResources(c.at) }, func() { g.level(p) })
	g = g.arranged(p.order(c.at))
	beside(p.index, func() { p.schedule(g) })
	c.listSites()
	p.price()
	return nil
}

// Arrange works out levels, times, the critical path and the order of the lists of a plan whose resources and steps
// were put together by other means than [Compile].
func (p *Plan) Arrange() error {
	at, stepAt := make(map[string]int, len(p.Resources)), make(map[string]int, len(p.Steps))
	p.Levels, p.StepLevels, p.Seconds, p.CriticalPath = 0, 0, 0, nil
	for i := range p.Resources {
		p.Resources[i].Level = 0
		at[p.Resources[i].ID] = i
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		s.Level, s.Start, s.Slack, s.Critical = 0, 0, 0, false
		stepAt[s.ID] = i
	}
	g := newStepGraph(p, stepAt)
	if circle := g.circle(p); len(circle) > 0 {
		return fmt.Errorf("these steps wait for each other in a circle: %s", strings.Join(circle, " → "))
	}
	p.levelResources(at)
	g.level(p)
	g = g.arranged(p.order(at))
	p.index()
	p.schedule(g)
	p.price()
	return p.Check()
}

// beside does two things that do not touch, side by side.
func beside(a, b func()) {
	var group sync.WaitGroup
	group.Go(a)
	b()
	group.Wait()
}

// listSites lists the sites of the estate that the plan uses, in the estate's order.
func (c *compiler) listSites() {
	used := map[string]bool{}
	for i := range c.plan.Resources {
		used[c.plan.Resources[i].Site] = true
	}
	for _, s := range c.estate.Sites {
		if used[s.Name] {
			c.plan.Sites = append(c.plan.Sites, Site{Name: s.Name, Kind: string(s.Kind), Title: s.Title})
		}
	}
}

// price sums what costs once the plan is done: what it retires costs no more, what it switches off costs what that costs.
func (p *Plan) price() {
	p.CostPerHour = 0
	at := map[string]money.Amount{}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Change != Retire {
			p.CostPerHour += r.Costs()
			at[r.Site] += r.Costs()
		}
	}
	for i := range p.Sites {
		p.Sites[i].CostPerHour = at[p.Sites[i].Name]
	}
}

// levelResources gives every plank the level above the highest it stands on. What is part of another resource shares
// its plank, so what it stands on counts for the plank.
func (p *Plan) levelResources(at map[string]int) {
	plank := make([]int32, len(p.Resources))
	for i := range p.Resources {
		plank[i] = int32(i)
		if on, ok := at[p.Resources[i].PartOf]; ok {
			plank[i] = int32(on)
		}
	}
	under := make([][]int32, len(p.Resources))
	for i := range p.Resources {
		me := plank[i]
		for _, s := range p.Resources[i].StandsOn {
			if below, ok := at[s]; ok && plank[below] != me {
				under[me] = append(under[me], plank[below])
			}
		}
	}
	level := make([]int, len(p.Resources))
	var height func(i int32) int
	height = func(i int32) int {
		if level[i] == 0 {
			level[i] = 1
			for _, b := range under[i] {
				level[i] = max(level[i], height(b)+1)
			}
		}
		return level[i]
	}
	for i := range p.Resources {
		r := &p.Resources[i]
		r.Level = height(plank[i])
		p.Levels = max(p.Levels, r.Level)
		slices.Sort(r.StandsOn)
		r.StandsOn = slices.Compact(r.StandsOn)
	}
}

// kindOrder is the standard's order of what is built: network, storage, compute, then what they carry. Any other kind comes last.
var kindOrder = []kinds.Kind{kinds.Network, kinds.Volume, kinds.Object, kinds.Instance, kinds.Interface, kinds.Snapshot, kinds.Software, kinds.Endpoint, kinds.Action}

func rankOf(kind kinds.Kind) int64 {
	if at := slices.Index(kindOrder, kind); at >= 0 {
		return int64(at)
	}
	return int64(len(kindOrder))
}

// order sorts resources and steps by level, then kind, then as the template has them. at finds resources as they are; the
// result says where each step was.
func (p *Plan) order(at map[string]int) []int32 {
	rank := make([]int64, len(p.Resources))
	for i := range p.Resources {
		rank[i] = rankOf(p.Resources[i].Kind)
	}
	moved := arrange(p.Steps, func(s *Step) int64 { return int64(s.Level)<<8 | rank[at[s.Resource]] })
	arrange(p.Resources, func(r *Resource) int64 { return int64(r.Level)<<8 | rank[at[r.ID]] })
	for i := range p.Steps {
		slices.Sort(p.Steps[i].After)
	}
	p.steps, p.resources = nil, nil // the look-ups point into the lists' old places
	return moved
}

// arrange puts a list in the order of its keys; equal keys keep their order. The values are large, so each is moved
// once, along the circles of the permutation. The result says where each was.
func arrange[T any](list []T, key func(*T) int64) []int32 {
	type place struct {
		key int64
		at  int32
	}
	places := make([]place, len(list))
	for i := range list {
		places[i] = place{key(&list[i]), int32(i)}
	}
	slices.SortFunc(places, func(a, b place) int { return cmp.Or(cmp.Compare(a.key, b.key), cmp.Compare(a.at, b.at)) })
	was := make([]int32, len(list))
	for i := range places {
		was[i] = places[i].at
	}
	for i := range places {
		if places[i].at < 0 || int(places[i].at) == i {
			continue
		}
		first, to := list[i], i
		for {
			from := int(places[to].at)
			places[to].at = -1
			if from == i {
				list[to] = first
				break
			}
			list[to] = list[from]
			to = from
		}
	}
	return was
}

// schedule works out earliest starts, slack and the critical path. Steps are sorted by level, so every step comes
// after those it waits for.
func (p *Plan) schedule(g stepGraph) {
	finish := make([]float64, len(p.Steps))
	for i := range p.Steps {
		s := &p.Steps[i]
		for _, a := range g.after[i] {
			s.Start = max(s.Start, finish[a])
		}
		finish[i] = s.Start + s.Seconds
		p.Seconds = max(p.Seconds, finish[i])
	}
	latest := make([]float64, len(p.Steps))
	for i := range latest {
		latest[i] = p.Seconds
	}
	for i := len(p.Steps) - 1; i >= 0; i-- {
		s := &p.Steps[i]
		s.Slack = latest[i] - finish[i]
		for _, a := range g.after[i] {
			latest[a] = min(latest[a], latest[i]-s.Seconds)
		}
	}
	p.markCritical(g, finish)
	for i := range p.Steps {
		s := &p.Steps[i]
		s.Start, s.Slack = milli(s.Start), milli(s.Slack)
	}
	p.Seconds = milli(p.Seconds)
}

// markCritical walks back from the step that ends last, each time to the one that ends last of those it waits for.
func (p *Plan) markCritical(g stepGraph, finish []float64) {
	last := int32(-1)
	for i := range p.Steps {
		if last < 0 || finish[i] > finish[last] {
			last = int32(i)
		}
	}
	for last >= 0 {
		p.Steps[last].Critical = true
		p.CriticalPath = append(p.CriticalPath, p.Steps[last].ID)
		before := int32(-1)
		for _, a := range g.after[last] {
			if before < 0 || finish[a] > finish[before] {
				before = a
			}
		}
		last = before
	}
	slices.Reverse(p.CriticalPath)
}

func milli(x float64) float64 { return math.Round(x*1000) / 1000 }
