package tosca

import (
	"maps"
	"slices"
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
		for _, name := range ts.Names(kind) {
			ts.resolveType(ts.byKind[kind][name], diags)
		}
	}
}

func (ts *Types) resolveType(t *Type, diags *Diagnostics) {
	if t.resolved != unresolved {
		return
	}
	t.resolved = resolving
	defer func() { t.resolved = resolved }()
	t.ancestors = []string{t.Name}
	if parent := ts.parent(t, diags); parent != nil {
		ts.resolveType(parent, diags)
		t.inherit(parent)
	}
	ts.checkDeclarations(t, diags)
}

// parent finds the type that t derives from and reports a name that is unknown, of another kind, or leads in a circle.
func (ts *Types) parent(t *Type, diags *Diagnostics) *Type {
	if t.Parent == "" {
		return nil
	}
	p := ts.Find(t.Kind, t.Parent)
	at := place{t.Pos, len(t.Name)}
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

func (ts *Types) unknownType(kind TypeKind, name string, at place, diags *Diagnostics) {
	if other, ok := ts.kindOf(name); ok && other != kind {
		diags.at(at, CodeTypeKind, "%s is a %s, and a %s belongs here", name, other.word(), kind.word())
		return
	}
	known := append(ts.Names(kind), sortedKeys(ts.aliases[kind])...)
	diags.at(at, CodeUnknownType, "there is no %s %q", kind.word(), name).suggest(name, known)
}

// inherit merges the parent's declarations under t's own; a declaration of the same name refines the parent's.
func (t *Type) inherit(p *Type) {
	t.ancestors = append(t.ancestors, p.ancestors...)
	meta := maps.Clone(p.Metadata)
	delete(meta, "shorthand_name")
	maps.Copy(meta, t.Metadata)
	t.Metadata = meta
	t.Properties = mergeBy(p.Properties, t.Properties, func(x *Property) string { return x.Name }, refineProperty)
	t.Attributes = mergeBy(p.Attributes, t.Attributes, func(x *Property) string { return x.Name }, refineProperty)
	t.Capabilities = mergeBy(p.Capabilities, t.Capabilities, func(x *Capability) string { return x.Name }, refineCapability)
	t.Requirements = mergeBy(p.Requirements, t.Requirements, func(x *Requirement) string { return x.Name }, refineRequirement)
	t.Interfaces = mergeBy(p.Interfaces, t.Interfaces, func(x *Interface) string { return x.Name }, refineInterface)
	t.Operations = mergeBy(p.Operations, t.Operations, func(x *Operation) string { return x.Name }, refineOperation)
	if len(t.ValidTargets) == 0 {
		t.ValidTargets = p.ValidTargets
	}
	if t.entry == nil {
		t.entry = p.entry
	}
	t.constraints = append(slices.Clone(p.constraints), t.constraints...)
}

// mergeBy is the parent's list with entries of the same name refined by the child's, then the child's new ones.
func mergeBy[T any](parent, child []*T, name func(*T) string, refine func(parent, child *T) *T) []*T {
	out := slices.Clone(parent)
	for _, c := range child {
		i := slices.IndexFunc(out, func(p *T) bool { return name(p) == name(c) })
		if i < 0 {
			out = append(out, c)
			continue
		}
		out[i] = refine(out[i], c)
	}
	return out
}

func refineProperty(p, c *Property) *Property {
	r := *c
	if r.Type == "" {
		r.Type = p.Type
	}
	if r.Default == nil {
		r.Default = p.Default
	}
	if r.Entry == nil {
		r.Entry = p.Entry
	}
	if r.Description == "" {
		r.Description = p.Description
	}
	r.Constraints = append(slices.Clone(p.Constraints), c.Constraints...)
	return &r
}

func refineCapability(p, c *Capability) *Capability {
	r := *c
	if r.Type == "" {
		r.Type = p.Type
	}
	if len(r.Sources) == 0 {
		r.Sources = p.Sources
	}
	name := func(x *Property) string { return x.Name }
	r.Properties = mergeBy(p.Properties, c.Properties, name, refineProperty)
	r.Attributes = mergeBy(p.Attributes, c.Attributes, name, refineProperty)
	return &r
}

func refineRequirement(p, c *Requirement) *Requirement {
	r := *c
	if r.Capability == "" {
		r.Capability = p.Capability
	}
	if r.Node == "" {
		r.Node = p.Node
	}
	if r.Relationship == "" {
		r.Relationship = p.Relationship
	}
	return &r
}

func refineInterface(p, c *Interface) *Interface {
	r := *c
	if r.Type == "" {
		r.Type = p.Type
	}
	r.Inputs = mergeBy(p.Inputs, c.Inputs, func(x *Parameter) string { return x.Name }, keepChild)
	r.Operations = mergeBy(p.Operations, c.Operations, func(x *Operation) string { return x.Name }, refineOperation)
	return &r
}

func keepChild(_, c *Parameter) *Parameter { return c }

func refineOperation(p, c *Operation) *Operation {
	r := *c
	if r.Script == "" {
		r.Script = p.Script
	}
	if r.Timeout == 0 {
		r.Timeout = p.Timeout
	}
	r.Inputs = mergeBy(p.Inputs, c.Inputs, func(x *Parameter) string { return x.Name }, keepChild)
	return &r
}

// checkDeclarations checks that the types a resolved type names exist, and the defaults it gives.
func (ts *Types) checkDeclarations(t *Type, diags *Diagnostics) {
	for _, p := range slices.Concat(t.Properties, t.Attributes) {
		ts.checkProperty(p, diags)
	}
	for _, c := range t.constraints {
		c.resolveBounds(ts, &Property{Name: t.Name, Type: t.base(), Entry: t.entry}, diags)
	}
	for _, c := range t.Capabilities {
		ts.want(CapabilityTypes, c.Type, c.Pos, diags)
		for _, p := range slices.Concat(c.Properties, c.Attributes) {
			ts.checkProperty(p, diags)
		}
	}
	for _, q := range t.Requirements {
		ts.want(CapabilityTypes, q.Capability, q.Pos, diags)
		if q.Node != "" {
			ts.want(NodeTypes, q.Node, q.Pos, diags)
		}
		if q.Relationship != "" {
			ts.want(RelationshipTypes, q.Relationship, q.Pos, diags)
		}
	}
	for _, i := range t.Interfaces {
		ts.want(InterfaceTypes, i.Type, i.Pos, diags)
	}
}

func (ts *Types) want(kind TypeKind, name string, at Pos, diags *Diagnostics) {
	if ts.Find(kind, name) == nil {
		ts.unknownType(kind, name, place{at, 1}, diags)
	}
}

// checkProperty checks the type a property declares, its constraints' arguments and its default.
func (ts *Types) checkProperty(p *Property, diags *Diagnostics) {
	if !ts.knownDataType(p.Type) {
		ts.unknownType(DataTypes, p.Type, place{p.Pos, len(p.Name)}, diags)
		p.Type = "any" // follow-on mistakes would only repeat this one
		return
	}
	if p.Entry != nil {
		ts.checkProperty(p.Entry, diags)
	}
	for _, c := range p.Constraints {
		c.resolveBounds(ts, p, diags)
	}
	if p.Default != nil && p.Default.Kind != Call {
		ts.Coerce(p.Default, p, diags)
	}
}

func (ts *Types) knownDataType(name string) bool {
	_, primitive := primitives[name]
	return primitive || isDimension(name) || name == "list" || name == "map" || ts.Find(DataTypes, name) != nil
}
