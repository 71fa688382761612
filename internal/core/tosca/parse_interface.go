package tosca

import (
	"slices"
)

// interfaces reads interface definitions and assignments (sections 3.6.20 and 3.8.3): the two differ only in whether
// operations stand under "operations" or straight under the interface.
func (r *reader) interfaces(n node) []*Interface {
	var out []*Interface
	for _, p := range r.mapping(n, "interfaces") {
		out = append(out, r.iface(p))
	}
	return out
}

var interfaceKeys = []string{"type", "description", "inputs", "operations", "notifications"}

func (r *reader) iface(p pair) *Interface {
	i := &Interface{Name: p.name, Pos: p.key.pos()}
	if p.value.isNull() {
		return i
	}
	if p.value.form != mapping {
		r.diags.at(p.value.place(), CodeShape, "an interface is a mapping of operations")
		return i
	}
	i.Type = r.typeName(p.value, "type")
	i.Inputs = r.parameters(p.value, "inputs")
	i.Notifications = r.operations(r.mapping(p.value, "notifications"))
	if _, ok := p.value.get("operations"); ok {
		i.Operations = r.operations(r.mapping(p.value, "operations"))
		return i
	}
	var direct []pair
	for _, op := range p.value.pairs() {
		if !slices.Contains(interfaceKeys, op.name) {
			direct = append(direct, op)
		}
	}
	i.Operations = r.operations(direct)
	return i
}

func (r *reader) operations(ps []pair) []*Operation {
	var out []*Operation
	for _, p := range ps {
		out = append(out, r.operation(p))
	}
	return out
}

// operation reads an operation or notification in its short form (a script), its extended form, or bare.
func (r *reader) operation(p pair) *Operation {
	op := &Operation{Name: p.name, Pos: p.value.pos(), named: p.key.place()}
	switch {
	case p.value.isNull():
		op.Pos = p.key.pos()
	case p.value.form == scalar:
		op.Script = p.value.value
	case r.keys(p.value, "an operation", nil, "description", "implementation", "inputs", "outputs"):
		op.Description = r.text(p.value, "description")
		op.Inputs = r.parameters(p.value, "inputs")
		op.Outputs = r.outputMappings(p.value)
		if impl, ok := p.value.get("implementation"); ok {
			r.implementation(op, impl)
		}
	}
	return op
}

// implementation reads an operation implementation (section 3.6.16).
func (r *reader) implementation(op *Operation, n node) {
	op.Pos = n.pos()
	if n.form == scalar {
		op.Script = n.value
		return
	}
	if !r.keys(n, "an implementation", nil, "primary", "dependencies", "timeout", "operation_host") {
		return
	}
	if primary, ok := n.get("primary"); ok {
		op.Pos = primary.pos()
		op.Script = r.artifactFile(primary)
	}
	for _, d := range r.list(n, "dependencies") {
		if file := r.artifactFile(d); file != "" {
			op.Dependencies = append(op.Dependencies, file)
			op.dependencies = append(op.dependencies, d.pos())
		}
	}
	if h, ok := n.get("operation_host"); ok {
		op.Host = h.value
		known := []string{"SELF", "HOST", "SOURCE", "TARGET", "ORCHESTRATOR"}
		if !slices.Contains(known, h.value) {
			r.diags.at(h.place(), CodeConstraint, "there is no operation host %q", h.value).suggest(h.value, known)
		}
		if h.value == "ORCHESTRATOR" {
			r.diags.at(h.place(), CodeUnsupported, "operations are run on instances, never on the machine that Andamio runs on").
				hint("let it run on HOST")
		}
	}
	if t, ok := n.get("timeout"); ok {
		v, _ := r.types.Coerce(r.value(t), &Property{Name: "timeout", Type: "float"}, &r.diags)
		op.Timeout, _ = v.(float64)
	}
}

// artifactFile reads an artifact given as a file's path, or inline with its file.
func (r *reader) artifactFile(n node) string {
	if n.form == mapping {
		r.keys(n, "an artifact", []string{"file"}, artifactKeys...)
		return r.text(n, "file")
	}
	return n.value
}

// outputMappings reads what puts an operation's outputs into attributes (section 3.6.15).
func (r *reader) outputMappings(n node) []OutputMapping {
	var out []OutputMapping
	for _, p := range r.mapping(n, "outputs") {
		m := OutputMapping{Name: p.name, Pos: p.key.pos()}
		if !shellName.MatchString(p.name) {
			r.diags.at(p.key.place(), CodeName, "%q cannot be an output: a script puts it out as a variable of that name", p.name)
		}
		for _, item := range p.value.items() {
			m.Path = append(m.Path, item.value)
			m.words = append(m.words, item)
		}
		if p.value.form != sequence || len(m.Path) < 2 {
			r.diags.at(p.value.place(), CodeShape, "an output is put into an attribute: [ SELF, ATTRIBUTE ]")
			continue
		}
		out = append(out, m)
	}
	return out
}

// parameters reads definitions and assignments of inputs; a definition's default or value counts as its value.
func (r *reader) parameters(n node, key string) []*Parameter {
	var out []*Parameter
	for _, p := range r.mapping(n, key) {
		if !isDefinition(p.value) {
			out = append(out, &Parameter{Name: p.name, Value: r.value(p.value)})
			continue
		}
		def := r.property(p)
		param := &Parameter{Name: p.name, Def: def, Value: def.Default}
		if v, ok := p.value.get("value"); ok {
			param.Value = r.value(v)
		}
		out = append(out, param)
	}
	return out
}

// isDefinition tells the definition of a parameter from a map assigned to it.
func isDefinition(n node) bool {
	if n.form != mapping {
		return false
	}
	t, typed := n.get("type")
	for _, p := range n.pairs() {
		if !slices.Contains(propertyKeys, p.name) {
			return false
		}
	}
	return typed && t.form == scalar
}
