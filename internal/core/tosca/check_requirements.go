package tosca

import (
	"slices"
	"strings"
)

// checkRequirements resolves what fulfils each requirement of a node, and reports those that nothing fulfils.
func (r *reader) checkRequirements(n *Node) {
	if n.Type == nil {
		return
	}
	count := map[string]int{}
	for _, a := range n.Requirements {
		count[a.Name]++
		if q := n.Type.Requirement(a.Name); q != nil && a.Target != "" {
			r.fulfil(n, a, q)
		}
	}
	for _, q := range n.Type.Requirements {
		if count[q.Name] < q.Occurrences.Min && !n.suspect {
			r.diags.at(place{n.Pos, n.width}, CodeUnfulfilled, "%s needs %q, a node with the capability %s", n.Type.Name, q.Name, q.Capability).
				see(q.Pos).hint("add under requirements: - %s: NODE%s", q.Name, r.candidates(q))
		}
		if count[q.Name] > q.Occurrences.Max {
			r.diags.at(place{n.Pos, n.width}, CodeUnfulfilled, "%q is fulfilled %d times, at most %d are allowed", q.Name, count[q.Name], q.Occurrences.Max).see(q.Pos)
		}
	}
}

// candidates names the node templates that could fulfil a requirement.
func (r *reader) candidates(q *Requirement) string {
	var fit []string
	for _, n := range r.tmpl.Nodes {
		if n.Type != nil && r.offering(n.Type, q, "") != nil {
			fit = append(fit, n.Name)
		}
	}
	if len(fit) == 0 || len(fit) > 6 {
		return ""
	}
	return ", where NODE is " + strings.Join(fit, " or ")
}

// fulfil checks one assignment and fills in the capability and relationship it resolves to.
func (r *reader) fulfil(n *Node, a *Assignment, q *Requirement) {
	target := r.tmpl.nodes[a.Target]
	if target == nil {
		r.unknownNode(a.target, a.Target)
		return
	}
	if target.Type == nil {
		return
	}
	c := r.offering(target.Type, q, a.wantCap)
	if c == nil {
		r.diags.at(a.target, CodeMismatch, "%s is a %s, which offers no %s", a.Target, target.Type.Name, q.Capability).
			see(target.Pos).hint("%q must be fulfilled by a node with that capability%s", a.Name, r.candidates(q))
		return
	}
	a.Capability = c.Name
	r.relate(n, a, q, c)
}

// offering is the capability of a node type that fulfils a requirement, or nil. wanted may name a capability or a
// capability type.
func (r *reader) offering(t *Type, q *Requirement, wanted string) *Capability {
	if q.Node != "" && !r.types.Derives(NodeTypes, t.Name, q.Node) && wanted == "" {
		return nil
	}
	for _, c := range t.Capabilities {
		named := wanted == "" || c.Name == wanted || r.types.Derives(CapabilityTypes, c.Type, wanted)
		if named && r.types.Derives(CapabilityTypes, c.Type, q.Capability) {
			return c
		}
	}
	return nil
}

// relate settles the relationship: the one assigned, a named template, a type, or the one the requirement declares.
func (r *reader) relate(n *Node, a *Assignment, q *Requirement, c *Capability) {
	if a.relName != "" {
		if i := slices.IndexFunc(r.tmpl.Relationships, func(x *Relationship) bool { return x.Name == a.relName }); i >= 0 {
			rel := r.tmpl.Relationships[i]
			a.Relationship, a.Properties, a.Interfaces = rel.Type, rel.Properties, rel.Interfaces
		} else if a.Relationship = r.types.Find(RelationshipTypes, a.relName); a.Relationship == nil {
			r.types.unknownType(RelationshipTypes, a.relName, a.relPlace, &r.diags)
			return
		}
	}
	if a.Relationship == nil && !a.relInline {
		a.Relationship = r.types.Find(RelationshipTypes, q.Relationship)
	}
	rt := a.Relationship
	if rt == nil {
		return // neither says how they relate: a plain dependency
	}
	if len(rt.ValidTargets) > 0 && !slices.ContainsFunc(rt.ValidTargets, func(v string) bool { return r.types.Derives(CapabilityTypes, c.Type, v) }) {
		r.diags.at(a.target, CodeMismatch, "%s cannot lead to %s's capability %q of type %s", rt.Name, a.Target, c.Name, c.Type).
			hint("it leads to: %s", strings.Join(rt.ValidTargets, ", "))
	}
	r.checkProperties(rt.Properties, a.Properties, rt, place{a.Pos, len(a.Name)}, n)
	a.Interfaces = r.assignInterfaces(rt, a.Interfaces, n)
}

// checkCycles reports nodes that stand on each other in a circle, as the path that leads back.
func (r *reader) checkCycles() {
	const visiting, done = 1, 2
	mark := map[string]int{}
	var path []string
	var visit func(name string) bool
	visit = func(name string) bool {
		n := r.tmpl.nodes[name]
		if n == nil || mark[name] == done {
			return false
		}
		if mark[name] == visiting {
			from := slices.Index(path, name)
			circle := append(slices.Clone(path[from:]), name)
			r.diags.at(place{n.Pos, n.width}, CodeCycle, "these stand on each other in a circle: %s", strings.Join(circle, " → ")).
				hint("remove one of the requirements")
			return true
		}
		mark[name] = visiting
		path = append(path, name)
		defer func() { mark[name], path = done, path[:len(path)-1] }()
		for _, a := range n.Requirements {
			if visit(a.Target) {
				return true
			}
		}
		return false
	}
	for _, n := range r.tmpl.Nodes {
		if visit(n.Name) {
			return // one circle often shows as many; the next run shows the next
		}
	}
}
