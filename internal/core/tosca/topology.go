package tosca

import (
	"path"
	"regexp"
	"slices"
	"strings"
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
	// Directives are substitute and select (section 3.4.3).
	Directives []string
	// Filter says which node is to be selected or which template substituted.
	Filter *Filter
	// Properties, Attributes and Capabilities hold what is assigned; defaults of the type are not repeated here.
	Properties           map[string]*Value
	Attributes           map[string]*Value
	Capabilities         map[string]map[string]*Value
	CapabilityAttributes map[string]map[string]*Value
	Requirements         []*Assignment
	// Interfaces are the type's with the template's assignments merged in; Artifacts likewise.
	Interfaces []*Interface
	Artifacts  []*Artifact
	Pos        Pos
	// Line of the template at which the node ends.
	width int
	// suspect says that a requirement could not be read, so that others are not reported as missing because of it.
	suspect bool
}

// Directive reports whether the node has the directive.
func (n *Node) Directive(name string) bool { return slices.Contains(n.Directives, name) }

// Width is the length of the node's name, for marking it.
func (n *Node) Width() int { return max(n.width, 1) }

// Artifact returns the artifact of that name, or nil.
func (n *Node) Artifact(name string) *Artifact {
	for _, a := range n.Artifacts {
		if a.Name == name {
			return a
		}
	}
	return nil
}

// Assignment is a requirement of a node template, fulfilled by another node (section 3.8.2).
type Assignment struct {
	Name string
	// Target is the node that fulfils it; "" if it is searched for among Candidates, or fulfilled outside the template.
	Target string
	// Capability is the name of the capability at the target.
	Capability string
	// Candidates are the node templates that could fulfil it by their types, in the order of the file; Filter chooses
	// among them, Count says how many are taken.
	Candidates []string
	Filter     *Filter
	Count      int
	// Outside marks a requirement that substitution maps to one of the node that is substituted.
	Outside bool
	// Relationship is the resolved type; Properties and Interfaces are those of the relationship template, if any.
	Relationship *Type
	Properties   map[string]*Value
	Interfaces   []*Interface
	Pos          Pos

	target    place
	wantCap   string
	capPlace  place
	wantType  string
	relName   string
	relPlace  place
	relInline bool
}

// TargetPos is where the target is named.
func (a *Assignment) TargetPos() (Pos, int) { return a.target.Pos, a.target.width }

// Relationship is a named relationship template (section 3.8.4).
type Relationship struct {
	Name       string
	Type       *Type
	Properties map[string]*Value
	Attributes map[string]*Value
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

	members []place
}

// Policy is a rule over node templates or groups (section 3.8.6).
type Policy struct {
	Name        string
	Description string
	Type        *Type
	// Targets are names of node templates and groups; none means every node template.
	Targets    []string
	Properties map[string]*Value
	// Triggers are the type's and the policy's own.
	Triggers []*Trigger
	Pos      Pos

	targets []place
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

// shellName is what a script can be given or put out as a variable.
var shellName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

func (r *reader) parseTopology(doc *document) {
	r.tmpl.Description = strings.TrimSpace(r.text(doc.root, "description"))
	r.tmpl.Metadata = r.metadata(doc.root)
	r.tmpl.Name = r.tmpl.Metadata["template_name"]
	if r.tmpl.Name == "" {
		r.tmpl.Name = r.text(doc.root, "template_name")
	}
	if r.tmpl.Name == "" {
		r.tmpl.Name = strings.TrimSuffix(path.Base(doc.file), path.Ext(doc.file))
	}
	topo, ok := doc.root.get("topology_template")
	if !ok || !r.keys(topo, "a topology template", nil, topologyKeys...) {
		return
	}
	r.parseInputs(topo)
	for _, p := range r.mapping(topo, "relationship_templates") {
		r.parseRelationship(p, topo)
	}
	r.parseNodes(topo)
	for _, p := range r.mapping(topo, "groups") {
		r.parseGroup(p)
	}
	for _, p := range r.namedItems(topo, "policies") {
		r.parsePolicy(p)
	}
	for _, p := range r.mapping(topo, "workflows") {
		r.tmpl.Workflows = append(r.tmpl.Workflows, r.workflow(p))
	}
	for _, p := range r.mapping(topo, "outputs") {
		r.parseOutput(p)
	}
	if v, ok := topo.get("substitution_mappings"); ok {
		r.parseSubstitution(v)
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
	v, ok := n.get(key)
	if !ok || v.isNull() {
		return nil
	}
	if v.form != mapping {
		r.diags.at(v.place(), CodeShape, "%s is a mapping, not %s", key, kindName(v))
		return nil
	}
	out := make(map[string]*Value, len(v.content)/2)
	for i := 0; i+1 < len(v.content); i += 2 {
		x := r.value(v.child(i + 1))
		if c := v.child(i + 1); c.form != scalar || c.isNull() {
			x.at = v.child(i).place() // points at the key where the value spans lines
		}
		out[v.content[i].value] = x
	}
	return out
}

// attributes reads what attributes are given, which may be said with a description (section 3.6.13).
func (r *reader) attributes(n node) map[string]*Value {
	out := r.values(n, "attributes")
	all, _ := n.get("attributes")
	for name := range out {
		given, _ := all.get(name)
		value, has := given.get("value")
		if _, described := given.get("description"); has && len(given.content) == 2*(1+map[bool]int{true: 1}[described]) {
			out[name] = r.value(value)
		}
	}
	return out
}

// valuePlace points at the value, or at the key where the value spans lines.
func valuePlace(p pair) place {
	if p.value.form == scalar && !p.value.isNull() {
		return p.value.place()
	}
	return p.key.place()
}

// typeAt finds the type named under "type" and reports an unknown one.
func (r *reader) typeAt(kind TypeKind, n node) *Type {
	v, ok := n.get("type")
	if !ok || v.form != scalar {
		return nil
	}
	name := r.qualify(v.doc, v.value)
	t := r.types.Find(kind, name)
	if t == nil {
		r.types.unknownType(kind, name, v.place(), &r.diags)
	}
	return t
}

func (r *reader) parseRelationship(p pair, topo node) {
	rel := &Relationship{Name: p.name, Pos: p.key.pos()}
	r.tmpl.Relationships = append(r.tmpl.Relationships, rel)
	all, _ := topo.get("relationship_templates")
	p.value = r.copied(all, p.value, "relationship template")
	if r.keys(p.value, "a relationship template", []string{"type"}, "type", "description", "metadata", "properties",
		"attributes", "interfaces", "copy") {
		rel.Type = r.typeAt(RelationshipTypes, p.value)
		rel.Properties, rel.Attributes = r.values(p.value, "properties"), r.attributes(p.value)
		rel.Interfaces = r.interfaces(p.value)
	}
}

func (r *reader) parseGroup(p pair) {
	g := &Group{Name: p.name, Pos: p.key.pos()}
	r.tmpl.Groups = append(r.tmpl.Groups, g)
	if !r.keys(p.value, "a group", []string{"type"}, "type", "description", "metadata", "properties", "attributes", "members") {
		return
	}
	g.Type = r.typeAt(GroupTypes, p.value)
	g.Metadata = r.metadata(p.value)
	g.Properties = r.values(p.value, "properties")
	for _, m := range r.list(p.value, "members") {
		if r.tmpl.nodes[m.value] == nil {
			r.unknownNode(m.place(), m.value)
			continue
		}
		g.Members, g.members = append(g.Members, m.value), append(g.members, m.place())
	}
}

func (r *reader) parsePolicy(p pair) {
	pol := &Policy{Name: p.name, Pos: p.key.pos()}
	r.tmpl.Policies = append(r.tmpl.Policies, pol)
	if !r.keys(p.value, "a policy", []string{"type"}, "type", "description", "metadata", "properties", "targets", "triggers") {
		return
	}
	pol.Type = r.typeAt(PolicyTypes, p.value)
	pol.Description = r.text(p.value, "description")
	pol.Properties = r.values(p.value, "properties")
	pol.Triggers = r.triggers(p.value)
	if pol.Type != nil {
		pol.Triggers = append(slices.Clone(pol.Type.Triggers), pol.Triggers...)
	}
	for _, m := range r.list(p.value, "targets") {
		if r.tmpl.nodes[m.value] == nil && !r.isGroup(m.value) {
			r.unknownNode(m.place(), m.value)
			continue
		}
		pol.Targets, pol.targets = append(pol.Targets, m.value), append(pol.targets, m.place())
	}
}

func (r *reader) isGroup(name string) bool { return r.tmpl.Group(name) != nil }

func (r *reader) parseOutput(p pair) {
	o := &Output{Name: p.name, Pos: p.key.pos()}
	if !r.keys(p.value, "an output", []string{"value"}, propertyKeys...) {
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
