package topology

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/tosca"
)

// getProperty evaluates [ NODE, NAME ], [ NODE, CAPABILITY, NAME ] or [ NODE, REQUIREMENT, NAME ], then any nested
// keys or indexes (section 4.4.2).
func (b *builder) getProperty(v *tosca.Value, s scope) (any, bool) {
	path := texts(v.Items)
	if path[0] == "SELF" && s.by != nil && s.by.Relationship.Property(path[1]) != nil {
		return b.relationshipProperty(v, path, s)
	}
	p, capability, rest, ok := b.lead(v, path, s)
	if !ok {
		return nil, false
	}
	x, ok := b.property(v, p, capability, rest[0])
	if !ok || isDeferred(x) {
		return x, ok
	}
	return b.nested(v, x, rest[1:])
}

// relationshipProperty evaluates a property of the relationship itself, which SELF is in its interfaces.
func (b *builder) relationshipProperty(v *tosca.Value, path []string, s scope) (any, bool) {
	def := s.by.Relationship.Property(path[1])
	value := s.by.Properties[path[1]]
	if value == nil {
		value = def.Default
	}
	if value == nil {
		word := argument(v, path[1])
		b.mistake(word.Pos(), word.Width(), tosca.CodeUnknownRef, fmt.Sprintf("the relationship has no value for the property %q", path[1]), "give it a value or a default")
		return nil, false
	}
	x, ok := b.typed(def, value, s)
	if !ok || isDeferred(x) {
		return x, ok
	}
	return b.nested(v, x, path[2:])
}

// declared are the definitions of a node's properties, or of one of its capabilities', with what is assigned.
func (b *builder) declared(n *tosca.Node, capability string) ([]*tosca.Property, map[string]*tosca.Value) {
	if capability == "" {
		return n.Type.Properties, n.Properties
	}
	return b.tmpl.Types.CapabilityProperties(n.Type.Capability(capability)), n.Capabilities[capability]
}

// propertyID names a property of a node or capability, to find circles.
type propertyID struct {
	place
	capability, name string
}

func (id propertyID) String() string {
	if id.capability == "" {
		return id.f.prefix + id.n.Name + "." + id.name
	}
	return id.f.prefix + id.n.Name + "." + id.capability + "." + id.name
}

// property evaluates one property of a node, refusing circles among properties. v is where it is asked for, nil for a
// filter.
func (b *builder) property(v *tosca.Value, p place, capability, name string) (any, bool) {
	defs, given := b.declared(p.n, capability)
	if p.n.Directive("select") {
		st := b.selected(p)
		if st == nil { // not known yet, or reported where it is selected
			return Deferred{"get_attribute", []any{p.f.prefix + p.n.Name, name}}, b.options.NoSites
		}
		if x, ok := st.property(capability, name); ok {
			return x, true
		}
	}
	for _, def := range defs {
		if def.Name != name {
			continue
		}
		value := given[name]
		if at, of, ok := b.outside(p, capability, name); ok {
			return b.property(v, at, of, name)
		}
		if value == nil && capability != "" {
			if x, ok := b.mappedCapability(v, p, capability, name); ok {
				return x, true
			}
		}
		if value == nil {
			value = def.Default
		}
		if value == nil {
			break
		}
		if value.Kind == tosca.Literal {
			return b.typed(def, value, scope{f: p.f, self: p.n})
		}
		id := propertyID{p, capability, name}
		if b.open[id] {
			b.circle(value, id)
			return nil, false
		}
		b.open[id] = true
		b.path = append(b.path, id)
		defer func() { delete(b.open, id); b.path = b.path[:len(b.path)-1] }()
		return b.typed(def, value, scope{f: p.f, self: p.n})
	}
	if v != nil {
		word := argument(v, name)
		b.mistake(word.Pos(), word.Width(), tosca.CodeUnknownRef, fmt.Sprintf("%s has no value for the property %q", p.n.Name, name), "give it a value or a default")
	}
	return nil, false
}

// mappedCapability is a property of a capability that a node within has in place of the node stood for.
func (b *builder) mappedCapability(v *tosca.Value, p place, capability, name string) (any, bool) {
	in := b.inner(p.f, p.n)
	if in == nil {
		return nil, false
	}
	m, ok := in.tmpl.Substitution.Capabilities[capability]
	if !ok {
		return nil, false
	}
	n := in.tmpl.Node(m.Node)
	defs, given := b.declared(n, m.Name)
	for _, d := range defs {
		if d.Name == name && (given[name] != nil || d.Default != nil) {
			return b.property(v, place{in, n}, m.Name, name)
		}
	}
	return nil, false
}

// outside is where a property of a capability within is given: at the node that is stood for, whose capability it is, and which is used by others and so knows
// better than the template what it is to be.
func (b *builder) outside(p place, capability, name string) (at place, of string, ok bool) {
	if p.f.outer == nil || capability == "" {
		return place{}, "", false
	}
	mapped := p.f.tmpl.Substitution.Capabilities
	for _, outer := range slices.Sorted(maps.Keys(mapped)) {
		if in := mapped[outer]; in.Node == p.n.Name && in.Name == capability && p.f.stands.Capabilities[outer][name] != nil {
			return place{p.f.outer, p.f.stands}, outer, true
		}
	}
	return place{}, "", false
}

// givenOutside has a capability have what the node that is stood for gives to it.
func (b *builder) givenOutside(p place, c *tosca.Capability, to *Capability) {
	own := false
	for _, def := range b.tmpl.Types.CapabilityProperties(c) {
		at, of, ok := b.outside(p, c.Name, def.Name)
		if !ok {
			continue
		}
		x, ok := b.property(nil, at, of, def.Name)
		if !ok {
			continue
		}
		if !own { // what was worked out may be that of all nodes of the type
			to.Properties, own = maps.Clone(to.Properties), true
		}
		to.Properties[def.Name] = x
	}
}

// circle reports properties that depend on themselves, as the path that leads back.
func (b *builder) circle(v *tosca.Value, id propertyID) {
	from := slices.Index(b.path, id)
	var names []string
	for _, p := range b.path[from:] {
		names = append(names, p.String())
	}
	sorted := slices.Sorted(slices.Values(names))
	if slices.ContainsFunc(b.circles, func(c []string) bool { return slices.Equal(c, sorted) }) {
		return // the same circle, entered at another of its values
	}
	b.circles = append(b.circles, sorted)
	b.mistake(v.Pos(), v.Width(), tosca.CodeCycle, "these values depend on each other in a circle: "+strings.Join(append(names, id.String()), " → "),
		"give one of them a value of its own")
}
