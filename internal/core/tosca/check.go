package tosca

import (
	"math/big"
	"path"
	"slices"
	"strings"
)

// check holds the parsed template against its types.
func (r *reader) check() {
	r.each(len(r.tmpl.Nodes), func(w *reader, i int) {
		if n := r.tmpl.Nodes[i]; n.Type != nil {
			w.checkValues(n)
		}
	})
	for _, n := range r.tmpl.Nodes {
		if n.Type != nil {
			r.checkNode(n)
		}
	}
	for _, n := range r.tmpl.Nodes {
		r.checkRequirements(n)
	}
	r.checkInnerRelations()
	for _, rel := range r.tmpl.Relationships {
		if rel.Type != nil {
			r.checkProperties(rel.Type.Properties, rel.Properties, rel.Type, place{rel.Pos, len(rel.Name)}, nil)
		}
	}
	for _, g := range r.tmpl.Groups {
		r.checkGroup(g)
	}
	for _, p := range r.tmpl.Policies {
		r.checkPolicy(p)
	}
	for _, o := range r.tmpl.Outputs {
		r.checkFunctions(o.Value, whereabouts{})
	}
	r.checkWorkflows()
	r.checkCycles()
	r.checkSense()
}

// checkValues checks what a node's properties and attributes are given. It changes nothing but the node, so that nodes
// can be checked side by side.
func (r *reader) checkValues(n *Node) {
	at := place{n.Pos, n.width}
	r.checkDirectives(n)
	r.checkProperties(n.Type.Properties, n.Properties, n.Type, at, n)
	r.checkAttributes(n.Type.Attributes, n.Type.Properties, n.Attributes, n.Type, n)
	for _, c := range n.Type.Capabilities {
		given := n.Capabilities[c.Name]
		ct := r.types.Find(CapabilityTypes, c.Type)
		if ct == nil {
			continue
		}
		r.checkProperties(r.types.CapabilityProperties(c), given, ct, at, n)
		if attrs := n.CapabilityAttributes[c.Name]; attrs != nil {
			r.checkAttributes(r.types.CapabilityAttributes(c), r.types.CapabilityProperties(c), attrs, ct, n)
		}
		if given != nil {
			r.doubtSizes(ct, given)
		}
	}
	r.doubtSizes(n.Type, n.Properties)
}

// checkNode checks a node's artifacts and operations, loading the files they name.
func (r *reader) checkNode(n *Node) {
	if len(n.Artifacts) > 0 || len(n.Type.Artifacts) > 0 {
		n.Artifacts = mergeBy(n.Type.Artifacts, n.Artifacts, artifactName, func(_, c *Artifact) *Artifact { return c })
		r.resolveArtifacts(n.Artifacts, n)
	}
	n.Interfaces = r.assignInterfaces(n.Type, n.Interfaces, n.Type.Interfaces, whereabouts{self: n})
	r.checkFilter(n.Filter, n.Type)
}

// checkDirectives refuses templates of abstract types that nothing takes the place of. Those of a type for which a template comes with Andamio are substituted
// without being told to.
func (r *reader) checkDirectives(n *Node) {
	if n.Type.Abstract() && n.Type.Metadata[MetaShipped] != "" && len(n.Directives) == 0 {
		n.Directives = []string{"substitute"}
	}
	if n.Type.Abstract() && len(n.Directives) == 0 {
		r.diags.at(place{n.Pos, n.width}, CodeAbstract, "%s is abstract: nothing can be built of it", n.Type.Name).see(n.Type.Pos).
			hint("use a type that derives from it, or let a template stand for it with directives: [ substitute ]")
	}
	if n.Filter != nil && len(n.Directives) == 0 {
		r.diags.at(place{n.Filter.Pos, 1}, CodeUnused, "this node filter chooses nothing: the node is built as it is").doubt().
			hint("add directives: [ select ] or [ substitute ], or remove it")
	}
}

// checkProperties checks assignments against declarations: unknown, ill-typed and missing ones.
func (r *reader) checkProperties(defs []*Property, given map[string]*Value, t *Type, at place, self *Node) {
	if len(given) > 0 {
		for _, name := range sortedKeys(given) {
			r.checkAssigned(defs, name, given[name], t, "property", self)
		}
	}
	for _, def := range defs {
		if def.Required && def.Default == nil && given[def.Name] == nil && (self == nil || !self.Directive("select")) {
			r.diags.at(at, CodeMissingProperty, "%s needs the property %q", t.Name, def.Name).see(def.Pos).
				hint("add %s: of type %s", def.Name, def.Type)
		}
	}
}

// checkAttributes checks the initial values of attributes. Every property is an attribute too.
func (r *reader) checkAttributes(defs, properties []*Property, given map[string]*Value, t *Type, self *Node) {
	if len(given) == 0 {
		return
	}
	all := slices.Concat(defs, properties)
	for _, name := range sortedKeys(given) {
		r.checkAssigned(all, name, given[name], t, "attribute", self)
	}
}

func (r *reader) checkAssigned(defs []*Property, name string, v *Value, t *Type, what string, self *Node) {
	def := find(defs, name)
	if def == nil {
		r.diags.at(v.at, CodeUnknownProperty, "%s has no %s %q", t.Name, what, name).suggest(name, namesOf(defs)).see(t.Pos)
		return
	}
	switch def.Status {
	case Deprecated:
		r.diags.at(v.at, CodeStatus, "%s of %s is deprecated: %s", name, t.Name, orElse(def.Description, "use another")).doubt().see(def.Pos)
	case Unsupported:
		r.diags.at(v.at, CodeStatus, "%s of %s is not supported by whoever made the type", name, t.Name).see(def.Pos)
	}
	if v.Kind == Literal {
		if x, ok := r.types.Coerce(v, def, &r.diags); ok {
			v.known, v.knownAs = x, def
		}
		return
	}
	r.checkFunctions(v, whereabouts{self: self})
	r.types.Coerce(v, def, &r.diags)
}

func orElse(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

// doubtSizes questions sizes that are valid and a thousand times too small, the usual slip between MB and GB. What is
// plausible is data: metadata "andamio.least.PROPERTY" of the type.
func (r *reader) doubtSizes(t *Type, given map[string]*Value) {
	for _, l := range t.least {
		v := given[l.property]
		if v == nil || v.Kind != Literal {
			continue
		}
		s, ok := v.known.(Scalar)
		if !ok || s.Sign() == 0 || s.Cmp(l.size) >= 0 {
			continue
		}
		d := r.diags.at(v.at, CodeUnitDoubt, "%s is %s, and nothing useful runs in less than %s", l.property, s, l.size).doubt()
		if up := new(big.Rat).Mul(s.Rat(), big.NewRat(1000, 1)); up.Cmp(l.size.Rat()) >= 0 {
			d.hint("did you mean %s?", strings.NewReplacer("MB", "GB", "MiB", "GiB", "kB", "MB", "KiB", "MiB", "GB", "TB", "GiB", "TiB").Replace(s.Text))
		}
	}
}

func (r *reader) checkGroup(g *Group) {
	if g.Type == nil {
		return
	}
	r.checkProperties(g.Type.Properties, g.Properties, g.Type, place{g.Pos, len(g.Name)}, nil)
	for i, m := range g.Members {
		r.checkMember(g.Type, m, g.members[i])
	}
}

// checkMember checks that a member of a group or a target of a policy is of a type that the group's or policy's allows.
func (r *reader) checkMember(t *Type, name string, at place) {
	n := r.tmpl.nodes[name]
	if n == nil || n.Type == nil || len(t.ValidTargets) == 0 {
		return
	}
	for _, v := range t.ValidTargets {
		if r.types.Derives(NodeTypes, n.Type.Name, v) || r.types.Find(GroupTypes, v) != nil {
			return
		}
	}
	r.diags.at(at, CodeMismatch, "%s is a %s, and %s is for: %s", name, n.Type.Name, t.Name, strings.Join(t.ValidTargets, ", ")).see(n.Pos)
}

func (r *reader) checkPolicy(p *Policy) {
	if p.Type == nil {
		return
	}
	r.checkProperties(p.Type.Properties, p.Properties, p.Type, place{p.Pos, len(p.Name)}, nil)
	for i, target := range p.Targets {
		r.checkMember(p.Type, target, p.targets[i])
	}
	for _, t := range p.Triggers {
		if t.Target != "" && r.tmpl.nodes[t.Target] == nil && !r.isGroup(t.Target) {
			r.unknownNode(t.target, t.Target)
		}
		for _, a := range t.Actions {
			r.checkActivity(a, r.tmpl.nodes[t.Target], "")
		}
	}
}

// assignInterfaces merges assignments into the declared interfaces and loads the scripts they name.
func (r *reader) assignInterfaces(t *Type, given, declared []*Interface, w whereabouts) []*Interface {
	if len(given) == 0 && t.bare {
		return declared
	}
	fits := given[:0:0]
	for _, i := range given {
		decl := findInterface(declared, i.Name)
		if decl == nil {
			r.diags.at(place{i.Pos, len(i.Name)}, CodeUnknownOperation, "%s has no interface %q", t.Name, i.Name).
				suggest(i.Name, interfaceNames(t)).see(t.Pos)
			continue
		}
		r.checkOperations(decl, i)
		fits = append(fits, i)
	}
	merged := mergeBy(declared, fits, interfaceName, refineInterface)
	if w.self != nil && len(w.self.Artifacts) > 0 {
		merged = ownOperations(merged) // which artifact an operation's script is depends on the node
	}
	for _, i := range merged {
		w.at = operationPlace(given, i.Name, "")
		r.checkInputs(i.Inputs, nil, w.self, w)
		for _, n := range i.Notifications {
			if n.Script != "" {
				r.diags.at(place{n.Pos, len(n.Script)}, CodeUnused, "nothing calls the notification %s yet", n.Name).doubt()
			}
		}
		for _, op := range i.Operations {
			if op.Script == "" && len(op.Inputs) == 0 {
				continue
			}
			w.at = operationPlace(given, i.Name, op.Name)
			r.checkInputs(op.Inputs, i.Inputs, w.self, w)
			r.checkOutputs(op, w)
			r.loadScript(op, w)
		}
	}
	return merged
}

// operationPlace is where an interface, and an operation of it, are given; the zero place where neither is.
func operationPlace(given []*Interface, iface, operation string) place {
	i := findInterface(given, iface)
	if i == nil {
		return place{}
	}
	for _, op := range i.Operations {
		if op.Name == operation {
			return op.named
		}
	}
	return place{i.Pos, len(i.Name)}
}

// inheritsFunctions reports whether what a type's operations are given depends on the node they belong to.
func inheritsFunctions(is []*Interface) bool {
	for _, i := range is {
		if len(i.Inputs) > 0 {
			return true
		}
		for _, op := range slices.Concat(i.Operations, i.Notifications) {
			if op.Script != "" || len(op.Inputs) > 0 {
				return true
			}
		}
	}
	return false
}

// ownOperations copies interfaces with their operations, so that they can differ from the type's.
func ownOperations(is []*Interface) []*Interface {
	out := make([]*Interface, len(is))
	for k, i := range is {
		c := *i
		c.Operations = make([]*Operation, len(i.Operations))
		for j, op := range i.Operations {
			o := *op
			o.Dependencies = slices.Clone(op.Dependencies)
			c.Operations[j] = &o
		}
		out[k] = &c
	}
	return out
}

func findInterface(is []*Interface, name string) *Interface {
	for _, i := range is {
		if i.Name == name {
			return i
		}
	}
	return nil
}

// checkInputs checks what an operation is given: its functions, its types, and that nothing required is missing.
func (r *reader) checkInputs(inputs, outer []*Parameter, self *Node, at ...whereabouts) {
	w := whereabouts{self: self}
	if len(at) > 0 {
		w = at[0]
	}
	for _, p := range inputs {
		if p.Value != nil {
			r.checkFunctions(p.Value, w)
		}
		if p.Def == nil {
			continue
		}
		r.types.checkProperty(p.Def, &r.diags)
		given := p.Value
		for _, o := range outer {
			if given == nil && o.Name == p.Name {
				given = o.Value
			}
		}
		switch {
		case given != nil:
			r.types.Coerce(given, p.Def, &r.diags)
		case p.Def.Required && self != nil && len(at) > 0:
			where := place{self.Pos, self.width}
			if w.at.Line > 0 {
				where = w.at
			}
			r.diags.at(where, CodeMissingProperty, "%s needs a value for the operation's input %q", self.Name, p.Name).see(p.Def.Pos)
		}
	}
}

func interfaceNames(t *Type) []string {
	names := make([]string, len(t.Interfaces))
	for i, x := range t.Interfaces {
		names[i] = x.Name
	}
	return names
}

func (r *reader) checkOperations(decl, given *Interface) {
	var known []string
	for _, op := range slices.Concat(decl.Operations, decl.Notifications) {
		known = append(known, op.Name)
	}
	for _, op := range given.Operations {
		if !slices.Contains(known, op.Name) {
			r.diags.at(op.named, CodeUnknownOperation, "%s has no operation %q", orElse(decl.Type, decl.Name), op.Name).suggest(op.Name, known)
		}
	}
}

// checkOutputs checks that an operation's outputs go to attributes that are there.
func (r *reader) checkOutputs(op *Operation, w whereabouts) {
	for _, m := range op.Outputs {
		n := w.node(m.Path[0])
		if n == nil || n.Type == nil {
			if n == nil {
				r.diags.at(place{m.Pos, len(m.Name)}, CodeFunction, "%s means nothing here", m.Path[0]).hint("an output goes to SELF, or in a relationship to SOURCE or TARGET")
			}
			continue
		}
		r.checkOutput(m, n)
	}
}

// checkOutput checks that an attribute of a node, or of a capability of it, is there to take an output.
func (r *reader) checkOutput(m OutputMapping, n *Node) {
	known, word := append(n.Type.propertyNames(), attributeNames(n.Type)...), 1
	found := n.Type.Attribute(m.Path[1]) != nil
	if c := n.Type.Capability(m.Path[1]); c != nil && len(m.Path) > 2 {
		known, word = namesOf(slices.Concat(r.types.CapabilityAttributes(c), r.types.CapabilityProperties(c))), 2
		found = slices.Contains(known, m.Path[2])
	}
	if !found {
		r.diags.at(m.words[word].place(), CodeUnknownRef, "%s has no attribute %q", n.Name, m.Path[word]).suggest(m.Path[word], known).
			hint("declare it under attributes of %s", n.Type.Name)
	}
}

func attributeNames(t *Type) []string { return namesOf(t.Attributes) }

// loadScript opens the script of an operation, which is an artifact of the node or a file relative to the one that
// names it, and what must lie beside it.
func (r *reader) loadScript(op *Operation, w whereabouts) {
	op.Script = r.loadImplementation(op.Pos, op.Script, w.self)
	for i, d := range op.Dependencies {
		at := op.Pos
		if i < len(op.dependencies) {
			at = op.dependencies[i]
		}
		op.Dependencies[i] = r.loadImplementation(at, d, w.self)
	}
}

func (r *reader) loadImplementation(at Pos, name string, self *Node) string {
	if self != nil {
		if a := self.Artifact(name); a != nil {
			return a.File
		}
	}
	if name == "" || r.files[name] != nil {
		return name
	}
	known := len(r.files)
	file, data := r.openBeside(at, at.File, name)
	if data != nil && len(r.files) > known { // each is looked at once
		r.checkScript(at, name, file, data)
	}
	return orElse(file, name)
}

// openBeside opens a file relative to another. The data is nil, and the reason reported where it is named, if it cannot be.
func (r *reader) openBeside(at Pos, from, name string) (string, []byte) {
	file, ok := within(from, name)
	if !ok {
		r.diags.at(place{at, len(name)}, CodeArtifact, "this path leads out of the template's folder: %s", name)
		return "", nil
	}
	if data := r.files[file]; data != nil {
		return file, data
	}
	data, err := r.open(file)
	if err != nil {
		r.diags.at(place{at, len(name)}, CodeArtifact, "the file %s cannot be opened", name).
			hint("files are found relative to %s", path.Join(".", from))
		return "", nil
	}
	if len(data) == 0 {
		data = []byte("\n")
	}
	r.files[file] = data
	return file, data
}
