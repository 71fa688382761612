package tosca

import "slices"

// Substitution says that a topology template can stand for a node of a type, and how what leads to or from that node is
// led to or from nodes within (section 3.8.13).
type Substitution struct {
	NodeType *Type
	// Properties maps properties of the node to inputs of the template; a property that is not mapped goes to the input
	// of the same name.
	Properties map[string]PropertyMapping
	// Attributes maps attributes of the node to outputs of the template, in the same way.
	Attributes map[string]string
	// Capabilities and Requirements map those of the node to a capability or requirement of a node within.
	Capabilities map[string]Inner
	Requirements map[string]Inner
	// Filter says which nodes of the type the template is good for; nil for all.
	Filter *Filter
	Pos    Pos
}

// PropertyMapping leads a property to an input, or gives an input a fixed value.
type PropertyMapping struct {
	Input string
	Value *Value
	Pos   Pos
}

// Inner names a capability or requirement of a node within a substituting template.
type Inner struct {
	Node, Name string
	// Relationship is what the node within declares for a requirement, with its Interfaces: it is the one that is carried out, where it refines the one that
	// the node stood for has. nil where none is declared.
	Relationship *Type
	Interfaces   []*Interface
	Pos          Pos
}

// parseSubstitutes parses the topology templates of imported files. One without substitution mappings brings only its
// types, which is worth a doubt, since its nodes are not built.
func (r *reader) parseSubstitutes(root *document) {
	main := r.tmpl
	for _, doc := range r.docs {
		if doc == root {
			continue
		}
		topo, ok := doc.root.get("topology_template")
		if !ok {
			continue
		}
		if _, ok := topo.get("substitution_mappings"); !ok {
			if _, nodes := topo.get("node_templates"); nodes {
				r.diags.at(topo.place(), CodeUnused, "nothing of this topology template is built: it is imported, and has no substitution_mappings").doubt().
					hint("say with substitution_mappings for which node it stands, or move the types into a file of their own")
			}
			continue
		}
		r.tmpl = r.newTemplate(doc.file)
		r.parseTopology(doc)
		main.Substitutes = append(main.Substitutes, r.tmpl)
	}
	r.tmpl, r.substitutes = main, main.Substitutes
}

func (r *reader) parseSubstitution(n node) {
	s := &Substitution{Pos: n.pos(), Properties: map[string]PropertyMapping{}, Attributes: map[string]string{},
		Capabilities: map[string]Inner{}, Requirements: map[string]Inner{}}
	if !r.keys(n, "substitution_mappings", []string{"node_type"}, "node_type", "substitution_filter", "properties",
		"attributes", "capabilities", "requirements", "interfaces") {
		return
	}
	r.tmpl.Substitution = s
	if v, ok := n.get("node_type"); ok {
		name := r.qualify(v.doc, v.value)
		if s.NodeType = r.types.Find(NodeTypes, name); s.NodeType == nil {
			r.types.unknownType(NodeTypes, name, v.place(), &r.diags)
			return
		}
	}
	if v, ok := n.get("substitution_filter"); ok {
		s.Filter = r.filterOf(v)
		r.checkFilter(s.Filter, s.NodeType)
	}
	for _, p := range r.mapping(n, "properties") {
		s.Properties[p.name] = r.propertyMapping(p)
	}
	for _, p := range r.mapping(n, "attributes") {
		if m := mappingItems(p.value); len(m) == 1 {
			s.Attributes[p.name] = m[0].value
			continue
		}
		r.diags.at(p.value.place(), CodeShape, "an attribute is mapped to an output: [ OUTPUT ]")
	}
	for _, p := range r.mapping(n, "capabilities") {
		r.innerMapping(s.Capabilities, p, "capability")
	}
	for _, p := range r.mapping(n, "requirements") {
		r.innerMapping(s.Requirements, p, "requirement")
	}
	r.unsupported(n, "substitution_mappings", "interfaces")
	r.checkMappings(n)
}

// mappingItems is what is mapped to, in the short form and the one with the keyname mapping.
func mappingItems(n node) []node {
	if m, ok := n.get("mapping"); ok {
		n = m
	}
	if n.form == scalar {
		return []node{n}
	}
	return n.items()
}

func (r *reader) propertyMapping(p pair) PropertyMapping {
	m := PropertyMapping{Pos: p.key.pos()}
	if v, ok := p.value.get("value"); ok {
		m.Input, m.Value = p.name, r.value(v)
		return m
	}
	if p.value.form == scalar && r.tmpl.Input(p.value.value) == nil { // the older form, of a value by itself (section 3.8.12)
		m.Input, m.Value = p.name, r.value(p.value)
		return m
	}
	if items := mappingItems(p.value); len(items) == 1 {
		m.Input = items[0].value
		if r.tmpl.Input(m.Input) == nil {
			r.diags.at(items[0].place(), CodeUnknownInput, "there is no input %q", m.Input).suggest(m.Input, r.inputNames())
		}
		return m
	}
	r.diags.at(p.key.place(), CodeShape, "a property is mapped to an input: [ INPUT ]")
	return m
}

func (r *reader) inputNames() []string {
	names := make([]string, len(r.tmpl.Inputs))
	for i, in := range r.tmpl.Inputs {
		names[i] = in.Name
	}
	return names
}

// innerMapping reads [ NODE, NAME ] and checks that a node within has a capability or requirement of that name.
func (r *reader) innerMapping(into map[string]Inner, p pair, what string) {
	items := mappingItems(p.value)
	if len(items) != 2 {
		r.diags.at(p.key.place(), CodeShape, "a %s is mapped to one of a node within: [ NODE, %s ]", what, what)
		return
	}
	in := Inner{Node: items[0].value, Name: items[1].value, Pos: p.key.pos()}
	n := r.tmpl.nodes[in.Node]
	if n == nil {
		r.unknownNode(items[0].place(), in.Node)
		return
	}
	if n.Type == nil {
		return
	}
	if what == "capability" && n.Type.Capability(in.Name) == nil {
		r.diags.at(items[1].place(), CodeUnknownCapability, "%s has no capability %q", in.Node, in.Name).suggest(in.Name, capabilityNames(n.Type)).see(n.Pos)
		return
	}
	if what == "requirement" && n.Type.Requirement(in.Name) == nil {
		r.diags.at(items[1].place(), CodeUnknownRequirement, "%s has no requirement %q", in.Node, in.Name).suggest(in.Name, requirementNames(n.Type)).see(n.Pos)
		return
	}
	into[p.name] = in
}

// checkMappings holds the mappings against the node type: what it needs must be mapped, what is mapped must be there and
// of a type that fits.
func (r *reader) checkMappings(n node) {
	s := r.tmpl.Substitution
	at := n.place()
	if v, ok := n.get("node_type"); ok {
		at = v.place()
	}
	for _, name := range sortedKeys(s.Properties) {
		if s.NodeType.Property(name) == nil {
			r.diags.at(place{s.Properties[name].Pos, len(name)}, CodeUnknownProperty, "%s has no property %q", s.NodeType.Name, name).
				suggest(name, s.NodeType.propertyNames()).see(s.NodeType.Pos)
		}
	}
	for _, name := range sortedKeys(s.Attributes) {
		if r.tmpl.Output(s.Attributes[name]) == nil {
			r.diags.at(at, CodeSubstitution, "the attribute %s is mapped to %q, which is no output of the template", name, s.Attributes[name])
		}
	}
	for _, name := range sortedKeys(s.Capabilities) {
		r.checkInner(name, s.Capabilities[name], true)
	}
	for _, name := range sortedKeys(s.Requirements) {
		r.checkInner(name, s.Requirements[name], false)
	}
	for _, in := range r.tmpl.Inputs {
		_, mapped := s.inputFrom(in.Name)
		if in.Required && in.Default == nil && !in.Secret && !mapped && s.NodeType.Property(in.Name) == nil {
			r.diags.at(place{in.Property.Pos, len(in.Name)}, CodeSubstitution, "the input %s has no default, and no property of %s is mapped to it", in.Name, s.NodeType.Name).
				hint("give it a default, or map a property to it under substitution_mappings")
		}
	}
}

// inputFrom finds the property that is mapped to an input.
func (s *Substitution) inputFrom(input string) (string, bool) {
	for _, name := range sortedKeys(s.Properties) {
		if s.Properties[name].Input == input {
			return name, true
		}
	}
	return "", false
}

// InputFrom is what an input of the template gets of the node: the name of a property, or a fixed value.
func (s *Substitution) InputFrom(input string) (property string, fixed *Value) {
	if name, ok := s.inputFrom(input); ok {
		return name, s.Properties[name].Value
	}
	return input, nil
}

func (r *reader) checkInner(name string, in Inner, capability bool) {
	s, n := r.tmpl.Substitution, r.tmpl.nodes[in.Node]
	at := place{in.Pos, len(name)}
	if capability {
		outer := s.NodeType.Capability(name)
		if outer == nil {
			r.diags.at(at, CodeUnknownCapability, "%s has no capability %q", s.NodeType.Name, name).suggest(name, capabilityNames(s.NodeType)).see(s.NodeType.Pos)
		} else if inner := n.Type.Capability(in.Name); !r.types.Derives(CapabilityTypes, inner.Type, outer.Type) {
			r.diags.at(at, CodeSubstitution, "%s is %s, and %s of %s is %s, which does not derive from it", name, outer.Type, in.Name, in.Node, inner.Type).see(outer.Pos)
		}
		return
	}
	outer := s.NodeType.Requirement(name)
	if outer == nil {
		r.diags.at(at, CodeUnknownRequirement, "%s has no requirement %q", s.NodeType.Name, name).suggest(name, requirementNames(s.NodeType)).see(s.NodeType.Pos)
	} else if inner := n.Type.Requirement(in.Name); !r.types.Derives(CapabilityTypes, outer.Capability, inner.Capability) {
		r.diags.at(at, CodeSubstitution, "%s requires %s, and %s of %s requires %s", name, outer.Capability, in.Name, in.Node, inner.Capability).see(outer.Pos)
	}
}

// mapsRequirement reports whether a node's requirement is fulfilled outside by substitution.
func (t *Template) mapsRequirement(node, requirement string) bool {
	if t.Substitution == nil {
		return false
	}
	for _, in := range t.Substitution.Requirements {
		if in.Node == node && in.Name == requirement {
			return true
		}
	}
	return false
}

// Candidates are the templates that can stand for a node by its type, in the order of import.
func (t *Template) Candidates(n *Node) []*Template {
	var out []*Template
	for _, s := range t.Substitutes {
		if s.Substitution != nil && s.Substitution.NodeType != nil && n.Type != nil && s.Substitution.NodeType.Is(n.Type.Name) {
			out = append(out, s)
		}
	}
	return out
}

// checkSubstitutes checks that every node to be substituted can be, and that no template stands within itself.
func (r *reader) checkSubstitutes(whole *Template) {
	all := append(slices.Clone(whole.Substitutes), whole)
	within := func(root string) []string {
		i := slices.IndexFunc(all, func(t *Template) bool { return t.Root == root })
		var out []string
		for _, n := range all[i].Nodes {
			if n.Directive("substitute") {
				for _, c := range whole.Candidates(n) {
					out = append(out, c.Root)
				}
			}
		}
		return out
	}
	for _, t := range all {
		for _, n := range t.Nodes {
			if n.Type == nil || !n.Directive("substitute") || len(whole.Candidates(n)) > 0 {
				continue
			}
			r.diags.at(place{n.Pos, n.width}, CodeSubstitution, "no imported template can stand for a %s", n.Type.Name).
				hint("import one whose substitution_mappings name this node_type")
		}
		if c := circleFrom(t.Root, within); c != nil && t.Substitution != nil {
			r.diags.at(place{t.Substitution.Pos, 1}, CodeCycle, "these templates stand within each other without end: %s", arrows(c))
			return
		}
	}
}

// checkInnerRelations reads what relationships do that nodes within declare for requirements which are fulfilled outside.
func (r *reader) checkInnerRelations() {
	if r.tmpl.Substitution == nil {
		return
	}
	mapped := r.tmpl.Substitution.Requirements
	for _, outer := range sortedKeys(mapped) {
		in := mapped[outer]
		n := r.tmpl.nodes[in.Node]
		if n == nil || n.Type == nil {
			continue
		}
		q := n.Type.Requirement(in.Name)
		rt := r.types.Find(RelationshipTypes, q.Relationship)
		if rt == nil {
			continue
		}
		declared := mergeBy(rt.Interfaces, q.Interfaces, interfaceName, refineInterface)
		in.Relationship = rt
		in.Interfaces = r.assignInterfaces(rt, nil, declared, whereabouts{self: n, source: n, rel: rt, unsure: true})
		mapped[outer] = in
	}
}
