package tosca

import (
	"embed"
	"slices"
	"strconv"
	"strings"
	"sync"
)

//go:embed profile/*.yaml
var profileFiles embed.FS

// builtins reads the embedded profile once: the standard's normative types and Andamio's own.
var builtins = sync.OnceValue(func() *Types {
	r := newReader(func(p string) ([]byte, error) { return profileFiles.ReadFile("profile/" + p) }, newTypes())
	for _, name := range []string{"tosca-simple-1.3.yaml", "andamio.yaml"} {
		r.load(name, "", Pos{File: name, Line: 1, Col: 1})
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
	"template_name", "template_author", "template_version", // written beside metadata by older templates
}

// gatherAll reads the type definitions of every loaded document. The names come first, so that a document's own types
// can be told from those of the same name elsewhere.
func (r *reader) gatherAll() {
	r.gathering = true
	defer func() { r.gathering = false }()
	for _, doc := range r.docs {
		r.keys(doc.root, "a service template", nil, topKeys...)
		if doc.space == "" {
			continue
		}
		for _, kind := range typeKinds {
			for _, p := range r.mapping(doc.root, string(kind)) {
				r.spaced[joinSpace(doc.space, p.name)] = true
			}
		}
	}
	for _, doc := range r.docs {
		for _, kind := range typeKinds {
			for _, p := range r.mapping(doc.root, string(kind)) {
				r.gatherType(kind, p)
			}
		}
	}
}

// qualify is the full name of a type that a document names: one of its own namespace if there is one.
func (r *reader) qualify(doc *document, name string) string {
	if doc.space == "" {
		return name
	}
	if full := joinSpace(doc.space, name); r.spaced[full] {
		return full
	}
	return name
}

// typeName returns the type named under a key, qualified, or "".
func (r *reader) typeName(n node, key string) string {
	name := r.text(n, key)
	if name == "" {
		return ""
	}
	v, _ := n.get(key)
	return r.named(v)
}

// typeNames returns the types listed under a key, qualified.
func (r *reader) typeNames(n node, key string) []string {
	var names []string
	for _, w := range r.words(n, key) {
		names = append(names, r.named(w))
	}
	return names
}

// named is the full name of the type that a document names there. Where declarations do so is remembered, for what is said of types that
// are not there.
func (r *reader) named(v node) string {
	name := r.qualify(v.doc, v.value)
	if r.gathering {
		r.types.mentions[name] = append(r.types.mentions[name], v.place())
	}
	return name
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

var commonTypeKeys = []string{"derived_from", "version", "metadata", "description"}

func (r *reader) gatherType(kind TypeKind, p pair) {
	known := slices.Concat(commonTypeKeys, typeKeys[kind])
	if kind == InterfaceTypes && p.value.form == mapping { // older templates put operations straight under the type
		for _, k := range p.value.pairs() {
			known = append(known, k.name)
		}
	}
	if p.value.isNull() {
		p.value = node{&tree{form: mapping, line: p.key.line, col: p.key.col}, p.key.doc, p.key.tree}
	}
	if !r.keys(p.value, "a "+kind.word(), nil, known...) {
		return
	}
	name := joinSpace(p.key.doc.space, p.name)
	if old := r.types.byKind[kind][name]; old != nil {
		r.diags.at(p.key.place(), CodeTypeRedefined, "the %s %s is already defined", kind.word(), name).see(old.Pos).
			hint("give it a name of your own and derive it from the other")
		return
	}
	r.types.add(r.typeOf(kind, name, p))
}

func (r *reader) typeOf(kind TypeKind, name string, p pair) *Type {
	n := p.value
	t := &Type{Kind: kind, Name: name, Pos: p.key.pos(), Parent: r.typeName(n, "derived_from"),
		Description: r.text(n, "description"), Metadata: r.metadata(n), Version: r.versionAt(n)}
	t.Properties = r.properties(n, "properties")
	t.Attributes = r.properties(n, "attributes")
	switch kind {
	case NodeTypes:
		t.Capabilities = r.capabilityDefs(n)
		t.Requirements = r.requirementDefs(n)
		t.Interfaces = r.interfaces(n)
		t.Artifacts = r.artifacts(n)
	case RelationshipTypes:
		t.ValidTargets = r.typeNames(n, "valid_target_types")
		t.Interfaces = r.interfaces(n)
	case CapabilityTypes:
		t.ValidSources = r.typeNames(n, "valid_source_types")
	case InterfaceTypes:
		t.Operations = r.operationDefs(n)
		t.typeInputs = r.parameters(n, "inputs")
		t.notifications = r.operations(r.mapping(n, "notifications"))
	case DataTypes:
		t.constraints = r.constraints(n)
		t.entry, t.key = r.schema(n, "entry_schema"), r.schema(n, "key_schema")
	case ArtifactTypes:
		t.MimeType, t.Extensions = r.text(n, "mime_type"), r.texts(n, "file_ext")
	case GroupTypes:
		t.ValidTargets = r.typeNames(n, "members")
	case PolicyTypes:
		t.ValidTargets = r.typeNames(n, "targets")
		t.Triggers = r.triggers(n)
	}
	return t
}

// versionAt reads the version of a type.
func (r *reader) versionAt(n node) string {
	v, ok := n.get("version")
	if !ok {
		return ""
	}
	if _, fine := ParseVersion(v.value); v.form != scalar || !fine {
		r.diags.at(v.place(), CodeValueType, "this is no version: %s", kindName(v)).hint("for example 1.4 or 1.4.2")
	}
	return v.value
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
	"entry_schema", "metadata", "value", "external-schema", "external_schema"}

func (r *reader) property(p pair) *Property {
	def := &Property{Name: p.name, Pos: p.key.pos(), Required: true}
	if p.value.form == scalar && !p.value.isNull() && p.value.tag == tagText {
		def.Type = r.named(p.value) // the short form names the type alone
		return def
	}
	if !r.keys(p.value, "the definition of "+p.name, nil, propertyKeys...) {
		def.Type = "any"
		return def
	}
	def.Type = r.typeName(p.value, "type")
	if _, given := p.value.get("value"); given && def.Type == "" {
		def.Type = "any"
	}
	r.unsupported(p.value, "a definition", "external-schema", "external_schema")
	def.Description = r.text(p.value, "description")
	_, def.saysRequired = p.value.get("required")
	def.Required = r.flag(p.value, "required", true)
	def.Status = r.status(p.value)
	def.Constraints = r.constraints(p.value)
	def.Entry, def.Key = r.schema(p.value, "entry_schema"), r.schema(p.value, "key_schema")
	def.Metadata = r.metadata(p.value)
	if d, ok := p.value.get("default"); ok {
		def.Default = r.value(d)
	}
	return def
}

func (r *reader) status(n node) Status {
	v, ok := n.get("status")
	if !ok {
		return ""
	}
	known := []string{string(Supported), string(Unsupported), string(Experimental), string(Deprecated)}
	if v.form != scalar || !slices.Contains(known, v.value) {
		r.diags.at(v.place(), CodeConstraint, "there is no status %q", v.value).suggest(v.value, known)
	}
	return Status(v.value)
}

// schema reads key_schema or entry_schema, a type name or a schema definition (section 3.6.9); nil if there is none.
func (r *reader) schema(n node, key string) *Property {
	e, ok := n.get(key)
	if !ok {
		return nil
	}
	def := &Property{Name: strings.Replace(strings.TrimSuffix(key, "_schema"), "entry", "an entry", 1), Pos: e.pos()}
	if e.form == scalar {
		def.Type = r.named(e)
		return def
	}
	r.keys(e, "a schema", []string{"type"}, "type", "description", "constraints", "key_schema", "entry_schema")
	def.Type = r.typeName(e, "type")
	def.Constraints = r.constraints(e)
	def.Entry, def.Key = r.schema(e, "entry_schema"), r.schema(e, "key_schema")
	return def
}

func (r *reader) capabilityDefs(n node) []*Capability {
	var out []*Capability
	for _, p := range r.mapping(n, "capabilities") {
		c := &Capability{Name: p.name, Pos: p.key.pos(), Occurrences: Occurrences{1, Unbounded}}
		out = append(out, c)
		if p.value.form == scalar {
			c.Type = r.named(p.value)
			continue
		}
		if !r.keys(p.value, "a capability", nil, "type", "description", "properties", "attributes",
			"valid_source_types", "occurrences") {
			continue
		}
		c.Type, c.Description = r.typeName(p.value, "type"), r.text(p.value, "description")
		c.Properties = r.properties(p.value, "properties")
		c.Attributes = r.properties(p.value, "attributes")
		c.Sources = r.typeNames(p.value, "valid_source_types")
		c.Occurrences, c.saysOccurrences = r.occurrences(p.value, c.Occurrences)
	}
	return out
}

func (r *reader) requirementDefs(n node) []*Requirement {
	var out []*Requirement
	for _, item := range r.list(n, "requirements") {
		if item.form != mapping || len(item.content) != 2 {
			r.diags.at(item.place(), CodeShape, "a requirement is one name with its definition")
			continue
		}
		out = append(out, r.requirementDef(item.pairs()[0]))
	}
	return out
}

func (r *reader) requirementDef(p pair) *Requirement {
	q := &Requirement{Name: p.name, Pos: p.key.pos(), Occurrences: Occurrences{1, 1}}
	if p.value.form == scalar {
		q.Capability = r.named(p.value)
		return q
	}
	if !r.keys(p.value, "a requirement", nil, "description", "capability", "node", "relationship",
		"occurrences", "node_filter") {
		return q
	}
	q.Description = r.text(p.value, "description")
	q.Capability = r.typeName(p.value, "capability")
	q.Node = r.typeName(p.value, "node")
	q.Filter = r.nodeFilter(p.value)
	if rel, ok := p.value.get("relationship"); ok && rel.form == mapping {
		r.keys(rel, "a relationship", []string{"type"}, "type", "interfaces")
		q.Relationship = r.typeName(rel, "type")
		q.Interfaces = r.interfaces(rel)
	} else {
		q.Relationship = r.typeName(p.value, "relationship")
	}
	q.Occurrences, q.saysOccurrences = r.occurrences(p.value, q.Occurrences)
	return q
}

// occurrences reads [ low, high ], where high may be UNBOUNDED, and says whether it is there.
func (r *reader) occurrences(n node, fallback Occurrences) (Occurrences, bool) {
	v, ok := n.get("occurrences")
	if !ok {
		return fallback, false
	}
	if v.form == sequence && len(v.content) == 2 {
		low, errLow := strconv.Atoi(v.content[0].value)
		high, errHigh := strconv.Atoi(v.content[1].value)
		if v.content[1].value == "UNBOUNDED" {
			high, errHigh = Unbounded, nil
		}
		if errLow == nil && errHigh == nil && low >= 0 && low <= high {
			return Occurrences{low, high}, true
		}
	}
	r.diags.at(v.place(), CodeShape, "occurrences are two numbers, the lower first, and not %s", v.written()).hint("for example [ 0, UNBOUNDED ]")
	return fallback, true
}

// operationDefs reads an interface type's operations, whether under "operations" or straight under the type.
func (r *reader) operationDefs(n node) []*Operation {
	if ops, ok := n.get("operations"); ok {
		return r.operations(ops.pairs())
	}
	var direct []pair
	for _, p := range n.pairs() {
		if !slices.Contains(commonTypeKeys, p.name) && p.name != "inputs" && p.name != "notifications" {
			direct = append(direct, p)
		}
	}
	return r.operations(direct)
}
