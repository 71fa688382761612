package tosca

import (
	"slices"
	"strings"
)

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
	return node{&merged, n.doc, n.under}
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
	n.Properties, n.Attributes = r.values(body, "properties"), r.attributes(body)
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
		if attrs := r.attributes(c.value); attrs != nil {
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
	a.wantCap, a.capPlace = r.typeName(value, "capability"), a.target
	if v, ok := value.get("capability"); ok {
		a.capPlace = v.place()
	}
	a.Filter = r.nodeFilter(value)
	if o, given := r.occurrences(value, Occurrences{1, 1}); given {
		a.Count = max(o.Min, 1)
		if q := n.Type.requirement(a.Name); q != nil && o.Max > q.Occurrences.Max {
			v, _ := value.get("occurrences")
			r.diags.at(v.place(), CodeConstraint, "%s may be fulfilled %s, and %s allows %s", a.Name, o, n.Type.Name, q.Occurrences).see(q.Pos)
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
