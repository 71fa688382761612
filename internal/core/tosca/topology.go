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

var nodeRequired = []string{"type"}

var nodeKeys = []string{"type", "description", "metadata", "directives", "properties", "attributes", "requirements",
	"capabilities", "interfaces", "artifacts", "node_filter", "copy"}

func (r *reader) parseNodes(topo node) {
	templates, ok := topo.get("node_templates")
	if !ok || templates.isNull() {
		return
	}
	if templates.form != mapping {
		r.diags.at(templates.place(), CodeShape, "node_templates is a mapping, not %s", kindName(templates))
		return
	}
	nodes := make([]*Node, len(templates.content)/2)
	r.each(len(nodes), func(w *reader, i int) {
		body := w.copied(templates, templates.child(2*i+1), "node template")
		nodes[i] = w.parseNode(templates.child(2*i), body)
	})
	r.tmpl.Nodes = make([]*Node, 0, len(nodes))
	r.tmpl.nodes = make(map[string]*Node, len(nodes))
	for _, n := range nodes {
		if r.tmpl.nodes[n.Name] == nil { // else reported as a duplicate key
			r.tmpl.Nodes = append(r.tmpl.Nodes, n)
			r.tmpl.nodes[n.Name] = n
		}
	}
}

// copied returns a template with what "copy" takes over from another: its keynames, and within properties, attributes,
// capabilities, interfaces and artifacts what the template itself does not give.
func (r *reader) copied(all, n node, what string) node {
	from, ok := n.get("copy")
	if !ok {
		return n
	}
	source, ok := all.get(from.value)
	if !ok {
		var names []string
		for _, p := range all.pairs() {
			names = append(names, p.name)
		}
		r.diags.at(from.place(), CodeUnknownNode, "there is no %s %q to copy", what, from.value).suggest(from.value, names)
		return n
	}
	if _, again := source.get("copy"); again {
		r.diags.at(from.place(), CodeCopy, "%s is a copy itself, and copies of copies are not allowed", from.value).see(source.pos()).
			hint("copy what it copies")
		return n
	}
	merged := *n.tree
	merged.content = slices.Clone(n.content)
	for i := 0; i+1 < len(source.content); i += 2 {
		key := source.content[i].value
		own, given := n.get(key)
		switch {
		case !given:
			merged.content = append(merged.content, source.content[i], source.content[i+1])
		case own.form == mapping && source.content[i+1].form == mapping && key != "node_filter":
			both := *own.tree
			both.content = slices.Clone(own.content)
			theirs := source.child(i + 1)
			for k := 0; k+1 < len(theirs.content); k += 2 {
				if _, has := own.get(theirs.content[k].value); !has {
					both.content = append(both.content, theirs.content[k], theirs.content[k+1])
				}
			}
			for k := 0; k+1 < len(merged.content); k += 2 {
				if merged.content[k].value == key {
					merged.content[k+1] = both
				}
			}
		}
	}
	return node{&merged, n.doc}
}

func (r *reader) parseNode(key, body node) *Node {
	n := &Node{Name: key.value, Pos: key.pos(), width: key.place().width}
	if !nameOK(key.value) {
		r.badName(key)
	}
	if !r.keys(body, "a node template", nodeRequired, nodeKeys...) {
		return n
	}
	n.Type = r.typeAt(NodeTypes, body)
	n.Description = r.text(body, "description")
	n.Metadata = r.metadata(body)
	n.Directives = r.directives(body)
	n.Filter = r.nodeFilter(body)
	n.Properties, n.Attributes = r.values(body, "properties"), r.values(body, "attributes")
	n.Interfaces = r.interfaces(body)
	n.Artifacts = r.artifacts(body)
	r.parseCapabilities(n, body)
	for _, item := range r.list(body, "requirements") {
		r.parseAssignment(n, item)
	}
	return n
}

var directives = []string{"select", "selectable", "substitute", "substitutable"}

// directives reads directives; the older words selectable and substitutable mean the same.
func (r *reader) directives(n node) []string {
	var out []string
	for _, item := range r.list(n, "directives") {
		if !slices.Contains(directives, item.value) {
			r.diags.at(item.place(), CodeConstraint, "there is no directive %q", item.value).suggest(item.value, []string{"select", "substitute"})
			continue
		}
		out = append(out, strings.Replace(strings.TrimSuffix(item.value, "able"), "substitut", "substitute", 1))
	}
	for i := range out {
		if strings.HasPrefix(out[i], "substitute") {
			out[i] = "substitute"
		}
	}
	return out
}

func (r *reader) parseCapabilities(n *Node, body node) {
	for _, c := range r.mapping(body, "capabilities") {
		if !r.keys(c.value, "a capability assignment", nil, "properties", "attributes", "occurrences") {
			continue
		}
		if n.Capabilities == nil {
			n.Capabilities = map[string]map[string]*Value{}
		}
		n.Capabilities[c.name] = r.values(c.value, "properties")
		if attrs := r.values(c.value, "attributes"); attrs != nil {
			if n.CapabilityAttributes == nil {
				n.CapabilityAttributes = map[string]map[string]*Value{}
			}
			n.CapabilityAttributes[c.name] = attrs
		}
		if n.Type == nil {
			continue
		}
		def := n.Type.Capability(c.name)
		if def == nil {
			r.diags.at(c.key.place(), CodeUnknownCapability, "%s has no capability %q", n.Type.Name, c.name).
				suggest(c.name, capabilityNames(n.Type)).see(n.Type.Pos)
			continue
		}
		if o, given := r.occurrences(c.value, def.Occurrences); given && !o.within(def.Occurrences) {
			r.diags.at(c.key.place(), CodeConstraint, "the capability %s occurs %s, and %s allows %s", c.name, o, n.Type.Name, def.Occurrences).see(def.Pos)
		}
	}
}

func capabilityNames(t *Type) []string {
	names := make([]string, len(t.Capabilities))
	for i, c := range t.Capabilities {
		names[i] = c.Name
	}
	return names
}

// nameOK reports whether resources, hosts and files can carry the name.
func nameOK(name string) bool {
	for i := range len(name) {
		c := name[i]
		if c != '-' && c != '_' && c != '.' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			return false
		}
	}
	return name != "" && len(name) <= 63
}

func (r *reader) badName(key node) {
	r.diags.at(key.place(), CodeName, "%q cannot be the name of a resource", key.value).
		hint("use at most 63 letters, digits, '-', '_' and '.', for example %q", cleanName(key.value))
}

func cleanName(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(c rune) bool {
		return c > 127 || !strings.ContainsRune("-_.0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ", c)
	}), "-")
}

func (r *reader) parseAssignment(n *Node, item node) {
	if item.form != mapping || len(item.content) != 2 {
		r.diags.at(item.place(), CodeShape, "a requirement is one name with what fulfils it").hint("for example: - host: my-server")
		n.suspect = true
		return
	}
	key, value := item.child(0), item.child(1)
	a := &Assignment{Name: key.value, Pos: key.pos(), target: value.place(), Count: 1}
	if n.Type != nil && n.Type.Requirement(a.Name) == nil {
		r.diags.at(key.place(), CodeUnknownRequirement, "%s has no requirement %q", n.Type.Name, a.Name).
			suggest(a.Name, requirementNames(n.Type)).see(n.Type.Pos)
		n.suspect = true
		return
	}
	n.Requirements = append(n.Requirements, a)
	if value.form == scalar && !value.isNull() {
		a.Target = value.value
		return
	}
	if value.isNull() {
		a.target = key.place()
		return
	}
	if !r.keys(value, "a requirement", nil, "node", "capability", "relationship", "node_filter", "occurrences") {
		return
	}
	a.target = key.place()
	if v, ok := value.get("node"); ok {
		a.Target, a.target = v.value, v.place()
	}
	a.wantCap = r.typeName(value, "capability")
	a.Filter = r.nodeFilter(value)
	if o, given := r.occurrences(value, Occurrences{1, 1}); given {
		a.Count = max(o.Min, 1)
		if q := n.Type.requirement(a.Name); q != nil && o.Max > q.Occurrences.Max {
			r.diags.at(key.place(), CodeConstraint, "%s may be fulfilled %s, and %s allows %s", a.Name, o, n.Type.Name, q.Occurrences).see(q.Pos)
		}
	}
	if rel, ok := value.get("relationship"); ok {
		r.parseRelationshipOf(a, rel)
	}
}

// requirement is Requirement on a type that may be unknown.
func (t *Type) requirement(name string) *Requirement {
	if t == nil {
		return nil
	}
	return t.Requirement(name)
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
	if n.form == scalar {
		a.relName = n.value
		return
	}
	if r.keys(n, "a relationship", []string{"type"}, "type", "properties", "interfaces") {
		a.Relationship = r.typeAt(RelationshipTypes, n)
		a.relInline = true
		a.Properties = r.values(n, "properties")
		a.Interfaces = r.interfaces(n)
	}
}

func (r *reader) parseRelationship(p pair, topo node) {
	rel := &Relationship{Name: p.name, Pos: p.key.pos()}
	r.tmpl.Relationships = append(r.tmpl.Relationships, rel)
	all, _ := topo.get("relationship_templates")
	p.value = r.copied(all, p.value, "relationship template")
	if r.keys(p.value, "a relationship template", []string{"type"}, "type", "description", "metadata", "properties",
		"attributes", "interfaces", "copy") {
		rel.Type = r.typeAt(RelationshipTypes, p.value)
		rel.Properties, rel.Attributes = r.values(p.value, "properties"), r.values(p.value, "attributes")
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
		g.Members = append(g.Members, m.value)
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
		pol.Targets = append(pol.Targets, m.value)
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
