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

// normativeNames are how names of the standard's types begin: what follows is short for them (section 5.1).
var normativeNames = map[TypeKind]string{DataTypes: "tosca.datatypes.", ArtifactTypes: "tosca.artifacts.", InterfaceTypes: "tosca.interfaces.", CapabilityTypes: "tosca.capabilities.",
	RelationshipTypes: "tosca.relationships.", NodeTypes: "tosca.nodes.", GroupTypes: "tosca.groups.", PolicyTypes: "tosca.policies."}

// word is the kind in the singular, for messages.
func (k TypeKind) word() string {
	return strings.ReplaceAll(strings.TrimSuffix(string(k), "s"), "_", " ")
}

// Unbounded is the upper bound of occurrences without limit.
const Unbounded = int(^uint(0) >> 1)

// Occurrences is how often something may appear, both bounds included.
type Occurrences struct{ Min, Max int }

// least is a property's size below which its unit is doubted.
type least struct {
	property string
	size     Scalar
}

// Status is how far a property can be relied on (section 3.6.10.2).
type Status string

// The statuses of the standard.
const (
	Supported    Status = "supported"
	Unsupported  Status = "unsupported"
	Experimental Status = "experimental"
	Deprecated   Status = "deprecated"
)

// Property declares a property, an attribute, an input or an operation's parameter.
type Property struct {
	Name        string
	Description string
	Type        string
	Required    bool
	Default     *Value
	Status      Status
	Constraints []*Constraint
	// Entry describes the entries of a list or map, Key the keys of a map; nil means strings.
	Entry, Key *Property
	Metadata   map[string]string
	Pos        Pos

	// saysRequired tells a definition that leaves "required" to the one it refines.
	saysRequired bool
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
	Description string
	Type        string
	Properties  []*Property
	Attributes  []*Property
	// Sources are the node types that may require it; none means any.
	Sources     []string
	Occurrences Occurrences
	Pos         Pos

	saysOccurrences bool
	// all are the capability type's properties and attributes, refined by Properties and Attributes.
	all, allAttributes []*Property
	complete           bool
}

// Requirement declares what a node of the type needs of another.
type Requirement struct {
	Name         string
	Description  string
	Capability   string
	Node         string
	Relationship string
	// Interfaces are what the definition adds to the relationship's.
	Interfaces  []*Interface
	Filter      *Filter
	Occurrences Occurrences
	Pos         Pos

	saysOccurrences bool
}

// Operation is an operation of an interface: declared by a type, assigned by a template, or both.
type Operation struct {
	Name        string
	Description string
	// Script is the path of what implements it, or the name of an artifact of the node until the template is checked.
	Script string
	// Dependencies are the paths of files that must lie beside the script when it runs.
	Dependencies []string
	// Host says where it runs: SELF, HOST, SOURCE, TARGET or ORCHESTRATOR; "" where the standard says.
	Host   string
	Inputs []*Parameter
	// Outputs say which attributes take what the operation puts out.
	Outputs []OutputMapping
	// Timeout in seconds, 0 if none is given.
	Timeout float64
	// named is where the operation is named, dependencies where each file beside its script is.
	named        place
	dependencies []Pos
	Pos          Pos
}

// OutputMapping puts an output of an operation into an attribute (section 3.6.15): Path is an entity, then optionally a
// capability, then the attribute.
type OutputMapping struct {
	Name string
	Path []string
	Pos  Pos

	// words is where each of the path stands.
	words []node
}

// Parameter is a named value given to an operation, with its declaration where a type declares it. Value is nil where
// nothing is assigned.
type Parameter struct {
	Name  string
	Value *Value
	Def   *Property
}

// Interface is a named set of operations. Notifications are operations that something outside calls (section 3.6.19).
type Interface struct {
	Name          string
	Type          string
	Inputs        []*Parameter
	Operations    []*Operation
	Notifications []*Operation
	Pos           Pos

	complete bool
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
	Version     string
	Pos         Pos

	Properties   []*Property
	Attributes   []*Property
	Capabilities []*Capability
	Requirements []*Requirement
	Interfaces   []*Interface
	// Operations are those of an interface type.
	Operations []*Operation
	Artifacts  []*Artifact
	// ValidTargets are capability types (relationship types), node types (group and policy types).
	ValidTargets []string
	// ValidSources are node types (capability types).
	ValidSources []string
	// Triggers are a policy type's.
	Triggers []*Trigger
	// MimeType and Extensions belong to artifact types.
	MimeType   string
	Extensions []string

	// typeInputs and notifications are an interface type's.
	typeInputs    []*Parameter
	notifications []*Operation
	// ancestors are the type's own name and those it derives from, nearest first.
	ancestors []string
	// constraints and entry belong to data types that refine a primitive.
	constraints []*Constraint
	entry, key  *Property
	resolved    int
	// least are sizes below which a unit is doubted, from metadata; bare says that no operation has anything to check.
	least []least
	bare  bool
	// complete says that what follows from the whole of the types has been worked out.
	complete bool
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

// FindOperation returns the interface and operation named INTERFACE.OPERATION, where the interface goes by its name or
// its type's.
func (t *Type) FindOperation(name string) (*Interface, *Operation, bool) {
	at := strings.LastIndexByte(name, '.')
	if at < 0 {
		return nil, nil, false
	}
	for _, i := range t.Interfaces {
		if i.Name == name[:at] || i.Type == name[:at] {
			if op := i.Operation(name[at+1:]); op != nil {
				return i, op, true
			}
		}
	}
	return nil, nil, false
}

func find(ps []*Property, name string) *Property {
	for _, p := range ps {
		if p.Name == name {
			return p
		}
	}
	return nil
}

func (t *Type) propertyNames() []string { return namesOf(t.Properties) }

func namesOf(ps []*Property) []string {
	names := make([]string, len(ps))
	for i, p := range ps {
		names[i] = p.Name
	}
	return names
}

// Is reports whether the type is, or derives from, the named type.
func (t *Type) Is(name string) bool { return slices.Contains(t.ancestors, name) }

// Abstract reports that nothing can be built of the type itself: it has to be substituted or selected.
func (t *Type) Abstract() bool { return t.Metadata[MetaAbstract] == "true" }

// Keys of metadata under which a type says what the planner must know of it.
const (
	MetaBuilds  = "andamio.builds"
	MetaOrder   = "andamio.order"
	MetaAnswers = "andamio.answers"
	MetaPublic  = "andamio.public"
	MetaScales  = "andamio.scales"
	MetaMetrics = "andamio.metrics"
	// MetaAppliance is on types of software: the service of a site, such as a load balancer, that does what the software does on an instance of its own. Where a site
	// has it, it is built in the place of that instance.
	MetaAppliance = "andamio.appliance"
	MetaRule      = "andamio.rule"
	MetaAbstract  = "andamio.abstract"
	MetaImage     = "andamio.image"
	// MetaShipped is on abstract node types: the folder of the template that comes with Andamio and stands for a node where nothing is imported that does.
	MetaShipped = "andamio.shipped"
	metaLeast   = "andamio.least."
)

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
	// mentions are the places where the declarations of a template name a type, in the order of the files.
	mentions map[string][]place
}

func newTypes() *Types {
	ts := &Types{map[TypeKind]map[string]*Type{}, map[TypeKind]map[string]string{}, map[string][]place{}}
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
	if short, normative := strings.CutPrefix(t.Name, normativeNames[t.Kind]); normative {
		ts.alias(t, short)
		ts.alias(t, strings.TrimPrefix(short, "network.")) // as section 8 has those of networks
	}
	if short := t.Metadata["shorthand_name"]; short != "" {
		ts.alias(t, short)
	}
}

// alias has a type be found by a short name too, and by that with the standard's prefix.
func (ts *Types) alias(t *Type, short string) {
	ts.aliases[t.Kind][short] = t.Name
	ts.aliases[t.Kind]["tosca:"+short] = t.Name
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
