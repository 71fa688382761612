package tosca

import (
	"strings"
)

// Marks of a type's resolution.
const (
	unresolved = iota
	resolving
	resolved
)

// resolve makes every type hold what it inherits, and checks the names types refer to.
func (ts *Types) resolve(diags *Diagnostics) {
	for _, kind := range typeKinds {
		var derived []derivation
		for _, name := range ts.Names(kind) {
			derived = ts.resolveType(ts.byKind[kind][name], derived, diags)
		}
		for _, d := range derived { // a default may be of a type that comes later, so that all of a kind are whole before one is looked at
			ts.bound(d.t, diags)
		}
		for _, d := range derived {
			ts.checkDeclarations(d.t, diags)
			if d.parent != nil {
				(&refiner{ts, diags}).check(d.parent, d.own)
			}
		}
	}
	for _, kind := range []TypeKind{NodeTypes, RelationshipTypes, CapabilityTypes} {
		for _, t := range ts.byKind[kind] {
			ts.completeType(t)
		}
	}
}

// completeType works out what follows from a resolved type and those it names. Types of the profile are complete, and
// shared by all readers, so nothing of them is written again.
func (ts *Types) completeType(t *Type) {
	if t.complete {
		return
	}
	t.complete = true
	for _, c := range t.Capabilities {
		ts.complete(c)
	}
	for _, i := range t.Interfaces {
		ts.completeInterface(i)
	}
	t.bare = !inheritsFunctions(t.Interfaces)
	t.readLeast()
}

// readLeast reads the sizes that metadata say are the least.
func (t *Type) readLeast() {
	for _, key := range sortedKeys(t.Metadata) {
		if property, ok := strings.CutPrefix(key, metaLeast); ok {
			if size, err := ParseScalar(Size, t.Metadata[key]); err == nil {
				t.least = append(t.least, least{property, size})
			}
		}
	}
}

// completeInterface merges the operations and inputs of an interface's type under what the declaration adds.
func (ts *Types) completeInterface(i *Interface) {
	it := ts.Find(InterfaceTypes, i.Type)
	if i.complete || it == nil {
		return
	}
	i.complete = true
	i.Operations = mergeBy(it.Operations, i.Operations, operationName, refineOperation)
	i.Inputs = mergeBy(it.typeInputs, i.Inputs, parameterName, refineParameter)
	i.Notifications = mergeBy(it.notifications, i.Notifications, operationName, refineOperation)
}

// complete merges what a declared capability adds into what its type declares.
func (ts *Types) complete(c *Capability) {
	ct := ts.Find(CapabilityTypes, c.Type)
	if c.complete || ct == nil {
		return
	}
	c.complete = true
	c.all = mergeBy(ct.Properties, c.Properties, propertyName, refineProperty)
	c.allAttributes = mergeBy(ct.Attributes, c.Attributes, propertyName, refineProperty)
}

// CapabilityProperties are a declared capability's properties: its type's, refined where the node type does so.
func (ts *Types) CapabilityProperties(c *Capability) []*Property {
	if c.all == nil {
		return c.Properties
	}
	return c.all
}

// CapabilityAttributes are a declared capability's attributes, in the same way.
func (ts *Types) CapabilityAttributes(c *Capability) []*Property {
	if c.allAttributes == nil {
		return c.Attributes
	}
	return c.allAttributes
}

// A derivation is a type that holds what it inherits, its parent, if it has one, and what it said itself.
type derivation struct {
	t, parent, own *Type
}

// resolveType has a type hold what it inherits, after its parent, and adds both to those that are derived.
func (ts *Types) resolveType(t *Type, derived []derivation, diags *Diagnostics) []derivation {
	if t.resolved != unresolved {
		return derived
	}
	t.resolved = resolving
	defer func() { t.resolved = resolved }()
	t.ancestors = []string{t.Name}
	d := derivation{t: t, parent: ts.parent(t, diags)}
	if d.parent != nil {
		derived = ts.resolveType(d.parent, derived, diags)
		own := *t
		d.own = &own
		t.inherit(d.parent)
	}
	return append(derived, d)
}

// parent finds the type that t derives from and reports a name that is unknown, of another kind, or leads in a circle.
func (ts *Types) parent(t *Type, diags *Diagnostics) *Type {
	if t.Parent == "" {
		return nil
	}
	p := ts.Find(t.Kind, t.Parent)
	at := ts.mentioned(t.Parent, t.Pos)
	if p == nil {
		if _, primitive := primitives[t.Parent]; t.Kind == DataTypes && (primitive || isDimension(t.Parent) || t.Parent == "list" || t.Parent == "map") {
			t.ancestors = append(t.ancestors, t.Parent)
			return nil
		}
		ts.unknownType(t.Kind, t.Parent, at, diags)
		return nil
	}
	if p.resolved == resolving {
		diags.at(at, CodeTypeCycle, "%s derives from itself through %s", t.Name, p.Name).see(p.Pos).
			hint("derive one of them from a type outside the circle")
		return nil
	}
	return p
}

// mentioned is where a declaration that stands at a place names a type: the first mention of it from there on.
func (ts *Types) mentioned(name string, from Pos) place {
	for _, m := range ts.mentions[name] {
		if m.File == from.File && (m.Line > from.Line || m.Line == from.Line && m.Col >= from.Col) {
			return m
		}
	}
	return place{from, 1}
}

func (ts *Types) unknownType(kind TypeKind, name string, at place, diags *Diagnostics) {
	if other, ok := ts.kindOf(name); ok && other != kind {
		diags.at(at, CodeTypeKind, "%s is a %s, and a %s belongs here", name, other.word(), kind.word())
		return
	}
	known := append(ts.Names(kind), sortedKeys(ts.aliases[kind])...)
	d := diags.at(at, CodeUnknownType, "there is no %s %q", kind.word(), name)
	for _, k := range known {
		if strings.HasSuffix(k, ":"+name) || strings.HasSuffix(k, "."+name) {
			d.hint("did you mean %q?", k) // of another namespace, or without where it is from
			return
		}
	}
	d.suggest(name, known)
}
