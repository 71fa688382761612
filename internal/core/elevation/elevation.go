// Package elevation arranges a plan as the elevation of a scaffold: bays side by side, levels from the ground up, and
// planks, the resources, at their bay and level. Screens and drawings show the same picture.
//
// In goes a [run.State], of a run or of a plan that has not begun; out comes a [Picture]. How it is drawn depends on
// the room there is: every resource as a plank, instances of one node together, bricks, or densities.
package elevation

import (
	"fmt"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// By says what the bays are.
type By int

// Bays are sites, or services.
const (
	BySite By = iota
	ByService
)

// Picture is an elevation.
type Picture struct {
	Bays   []Bay
	Levels int
	// Cells are by level, from the ground, then by bay.
	Cells [][]Cell
}

// Bay is a column.
type Bay struct {
	Name, Note string
}

// Cell is what stands in one bay at one level.
type Cell struct {
	Planks []Plank
}

// Plank is one resource, or several instances of one node.
type Plank struct {
	// IDs are the resources, one unless the plank is a group; Title and Note are for people.
	IDs   []string
	Title string
	Note  string
	// Status is that of the group: failed if one failed, standing if all stand.
	Status run.Status
	// Fraction is how much of it is done, from 0 to 1.
	Fraction float64
	// Critical marks planks on the critical path.
	Critical bool
	// Counts are the resources of a group by status; nil for a single resource.
	Counts map[run.Status]int

	// of are the plank's resources, each with those that are part of it.
	of []member
}

// member is a resource with what is drawn on its plank.
type member struct {
	*run.Resource
	parts []*run.Resource
}

// Has reports whether the plank shows the resource.
func (p *Plank) Has(id string) bool {
	for _, x := range p.IDs {
		if x == id {
			return true
		}
	}
	return false
}

// New arranges a state. With group, instances of one node in one cell become one plank.
func New(s *run.State, by By, group bool) *Picture {
	p := &Picture{Levels: s.Plan.Levels}
	at := p.bays(s.Plan, by)
	for range p.Levels {
		p.Cells = append(p.Cells, make([]Cell, len(p.Bays)))
	}
	critical := map[string]bool{}
	for _, id := range s.Plan.CriticalPath {
		critical[s.Plan.Plank(s.Plan.Step(id).Resource)] = true
	}
	parts := partsOf(s)
	groups := map[groupKey]int{}
	for i := range s.Resources {
		r := &s.Resources[i]
		if r.PartOf != "" || r.Kept() {
			continue
		}
		bay, ok := at[bayOf(r.Resource, by)]
		if !ok || r.Level < 1 || r.Level > p.Levels {
			continue
		}
		cell := &p.Cells[r.Level-1][bay]
		plank := Plank{IDs: []string{r.ID}, Title: r.Title, Note: r.Detail, Critical: critical[r.ID], of: []member{{r, parts[r.ID]}}}
		key := groupKey{r.Level, bay, r.Node, r.Kind}
		if j, seen := groups[key]; seen && group {
			cell.Planks[j].join(&plank, r)
			continue
		}
		groups[key] = len(cell.Planks)
		cell.Planks = append(cell.Planks, plank)
	}
	p.Refresh()
	return p
}

// Refresh takes into account how the resources of the picture's state are by now. What is where does not change.
func (p *Picture) Refresh() {
	for _, cells := range p.Cells {
		for b := range cells {
			for i := range cells[b].Planks {
				cells[b].Planks[i].refresh()
			}
		}
	}
}

func (p *Plank) refresh() {
	sum := 0.0
	clear(p.Counts)
	for i := range p.of {
		status, fraction := p.of[i].now()
		sum += fraction
		if p.Counts != nil {
			p.Counts[status]++
		}
		if i == 0 {
			p.Status = status
		} else {
			p.Status = join(p.Status, status)
		}
	}
	p.Fraction = sum / float64(len(p.of))
}

// now is how a resource is, with what is part of it.
func (m *member) now() (run.Status, float64) {
	status, fraction, n := m.Status, m.Resource.Fraction(), 1
	for _, p := range m.parts {
		if p.Change == plan.Keep && m.Change != plan.Keep {
			continue // what is kept says nothing of how far the change is
		}
		status = join(status, p.Status)
		fraction += p.Fraction()
		n++
	}
	return status, fraction / float64(n)
}

// groupKey tells which resources of a cell make one plank; the value beside it is the plank's place in the cell.
type groupKey struct {
	level, bay int
	node       string
	kind       kinds.Kind
}

// partsOf are the resources drawn on another's plank, by that other.
func partsOf(s *run.State) map[string][]*run.Resource {
	out := map[string][]*run.Resource{}
	for i := range s.Resources {
		if r := &s.Resources[i]; r.PartOf != "" {
			out[r.PartOf] = append(out[r.PartOf], r)
		}
	}
	return out
}

func bayOf(r *plan.Resource, by By) string {
	if by == ByService {
		return r.Service
	}
	return r.Site
}

// bays makes the columns, in the plan's order of sites or services.
func (p *Picture) bays(pl *plan.Plan, by By) map[string]int {
	at := map[string]int{}
	add := func(name, note string) {
		if _, ok := at[name]; !ok {
			at[name] = len(p.Bays)
			p.Bays = append(p.Bays, Bay{name, note})
		}
	}
	if by == BySite {
		for _, s := range pl.Sites {
			add(s.Name, s.Kind)
		}
		return at
	}
	for _, s := range pl.Services {
		add(s.Name, "")
	}
	for i := range pl.Resources {
		add(pl.Resources[i].Service, "")
	}
	return at
}

// join adds a resource to a group.
func (p *Plank) join(o *Plank, r *run.Resource) {
	if p.Counts == nil {
		p.Counts = map[run.Status]int{}
	}
	p.IDs, p.of = append(p.IDs, o.IDs...), append(p.of, o.of...)
	p.Title = fmt.Sprintf("%s ×%d", r.Node, len(p.IDs))
	if r.Kind == kinds.Endpoint {
		p.Title = fmt.Sprintf("%s %s ×%d", r.Node, r.AsEndpoint().Protocol, len(p.IDs))
	}
	p.Critical = p.Critical || o.Critical
}

// join is the status of two together: the worst of them, and under way if one stands while the other is planned.
func join(a, b run.Status) run.Status {
	if a == b {
		return a
	}
	for _, s := range []run.Status{run.Failed, run.Stopped, run.UnderWay, run.Held} {
		if a == s || b == s {
			return s
		}
	}
	return run.UnderWay
}

// Rows is how many rows each level takes, from the ground, when every plank has a row.
func (p *Picture) Rows() []int {
	rows := make([]int, p.Levels)
	for l, cells := range p.Cells {
		rows[l] = 1
		for _, c := range cells {
			rows[l] = max(rows[l], len(c.Planks))
		}
	}
	return rows
}

// Find is where the plank of a resource is; false if it has none.
func (p *Picture) Find(id string) (level, bay, index int, ok bool) {
	for l, cells := range p.Cells {
		for b := range cells {
			for i := range cells[b].Planks {
				if cells[b].Planks[i].Has(id) {
					return l, b, i, true
				}
			}
		}
	}
	return 0, 0, 0, false
}
