package topology

import (
	"fmt"
	"strings"

	"andamio/internal/core/tosca"
)

// scope is what SELF, SOURCE, TARGET and HOST mean where a value stands.
type scope struct {
	self, source, target *tosca.Node
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
		out, ok := map[string]any{}, true
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
		return b.getInput(v)
	case "get_property":
		return b.getProperty(v, s)
	case "get_attribute":
		return b.getAttribute(v, s)
	case "concat":
		return b.concat(v, s)
	}
	return nil, false // reported when the template was read
}

func (b *builder) getInput(v *tosca.Value) (any, bool) {
	path := texts(v.Items)
	if in := b.tmpl.Input(path[0]); in != nil && in.Secret {
		return Deferred{"get_secret", []any{path[0]}}, true
	}
	x, ok := b.design.Inputs[path[0]]
	if !ok {
		b.mistake(v.Pos(), tosca.CodeMissingProperty, fmt.Sprintf("the input %q has no value", path[0]), "give it a value or a default")
		return nil, false
	}
	return b.nested(v, x, path[1:])
}

// node finds the node template that the first argument of a function names.
func (b *builder) node(v *tosca.Value, name string, s scope) *tosca.Node {
	n := map[string]*tosca.Node{"SELF": s.self, "SOURCE": s.source, "TARGET": s.target}[name]
	if name == "HOST" && s.self != nil {
		n = b.hostOf(s.self)
	}
	if n == nil {
		n = b.tmpl.Node(name)
	}
	if n == nil {
		b.mistake(v.Pos(), tosca.CodeFunction, fmt.Sprintf("%s means nothing here", name), "name a node template")
	}
	return n
}

func (b *builder) hostOf(n *tosca.Node) *tosca.Node {
	for _, a := range n.Requirements {
		if a.Relationship != nil && a.Relationship.Metadata["andamio.order"] == string(Hosted) {
			return b.tmpl.Node(a.Target)
		}
	}
	return nil
}

// getProperty evaluates [ NODE, NAME ], [ NODE, CAPABILITY, NAME ] or [ NODE, REQUIREMENT, NAME ], then any nested
// keys or indexes (section 4.4.2).
func (b *builder) getProperty(v *tosca.Value, s scope) (any, bool) {
	n, capability, rest, ok := b.lead(v, s)
	if !ok {
		return nil, false
	}
	defs, given := n.Type.Properties, n.Properties
	if capability != "" {
		defs, given = b.tmpl.Types.CapabilityProperties(n.Type.Capability(capability)), n.Capabilities[capability]
	}
	x, ok := b.property(v, n, capability, rest[0], defs, given)
	if !ok {
		return nil, false
	}
	return b.nested(v, x, rest[1:])
}

// lead reads the arguments of get_property and get_attribute: the node they lead to, the capability if they name one,
// and the rest, which begins with the name asked for.
func (b *builder) lead(v *tosca.Value, s scope) (n *tosca.Node, capability string, rest []string, ok bool) {
	path := texts(v.Items)
	if n = b.node(v, path[0], s); n == nil {
		return nil, "", nil, false
	}
	n, capability, rest = b.follow(n, path[1:])
	if n == nil || len(rest) == 0 {
		b.mistake(v.Pos(), tosca.CodeUnknownRef, "this leads to nothing: "+strings.Join(path, ", "), "")
		return nil, "", nil, false
	}
	return n, capability, rest, true
}

// follow reads the part of a path that names a capability or leads through a requirement to another node.
func (b *builder) follow(n *tosca.Node, path []string) (*tosca.Node, string, []string) {
	for len(path) >= 2 {
		if n.Type.Capability(path[0]) != nil {
			return n, path[0], path[1:]
		}
		if n.Type.Requirement(path[0]) == nil {
			break
		}
		var next *tosca.Node
		for _, a := range n.Requirements {
			if a.Name == path[0] {
				next = b.tmpl.Node(a.Target)
				break
			}
		}
		if next == nil {
			return nil, "", nil
		}
		n, path = next, path[1:]
	}
	return n, "", path
}

// property evaluates one property of a node, refusing circles among properties.
func (b *builder) property(v *tosca.Value, n *tosca.Node, capability, name string, defs []*tosca.Property, given map[string]*tosca.Value) (any, bool) {
	id := n.Name + "." + capability + "." + name
	if b.open[id] {
		b.mistake(v.Pos(), tosca.CodeCycle, fmt.Sprintf("the value of %s depends on itself", strings.ReplaceAll(id, "..", ".")), "")
		return nil, false
	}
	for _, def := range defs {
		if def.Name != name {
			continue
		}
		value := given[name]
		if value == nil {
			value = def.Default
		}
		if value == nil {
			break
		}
		b.open[id] = true
		defer delete(b.open, id)
		return b.typed(def, value, scope{self: n})
	}
	b.mistake(v.Pos(), tosca.CodeUnknownRef, fmt.Sprintf("%s has no value for the property %q", n.Name, name), "give it a value or a default")
	return nil, false
}

// getAttribute stays for the run: its first argument becomes a node's name, its second "capability.attribute" or the
// attribute.
func (b *builder) getAttribute(v *tosca.Value, s scope) (any, bool) {
	n, capability, rest, ok := b.lead(v, s)
	if !ok {
		return nil, false
	}
	name := rest[0]
	if capability != "" {
		name = capability + "." + name
	}
	return Deferred{"get_attribute", []any{n.Name, name}}, true
}

// concat joins texts; if one of them waits for the run, so does the whole.
func (b *builder) concat(v *tosca.Value, s scope) (any, bool) {
	items := v.Items
	if len(items) == 1 && items[0].Kind == tosca.List {
		items = items[0].Items
	}
	var parts []any
	deferred := false
	for _, item := range items {
		x, ok := b.eval(item, s)
		if !ok {
			return nil, false
		}
		deferred = deferred || isDeferred(x)
		parts = append(parts, x)
	}
	if deferred {
		return Deferred{"concat", parts}, true
	}
	var text strings.Builder
	for _, p := range parts {
		text.WriteString(tosca.Show(p))
	}
	return text.String(), true
}

// nested follows keys into maps and indexes into lists.
func (b *builder) nested(v *tosca.Value, x any, path []string) (any, bool) {
	for _, key := range path {
		switch in := x.(type) {
		case map[string]any:
			x = in[key]
		case []any:
			i := -1
			if _, err := fmt.Sscanf(key, "%d", &i); err != nil || i < 0 || i >= len(in) {
				x = nil
			} else {
				x = in[i]
			}
		default:
			x = nil
		}
		if x == nil {
			b.mistake(v.Pos(), tosca.CodeUnknownRef, fmt.Sprintf("there is nothing at %q", key), "")
			return nil, false
		}
	}
	return x, true
}

func isDeferred(x any) bool {
	switch x := x.(type) {
	case Deferred:
		return true
	case []any:
		for _, item := range x {
			if isDeferred(item) {
				return true
			}
		}
	case map[string]any:
		for _, item := range x {
			if isDeferred(item) {
				return true
			}
		}
	}
	return false
}

func texts(items []*tosca.Value) []string {
	out := make([]string, len(items))
	for i, item := range items {
		out[i] = tosca.Show(item.Plain())
	}
	return out
}
