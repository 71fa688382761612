package plan

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
)

// finish works out what follows from the whole: levels, times, critical path, totals, and the order of the lists.
func (c *compiler) finish() error {
	p := c.plan
	if circle := p.circle(); len(circle) > 0 {
		return fmt.Errorf("these steps wait for each other in a circle: %s", strings.Join(circle, " → "))
	}
	for _, o := range c.design.Outputs {
		p.Outputs = append(p.Outputs, Output{o.Name, o.Description, c.expr(o.Value, at(0))})
	}
	for _, s := range c.design.Services {
		p.Services = append(p.Services, Service{s.Name, s.Title})
	}
	p.levelResources()
	p.levelSteps()
	p.order()
	p.schedule()
	for _, site := range c.estate.Sites {
		c.total(site.Name)
	}
	p.CostPerHour = round(p.CostPerHour)
	return nil
}

// circle finds steps that wait for each other, as the path that leads back; nil if there are none.
func (p *Plan) circle() []string {
	const visiting, done = 1, 2
	p.index()
	mark := map[string]int{}
	var path []string
	var visit func(id string) []string
	visit = func(id string) []string {
		if mark[id] == visiting {
			return append(slices.Clone(path[slices.Index(path, id):]), id)
		}
		if mark[id] == done {
			return nil
		}
		mark[id] = visiting
		path = append(path, id)
		defer func() { mark[id], path = done, path[:len(path)-1] }()
		for _, a := range p.steps[id].After {
			if c := visit(a); c != nil {
				return c
			}
		}
		return nil
	}
	for i := range p.Steps {
		if c := visit(p.Steps[i].ID); c != nil {
			return c
		}
	}
	return nil
}

// total adds a site's cost to the plan, if the plan uses the site.
func (c *compiler) total(name string) {
	site := c.estate.Site(name)
	out := Site{Name: name, Kind: string(site.Kind), Title: site.Title}
	used := false
	for _, r := range c.plan.Resources {
		if r.Site == name {
			used = true
			out.CostPerHour += r.CostPerHour
		}
	}
	if used {
		out.CostPerHour = round(out.CostPerHour)
		c.plan.Sites = append(c.plan.Sites, out)
		c.plan.CostPerHour += out.CostPerHour
	}
}

// levelResources gives every plank the level above the highest it stands on. What is part of another resource shares
// its plank, so what it stands on counts for the plank.
func (p *Plan) levelResources() {
	p.index()
	under := map[string][]string{}
	for _, r := range p.Resources {
		plank := p.Plank(r.ID)
		for _, s := range r.StandsOn {
			if below := p.Plank(s); below != plank {
				under[plank] = append(under[plank], below)
			}
		}
	}
	level := map[string]int{}
	var height func(id string) int
	height = func(id string) int {
		if level[id] == 0 {
			level[id] = 1
			for _, b := range under[id] {
				level[id] = max(level[id], height(b)+1)
			}
		}
		return level[id]
	}
	for i := range p.Resources {
		r := &p.Resources[i]
		r.Level = height(p.Plank(r.ID))
		p.Levels = max(p.Levels, r.Level)
		slices.Sort(r.StandsOn)
		r.StandsOn = slices.Compact(r.StandsOn)
	}
}

// levelSteps gives every step the level above the highest it comes after.
func (p *Plan) levelSteps() {
	var height func(s *Step) int
	height = func(s *Step) int {
		if s.Level == 0 {
			s.Level = 1
			for _, a := range s.After {
				s.Level = max(s.Level, height(p.Step(a))+1)
			}
		}
		return s.Level
	}
	for i := range p.Steps {
		p.StepLevels = max(p.StepLevels, height(&p.Steps[i]))
	}
}

// kindOrder is the standard's order of what is built: network, storage, compute, then what they carry.
var kindOrder = []Kind{Network, Volume, Instance, Interface, Software, Endpoint}

// order sorts resources and steps by level, then kind, then as the template has them.
func (p *Plan) order() {
	rank := map[string]int{}
	for _, r := range p.Resources {
		rank[r.ID] = slices.Index(kindOrder, r.Kind)
	}
	slices.SortStableFunc(p.Resources, func(a, b Resource) int {
		return cmp.Or(cmp.Compare(a.Level, b.Level), cmp.Compare(rank[a.ID], rank[b.ID]))
	})
	slices.SortStableFunc(p.Steps, func(a, b Step) int {
		return cmp.Or(cmp.Compare(a.Level, b.Level), cmp.Compare(rank[a.Resource], rank[b.Resource]))
	})
	for i := range p.Steps {
		slices.Sort(p.Steps[i].After)
	}
	p.steps = nil // the look-ups point into the lists' old places
	p.index()
}

// schedule works out earliest starts, slack and the critical path. Steps are sorted by level, so every step comes
// after those it waits for.
func (p *Plan) schedule() {
	finish := make(map[string]float64, len(p.Steps))
	for i := range p.Steps {
		s := &p.Steps[i]
		for _, a := range s.After {
			s.Start = max(s.Start, finish[a])
		}
		finish[s.ID] = s.Start + s.Seconds
		p.Seconds = max(p.Seconds, finish[s.ID])
	}
	latest := make(map[string]float64, len(p.Steps))
	for i := len(p.Steps) - 1; i >= 0; i-- {
		s := &p.Steps[i]
		end, bounded := latest[s.ID]
		if !bounded {
			end = p.Seconds
		}
		s.Slack = end - finish[s.ID]
		for _, a := range s.After {
			if l, ok := latest[a]; !ok || end-s.Seconds < l {
				latest[a] = end - s.Seconds
			}
		}
	}
	p.markCritical(finish)
	for i := range p.Steps {
		s := &p.Steps[i]
		s.Start, s.Slack = milli(s.Start), milli(s.Slack)
	}
	p.Seconds = milli(p.Seconds)
}

// markCritical walks back from the step that ends last, each time to the one that ends last of those it waits for.
func (p *Plan) markCritical(finish map[string]float64) {
	var last *Step
	for i := range p.Steps {
		if s := &p.Steps[i]; last == nil || finish[s.ID] > finish[last.ID] {
			last = s
		}
	}
	for s := last; s != nil; {
		s.Critical = true
		p.CriticalPath = append(p.CriticalPath, s.ID)
		var before *Step
		for _, a := range s.After {
			if before == nil || finish[a] > finish[before.ID] {
				before = p.Step(a)
			}
		}
		s = before
	}
	slices.Reverse(p.CriticalPath)
}

func milli(x float64) float64 { return math.Round(x*1000) / 1000 }
