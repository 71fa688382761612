package run

import (
	"maps"
	"slices"

	"andamio/internal/core/plan"
)

// Clone is a state that goes on by itself from here: what is applied to one of the two changes nothing of the other, and its plan may be arranged anew.
func (s *State) Clone() *State {
	p := *s.Plan
	p.Resources, p.Steps, p.Sites = slices.Clone(p.Resources), slices.Clone(p.Steps), slices.Clone(p.Sites)
	c := *s
	c.Plan = plan.Reindexed(&p)
	c.Steps, c.Resources = slices.Clone(s.Steps), slices.Clone(s.Resources)
	for i := range c.Steps {
		c.Steps[i].Step, c.Steps[i].Log = &p.Steps[i], slices.Clone(s.Steps[i].Log)
	}
	for i := range c.Resources {
		c.Resources[i].Resource, c.Resources[i].Attributes = &p.Resources[i], maps.Clone(s.Resources[i].Attributes)
	}
	c.Outputs = maps.Clone(s.Outputs)
	c.Disks, c.Judged = make(map[string]*Disk, len(s.Disks)), make(map[string][]Judgement, len(s.Judged))
	for id, d := range s.Disks {
		x := *d
		x.Past = slices.Clone(d.Past)
		c.Disks[id] = &x
	}
	for id, all := range s.Judged {
		c.Judged[id] = slices.Clone(all)
	}
	return &c
}
