package placement

import (
	"math"
	"runtime"
	"sync"

	"andamio/internal/core/estate"
	"andamio/internal/core/money"
)

// result gathers the choices with their costs and, unless they are to be brief, reasons and verdicts.
func (m *model) result(f *finder, o Options) *Placement {
	s := f.best
	p := &Placement{Choices: make([]Choice, len(m.p.Workloads)), Proven: f.proven}
	for i := range p.Choices {
		p.Choices[i] = s.choice(int32(i))
		p.Cost = p.Cost.plus(p.Choices[i].Cost)
	}
	p.CostPerHour = p.Cost.Total()
	p.Parts = s.parts(s.money())
	p.Objective = p.Parts.Total()
	p.Bound = min(f.b.value, p.Objective)
	if p.Proven {
		p.Bound = p.Objective
	}
	p.Broken = s.broken()
	p.index()
	if !o.Brief {
		s.explain(p.Choices)
	}
	return p
}

// spend is money per hour while it is searched: as the solver weighs it, before it is counted exactly.
type spend struct{ compute, storage, address, egress float64 }

func (c spend) total() float64 { return c.compute + c.storage + c.address + c.egress }

// exact counts it: each part is rounded by itself, so that what is shown adds up.
func (c spend) exact() Cost {
	return Cost{money.Of(c.compute), money.Of(c.storage), money.Of(c.address), money.Of(c.egress)}
}

// choice is where a workload is and what that costs.
func (s *state) choice(w int32) Choice {
	m := s.m
	o, r := s.option(w), m.rooms[s.room[w]]
	c := Choice{Workload: m.p.Workloads[w].Name, Site: m.sites[o.site].Name, Zone: r.info.Zone, Host: r.info.Host, Size: o.shape.name,
		Takes: o.shape.takes, Cost: s.costAt(w, o).exact()}
	c.CostPerHour = c.Cost.Total()
	return c
}

// costAt is the money of an option of a workload, with half of what passes between it and others.
func (s *state) costAt(w int32, o *option) spend {
	c := o.cost
	for _, i := range s.m.edgesOf[w] {
		e := &s.m.edges[i]
		other := s.room[e.other(w)]
		if other < 0 {
			continue
		}
		a, b := o.site, s.m.rooms[other].site
		if e.a != w {
			a, b = b, a
		}
		c.egress += s.m.passes(e, a, b) / 2
	}
	return c
}

// money is what everything placed costs per hour.
func (s *state) money() float64 {
	sum := 0.0
	for w := range s.opt {
		if s.opt[w] >= 0 {
			sum += s.costAt(int32(w), s.option(int32(w))).total()
		}
	}
	return sum
}

// parts are the parts of the objective of everything placed.
func (s *state) parts(money float64) Parts {
	m, weights := s.m, s.m.p.Weights
	p := Parts{Cost: weights.Cost * money}
	S := len(m.sites)
	for i := range m.edges {
		e := &m.edges[i]
		a, b := m.rooms[s.room[e.a]].site, m.rooms[s.room[e.b]].site
		p.Latency += e.wait * m.wait[int(a)*S+int(b)]
	}
	for i := range m.p.Workloads {
		w, o := &m.p.Workloads[i], s.option(int32(i))
		for _, e := range w.Ends {
			if end := m.siteNamed(e.Site); end >= 0 {
				p.Latency += weights.Latency * m.wait[int(o.site)*S+end] * e.Weight
			}
		}
		if m.moves(w, o) {
			p.Keep += weights.Keep
		}
		for _, id := range m.ruleIDs[w.Node] {
			if r := &m.p.Rules[id]; r.Weight > 0 && r.ofSites() && r.lack(m.sites[o.site]) != "" {
				p.Preferences += r.Weight
			}
		}
	}
	for g := range m.groups {
		gr := &m.groups[g]
		for _, n := range s.count[g] {
			over := gr.weight * float64(max(int(n)-gr.most, 0))
			if gr.rule < 0 {
				p.Spread += over
			} else {
				p.Preferences += over
			}
		}
	}
	return p
}

// moves reports whether an option takes a workload away from where, or out of the size in which, it runs.
func (m *model) moves(w *Workload, o *option) bool {
	return w.Now != nil && (w.Now.Site != m.sites[o.site].Name || w.Now.Size != "" && w.Now.Size != o.shape.name)
}

// broken lists the preferences that are not met.
func (s *state) broken() []Broken {
	m := s.m
	var out []Broken
	for i, r := range m.p.Rules {
		if r.Weight == 0 {
			continue
		}
		b := Broken{Rule: r.Name, Because: r.Because}
		if r.ofSites() {
			for w := range m.p.Workloads {
				if r.binds(&m.p.Workloads[w]) && r.lack(m.sites[s.option(int32(w)).site]) != "" {
					b.Workloads = append(b.Workloads, m.p.Workloads[w].Name)
				}
			}
		}
		for g := range m.groups {
			if m.groups[g].rule == i {
				b.Workloads = append(b.Workloads, s.beyond(g)...)
			}
		}
		if b.Weight = r.Weight * float64(len(b.Workloads)); len(b.Workloads) > 0 {
			out = append(out, b)
		}
	}
	return out
}

// beyond names the workloads of a group that are more than a place should hold.
func (s *state) beyond(g int) []string {
	gr := &s.m.groups[g]
	seen := map[int32]int{}
	var out []string
	for _, w := range gr.members {
		at := s.m.place(gr.scope, s.room[w])
		if seen[at]++; seen[at] > gr.most {
			out = append(out, s.m.p.Workloads[w].Name)
		}
	}
	return out
}

// explain gives every choice its reasons and verdicts. Nothing is placed any more, so it is done side by side; each worker
// tries on a copy of its own.
func (s *state) explain(choices []Choice) {
	var group sync.WaitGroup
	workers := min(runtime.GOMAXPROCS(0), len(choices)/64+1)
	for k := range workers {
		group.Go(func() {
			own := s.clone()
			for i := len(choices) * k / workers; i < len(choices)*(k+1)/workers; i++ {
				own.explainOne(int32(i), &choices[i])
			}
		})
	}
	group.Wait()
}

func (s *state) explainOne(w int32, c *Choice) {
	c.Verdicts = s.verdicts(w)
	for _, v := range c.Verdicts {
		if v.Site != c.Site {
			c.Elsewhere = append(c.Elsewhere, v)
		}
	}
	c.Reasons = s.reasons(w, c)
}

// find is the option and room of a choice.
func (m *model) find(w int32, c *Choice) (pick, bool) {
	for i, o := range m.classes[m.class[w]].opts {
		if m.sites[o.site].Name != c.Site || o.shape.name != c.Size {
			continue
		}
		for _, r := range m.roomsOf[o.site] {
			if m.rooms[r].info.Zone == c.Zone && m.rooms[r].info.Host == c.Host {
				return pick{w, int32(i), r}, true
			}
		}
	}
	return pick{}, false
}

// left is what a room still has, as a capacity.
func (s *state) spare(r int32) estate.Capacity {
	m := s.m
	v := s.free[int(r)*m.roomDims:]
	c := estate.Capacity{Cores: int(math.Round(v[dimCores])), MemoryGiB: math.Round(v[dimMemory]*1e6) / 1e6, DiskGiB: math.Round(v[dimDisk]*1e6) / 1e6}
	for d := dimExtras; d < m.roomDims; d++ {
		if v[d] != 0 {
			if c.Extra == nil {
				c.Extra = map[string]float64{}
			}
			c.Extra[m.dims[d]] = v[d]
		}
	}
	return c
}
