package topology

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/tosca"
)

// scope is what SELF, SOURCE, TARGET and HOST mean where a value stands.
type scope struct {
	f                    *frame
	self, source, target *tosca.Node
	// targetFrame is where target is; nil if in f. sourcePlace is the part that a relation made outside belongs to.
	targetFrame *frame
	sourcePlace *place
	// by is the assignment whose relationship the value belongs to; its properties are SELF's. Its source knows it as the requirement, which leads
	// to the capability of the target.
	by                      *tosca.Assignment
	requirement, capability string
	// workflow is the one whose inputs get_input may name.
	workflow *tosca.Workflow
}

// eval evaluates a value. What only a run can know comes back as [Deferred], alone or within lists and maps.
func (b *builder) eval(v *tosca.Value, s scope) (any, bool) {
	switch v.Kind {
	case tosca.List:
		out, ok := make([]any, len(v.Items)), true
		for i, item := range v.Items {
			x, fine := b.eval(item, s)
			out[i], ok = x, ok && fine
		}
		return out, ok
	case tosca.Map:
		out, ok := make(map[string]any, len(v.Items)), true
		for i, item := range v.Items {
			x, fine := b.eval(item, s)
			out[v.Keys[i]], ok = x, ok && fine
		}
		return out, ok
	case tosca.Call:
		return b.call(v, s)
	}
	return v.Literal, true
}

func (b *builder) call(v *tosca.Value, s scope) (any, bool) {
	switch v.Func {
	case "get_input":
		return b.getInput(v, s)
	case "get_property":
		return b.getProperty(v, s)
	case "get_attribute":
		return b.getAttribute(v, s)
	case "get_operation_output":
		return b.getOperationOutput(v, s)
	case "get_nodes_of_type":
		return b.getNodes(v)
	case "get_artifact":
		return b.getArtifact(v, s)
	case "concat", "join", "token":
		return b.text(v, s)
	}
	return nil, false // reported when the template was read
}

// getInput evaluates an input: the root's from what is given, that of a template within from the node it stands for.
func (b *builder) getInput(v *tosca.Value, s scope) (any, bool) {
	path := texts(v.Items)
	if s.workflow != nil {
		for _, def := range s.workflow.Inputs {
			if def.Name == path[0] && def.Default != nil {
				x, ok := b.typed(def, def.Default, scope{f: s.f})
				return x, ok
			}
		}
	}
	x, ok := b.input(v, s.f, path[0])
	if !ok || isDeferred(x) {
		return x, ok
	}
	return b.nested(v, x, path[1:])
}

func (b *builder) input(v *tosca.Value, f *frame, name string) (any, bool) {
	in := f.tmpl.Input(name)
	if in == nil {
		return nil, false
	}
	if f.outer != nil {
		return b.mappedInput(f, in)
	}
	if in.Secret {
		return Deferred{"get_secret", []any{name}}, true
	}
	if x, ok := f.inputs[name]; ok {
		return x, true
	}
	if b.options.Partial {
		return Deferred{"get_input", []any{name}}, true
	}
	b.mistake(v.Pos(), v.Width(), tosca.CodeMissingInput, fmt.Sprintf("the input %q has no value", name), "give it a value or a default")
	return nil, false
}

// mappedInput is an input of a template within: a fixed value, the property it is mapped from, or its default.
func (b *builder) mappedInput(f *frame, in *tosca.Input) (any, bool) {
	if x, done := f.inputs[in.Name]; done {
		return x, true
	}
	name, fixed := f.tmpl.Substitution.InputFrom(in.Name)
	var x any
	ok := false
	outer := place{f.outer, f.stands}
	switch {
	case fixed != nil:
		x, ok = b.typed(in.Property, fixed, scope{f: f})
	case b.hasValue(outer.n, name):
		x, ok = b.property(nil, outer, "", name)
		if ok && !isDeferred(x) {
			at := outer.n.Pos
			if v := outer.n.Properties[name]; v != nil {
				at = v.Pos()
			}
			x, ok = b.tmpl.Types.Coerce(tosca.LiteralOf(x, at), in.Property, &b.diags)
		}
	case in.Default != nil:
		x, ok = b.typed(in.Property, in.Default, scope{f: f})
	default:
		b.mistakeOnce(outer.n.Pos, outer.n.Width(), tosca.CodeMissingProperty, fmt.Sprintf("%s needs the property %q: the template that stands for it takes it as an input", outer.n.Name, name), "")
	}
	if ok {
		f.inputs[in.Name] = x
	}
	return x, ok
}

func (b *builder) hasValue(n *tosca.Node, property string) bool {
	def := n.Type.Property(property)
	return def != nil && (n.Properties[property] != nil || def.Default != nil)
}

// place finds the node template that the first argument of a function names.
func (b *builder) place(v *tosca.Value, name string, s scope) (place, bool) {
	f := s.f
	var n *tosca.Node
	switch name {
	case "SELF":
		n = s.self
	case "SOURCE":
		n = s.source
	case "TARGET":
		n = s.target
		if s.targetFrame != nil {
			f = s.targetFrame
		}
	default:
		n = s.f.tmpl.Node(name)
	}
	if (name == "SELF" || name == "SOURCE") && n != nil && s.sourcePlace != nil {
		return *s.sourcePlace, true
	}
	if n == nil {
		b.mistake(v.Pos(), v.Width(), tosca.CodeFunction, fmt.Sprintf("%s means nothing here", name), "name a node template")
		return place{}, false
	}
	return place{f, n}, true
}

// host finds, down the chain of hosts, the first node that has the name asked for (section 4.1, HOST).
func (b *builder) host(v *tosca.Value, s scope, want func(place) bool) (place, bool) {
	at := place{s.f, s.self}
	for range 1000 {
		next, ok := b.hostOf(at)
		if !ok {
			break
		}
		if want(next) {
			return next, true
		}
		at = next
	}
	b.mistake(v.Pos(), v.Width(), tosca.CodeUnknownRef, fmt.Sprintf("no host has what is asked for: %s", strings.Join(texts(v.Items[1:]), ", ")), "")
	return place{}, false
}

func (b *builder) hostOf(p place) (place, bool) {
	if p.n == nil {
		return place{}, false
	}
	for _, a := range p.n.Requirements {
		order := ""
		if a.Relationship != nil {
			order = a.Relationship.Metadata[tosca.MetaOrder]
		}
		if a.Outside || order == string(Hosted) || order == string(Binds) {
			for _, l := range b.lands(p, a) {
				return l.place, true
			}
		}
	}
	return place{}, false
}

// lead reads the arguments of get_property and get_attribute: the node they lead to, the capability if they name one,
// and the rest, which begins with the name asked for.
func (b *builder) lead(v *tosca.Value, path []string, s scope) (p place, capability string, rest []string, ok bool) {
	if path[0] == "HOST" {
		p, ok = b.host(v, s, func(p place) bool {
			return p.n.Type.Attribute(path[1]) != nil || len(path) > 2 && p.n.Type.Capability(path[1]) != nil
		})
	} else {
		p, ok = b.place(v, path[0], s)
	}
	if !ok {
		return place{}, "", nil, false
	}
	if s.by != nil && len(path) == 3 && (path[0] == "SELF" || path[0] == "SOURCE") && path[1] == s.requirement {
		return b.end(s), s.capability, path[2:], true // of several that fulfil it the one that the relationship leads to
	}
	p, capability, rest = b.follow(p, path[1:])
	if p.n == nil || len(rest) == 0 {
		b.mistake(v.Pos(), v.Width(), tosca.CodeUnknownRef, "this leads to nothing: "+strings.Join(path, ", "), "")
		return place{}, "", nil, false
	}
	return p, capability, rest, true
}

// end is the target of the relationship that a value belongs to.
func (b *builder) end(s scope) place {
	if s.targetFrame != nil {
		return place{s.targetFrame, s.target}
	}
	return place{s.f, s.target}
}

// follow reads the part of a path that names a capability or leads through a requirement to another node.
func (b *builder) follow(p place, path []string) (place, string, []string) {
	for len(path) >= 2 {
		if p.n.Type.Capability(path[0]) != nil {
			return p, path[0], path[1:]
		}
		if p.n.Type.Requirement(path[0]) == nil {
			break
		}
		var next []landing
		for _, a := range p.n.Requirements {
			if a.Name == path[0] {
				next = b.lands(p, a)
				break
			}
		}
		if len(next) == 0 && p.f.outer != nil {
			next = b.landsOutside(p, path[0])
		}
		if len(next) == 0 {
			return place{}, "", nil
		}
		// a name after a requirement may belong to the capability that fulfils it
		target := next[0]
		if c := target.n.Type.Capability(target.capability); c != nil && len(path) == 2 && b.declares(c, path[1]) && target.n.Type.Attribute(path[1]) == nil {
			return target.place, target.capability, path[1:]
		}
		p, path = target.place, path[1:]
	}
	return p, "", path
}

func (b *builder) declares(c *tosca.Capability, name string) bool {
	for _, d := range slices.Concat(b.tmpl.Types.CapabilityProperties(c), b.tmpl.Types.CapabilityAttributes(c)) {
		if d.Name == name {
			return true
		}
	}
	return false
}
