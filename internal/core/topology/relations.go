package topology

import (
	"fmt"
	"maps"
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/tosca"
)

// relateAll turns fulfilled requirements into relations and finds what each node stands on.
func (b *builder) relateAll() {
	b.each(func(w *builder, p place) { w.relate(p, b.placed[p]) })
	for _, p := range b.order {
		n := b.placed[p]
		for _, r := range n.Relations {
			if n.Host == nil && (r.Order == Hosted || r.Order == Binds) {
				n.Host = r.Target
			}
		}
	}
	for _, n := range b.design.Nodes {
		n.Base = base(n)
	}
	b.checkBases()
}

// relate turns the requirements of one node into relations.
func (b *builder) relate(p place, n *Node) {
	if len(p.n.Requirements) > 0 {
		n.Relations = make([]Relation, 0, len(p.n.Requirements))
	}
	for _, a := range p.n.Requirements {
		for _, l := range b.lands(p, a) {
			n.Relations = append(n.Relations, b.relation(p, a.Name, l))
		}
	}
	if p.f.outer != nil {
		b.relateOutside(p, n)
	} else if p.f.tmpl.Substitution != nil && !b.options.Partial {
		b.standsAlone(p, n)
	}
}

// standsAlone refuses to raise a template by itself whose nodes need what only the node it stands for is given.
func (b *builder) standsAlone(p place, n *Node) {
	for _, q := range p.n.Type.Requirements {
		if q.Occurrences.Min > 0 && !slices.ContainsFunc(n.Relations, func(r Relation) bool { return r.Name == q.Name }) {
			b.mistake(p.n.Pos, p.n.Width(), tosca.CodeUnfulfilled, fmt.Sprintf("%s needs %q, which only the node is given that this template stands for", n.Name, q.Name),
				"raise a template that uses it, or fulfil the requirement here")
		}
	}
}

// relateOutside adds the relations that substitution maps to requirements which the template itself leaves out, and
// those of the node that is stood for which order all of its parts.
func (b *builder) relateOutside(p place, n *Node) {
	assigned := map[string]bool{}
	for _, a := range p.n.Requirements {
		assigned[a.Name] = true
	}
	mapped := p.f.tmpl.Substitution.Requirements
	for _, outer := range slices.Sorted(maps.Keys(mapped)) {
		m := mapped[outer]
		if m.Node != p.n.Name {
			continue
		}
		if assigned[m.Name] {
			b.ledToNothing(p, outer)
			continue
		}
		found := b.landsOutside(p, m.Name)
		for _, l := range found {
			n.Relations = append(n.Relations, b.relation(p, m.Name, l))
		}
		q := p.n.Type.Requirement(m.Name)
		if len(found) == 0 && q != nil && q.Occurrences.Min > 0 {
			b.mistake(p.f.stands.Pos, p.f.stands.Width(), tosca.CodeUnfulfilled, fmt.Sprintf("%s needs %q, which its part %s stands on", p.f.stands.Name, outer, p.n.Name), "")
		}
	}
	outer := place{p.f.outer, p.f.stands}
	for _, a := range outer.n.Requirements {
		if _, led := mapped[a.Name]; led {
			continue
		}
		if rt := a.Relationship; rt != nil && rt.Metadata[tosca.MetaOrder] != string(Depends) {
			b.mistakeOnce(a.Pos, len(a.Name), tosca.CodeSubstitution, fmt.Sprintf("the template %s, which stands for %s, maps the requirement %q to none of its nodes", p.f.tmpl.Name, outer.n.Name, a.Name),
				"map it under substitution_mappings")
			continue
		}
		for _, l := range b.lands(outer, a) {
			n.Relations = append(n.Relations, Relation{Name: a.Name, Order: Depends, Target: b.placed[l.place], Capability: l.capability})
		}
	}
}

// ledToNothing refuses what the node that is stood for requires, where it is led to a requirement that the template has fulfilled itself.
func (b *builder) ledToNothing(p place, outer string) {
	m := p.f.tmpl.Substitution.Requirements[outer]
	for _, a := range p.f.stands.Requirements {
		if a.Name == outer {
			b.mistakeOnce(a.Pos, len(a.Name), tosca.CodeSubstitution, fmt.Sprintf("the template %s, which stands for %s, maps the requirement %q to %q of its node %s, which it fulfils itself", p.f.tmpl.Name, p.f.stands.Name, outer, m.Name, m.Node),
				"leave it out here, or there")
		}
	}
}

func (b *builder) mistakeOnce(at tosca.Pos, width int, code tosca.Code, message, hint string) {
	for _, d := range b.diags {
		if d.Pos == at && d.Code == code {
			return
		}
	}
	b.mistake(at, width, code, message, hint)
}

// relation is a requirement of p fulfilled where it lands, with the values of the assignment that led there.
func (b *builder) relation(p place, name string, l landing) Relation {
	r := Relation{Name: name, Order: Depends, Target: b.placed[l.place], Capability: l.capability}
	rt := l.by.Relationship
	if rt == nil {
		return r
	}
	if order := rt.Metadata[tosca.MetaOrder]; order != "" {
		r.Order = Ordering(order)
	}
	s := scope{f: l.at.f, self: l.at.n, source: l.at.n, target: l.n, targetFrame: l.f, by: l.by, requirement: name, capability: l.capability}
	if p.f != l.at.f {
		s.sourcePlace = &p // the relation was made outside, for the node that p is a part of
	}
	r.Properties = b.properties(nil, rt.Properties, l.by.Properties, s)
	r.Operations = b.operations(l.by.Interfaces, s)
	if in := declaredWithin(p, name); len(r.Operations) == 0 && in.Relationship != nil && in.Relationship.Is(rt.Name) {
		r.Operations = b.operations(in.Interfaces, s)
	}
	return r
}

// declaredWithin is what a node within a template that stands for another declares for a requirement which that other fulfils.
func declaredWithin(p place, requirement string) tosca.Inner {
	if p.f.outer == nil {
		return tosca.Inner{}
	}
	mapped := p.f.tmpl.Substitution.Requirements
	for _, outer := range slices.Sorted(maps.Keys(mapped)) {
		if in := mapped[outer]; in.Node == p.n.Name && in.Name == requirement {
			return in
		}
	}
	return tosca.Inner{}
}

// base follows hosts down to an instance; the template has no circles.
func base(n *Node) *Node {
	for depth := 0; n != nil && depth < 1000; n, depth = n.Host, depth+1 {
		if n.Builds == kinds.Instance {
			return n
		}
	}
	return nil
}

func (b *builder) checkBases() {
	if b.diags.Errors() > 0 {
		return // a requirement that nothing fulfils is the reason
	}
	for _, n := range b.design.Nodes {
		if (n.Builds == kinds.Software || n.Builds == kinds.Interface) && n.Base == nil {
			b.mistake(n.Pos, n.Source.Width(), tosca.CodeUnfulfilled, fmt.Sprintf("%s stands on no compute node", n.Name),
				"what it is hosted on must itself be hosted, down to a compute node")
		}
		if n.Builds == kinds.None && n.Operations.HasOwn() && n.Base == nil && n.Standing == nil {
			b.mistake(n.Pos, n.Source.Width(), tosca.CodeUnfulfilled, fmt.Sprintf("%s has operations, and no instance to run them on", n.Name),
				"derive its type from one that is hosted, such as tosca.nodes.SoftwareComponent")
		}
	}
}

// count sets the number of instances: the scalable capability's of the instance at the bottom, and for a volume that
// of the instance it is attached to.
func (b *builder) count() {
	for _, n := range b.design.Nodes {
		if n.Builds == kinds.Instance {
			n.Count = b.instances(n)
		}
	}
	for _, n := range b.design.Nodes {
		if n.Base != nil {
			n.Count = n.Base.Count
		}
		for _, r := range n.Relations {
			if r.Order == Attaches && r.Target != nil {
				r.Target.Count = max(r.Target.Count, n.Count)
				r.Target.Base = n
			}
		}
	}
}

// maxInstances bounds what a slip of the finger can ask for.
const maxInstances = 10_000

func (b *builder) instances(n *Node) int {
	for _, c := range n.Capabilities {
		if !c.Scales {
			continue
		}
		low, high := asInt(c.Properties["min_instances"], 1), asInt(c.Properties["max_instances"], 1)
		count := asInt(c.Properties["default_instances"], low)
		if isDeferred(c.Properties["default_instances"]) && !b.options.Partial {
			b.mistake(n.Pos, n.Source.Width(), tosca.CodeFunction, fmt.Sprintf("how many instances there are of %s must be known before anything runs", n.Name),
				"take it from an input")
		}
		if count < low || count > high || count > maxInstances {
			at, width := n.Pos, n.Source.Width()
			if v := n.Source.Capabilities[c.Name]["default_instances"]; v != nil {
				at, width = v.Pos(), v.Width()
			}
			b.mistake(at, width, tosca.CodeConstraint,
				fmt.Sprintf("%s would have %d instances, and its scalable capability allows %d to %d", n.Name, count, low, min(high, maxInstances)),
				"change default_instances, or the bounds min_instances and max_instances")
		}
		return count
	}
	return 1
}

func asInt(v any, fallback int) int {
	if i, ok := v.(int64); ok {
		return int(i)
	}
	return fallback
}
