package tosca

import (
	"path"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Input is an input of the topology template (section 3.8.1).
type Input struct {
	*Property
	// Secret inputs never reach a plan; metadata "secret: true" marks them.
	Secret bool
	// Section is "application" or "infrastructure", from metadata; application if none is given.
	Section string
}

// Node is a node template (section 3.8.3) with its resolved type.
type Node struct {
	Name        string
	Description string
	Type        *Type
	Metadata    map[string]string
	// Properties and Capabilities hold what is assigned; defaults of the type are not repeated here.
	Properties   map[string]*Value
	Capabilities map[string]map[string]*Value
	Requirements []*Assignment
	// Interfaces are the type's with the template's assignments merged in.
	Interfaces []*Interface
	Pos        Pos
	width      int
	// suspect says that a requirement could not be read, so that others are not reported as missing because of it.
	suspect bool
}

// Assignment is a requirement of a node template, fulfilled by another node (section 3.8.2).
type Assignment struct {
	Name string
	// Target is the node that fulfils it; Capability the name of the capability there.
	Target     string
	Capability string
	// Relationship is the resolved type; Properties and Interfaces are those of the relationship template, if any.
	Relationship *Type
	Properties   map[string]*Value
	Interfaces   []*Interface
	Pos          Pos

	target    place
	wantCap   string
	relName   string
	relPlace  place
	relInline bool
}

// Relationship is a named relationship template (section 3.8.4).
type Relationship struct {
	Name       string
	Type       *Type
	Properties map[string]*Value
	Interfaces []*Interface
	Pos        Pos
}

// Group is a named set of node templates (section 3.8.5).
type Group struct {
	Name       string
	Type       *Type
	Members    []string
	Properties map[string]*Value
	Metadata   map[string]string
	Pos        Pos
}

// Policy is a rule over node templates or groups (section 3.8.6).
type Policy struct {
	Name        string
	Description string
	Type        *Type
	// Targets are names of node templates and groups; none means every node template.
	Targets    []string
	Properties map[string]*Value
	Pos        Pos
}

// Output is a value that a deployment exposes (section 3.8.1).
type Output struct {
	Name        string
	Description string
	Value       *Value
	Pos         Pos
}

// topologyKeys are the keynames of a topology template (section 3.9).
var topologyKeys = []string{"description", "inputs", "node_templates", "relationship_templates", "groups", "policies",
	"outputs", "substitution_mappings", "workflows"}

func (r *reader) parseTopology(doc *node) {
	r.tmpl.Description = strings.TrimSpace(r.text(*doc, "description"))
	r.tmpl.Metadata = r.metadata(*doc)
	r.tmpl.Name = r.tmpl.Metadata["template_name"]
	if r.tmpl.Name == "" {
		r.tmpl.Name = strings.TrimSuffix(path.Base(doc.file), path.Ext(doc.file))
	}
	topo, ok := doc.get("topology_template")
	if !ok || !r.keys(topo, "a topology template", nil, topologyKeys...) {
		return
	}
	r.unsupported(topo, "a topology template", "substitution_mappings", "workflows")
	r.parseInputs(topo)
	for _, p := range r.mapping(topo, "relationship_templates") {
		r.parseRelationship(p)
	}
	for _, p := range r.mapping(topo, "node_templates") {
		r.parseNode(p)
	}
	for _, p := range r.mapping(topo, "groups") {
		r.parseGroup(p)
	}
	for _, item := range r.list(topo, "policies") {
		if item.Kind == yaml.MappingNode && len(item.Content) == 2 {
			r.parsePolicy(item.pairs()[0])
		} else {
			r.diags.at(item.place(), CodeShape, "a policy is one name with its definition")
		}
	}
	for _, p := range r.mapping(topo, "outputs") {
		r.parseOutput(p)
	}
}

func (r *reader) parseInputs(topo node) {
	for _, def := range r.properties(topo, "inputs") {
		in := &Input{Property: def, Secret: def.Metadata["secret"] == "true", Section: def.Metadata["section"]}
		if in.Section == "" {
			in.Section = "application"
		}
		r.types.checkProperty(def, &r.diags)
		r.tmpl.Inputs = append(r.tmpl.Inputs, in)
	}
}

func (r *reader) values(n node, key string) map[string]*Value {
	ps := r.mapping(n, key)
	if len(ps) == 0 {
		return nil
	}
	out := make(map[string]*Value, len(ps))
	for _, p := range ps {
		out[p.name] = r.value(p.value)
		out[p.name].at = valuePlace(p)
	}
	return out
}

// valuePlace points at the value, or at the key where the value spans lines.
func valuePlace(p pair) place {
	if p.value.Kind == yaml.ScalarNode && !p.value.isNull() {
		return p.value.place()
	}
	return p.key.place()
}

// typeAt finds the type named under "type" and reports an unknown one.
func (r *reader) typeAt(kind TypeKind, n node) *Type {
	v, ok := n.get("type")
	if !ok || v.Kind != yaml.ScalarNode {
		return nil
	}
	t := r.types.Find(kind, v.Value)
	if t == nil {
		r.types.unknownType(kind, v.Value, v.place(), &r.diags)
	}
	return t
}

var nodeKeys = []string{"type", "description", "metadata", "directives", "properties", "attributes", "requirements",
	"capabilities", "interfaces", "artifacts", "node_filter", "copy"}

func (r *reader) parseNode(p pair) {
	n := &Node{Name: p.name, Pos: p.key.place().Pos, width: p.key.place().width}
	r.checkName(p.key)
	r.tmpl.Nodes = append(r.tmpl.Nodes, n)
	r.tmpl.nodes[n.Name] = n
	if !r.keys(p.value, "a node template", []string{"type"}, nodeKeys...) {
		return
	}
	r.unsupported(p.value, "a node template", "directives", "node_filter", "copy", "attributes", "artifacts")
	n.Type = r.typeAt(NodeTypes, p.value)
	n.Description = r.text(p.value, "description")
	n.Metadata = r.metadata(p.value)
	n.Properties = r.values(p.value, "properties")
	n.Interfaces = r.interfaces(p.value)
	n.Capabilities = map[string]map[string]*Value{}
	for _, c := range r.mapping(p.value, "capabilities") {
		if r.keys(c.value, "a capability assignment", nil, "properties", "attributes", "occurrences") {
			n.Capabilities[c.name] = r.values(c.value, "properties")
			r.unsupported(c.value, "a capability assignment", "attributes", "occurrences")
		}
		if n.Type != nil && n.Type.Capability(c.name) == nil {
			r.diags.at(c.key.place(), CodeUnknownCapability, "%s has no capability %q", n.Type.Name, c.name).
				suggest(c.name, capabilityNames(n.Type)).see(n.Type.Pos)
		}
	}
	for _, item := range r.list(p.value, "requirements") {
		r.parseAssignment(n, item)
	}
}

func capabilityNames(t *Type) []string {
	names := make([]string, len(t.Capabilities))
	for i, c := range t.Capabilities {
		names[i] = c.Name
	}
	return names
}

// checkName refuses names that resources, hosts and files cannot carry.
func (r *reader) checkName(key node) {
	ok := key.Value != "" && len(key.Value) <= 63
	for _, c := range key.Value {
		ok = ok && (c == '-' || c == '_' || c == '.' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z')
	}
	if !ok {
		r.diags.at(key.place(), CodeName, "%q cannot be the name of a resource", key.Value).
			hint("use at most 63 letters, digits, '-', '_' and '.', for example %q", cleanName(key.Value))
	}
}

func cleanName(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(c rune) bool {
		return c > 127 || !strings.ContainsRune("-_.0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ", c)
	}), "-")
}

func (r *reader) parseAssignment(n *Node, item node) {
	if item.Kind != yaml.MappingNode || len(item.Content) != 2 {
		r.diags.at(item.place(), CodeShape, "a requirement is one name with what fulfils it").hint("for example: - host: my-server")
		n.suspect = true
		return
	}
	p := item.pairs()[0]
	a := &Assignment{Name: p.name, Pos: p.key.place().Pos, target: p.value.place()}
	if n.Type != nil && n.Type.Requirement(p.name) == nil {
		r.diags.at(p.key.place(), CodeUnknownRequirement, "%s has no requirement %q", n.Type.Name, p.name).
			suggest(p.name, requirementNames(n.Type)).see(n.Type.Pos)
		n.suspect = true
		return
	}
	n.Requirements = append(n.Requirements, a)
	if p.value.Kind == yaml.ScalarNode {
		a.Target = p.value.Value
		return
	}
	if !r.keys(p.value, "a requirement", nil, "node", "capability", "relationship", "node_filter", "occurrences") {
		return
	}
	r.unsupported(p.value, "a requirement", "node_filter", "occurrences")
	if v, ok := p.value.get("node"); ok {
		a.Target, a.target = v.Value, v.place()
	} else {
		r.diags.at(p.value.place(), CodeUnsupported, "a requirement without \"node\" is not fulfilled by search yet").
			hint("name the node template that fulfils it")
	}
	a.wantCap = r.text(p.value, "capability")
	if rel, ok := p.value.get("relationship"); ok {
		r.parseRelationshipOf(a, rel)
	}
}

func requirementNames(t *Type) []string {
	names := make([]string, len(t.Requirements))
	for i, q := range t.Requirements {
		names[i] = q.Name
	}
	return names
}

// parseRelationshipOf reads the relationship of a requirement: a template's or type's name, or inline.
func (r *reader) parseRelationshipOf(a *Assignment, n node) {
	a.relPlace = n.place()
	if n.Kind == yaml.ScalarNode {
		a.relName = n.Value
		return
	}
	if r.keys(n, "a relationship", []string{"type"}, "type", "properties", "interfaces") {
		a.Relationship = r.typeAt(RelationshipTypes, n)
		a.relInline = true
		a.Properties = r.values(n, "properties")
		a.Interfaces = r.interfaces(n)
	}
}

func (r *reader) parseRelationship(p pair) {
	rel := &Relationship{Name: p.name, Pos: p.key.place().Pos}
	r.tmpl.Relationships = append(r.tmpl.Relationships, rel)
	if r.keys(p.value, "a relationship template", []string{"type"}, "type", "description", "metadata", "properties",
		"attributes", "interfaces", "copy") {
		r.unsupported(p.value, "a relationship template", "attributes", "copy")
		rel.Type = r.typeAt(RelationshipTypes, p.value)
		rel.Properties = r.values(p.value, "properties")
		rel.Interfaces = r.interfaces(p.value)
	}
}

func (r *reader) parseGroup(p pair) {
	g := &Group{Name: p.name, Pos: p.key.place().Pos}
	r.tmpl.Groups = append(r.tmpl.Groups, g)
	if !r.keys(p.value, "a group", []string{"type"}, "type", "description", "metadata", "properties", "attributes", "members") {
		return
	}
	r.unsupported(p.value, "a group", "attributes")
	g.Type = r.typeAt(GroupTypes, p.value)
	g.Metadata = r.metadata(p.value)
	g.Properties = r.values(p.value, "properties")
	for _, m := range r.list(p.value, "members") {
		if r.tmpl.nodes[m.Value] == nil {
			r.unknownNode(m.place(), m.Value)
			continue
		}
		g.Members = append(g.Members, m.Value)
	}
}

func (r *reader) parsePolicy(p pair) {
	pol := &Policy{Name: p.name, Pos: p.key.place().Pos}
	r.tmpl.Policies = append(r.tmpl.Policies, pol)
	if !r.keys(p.value, "a policy", []string{"type"}, "type", "description", "metadata", "properties", "targets", "triggers") {
		return
	}
	r.unsupported(p.value, "a policy", "triggers")
	pol.Type = r.typeAt(PolicyTypes, p.value)
	pol.Description = r.text(p.value, "description")
	pol.Properties = r.values(p.value, "properties")
	for _, m := range r.list(p.value, "targets") {
		if r.tmpl.nodes[m.Value] == nil && !r.isGroup(m.Value) {
			r.unknownNode(m.place(), m.Value)
			continue
		}
		pol.Targets = append(pol.Targets, m.Value)
	}
}

func (r *reader) isGroup(name string) bool {
	for _, g := range r.tmpl.Groups {
		if g.Name == name {
			return true
		}
	}
	return false
}

func (r *reader) parseOutput(p pair) {
	o := &Output{Name: p.name, Pos: p.key.place().Pos}
	if !r.keys(p.value, "an output", []string{"value"}, append([]string{"value"}, propertyKeys...)...) {
		return
	}
	o.Description = r.text(p.value, "description")
	if v, ok := p.value.get("value"); ok {
		o.Value = r.value(v)
		r.tmpl.Outputs = append(r.tmpl.Outputs, o)
	}
}

func (r *reader) unknownNode(at place, name string) {
	known := sortedKeys(r.tmpl.nodes)
	d := r.diags.at(at, CodeUnknownNode, "there is no node template %q", name).suggest(name, known)
	if n := r.tmpl.nodes[nearest(name, known)]; n != nil {
		d.see(n.Pos)
	}
}
