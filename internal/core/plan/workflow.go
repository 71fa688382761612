package plan

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

// An imperative workflow (TOSCA 1.3, section 7.3) is compiled over the declarative plan: that has every step that could
// be taken, with its scripts and checks; the workflow chooses among them and orders them anew. Of the declarative order
// only what is physically so remains: nothing is plugged, attached or run before what it is plugged into, attached to or
// run on has been created.

// follower builds the steps of a workflow.
type follower struct {
	c *compiler
	// library are the declarative steps by resource, in their order.
	library map[string][]*Step
	known   map[string]*Step
	chosen  []*Step
	taken   map[string]bool
	failing map[string][]string
	serial  int
}

// part is a workflow step as compiled: where it begins and where it ends.
type part struct{ begin, end []string }

func (c *compiler) follow(w *topology.Workflow) error {
	f := &follower{c: c, library: map[string][]*Step{}, known: map[string]*Step{}, taken: map[string]bool{}, failing: map[string][]string{}}
	for i := range c.plan.Steps {
		s := &c.plan.Steps[i]
		f.library[s.Resource] = append(f.library[s.Resource], s)
		f.known[s.ID] = s
	}
	c.plan.Workflow = w.Name
	gate := f.preconditions(w)
	if _, err := f.workflow(w, gate, 0); err != nil {
		return err
	}
	f.answers()
	return f.settle()
}

// preconditions adds a step for each target that must satisfy a condition.
func (f *follower) preconditions(w *topology.Workflow) []string {
	var gate []string
	of := map[string]int{}
	for _, p := range w.Preconditions {
		of[p.Target]++
		name := w.Name
		if n := of[p.Target]; n > 1 { // there may be several of one target
			name = fmt.Sprintf("%s.%d", name, n)
		}
		for _, id := range f.resources(p.Target) {
			clause := clauseOf(p.Condition)
			s := &Step{Resource: id, Op: op.Require, Title: "require " + p.Condition.String(), Check: Condition{Kind: CheckNone}, When: &clause}
			gate = append(gate, f.add(s, name, nil))
		}
	}
	return gate
}

// resources are the ids of a node's instances, or of a network where it is at each site.
func (f *follower) resources(node string) []string {
	var out []string
	for _, r := range f.c.plan.Resources {
		if r.Node == node && r.Kind != kinds.Endpoint && (r.Kind != kinds.Interface || r.PartOf == "" || !strings.HasSuffix(r.ID, ".if")) {
			out = append(out, r.ID)
		}
	}
	return out
}

// workflow adds the steps of a workflow after the given ones, and returns its ends.
func (f *follower) workflow(w *topology.Workflow, after []string, depth int) ([]string, error) {
	before, onFailure := predecessors(w)
	done := map[string]part{}
	var ends []string
	for len(done) < len(w.Steps) {
		progress := false
		for i := range w.Steps {
			s := &w.Steps[i]
			if _, twice := done[s.Name]; twice || !allDone(done, before[s.Name], onFailure[s.Name]) {
				continue
			}
			if len(before[s.Name]) > 0 && len(onFailure[s.Name]) > 0 {
				return nil, fmt.Errorf("%s: the step %s is reached both on success and on failure", s.Pos, s.Name)
			}
			p, err := f.step(s, startOf(done, before[s.Name], after), depth)
			if err != nil {
				return nil, err
			}
			for _, failed := range onFailure[s.Name] {
				for _, id := range p.begin {
					f.failing[id] = append(f.failing[id], f.within(done[failed])...)
				}
			}
			done[s.Name] = p
			if len(s.OnSuccess) == 0 && len(onFailure[s.Name]) == 0 {
				ends = append(ends, p.end...)
			}
			progress = true
		}
		if !progress {
			return nil, fmt.Errorf("%s: the steps of the workflow %s wait for each other", w.Pos, w.Name)
		}
	}
	return ends, nil
}

// predecessors are, for each step, those that lead to it on success and on failure.
func predecessors(w *topology.Workflow) (before, onFailure map[string][]string) {
	before, onFailure = map[string][]string{}, map[string][]string{}
	for _, s := range w.Steps {
		for _, next := range s.OnSuccess {
			before[next] = append(before[next], s.Name)
		}
		for _, next := range s.OnFailure {
			onFailure[next] = append(onFailure[next], s.Name)
		}
	}
	return before, onFailure
}

func allDone(done map[string]part, lists ...[]string) bool {
	for _, list := range lists {
		for _, name := range list {
			if _, ok := done[name]; !ok {
				return false
			}
		}
	}
	return true
}

// startOf is what a step comes after: the ends of those that lead to it, or where the workflow begins.
func startOf(done map[string]part, before, after []string) []string {
	if len(before) == 0 {
		return after
	}
	var out []string
	for _, b := range before {
		out = append(out, done[b].end...)
	}
	return unique(out)
}

// within are all steps between a part's beginning and its end: any of them may fail.
func (f *follower) within(p part) []string {
	var out []string
	seen := map[string]bool{}
	var back func(id string)
	back = func(id string) {
		if seen[id] {
			return
		}
		seen[id] = true
		out = append(out, id)
		if slices.Contains(p.begin, id) {
			return
		}
		for _, s := range f.chosen {
			if s.ID == id {
				for _, a := range s.After {
					back(a)
				}
			}
		}
	}
	for _, id := range p.end {
		back(id)
	}
	return out
}

// step adds the activities of a step for each of its targets, one after the other.
func (f *follower) step(s *topology.WorkflowStep, after []string, depth int) (part, error) {
	var p part
	targets := []string{""}
	if len(s.Targets) > 0 {
		targets = nil
		for _, node := range s.Targets {
			targets = append(targets, f.resources(node)...)
		}
	}
	for _, id := range targets {
		chain, first := after, len(f.chosen)
		for _, a := range s.Activities {
			ends, err := f.activity(s, a, id, chain, depth)
			if err != nil {
				return p, fmt.Errorf("%s: %w", a.Pos, err)
			}
			chain = ends
		}
		for k := first; k < len(f.chosen); k++ {
			added := f.chosen[k]
			if !s.Filter.Empty() && added.When == nil && added.Resource == id {
				clause := clauseOf(s.Filter)
				added.When = &clause
			}
			if !slices.ContainsFunc(added.After, func(a string) bool {
				return slices.ContainsFunc(f.chosen[first:], func(x *Step) bool { return x.ID == a })
			}) {
				p.begin = append(p.begin, added.ID)
			}
		}
		p.end = append(p.end, chain...)
	}
	return p, nil
}

func (f *follower) activity(s *topology.WorkflowStep, a topology.Activity, id string, after []string, depth int) ([]string, error) {
	switch a.Kind {
	case tosca.Inline:
		w := f.c.design.Workflow(a.Name)
		if w == nil || depth > 20 {
			return nil, fmt.Errorf("the workflow %s cannot be taken in", a.Name)
		}
		return f.workflow(w, after, depth+1)
	case tosca.Delegate:
		if w := f.c.design.Workflow(a.Name); w != nil && a.Name != "deploy" {
			return f.workflow(w, after, depth+1)
		}
		return f.take(id, f.delegated(id), after)
	case tosca.SetState:
		f.serial++
		step := &Step{Resource: id, Op: op.Barrier, Title: "state " + a.Name, Check: Condition{Kind: CheckNone}, Sets: map[string]string{"state": a.Name}}
		return []string{f.add(step, fmt.Sprintf("%s.%d", a.Name, f.serial), after)}, nil
	}
	return f.call(s, a, id, after)
}

// libraryOf are a resource's steps with those of what is part of it and of no node of its own.
func (f *follower) libraryOf(id string) []*Step {
	own := f.library[id]
	plug := f.library[id+".if"]
	if len(plug) == 0 {
		return own
	}
	at := slices.IndexFunc(own, func(s *Step) bool { return s.Op != op.Create || s.Script != nil })
	if at < 0 {
		at = len(own)
	}
	return slices.Concat(own[:at], plug, own[at:])
}

// delegated are the steps of the declarative workflow for a resource. Telling a target of a source belongs to the source:
// the target may be there long before.
func (f *follower) delegated(id string) []*Step {
	var out []*Step
	for _, s := range f.libraryOf(id) {
		if s.Op != op.Connect || !strings.Contains(s.ID, ".add_source.") {
			out = append(out, s)
		}
	}
	first := len(out)
	for _, steps := range f.library {
		for _, s := range steps {
			if s.Op == op.Connect && strings.HasSuffix(s.ID, ".add_source."+id) {
				out = append(out, s)
			}
		}
	}
	slices.SortFunc(out[first:], func(a, b *Step) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// take adds steps of the library one after the other.
func (f *follower) take(id string, steps []*Step, after []string) ([]string, error) {
	if len(steps) == 0 {
		f.serial++
		steps = []*Step{{ID: fmt.Sprintf("%s/settle:%d", id, f.serial), Resource: id, Op: op.Barrier, Title: "nothing to do", Site: f.c.resource(id).Site, Check: Condition{Kind: CheckNone}}}
	}
	for _, s := range steps {
		if f.taken[s.ID] {
			return nil, fmt.Errorf("%s is done twice", s.ID)
		}
		f.taken[s.ID] = true
		f.implied(s)
		c := *s
		c.After = unique(slices.Concat(after, f.physical(s)))
		if state, ok := states[s.Op]; ok && c.Script != nil || s.Op == op.Create {
			c.Sets = map[string]string{"state": state}
		}
		f.chosen = append(f.chosen, &c)
		after = []string{c.ID}
	}
	return after, nil
}

// implied adds what a step stands on and no workflow can name: the network of instances whose template names none.
func (f *follower) implied(s *Step) {
	for _, a := range f.physical(s) {
		if b := f.known[a]; !f.taken[a] && f.c.resource(b.Resource).Node == impliedNetwork {
			f.taken[a] = true
			c := *b
			f.chosen = append([]*Step{&c}, f.chosen...)
		}
	}
}

// states are what a node is in after an operation of its lifecycle (section 3.4.1).
var states = map[op.Op]string{op.Create: "created", op.Configure: "configured", op.Start: "started"}

// physical are the steps that a step cannot do without, whatever a workflow says.
func (f *follower) physical(s *Step) []string {
	var out []string
	for _, a := range s.After {
		if b := f.known[a]; b != nil && b.Script == nil && slices.Contains([]op.Op{op.Create, op.Attach, op.Plug, op.Take}, b.Op) {
			out = append(out, a)
		}
	}
	return out
}

// call adds what INTERFACE.OPERATION of the target stands for.
func (f *follower) call(s *topology.WorkflowStep, a topology.Activity, id string, after []string) ([]string, error) {
	r := f.c.resource(id)
	iface, name := a.Name, ""
	if at := strings.LastIndexByte(a.Name, '.'); at >= 0 {
		iface, name = a.Name[:at], a.Name[at+1:]
	}
	standard := iface == "Standard" || strings.HasSuffix(iface, ".lifecycle.Standard")
	configure := iface == "Configure" || strings.HasSuffix(iface, ".relationship.Configure")
	switch {
	case s.Relation != "" && configure:
		return f.take(id, f.relationSteps(s, r, name), after)
	case standard && slices.Contains([]string{"create", "configure", "start"}, name):
		steps := f.lifecycleSteps(r, op.Op(name))
		ends, err := f.take(id, steps, after)
		if err == nil {
			f.override(ends, a)
		}
		return ends, err
	}
	return f.other(r, a, after)
}

// lifecycleSteps are the steps of the library that an operation of the lifecycle stands for. What a site does to build a
// resource is its create; attaching volumes belongs to configure; a started component answers.
func (f *follower) lifecycleSteps(r *Resource, wanted op.Op) []*Step {
	var out []*Step
	for _, s := range f.libraryOf(r.ID) {
		of := s.Op
		switch s.Op {
		case op.Plug, op.Take:
			of = op.Create
		case op.Attach:
			of = op.Configure
		case op.Check:
			of = op.Start
		}
		if of == wanted {
			out = append(out, s)
		}
	}
	return out
}

// relationSteps are the steps of a relationship's operation, on whichever side it runs.
func (f *follower) relationSteps(s *topology.WorkflowStep, r *Resource, operation string) []*Step {
	var out []*Step
	named := s.Relation + "." + operation
	for _, steps := range f.library {
		for _, x := range steps {
			ours := x.Resource == r.ID || strings.HasSuffix(x.ID, "."+r.ID)
			if x.Op == op.Connect && ours && strings.HasPrefix(op.ParseID(x.ID).Part, named) {
				out = append(out, x)
			}
		}
	}
	slices.SortFunc(out, func(a, b *Step) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// override puts an activity's inputs in place of the operation's.
func (f *follower) override(ids []string, a topology.Activity) {
	for _, s := range f.chosen {
		if !slices.Contains(ids, s.ID) || s.Script == nil || len(a.Inputs) == 0 {
			continue
		}
		script := *s.Script
		script.Inputs = slices.Clone(script.Inputs)
		for _, arg := range a.Inputs {
			in := Input{arg.Name, f.c.expr(arg.Value, at(0))}
			if k := slices.IndexFunc(script.Inputs, func(x Input) bool { return x.Name == arg.Name }); k >= 0 {
				script.Inputs[k] = in
			} else {
				script.Inputs = append(script.Inputs, in)
			}
		}
		s.Script = &script
	}
}

// other adds an operation of an interface beyond the lifecycle.
func (f *follower) other(r *Resource, a topology.Activity, after []string) ([]string, error) {
	n := f.c.design.Node(r.Node)
	called := n.Operations.Called(a.Name)
	if called == nil {
		f.serial++
		return []string{f.add(&Step{Resource: r.ID, Op: op.Barrier, Title: a.Name + " has no script", Check: Condition{Kind: CheckNone}},
			fmt.Sprintf("%s.%d", a.Name, f.serial), after)}, nil
	}
	if n.Base == nil {
		return nil, fmt.Errorf("%s runs on %s, which has no shell", a.Name, n.Name)
	}
	f.serial++
	script, asked := f.c.script(called, at(f.instance(r.ID)), r.ID, a.Name)
	s := &Step{Resource: r.ID, Op: op.Call, Title: a.Name, Script: script, Check: Condition{Kind: CheckExit},
		Seconds: f.c.estate.Site(r.Site).Seconds(scriptSeconds)}
	id := f.add(s, fmt.Sprintf("%s.%d", a.Name, f.serial), after)
	f.override([]string{id}, a)
	if len(asked) > 0 {
		f.c.asked[id] = asked
	}
	return []string{id}, nil
}

// instance is the number of a resource among those of its node, from 0.
func (f *follower) instance(id string) int {
	n := 0
	if at := strings.LastIndexByte(id, '-'); at >= 0 {
		fmt.Sscanf(id[at+1:], "%d", &n)
	}
	return max(n-1, 0)
}

func (f *follower) add(s *Step, part string, after []string) string {
	r := f.c.resource(s.Resource)
	s.ID = s.Op.For(s.Resource, part)
	s.Site = r.Site
	s.After = unique(after)
	f.chosen = append(f.chosen, s)
	return s.ID
}

// answers adds the checks of public endpoints whose software the workflow starts.
func (f *follower) answers() {
	last := map[string]string{}
	for _, s := range f.chosen {
		if s.Op == op.Check || s.Op == op.Start {
			last[s.Resource] = s.ID
		}
	}
	for _, r := range f.c.plan.Resources {
		if r.Kind != kinds.Endpoint || last[r.AsEndpoint().EndpointOf] == "" {
			continue
		}
		s := *f.library[r.ID][0]
		s.After = []string{last[r.AsEndpoint().EndpointOf]}
		f.chosen = append(f.chosen, &s)
	}
}

// settle puts the chosen steps in place of the declarative ones, and leaves out the resources that none of them builds.
func (f *follower) settle() error {
	chosen := map[string]bool{}
	touched := map[string]bool{}
	for _, s := range f.chosen {
		chosen[s.ID], touched[s.Resource] = true, true
	}
	steps := make([]Step, 0, len(f.chosen))
	for _, s := range f.chosen {
		for _, a := range s.After {
			if !chosen[a] {
				return fmt.Errorf("the workflow %s does %s without %s, on which it stands", f.c.plan.Workflow, s.ID, a)
			}
		}
		if on := f.c.resource(s.Resource).On; s.Script != nil && on != "" && !touched[on] {
			return fmt.Errorf("the workflow %s does %s without %s, on which it runs", f.c.plan.Workflow, s.ID, on)
		}
		s.AfterFailure = unique(f.failing[s.ID])
		steps = append(steps, *s)
	}
	var left []string
	resources := f.c.plan.Resources[:0:0]
	for _, r := range f.c.plan.Resources {
		if touched[r.ID] {
			resources = append(resources, r)
			continue
		}
		left = append(left, r.ID)
	}
	if len(left) > 0 {
		f.c.plan.Notes = append(f.c.plan.Notes, fmt.Sprintf("the workflow %s does not build: %s", f.c.plan.Workflow, strings.Join(left, ", ")))
	}
	for i := range resources {
		resources[i].StandsOn = slices.DeleteFunc(slices.Clone(resources[i].StandsOn), func(id string) bool { return !touched[id] })
	}
	f.c.plan.Steps, f.c.plan.Resources = steps, resources
	f.c.plan.steps, f.c.plan.resources = nil, nil
	f.c.stepAt, f.c.at = map[string]int{}, map[string]int{}
	for i := range steps {
		f.c.stepAt[steps[i].ID] = i
	}
	for i := range resources {
		f.c.at[resources[i].ID] = i
	}
	return nil
}

// clauseOf makes a condition of the template language plain data.
func clauseOf(c tosca.Clause) Clause {
	out := Clause{Op: c.Op}
	if c.Leaf != nil {
		for _, k := range c.Leaf.Constraints {
			t := Clause{Attribute: c.Leaf.Name, Test: k.Op}
			for _, a := range k.Args {
				values := []any{a.Plain()}
				if list, ok := values[0].([]any); ok {
					values = list
				}
				t.Values = append(t.Values, values...)
			}
			out.Clauses = append(out.Clauses, t)
		}
		return out
	}
	for _, x := range c.Clauses {
		out.Clauses = append(out.Clauses, clauseOf(x))
	}
	return out
}
