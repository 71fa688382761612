package tosca

import (
	"slices"
)

// checkWorkflows checks that what workflows name is there.
func (r *reader) checkWorkflows() {
	for _, w := range r.tmpl.Workflows {
		for _, def := range w.Inputs {
			r.types.checkProperty(def, &r.diags)
		}
		for _, p := range w.Preconditions {
			if r.checkTarget(p.Target, p.target) {
				r.checkClause(p.Condition, r.tmpl.nodes[p.Target])
			}
		}
		for _, s := range w.Steps {
			r.checkWorkflowStep(w, s)
		}
	}
	r.checkWorkflowCircles()
}

func (r *reader) checkWorkflowStep(w *Workflow, s *WorkflowStep) {
	at := place{s.Pos, len(s.Name)}
	var names []string
	for _, other := range w.Steps {
		names = append(names, other.Name)
	}
	for _, next := range s.next {
		if w.Step(next.value) == nil {
			r.diags.at(next.place(), CodeWorkflow, "the step %s leads to %q, which the workflow does not have", s.Name, next.value).suggest(next.value, names)
		}
	}
	if s.Target != "" && !r.checkTarget(s.Target, s.target) {
		return
	}
	n := r.tmpl.nodes[s.Target]
	if s.Relationship == "" {
		r.checkClause(s.Filter, n)
	}
	for _, a := range s.Activities {
		if s.Target == "" && a.Kind != Inline {
			r.diags.at(at, CodeWorkflow, "the step %s needs a target for %s", s.Name, a.Kind)
			continue
		}
		r.checkActivity(a, n, s.Relationship)
	}
}

// checkTarget checks that a workflow's target is a node template or group.
func (r *reader) checkTarget(name string, at place) bool {
	if r.tmpl.nodes[name] != nil || r.isGroup(name) {
		return true
	}
	r.unknownNode(at, name)
	return false
}

// checkClause checks that what a condition asks for is an attribute or property of the node, and can be compared with. Of a group it is not
// known what is asked.
func (r *reader) checkClause(c Clause, n *Node) {
	for _, inner := range c.Clauses {
		r.checkClause(inner, n)
	}
	if c.Leaf == nil || n == nil || n.Type == nil {
		return
	}
	known := slices.Concat(n.Type.Attributes, n.Type.Properties)
	def := find(known, c.Leaf.Name)
	if def == nil {
		r.diags.at(place{c.Leaf.Pos, len(c.Leaf.Name)}, CodeUnknownRef, "%s has no attribute %q, and it is none of and, or, not and assert", n.Name, c.Leaf.Name).
			suggest(c.Leaf.Name, append(namesOf(known), clauseWords...))
		return
	}
	for _, k := range c.Leaf.Constraints {
		k.resolveBounds(r.types, def, &r.diags)
	}
}

// lifecycle are the workflows that a node can be delegated to.
var lifecycle = []string{"deploy", "undeploy"}

func (r *reader) checkActivity(a Activity, n *Node, relationship string) {
	at := place{a.Pos, len(a.Name)}
	switch a.Kind {
	case Delegate:
		if !slices.Contains(lifecycle, a.Name) && r.tmpl.Workflow(a.Name) == nil {
			r.diags.at(at, CodeWorkflow, "there is no workflow %q to delegate to", a.Name).suggest(a.Name, append(r.workflowNames(), lifecycle...))
		}
		if a.Name == "undeploy" {
			r.diags.at(at, CodeUnsupported, "nothing is taken down by a workflow yet")
		}
	case Inline:
		if r.tmpl.Workflow(a.Name) == nil {
			r.diags.at(at, CodeWorkflow, "there is no workflow %q", a.Name).suggest(a.Name, r.workflowNames())
		}
	case CallOperation:
		r.checkCalled(a, n, relationship)
	}
	r.checkInputs(a.Inputs, nil, n)
}

func (r *reader) workflowNames() []string {
	var names []string
	for _, w := range r.tmpl.Workflows {
		names = append(names, w.Name)
	}
	return names
}

// checkCalled checks that INTERFACE.OPERATION is one of the target's.
func (r *reader) checkCalled(a Activity, n *Node, relationship string) {
	if n == nil || n.Type == nil {
		return // a group: checked for each member when it is compiled
	}
	t := n.Type
	if relationship != "" {
		if t = r.relationshipOf(n, relationship); t == nil {
			r.diags.at(place{a.Pos, len(a.Name)}, CodeWorkflow, "%s has no relationship %q", n.Name, relationship).suggest(relationship, requirementNames(n.Type))
			return
		}
	}
	if _, _, ok := t.FindOperation(a.Name); !ok {
		r.diags.at(place{a.Pos, len(a.Name)}, CodeUnknownOperation, "%s has no operation %q", t.Name, a.Name).
			suggest(a.Name, r.operationNames(t))
	}
}

func (r *reader) relationshipOf(n *Node, requirement string) *Type {
	for _, a := range n.Requirements {
		if a.Name == requirement {
			return a.Relationship
		}
	}
	return nil
}

func (r *reader) operationNames(t *Type) []string {
	var out []string
	for _, i := range t.Interfaces {
		for _, op := range i.Operations {
			out = append(out, i.Name+"."+op.Name)
		}
	}
	return out
}

// checkWorkflowCircles refuses steps that lead back to themselves and workflows that inline themselves.
func (r *reader) checkWorkflowCircles() {
	for _, w := range r.tmpl.Workflows {
		next := func(s string) []string {
			if step := w.Step(s); step != nil {
				return slices.Concat(step.OnSuccess, step.OnFailure)
			}
			return nil
		}
		for _, s := range w.Steps {
			if c := circleFrom(s.Name, next); c != nil {
				r.diags.at(place{s.Pos, len(s.Name)}, CodeCycle, "these steps lead back to themselves: %s", arrows(c))
				return
			}
		}
		if c := circleFrom(w.Name, r.inlined); c != nil {
			r.diags.at(place{w.Pos, len(w.Name)}, CodeCycle, "these workflows contain themselves: %s", arrows(c))
			return
		}
	}
}

// inlined are the workflows that a workflow takes in.
func (r *reader) inlined(name string) []string {
	var out []string
	if w := r.tmpl.Workflow(name); w != nil {
		for _, s := range w.Steps {
			for _, a := range s.Activities {
				if a.Kind == Inline {
					out = append(out, a.Name)
				}
			}
		}
	}
	return out
}
