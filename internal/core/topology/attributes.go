package topology

import (
	"fmt"

	"andamio/internal/core/tosca"
)

// getAttribute stays for the run: its first argument becomes a node's name, its second the attribute or
// "capability.attribute", and further ones lead into it. An attribute of a node that a template stands for is an output
// of that template.
func (b *builder) getAttribute(v *tosca.Value, s scope) (any, bool) {
	path := texts(v.Items)
	if path[0] == "SELF" && s.by != nil && s.by.Relationship.Property(path[1]) != nil {
		return b.relationshipProperty(v, path, s)
	}
	p, capability, rest, ok := b.lead(v, path, s)
	if !ok {
		return nil, false
	}
	if in := b.inner(p.f, p.n); in != nil {
		return b.attributeWithin(v, p, in, capability, rest)
	}
	name := rest[0]
	if capability != "" {
		name = capability + "." + name
	}
	if st := b.selected(p); st != nil {
		if x, ok := st.Attributes[name]; ok {
			return x, true
		}
	}
	if b.attributeCircle(v, p, name) {
		return nil, false
	}
	args := []any{p.f.prefix + p.n.Name, name}
	for _, r := range rest[1:] {
		args = append(args, r)
	}
	return Deferred{"get_attribute", args}, true
}

// attributeCircle follows the initial values of attributes, which may lead to other attributes, and reports a circle.
func (b *builder) attributeCircle(v *tosca.Value, p place, name string) bool {
	value := p.n.Attributes[name]
	if value == nil || value.Kind == tosca.Literal {
		return false
	}
	id := propertyID{p, "attribute", name}
	if b.open[id] {
		b.circle(v, id)
		return true
	}
	b.open[id] = true
	b.path = append(b.path, id)
	defer func() { delete(b.open, id); b.path = b.path[:len(b.path)-1] }()
	_, ok := b.eval(value, scope{f: p.f, self: p.n})
	return !ok
}

func (b *builder) attributeWithin(v *tosca.Value, p place, in *frame, capability string, rest []string) (any, bool) {
	if capability != "" {
		for _, l := range b.enter(p, capability) {
			if _, mapped := in.tmpl.Substitution.Capabilities[capability]; mapped {
				args := []any{l.f.prefix + l.n.Name, l.capability + "." + rest[0]}
				for _, r := range rest[1:] {
					args = append(args, r)
				}
				return Deferred{"get_attribute", args}, true
			}
		}
	}
	output := rest[0]
	if mapped, ok := in.tmpl.Substitution.Attributes[output]; ok {
		output = mapped
	}
	if o := in.tmpl.Output(output); o != nil {
		x, ok := b.eval(o.Value, scope{f: in})
		if !ok {
			return nil, false
		}
		return b.nested(v, x, rest[1:])
	}
	if b.hasValue(p.n, rest[0]) {
		return b.property(v, p, "", rest[0])
	}
	b.mistake(v.Pos(), v.Width(), tosca.CodeUnknownRef, fmt.Sprintf("the template %s, which stands for %s, has no output for the attribute %q", in.tmpl.Name, p.n.Name, rest[0]),
		"map it under substitution_mappings, or give an output that name")
	return nil, false
}

// getOperationOutput stays for the run (section 4.6).
func (b *builder) getOperationOutput(v *tosca.Value, s scope) (any, bool) {
	path := texts(v.Items)
	var p place
	ok := true
	if path[0] == "HOST" {
		p, ok = b.host(v, s, func(p place) bool { _, _, has := p.n.Type.FindOperation(path[1] + "." + path[2]); return has })
	} else {
		p, ok = b.place(v, path[0], s)
	}
	if !ok {
		return nil, false
	}
	if b.inner(p.f, p.n) != nil {
		b.mistake(v.Pos(), v.Width(), tosca.CodeUnknownRef, fmt.Sprintf("a template stands for %s, which has no operations of its own", p.n.Name), "make it an output of that template and get_attribute it")
		return nil, false
	}
	iface, op, _ := p.n.Type.FindOperation(path[1] + "." + path[2])
	if iface == nil {
		return nil, false
	}
	return Deferred{"get_operation_output", []any{p.f.prefix + p.n.Name, iface.Name + "." + op.Name, path[3]}}, true
}

// getNodes lists the nodes of a type (section 4.7).
func (b *builder) getNodes(v *tosca.Value) (any, bool) {
	name := texts(v.Items)[0]
	out := []any{}
	for _, n := range b.design.Nodes {
		if b.tmpl.Types.Derives(tosca.NodeTypes, n.TypeName, name) {
			out = append(out, n.Name)
		}
	}
	return out, true
}

// getArtifact stays for the run, which puts the file where the operation finds it (section 4.8).
func (b *builder) getArtifact(v *tosca.Value, s scope) (any, bool) {
	path := texts(v.Items)
	p, ok := b.place(v, path[0], s)
	if !ok {
		return nil, false
	}
	a := p.n.Artifact(path[1])
	if a == nil {
		for _, inherited := range p.n.Type.Artifacts {
			if inherited.Name == path[1] {
				a = inherited
			}
		}
	}
	if a == nil {
		return nil, false
	}
	to := a.DeployPath
	if len(path) > 2 && path[2] != "LOCAL_FILE" {
		to = path[2]
	}
	return Deferred{"get_artifact", []any{a.File, to}}, true
}
