package tosca

import (
	"embed"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v4"
)

//go:embed profile/*.yaml
var profileFiles embed.FS

// builtins reads the embedded profile once: the standard's normative types and Andamio's own.
var builtins = sync.OnceValue(func() *Types {
	r := &reader{types: newTypes(), tmpl: &Template{Sources: map[string][]byte{}}}
	r.open = func(p string) ([]byte, error) { return profileFiles.ReadFile("profile/" + p) }
	for _, name := range []string{"tosca-simple-1.3.yaml", "andamio.yaml"} {
		r.load(name, Pos{File: name, Line: 1, Col: 1})
	}
	r.gatherAll()
	r.types.resolve(&r.diags)
	if len(r.diags) > 0 {
		panic("the embedded profile has mistakes:\n" + r.diags.Error())
	}
	return r.types
})

// topKeys are the keynames of a service template (section 3.10.1).
var topKeys = []string{
	"tosca_definitions_version", "namespace", "metadata", "description", "dsl_definitions", "repositories", "imports",
	"artifact_types", "data_types", "capability_types", "interface_types", "relationship_types", "node_types",
	"group_types", "policy_types", "topology_template",
}

// gatherAll reads the type definitions of every loaded file.
func (r *reader) gatherAll() {
	for _, doc := range r.files {
		r.keys(doc.root, "a service template", nil, topKeys...)
		r.unsupported(doc.root, "a service template", "repositories")
		for _, kind := range typeKinds {
			for _, p := range r.mapping(doc.root, string(kind)) {
				r.gatherType(kind, p)
			}
		}
	}
}

// typeKeys are the keynames of each kind of type, beside those common to all (section 3.7).
var typeKeys = map[TypeKind][]string{
	NodeTypes:         {"attributes", "properties", "requirements", "capabilities", "interfaces", "artifacts"},
	RelationshipTypes: {"attributes", "properties", "interfaces", "valid_target_types"},
	CapabilityTypes:   {"attributes", "properties", "valid_source_types"},
	InterfaceTypes:    {"inputs", "operations", "notifications"},
	DataTypes:         {"properties", "constraints", "key_schema", "entry_schema"},
	ArtifactTypes:     {"properties", "mime_type", "file_ext"},
	GroupTypes:        {"attributes", "properties", "members"},
	PolicyTypes:       {"properties", "targets", "triggers"},
}

func (r *reader) gatherType(kind TypeKind, p pair) {
	known := append([]string{"derived_from", "version", "metadata", "description"}, typeKeys[kind]...)
	if kind == InterfaceTypes { // older templates put operations straight under the type
		known = append(known, keyNames(p.value)...)
	}
	if p.value.isNull() {
		p.value = node{&yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Line: p.key.Line, Column: p.key.Column}, p.key.file}
	}
	if !r.keys(p.value, "a "+kind.word(), nil, known...) {
		return
	}
	if old := r.types.byKind[kind][p.name]; old != nil {
		r.diags.at(p.key.place(), CodeTypeRedefined, "the %s %s is already defined", kind.word(), p.name).see(old.Pos).
			hint("give it a name of your own and derive it from the other")
		return
	}
	r.unsupported(p.value, "a "+kind.word(), "notifications", "triggers")
	r.types.add(r.typeOf(kind, p))
}

func keyNames(n node) []string {
	var names []string
	if n.Kind == yaml.MappingNode {
		for _, p := range n.pairs() {
			names = append(names, p.name)
		}
	}
	return names
}

func (r *reader) typeOf(kind TypeKind, p pair) *Type {
	n := p.value
	t := &Type{Kind: kind, Name: p.name, Pos: p.key.place().Pos, Parent: r.text(n, "derived_from"),
		Description: r.text(n, "description"), Metadata: r.metadata(n)}
	t.Properties = r.properties(n, "properties")
	t.Attributes = r.properties(n, "attributes")
	switch kind {
	case NodeTypes:
		t.Capabilities = r.capabilityDefs(n)
		t.Requirements = r.requirementDefs(n)
		t.Interfaces = r.interfaces(n)
	case RelationshipTypes:
		t.ValidTargets = r.texts(n, "valid_target_types")
		t.Interfaces = r.interfaces(n)
	case InterfaceTypes:
		t.Operations = r.operationDefs(n)
	case DataTypes:
		t.constraints = r.constraints(n)
		t.entry = r.entrySchema(n)
	case GroupTypes:
		t.ValidTargets = r.texts(n, "members")
	case PolicyTypes:
		t.ValidTargets = r.texts(n, "targets")
	}
	return t
}

// properties reads property, attribute, input and parameter definitions (sections 3.6.10, 3.6.12, 3.6.14).
func (r *reader) properties(n node, key string) []*Property {
	var out []*Property
	for _, p := range r.mapping(n, key) {
		out = append(out, r.property(p))
	}
	return out
}

var propertyKeys = []string{"type", "description", "required", "default", "status", "constraints", "key_schema",
	"entry_schema", "metadata", "value", "external-schema"}

func (r *reader) property(p pair) *Property {
	def := &Property{Name: p.name, Pos: p.key.place().Pos, Required: true, Type: "string"}
	if !r.keys(p.value, "the definition of "+p.name, nil, propertyKeys...) {
		return def
	}
	if t := r.text(p.value, "type"); t != "" {
		def.Type = t
	} else if _, given := p.value.get("value"); !given {
		r.diags.at(p.key.place(), CodeMissingKey, "the definition of %s needs the keyname \"type\"", p.name)
	}
	r.unsupported(p.value, "a definition", "key_schema", "external-schema")
	def.Description = r.text(p.value, "description")
	def.Required = r.flag(p.value, "required", true)
	def.Constraints = r.constraints(p.value)
	def.Entry = r.entrySchema(p.value)
	def.Metadata = r.metadata(p.value)
	if d, ok := p.value.get("default"); ok {
		def.Default = r.value(d)
	}
	return def
}

// entrySchema reads entry_schema, a type name or a schema definition (section 3.6.9); nil if there is none.
func (r *reader) entrySchema(n node) *Property {
	e, ok := n.get("entry_schema")
	if !ok {
		return nil
	}
	def := &Property{Name: "an entry", Pos: e.place().Pos}
	if e.Kind == yaml.ScalarNode {
		def.Type = e.Value
		return def
	}
	r.keys(e, "an entry schema", []string{"type"}, "type", "description", "constraints", "key_schema", "entry_schema")
	def.Type = r.text(e, "type")
	def.Constraints = r.constraints(e)
	def.Entry = r.entrySchema(e)
	return def
}

func (r *reader) capabilityDefs(n node) []*Capability {
	var out []*Capability
	for _, p := range r.mapping(n, "capabilities") {
		c := &Capability{Name: p.name, Pos: p.key.place().Pos, Occurrences: Occurrences{1, Unbounded}}
		out = append(out, c)
		if p.value.Kind == yaml.ScalarNode {
			c.Type = p.value.Value
			continue
		}
		if !r.keys(p.value, "a capability", []string{"type"}, "type", "description", "properties", "attributes",
			"valid_source_types", "occurrences") {
			continue
		}
		c.Type = r.text(p.value, "type")
		c.Properties = r.properties(p.value, "properties")
		c.Attributes = r.properties(p.value, "attributes")
		c.Sources = r.texts(p.value, "valid_source_types")
		c.Occurrences = r.occurrences(p.value, c.Occurrences)
	}
	return out
}

func (r *reader) requirementDefs(n node) []*Requirement {
	var out []*Requirement
	for _, item := range r.list(n, "requirements") {
		if item.Kind != yaml.MappingNode || len(item.Content) != 2 {
			r.diags.at(item.place(), CodeShape, "a requirement is one name with its definition")
			continue
		}
		out = append(out, r.requirementDef(item.pairs()[0]))
	}
	return out
}

func (r *reader) requirementDef(p pair) *Requirement {
	q := &Requirement{Name: p.name, Pos: p.key.place().Pos, Occurrences: Occurrences{1, 1}}
	if p.value.Kind == yaml.ScalarNode {
		q.Capability = p.value.Value
		return q
	}
	if !r.keys(p.value, "a requirement", []string{"capability"}, "description", "capability", "node", "relationship",
		"occurrences", "node_filter") {
		return q
	}
	r.unsupported(p.value, "a requirement", "node_filter")
	q.Capability = r.text(p.value, "capability")
	q.Node = r.text(p.value, "node")
	if rel, ok := p.value.get("relationship"); ok && rel.Kind == yaml.MappingNode {
		r.keys(rel, "a relationship", []string{"type"}, "type", "interfaces")
		q.Relationship = r.text(rel, "type")
	} else {
		q.Relationship = r.text(p.value, "relationship")
	}
	q.Occurrences = r.occurrences(p.value, q.Occurrences)
	return q
}

// occurrences reads [ low, high ], where high may be UNBOUNDED.
func (r *reader) occurrences(n node, fallback Occurrences) Occurrences {
	v, ok := n.get("occurrences")
	if !ok {
		return fallback
	}
	if v.Kind == yaml.SequenceNode && len(v.Content) == 2 {
		low, errLow := strconv.Atoi(v.child(0).Value)
		high, errHigh := strconv.Atoi(v.child(1).Value)
		if v.child(1).Value == "UNBOUNDED" {
			high, errHigh = Unbounded, nil
		}
		if errLow == nil && errHigh == nil && low >= 0 && low <= high {
			return Occurrences{low, high}
		}
	}
	r.diags.at(v.place(), CodeShape, "occurrences are two numbers, the lower first").hint("for example [ 0, UNBOUNDED ]")
	return fallback
}

// operationDefs reads an interface type's operations, whether under "operations" or straight under the type.
func (r *reader) operationDefs(n node) []*Operation {
	if ops, ok := n.get("operations"); ok {
		return r.operations(ops.pairs())
	}
	var direct []pair
	for _, p := range n.pairs() {
		if !strings.Contains(" derived_from version metadata description inputs ", " "+p.name+" ") {
			direct = append(direct, p)
		}
	}
	return r.operations(direct)
}
