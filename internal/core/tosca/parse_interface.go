package tosca

import (
	"slices"

	"go.yaml.in/yaml/v4"
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
	i := &Interface{Name: p.name, Pos: p.key.place().Pos}
	if p.value.isNull() {
		return i
	}
	if p.value.Kind != yaml.MappingNode {
		r.diags.at(p.value.place(), CodeShape, "an interface is a mapping of operations")
		return i
	}
	r.unsupported(p.value, "an interface", "notifications")
	i.Type = r.text(p.value, "type")
	i.Inputs = r.parameters(p.value, "inputs")
	if ops, ok := p.value.get("operations"); ok {
		if ops.Kind == yaml.MappingNode {
			i.Operations = r.operations(ops.pairs())
		}
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

// operation reads an operation in its short form (a script), its extended form, or bare.
func (r *reader) operation(p pair) *Operation {
	op := &Operation{Name: p.name, Pos: p.value.place().Pos}
	switch {
	case p.value.isNull():
	case p.value.Kind == yaml.ScalarNode:
		op.Script = p.value.Value
	case r.keys(p.value, "an operation", nil, "description", "implementation", "inputs", "outputs"):
		r.unsupported(p.value, "an operation", "outputs")
		op.Inputs = r.parameters(p.value, "inputs")
		if impl, ok := p.value.get("implementation"); ok {
			r.implementation(op, impl)
		}
	}
	return op
}

// implementation reads an operation implementation (section 3.6.16).
func (r *reader) implementation(op *Operation, n node) {
	op.Pos = n.place().Pos
	if n.Kind == yaml.ScalarNode {
		op.Script = n.Value
		return
	}
	if !r.keys(n, "an implementation", nil, "primary", "dependencies", "timeout", "operation_host") {
		return
	}
	r.unsupported(n, "an implementation", "dependencies", "operation_host")
	if primary, ok := n.get("primary"); ok {
		op.Pos = primary.place().Pos
		if primary.Kind == yaml.MappingNode {
			op.Script = r.text(primary, "file")
		} else {
			op.Script = primary.Value
		}
	}
	if t, ok := n.get("timeout"); ok {
		v, _ := r.types.Coerce(r.value(t), &Property{Name: "timeout", Type: "float"}, &r.diags)
		op.Timeout, _ = v.(float64)
	}
}

// parameters reads assignments of values; a definition with a default or value counts as that value.
func (r *reader) parameters(n node, key string) []*Parameter {
	var out []*Parameter
	for _, p := range r.mapping(n, key) {
		v := p.value
		if _, typed := v.get("type"); typed {
			if d, ok := v.get("default"); ok {
				v = d
			} else if d, ok := v.get("value"); ok {
				v = d
			} else {
				continue
			}
		}
		out = append(out, &Parameter{p.name, r.value(v)})
	}
	return out
}
