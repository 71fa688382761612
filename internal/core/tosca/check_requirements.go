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
	for _, a := range n.Requirements {
		if q := n.Type.Requirement(a.Name); q != nil {
			r.fulfil(n, a, q)
		}
	}
	for _, q := range n.Type.Requirements {
		count, beyond := 0, place{n.Pos, n.width}
		for _, a := range n.Requirements {
			if a.Name != q.Name {
				continue
			}
			if count <= q.Occurrences.Max && count+a.Count > q.Occurrences.Max {
				beyond = a.target
			}
			count += a.Count
		}
		if count < q.Occurrences.Min && !n.suspect && !n.Directive("select") && !r.tmpl.mapsRequirement(n.Name, q.Name) {
			r.diags.at(place{n.Pos, n.width}, CodeUnfulfilled, "%s needs %q, a node with the capability %s", n.Type.Name, q.Name, q.Capability).
				see(q.Pos).hint("add under requirements: - %s: NODE%s", q.Name, r.candidates(q))
		}
		if count > q.Occurrences.Max {
			r.diags.at(beyond, CodeUnfulfilled, "%q is fulfilled %d times, at most %d are allowed", q.Name, count, q.Occurrences.Max).see(q.Pos)
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
	if a.Filter == nil {
		a.Filter = q.Filter
	}
	target := r.tmpl.nodes[a.Target]
	if target == nil {
		if a.Target != "" && r.types.Find(NodeTypes, a.Target) == nil {
			r.unknownNode(a.target, a.Target)
			return
		}
		if a.Target == "" && r.tmpl.mapsRequirement(n.Name, a.Name) {
			a.Outside = true
			return
		}
		r.search(n, a, q)
		return
	}
	if target.Type == nil {
		return
	}
	c := r.offering(target.Type, q, a.wantCap)
	if c == nil {
		r.mismatch(a, q, target)
		return
	}
	if !r.sourceAllowed(n, c) {
		r.diags.at(a.target, CodeMismatch, "%s of %s cannot be required by a %s", c.Name, a.Target, n.Type.Name).see(target.Pos).
			hint("it is for: %s", strings.Join(r.sourceTypes(c), ", "))
		return
	}
	r.checkFilter(a.Filter, target.Type)
	a.Capability = c.Name
	r.relate(n, a, q, c)
}

func (r *reader) mismatch(a *Assignment, q *Requirement, target *Node) {
	if a.wantCap != "" && target.Type.Capability(a.wantCap) == nil && r.types.Find(CapabilityTypes, a.wantCap) == nil {
		r.diags.at(a.capPlace, CodeUnknownCapability, "%s has no capability %q", a.Target, a.wantCap).
			suggest(a.wantCap, capabilityNames(target.Type)).see(target.Pos)
		return
	}
	what := q.Capability
	if q.Node != "" && !r.types.Derives(NodeTypes, target.Type.Name, q.Node) {
		what += " as a " + q.Node + " does"
	}
	r.diags.at(a.target, CodeMismatch, "%s is a %s, which offers no %s", a.Target, target.Type.Name, what).
		see(target.Pos).hint("%q must be fulfilled by a node with that capability%s", a.Name, r.candidates(q))
}

// sourceTypes are the node types that may require a capability, by its declaration or its type; none means any.
func (r *reader) sourceTypes(c *Capability) []string {
	if len(c.Sources) > 0 {
		return c.Sources
	}
	if t := r.types.Find(CapabilityTypes, c.Type); t != nil {
		return t.ValidSources
	}
	return nil
}

// sourceAllowed holds a node against valid_source_types.
func (r *reader) sourceAllowed(n *Node, c *Capability) bool {
	sources := r.sourceTypes(c)
	return len(sources) == 0 || slices.ContainsFunc(sources, func(s string) bool { return r.types.Derives(NodeTypes, n.Type.Name, s) })
}

// search finds the node templates that could fulfil a requirement that names a type, a capability or nothing at all
// (section 3.8.2). Which of them does is decided when their values are known.
func (r *reader) search(n *Node, a *Assignment, q *Requirement) {
	a.wantType, a.Target = a.Target, ""
	var first *Capability
	for _, other := range r.tmpl.Nodes {
		if other == n || other.Type == nil || a.wantType != "" && !r.types.Derives(NodeTypes, other.Type.Name, a.wantType) {
			continue
		}
		c := r.offering(other.Type, q, a.wantCap)
		if c == nil || !r.sourceAllowed(n, c) {
			continue
		}
		if first == nil {
			first = c
		}
		a.Candidates = append(a.Candidates, other.Name)
	}
	if first == nil {
		r.diags.at(a.target, CodeUnfulfilled, "no node template can fulfil %q: it takes %s%s", a.Name, capabilityOf(a, q), ofType(a.wantType)).see(q.Pos).
			hint("add one, or name the node that does")
		return
	}
	r.checkFilter(a.Filter, r.tmpl.nodes[a.Candidates[0]].Type)
	r.relate(n, a, q, first)
}

func capabilityOf(a *Assignment, q *Requirement) string { return orElse(a.wantCap, q.Capability) }

func ofType(name string) string {
	if name == "" {
		return ""
	}
	return " of a " + name
}

// Offered is the capability of a node that fulfils an assignment of another, or "".
func (t *Template) Offered(from *Node, a *Assignment, to *Node) string {
	q := from.Type.Requirement(a.Name)
	if c := (&reader{types: t.Types}).offering(to.Type, q, a.wantCap); c != nil {
		return c.Name
	}
	return ""
}

// offering is the capability of a node type that fulfils a requirement, or nil. wanted may name a capability or a
// capability type.
func (r *reader) offering(t *Type, q *Requirement, wanted string) *Capability {
	if q.Node != "" && !r.types.Derives(NodeTypes, t.Name, q.Node) {
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

// checkFilter checks that what a node filter asks for is declared by the type.
func (r *reader) checkFilter(f *Filter, t *Type) {
	if f == nil {
		return
	}
	r.checkConditions(f.Properties, t.Properties, t.Name)
	for _, cf := range f.Capabilities {
		c := r.types.capabilityOf(t, cf.Name)
		if c == nil {
			r.diags.at(place{f.Pos, 1}, CodeUnknownCapability, "%s has no capability %q", t.Name, cf.Name).suggest(cf.Name, capabilityNames(t))
			continue
		}
		r.checkConditions(cf.Properties, r.types.CapabilityProperties(c), c.Type)
	}
}

// capabilityOf finds a capability of a node type by its name or its type's.
func (ts *Types) capabilityOf(t *Type, name string) *Capability {
	if c := t.Capability(name); c != nil {
		return c
	}
	for _, c := range t.Capabilities {
		if ts.Find(CapabilityTypes, name) != nil && ts.Derives(CapabilityTypes, c.Type, name) {
			return c
		}
	}
	return nil
}

// FilterCapability is the capability of a node that a filter means, or nil.
func (t *Template) FilterCapability(n *Node, name string) *Capability {
	return t.Types.capabilityOf(n.Type, name)
}

func (r *reader) checkConditions(cs []Condition, defs []*Property, of string) {
	for _, c := range cs {
		def := find(defs, c.Name)
		if def == nil {
			r.diags.at(place{c.Pos, len(c.Name)}, CodeUnknownProperty, "%s has no property %q", of, c.Name).suggest(c.Name, namesOf(defs))
			continue
		}
		for _, k := range c.Constraints {
			k.resolveBounds(r.types, def, &r.diags)
		}
	}
}

// unknownRelationship reports a relationship that is neither a template nor a type.
func (r *reader) unknownRelationship(a *Assignment) {
	if len(r.tmpl.Relationships) == 0 {
		r.types.unknownType(RelationshipTypes, a.relName, a.relPlace, &r.diags)
		return
	}
	var known []string
	for _, rel := range r.tmpl.Relationships {
		known = append(known, rel.Name)
	}
	known = slices.Concat(known, r.types.Names(RelationshipTypes), sortedKeys(r.types.aliases[RelationshipTypes]))
	r.diags.at(a.relPlace, CodeUnknownType, "there is no relationship template or type %q", a.relName).suggest(a.relName, known)
}

// relate settles the relationship: the one assigned, a named template, a type, or the one the requirement declares.
func (r *reader) relate(n *Node, a *Assignment, q *Requirement, c *Capability) {
	if a.relName != "" {
		if i := slices.IndexFunc(r.tmpl.Relationships, func(x *Relationship) bool { return x.Name == a.relName }); i >= 0 {
			rel := r.tmpl.Relationships[i]
			a.Relationship, a.Properties, a.Interfaces = rel.Type, rel.Properties, rel.Interfaces
		} else if a.Relationship = r.types.Find(RelationshipTypes, r.qualifyAt(a.relPlace, a.relName)); a.Relationship == nil {
			r.unknownRelationship(a)
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
		r.diags.at(a.target, CodeMismatch, "%s cannot lead to the capability %q of type %s", rt.Name, c.Name, c.Type).
			hint("it leads to: %s", strings.Join(rt.ValidTargets, ", "))
	}
	at := place{a.Pos, len(a.Name)}
	if a.relPlace.Line > 0 {
		at = a.relPlace
	}
	r.checkProperties(rt.Properties, a.Properties, rt, at, n)
	if len(a.Interfaces) == 0 && len(q.Interfaces) == 0 && rt.bare {
		a.Interfaces = rt.Interfaces
		return
	}
	declared := mergeBy(rt.Interfaces, q.Interfaces, interfaceName, refineInterface)
	w := whereabouts{self: n, source: n, target: r.tmpl.nodes[a.Target], rel: rt, unsure: a.Target == ""}
	a.Interfaces = r.assignInterfaces(rt, a.Interfaces, declared, w)
}

// qualifyAt qualifies a type named at a place.
func (r *reader) qualifyAt(at place, name string) string {
	for _, d := range r.docs {
		if d.file == at.File && d.space != "" {
			return r.qualify(d, name)
		}
	}
	return name
}

// checkCycles reports nodes that stand on each other in a circle, as the path that leads back.
func (r *reader) checkCycles() {
	const visiting, done = 1, 2
	mark := make(map[*Node]uint8, len(r.tmpl.Nodes))
	var path []*Node
	var visit func(n *Node) bool
	visit = func(n *Node) bool {
		switch {
		case n == nil || mark[n] == done:
			return false
		case mark[n] == visiting:
			var names []string
			for _, p := range path[slices.Index(path, n):] {
				names = append(names, p.Name)
			}
			r.diags.at(place{n.Pos, n.width}, CodeCycle, "these stand on each other in a circle: %s", arrows(append(names, n.Name))).
				hint("remove one of the requirements")
			return true
		}
		mark[n] = visiting
		path = append(path, n)
		for _, a := range n.Requirements {
			if visit(r.tmpl.nodes[a.Target]) {
				return true
			}
		}
		mark[n], path = done, path[:len(path)-1]
		return false
	}
	for _, n := range r.tmpl.Nodes {
		if visit(n) {
			return // one circle often shows as many; the next run shows the next
		}
	}
}
