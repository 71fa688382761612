package tosca

import (
	"slices"
	"strings"
)

// TypeKind is one of the standard's kinds of type (section 3.7).
type TypeKind string

// The kinds, named by the keyname under which a template defines them.
const (
	NodeTypes         TypeKind = "node_types"
	RelationshipTypes TypeKind = "relationship_types"
	CapabilityTypes   TypeKind = "capability_types"
	InterfaceTypes    TypeKind = "interface_types"
	DataTypes         TypeKind = "data_types"
	ArtifactTypes     TypeKind = "artifact_types"
	GroupTypes        TypeKind = "group_types"
	PolicyTypes       TypeKind = "policy_types"
)

var typeKinds = []TypeKind{DataTypes, ArtifactTypes, InterfaceTypes, CapabilityTypes, RelationshipTypes, NodeTypes, GroupTypes, PolicyTypes}

// word is the kind in the singular, for messages.
func (k TypeKind) word() string {
	return strings.ReplaceAll(strings.TrimSuffix(string(k), "s"), "_", " ")
}

// Unbounded is the upper bound of occurrences without limit.
const Unbounded = int(^uint(0) >> 1)

// Occurrences is how often something may appear, both bounds included.
type Occurrences struct{ Min, Max int }

// Property declares a property, an attribute, an input or an operation's parameter.
type Property struct {
	Name        string
	Description string
	Type        string
	Required    bool
	Default     *Value
	Constraints []*Constraint
	// Entry describes the entries of a list or map; nil means strings.
	Entry    *Property
	Metadata map[string]string
	Pos      Pos
}

func (p *Property) entry() *Property {
	if p.Entry == nil {
		return &Property{Name: p.Name, Type: "string"}
	}
	return p.Entry
}

// Capability declares what a node of the type offers to others.
type Capability struct {
	Name        string
	Type        string
	Properties  []*Property
	Attributes  []*Property
	Sources     []string
	Occurrences Occurrences
	Pos         Pos
}

// Requirement declares what a node of the type needs of another.
type Requirement struct {
	Name         string
	Capability   string
	Node         string
	Relationship string
	Occurrences  Occurrences
	Pos          Pos
}

// Operation is an operation of an interface: declared by a type, assigned by a template, or both.
type Operation struct {
	Name   string
	Script string
	Inputs []*Parameter
	// Timeout in seconds, 0 if none is given.
	Timeout float64
	Pos     Pos
}

// Parameter is a named value given to an operation.
type Parameter struct {
	Name  string
	Value *Value
}

// Interface is a named set of operations.
type Interface struct {
	Name       string
	Type       string
	Inputs     []*Parameter
	Operations []*Operation
	Pos        Pos
}

// Operation returns the operation of that name, or nil.
func (i *Interface) Operation(name string) *Operation {
	for _, op := range i.Operations {
		if op.Name == name {
			return op
		}
	}
	return nil
}

// Type is a type definition of any kind. After resolution it holds what it inherits.
type Type struct {
	Kind        TypeKind
	Name        string
	Parent      string
	Description string
	Metadata    map[string]string
	Pos         Pos

	Properties   []*Property
	Attributes   []*Property
	Capabilities []*Capability
	Requirements []*Requirement
	Interfaces   []*Interface
	// Operations are those of an interface type.
	Operations []*Operation
	// ValidTargets are capability types (relationship types), node types (group and policy types).
	ValidTargets []string

	// ancestors are the type's own name and those it derives from, nearest first.
	ancestors []string
	// constraints and entry belong to data types that refine a primitive.
	constraints []*Constraint
	entry       *Property
	resolved    int
}

// Property returns the declared property of that name, or nil.
func (t *Type) Property(name string) *Property { return find(t.Properties, name) }

// Attribute returns the declared attribute of that name, or nil. Every property is an attribute too (section 3.6.12).
func (t *Type) Attribute(name string) *Property {
	if a := find(t.Attributes, name); a != nil {
		return a
	}
	return t.Property(name)
}

// Capability returns the declared capability of that name, or nil.
func (t *Type) Capability(name string) *Capability {
	for _, c := range t.Capabilities {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// Requirement returns the declared requirement of that name, or nil.
func (t *Type) Requirement(name string) *Requirement {
	for _, q := range t.Requirements {
		if q.Name == name {
			return q
		}
	}
	return nil
}

// Interface returns the declared interface of that name, or nil.
func (t *Type) Interface(name string) *Interface {
	for _, i := range t.Interfaces {
		if i.Name == name {
			return i
		}
	}
	return nil
}

func find(ps []*Property, name string) *Property {
	for _, p := range ps {
		if p.Name == name {
			return p
		}
	}
	return nil
}

func (t *Type) propertyNames() []string {
	names := make([]string, len(t.Properties))
	for i, p := range t.Properties {
		names[i] = p.Name
	}
	return names
}

// Is reports whether the type is, or derives from, the named type.
func (t *Type) Is(name string) bool { return slices.Contains(t.ancestors, name) }

// base is the primitive that a data type refines, string if it names none.
func (t *Type) base() string {
	for _, a := range t.ancestors[1:] {
		if _, primitive := primitives[a]; primitive || isDimension(a) || a == "list" || a == "map" {
			return a
		}
	}
	if t.Parent != "" && len(t.ancestors) == 1 {
		return t.Parent
	}
	return "any"
}

// Types is every type that is known, by kind and name. Names may be short ("Compute") or prefixed ("tosca:Compute")
// where the standard allows it (section 5.1).
type Types struct {
	byKind  map[TypeKind]map[string]*Type
	aliases map[TypeKind]map[string]string
}

func newTypes() *Types {
	ts := &Types{map[TypeKind]map[string]*Type{}, map[TypeKind]map[string]string{}}
	for _, k := range typeKinds {
		ts.byKind[k], ts.aliases[k] = map[string]*Type{}, map[string]string{}
	}
	return ts
}

// Find returns the type of that kind and name, or nil.
func (ts *Types) Find(kind TypeKind, name string) *Type {
	if t := ts.byKind[kind][name]; t != nil {
		return t
	}
	return ts.byKind[kind][ts.aliases[kind][name]]
}

// Names lists the names of a kind, sorted.
func (ts *Types) Names(kind TypeKind) []string { return sortedKeys(ts.byKind[kind]) }

// Derives reports whether the named type is, or derives from, the other. Unknown names derive from nothing.
func (ts *Types) Derives(kind TypeKind, name, from string) bool {
	t, f := ts.Find(kind, name), ts.Find(kind, from)
	return t != nil && f != nil && t.Is(f.Name)
}

func (ts *Types) add(t *Type) {
	ts.byKind[t.Kind][t.Name] = t
	if short := t.Metadata["shorthand_name"]; short != "" {
		ts.aliases[t.Kind][short] = t.Name
		ts.aliases[t.Kind]["tosca:"+short] = t.Name
	}
}

// kindOf returns the kind under which a name is defined, for messages about a type of the wrong kind.
func (ts *Types) kindOf(name string) (TypeKind, bool) {
	for _, k := range typeKinds {
		if ts.Find(k, name) != nil {
			return k, true
		}
	}
	return "", false
}
