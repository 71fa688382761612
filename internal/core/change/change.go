// Package change compiles the difference between what stands and what is wanted.
//
// In go a [Standing], which is a plan that holds only what stands with the steps that made it so, and the plan of what
// is wanted; out comes a plan of the steps that lead from the one to the other: what is built, changed in place,
// rebuilt, retired or kept, and why. Everything that is done to a deployment after it was raised is such a difference:
// new inputs or a new design, a tier scaled, stopped or started (see [Rest]), a run rolled back to what stood before it,
// a deployment retired, which is the difference to [Nothing]. The inverse of a change is the difference the other way.
package change

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Standing is what stands of a deployment.
type Standing struct {
	// Plan has the resources that stand, as they were built, and the steps that were done for them. Plan.Known has what
	// is known of the resources.
	Plan *plan.Plan
	// Since is when something was done last to each resource at its site, where that is known.
	Since map[string]time.Time
	// Unsure are steps that were begun and not ended well: what they were to do may be there, in part or whole.
	Unsure map[string]bool
	// Order says after which others each step comes in the whole of what was wanted, whether they stand or not: what was
	// stopped and is started again has the place in the order that it had.
	Order map[string][]string
}

// Nothing is what stands before anything is built; as a wish it retires everything.
func Nothing(of *plan.Plan) Standing {
	return Standing{Plan: &plan.Plan{Version: plan.Version, Name: of.Name, Preset: of.Preset, Currency: of.Currency,
		Inputs: map[string]any{}, Known: map[string]map[string]string{}}}
}

// Empty reports that nothing stands and nothing may be left over.
func (s Standing) Empty() bool { return len(s.Plan.Resources) == 0 }

// Compile makes the plan that leads from what stands to what is wanted. Its purpose is for people to read.
func Compile(from Standing, to *plan.Plan, purpose string) (*plan.Plan, error) {
	c := newCompiler(from, to)
	c.judge()
	c.goOn()
	c.spread()
	c.redoActions()
	c.resources()
	c.power()
	c.takeBack()
	c.build()
	c.order()
	c.sweep()
	p := c.plan
	p.Purpose, p.Secrets = purpose, c.plan.SecretsAsked()
	if err := p.Arrange(); err != nil {
		return nil, fmt.Errorf("the change cannot be put in order: %w", err)
	}
	return p, nil
}

// compiler builds one change.
type compiler struct {
	from Standing
	old  *plan.Plan
	to   *plan.Plan
	plan *plan.Plan

	verdicts map[string]plan.Change
	reasons  map[string][]string
	// redo are wanted steps that are to be run, undo the standing ones whose work is taken back.
	redo map[string]bool
	undo map[string]bool
	// cycle are instances that are switched off and on, or one of both.
	halt, boot map[string]bool
	alter      map[string]bool
	// later are for each standing step those that came after it.
	later map[string][]string
	// stepsOf are the wanted steps of a resource, oldSteps the standing ones.
	stepsOf, oldSteps map[string][]*plan.Step
	// starts are the wanted steps that start software, by its instance.
	starts map[string][]*plan.Step
	// links are the attachments that lead to a volume and the interfaces that lead to a network, as standing steps.
	links map[string][]string
	// uses are the wanted steps that are given attributes of a resource.
	uses map[string][]string
	// takes is the step of the plan that takes back a standing step.
	takes map[string]string
	// moving are instances that come from elsewhere with what is on their disks, retold the resources of which other things
	// were told meanwhile than are so.
	moving, retold map[string]bool
	// carried are undone steps whose work goes with that of another.
	carried map[string]bool
}

func newCompiler(from Standing, to *plan.Plan) *compiler {
	to = withKeepsakes(from, to)
	c := &compiler{from: from, old: from.Plan, to: to, verdicts: map[string]plan.Change{}, reasons: map[string][]string{},
		redo: map[string]bool{}, undo: map[string]bool{}, halt: map[string]bool{}, boot: map[string]bool{}, alter: map[string]bool{},
		later: map[string][]string{}, starts: map[string][]*plan.Step{}, stepsOf: byResource(to), oldSteps: byResource(from.Plan), links: map[string][]string{},
		uses: map[string][]string{}, takes: map[string]string{}, carried: map[string]bool{},
		moving: map[string]bool{}, retold: map[string]bool{}}
	c.plan = &plan.Plan{Version: plan.Version, Name: to.Name, Preset: to.Preset, Currency: to.Currency, Inputs: to.Inputs,
		Secrets: union(to.Secrets, from.Plan.Secrets), Services: to.Services, Outputs: to.Outputs,
		Workflow: to.Workflow, Triggers: to.Triggers, Notes: to.Notes, Scripts: map[string]string{}, Files: map[string][]byte{},
		Known: from.Plan.Known, Zone: cmp.Or(to.Zone, from.Plan.Zone), Origins: from.Plan.Origins,
		Order: maps.Clone(to.Order), Lifted: to.Lifted, Template: to.Template, Revision: to.Revision, Source: to.Source}
	for _, p := range []*plan.Plan{from.Plan, to} {
		for _, s := range p.Sites {
			if !slices.ContainsFunc(c.plan.Sites, func(x plan.Site) bool { return x.Name == s.Name }) {
				c.plan.Sites = append(c.plan.Sites, s)
			}
		}
	}
	if len(c.plan.Services) == 0 {
		c.plan.Services = from.Plan.Services
	}
	for i := range c.old.Steps {
		s := &c.old.Steps[i]
		for _, a := range s.After {
			c.later[a] = append(c.later[a], s.ID)
		}
		if s.Volume != "" {
			c.links[s.Volume] = append(c.links[s.Volume], s.ID)
		}
		if r := c.old.Resource(s.Resource); s.Op == op.Plug {
			c.links[r.AsInterface().Network] = append(c.links[r.AsInterface().Network], s.ID)
		}
	}
	c.readUses()
	for i := range to.Steps {
		if s := &to.Steps[i]; s.Op == op.Start {
			on := instanceOf(to, to.Resource(s.Resource))
			c.starts[on] = append(c.starts[on], s)
		}
	}
	return c
}

// readUses notes which wanted steps are given what is known only of another resource.
func (c *compiler) readUses() {
	for i := range c.to.Steps {
		s := &c.to.Steps[i]
		for r := range attributesOf(s) {
			c.uses[r] = append(c.uses[r], s.ID)
		}
	}
}

// byResource are the steps of each resource in the order in which they are done, however they are listed: what stands is listed by name.
func byResource(p *plan.Plan) map[string][]*plan.Step {
	out := map[string][]*plan.Step{}
	for _, s := range inOrder(p) {
		out[s.Resource] = append(out[s.Resource], s)
	}
	return out
}

// inOrder are the steps of a plan, each behind those that it comes after.
func inOrder(p *plan.Plan) []*plan.Step {
	at := make(map[string]int, len(p.Steps))
	for i := range p.Steps {
		at[p.Steps[i].ID] = i
	}
	out, seen := make([]*plan.Step, 0, len(p.Steps)), make([]bool, len(p.Steps))
	var visit func(i int)
	visit = func(i int) {
		if seen[i] {
			return // or it waits for itself, through designs of different times
		}
		seen[i] = true
		for _, list := range [2][]string{p.Steps[i].After, p.Steps[i].Whole} {
			for _, a := range list {
				if k, there := at[a]; there {
					visit(k)
				}
			}
		}
		out = append(out, &p.Steps[i])
	}
	for i := range p.Steps {
		visit(i)
	}
	return out
}

func union(a, b []string) []string {
	out := slices.Concat(a, b)
	slices.Sort(out)
	return slices.Compact(out)
}

// because notes why a resource is not kept as it is; equal reasons once.
func (c *compiler) because(resource, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !slices.Contains(c.reasons[resource], text) {
		c.reasons[resource] = append(c.reasons[resource], text)
	}
}

// weight orders the verdicts: a heavier one takes the place of a lighter one.
var weight = map[plan.Change]int{plan.Keep: 0, plan.Amend: 1, plan.Rebuild: 2, plan.Build: 3, plan.Retire: 3}

func (c *compiler) set(resource string, v plan.Change) bool {
	if old, known := c.verdicts[resource]; known && weight[old] >= weight[v] {
		return false
	}
	c.verdicts[resource] = v
	return true
}

// resources lists what the plan is about: all that is wanted, and what is retired.
func (c *compiler) resources() {
	for i := range c.to.Resources {
		r := c.to.Resources[i]
		r.Change, r.Reasons = c.verdicts[r.ID], c.reasons[r.ID]
		if c.fresh(r.ID) && !c.moving[r.ID] && c.filled(r.ID) == nil {
			plan.Respec(&r, func(s *plan.InstanceSpec) { s.Asleep = false }) // nothing comes to its disks from elsewhere: it starts from its image
		}
		c.plan.Resources = append(c.plan.Resources, r)
	}
	for i := range c.old.Resources {
		r := c.old.Resources[i]
		if c.to.Resource(r.ID) == nil {
			r.Change, r.Reasons = plan.Retire, c.reasons[r.ID]
			c.plan.Resources = append(c.plan.Resources, r)
		}
	}
}

// carry takes over the scripts and files that a step needs.
func (c *compiler) carry(p *plan.Plan, s *plan.Script) {
	if s == nil {
		return
	}
	c.plan.Scripts[s.Path] = p.Scripts[s.Path]
	for _, f := range s.Files {
		c.plan.Files[f.File] = p.Files[f.File]
	}
}

// Difference says what becomes of each resource between what stands and a plan, and why, without compiling it.
func Difference(from Standing, to *plan.Plan) (plan.Difference, map[string][]string) {
	c := newCompiler(from, to)
	c.judge()
	c.spread()
	c.redoActions()
	return maps.Clone(c.verdicts), c.reasons
}
