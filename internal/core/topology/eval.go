package topology

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"andamio/internal/core/tosca"
)

// scope is what SELF, SOURCE, TARGET and HOST mean where a value stands.
type scope struct {
	f                    *frame
	self, source, target *tosca.Node
	// targetFrame is where target is; nil if in f. sourcePlace is the part that a relation made outside belongs to.
	targetFrame *frame
	sourcePlace *place
	// by is the assignment whose relationship the value belongs to; its properties are SELF's.
	by *tosca.Assignment
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

// getProperty evaluates [ NODE, NAME ], [ NODE, CAPABILITY, NAME ] or [ NODE, REQUIREMENT, NAME ], then any nested
// keys or indexes (section 4.4.2).
func (b *builder) getProperty(v *tosca.Value, s scope) (any, bool) {
	path := texts(v.Items)
	if path[0] == "SELF" && s.by != nil && s.by.Relationship.Property(path[1]) != nil {
		return b.relationshipProperty(v, path, s)
	}
	p, capability, rest, ok := b.lead(v, path, s)
	if !ok {
		return nil, false
	}
	x, ok := b.property(v, p, capability, rest[0])
	if !ok || isDeferred(x) {
		return x, ok
	}
	return b.nested(v, x, rest[1:])
}

// relationshipProperty evaluates a property of the relationship itself, which SELF is in its interfaces.
func (b *builder) relationshipProperty(v *tosca.Value, path []string, s scope) (any, bool) {
	def := s.by.Relationship.Property(path[1])
	value := s.by.Properties[path[1]]
	if value == nil {
		value = def.Default
	}
	if value == nil {
		b.mistake(v.Pos(), v.Width(), tosca.CodeUnknownRef, fmt.Sprintf("the relationship has no value for the property %q", path[1]), "give it a value or a default")
		return nil, false
	}
	x, ok := b.typed(def, value, s)
	if !ok || isDeferred(x) {
		return x, ok
	}
	return b.nested(v, x, path[2:])
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
	p, capability, rest = b.follow(p, path[1:])
	if p.n == nil || len(rest) == 0 {
		b.mistake(v.Pos(), v.Width(), tosca.CodeUnknownRef, "this leads to nothing: "+strings.Join(path, ", "), "")
		return place{}, "", nil, false
	}
	return p, capability, rest, true
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

// declared are the definitions of a node's properties, or of one of its capabilities', with what is assigned.
func (b *builder) declared(n *tosca.Node, capability string) ([]*tosca.Property, map[string]*tosca.Value) {
	if capability == "" {
		return n.Type.Properties, n.Properties
	}
	return b.tmpl.Types.CapabilityProperties(n.Type.Capability(capability)), n.Capabilities[capability]
}

// propertyID names a property of a node or capability, to find circles.
type propertyID struct {
	place
	capability, name string
}

func (id propertyID) String() string {
	if id.capability == "" {
		return id.f.prefix + id.n.Name + "." + id.name
	}
	return id.f.prefix + id.n.Name + "." + id.capability + "." + id.name
}

// property evaluates one property of a node, refusing circles among properties. v is where it is asked for, nil for a
// filter.
func (b *builder) property(v *tosca.Value, p place, capability, name string) (any, bool) {
	defs, given := b.declared(p.n, capability)
	for _, def := range defs {
		if def.Name != name {
			continue
		}
		value := given[name]
		if value == nil && capability != "" {
			if x, ok := b.mappedCapability(v, p, capability, name); ok {
				return x, true
			}
		}
		if value == nil {
			value = def.Default
		}
		if value == nil {
			break
		}
		if value.Kind == tosca.Literal {
			return b.typed(def, value, scope{f: p.f, self: p.n})
		}
		id := propertyID{p, capability, name}
		if b.open[id] {
			b.circle(value, id)
			return nil, false
		}
		b.open[id] = true
		b.path = append(b.path, id)
		defer func() { delete(b.open, id); b.path = b.path[:len(b.path)-1] }()
		return b.typed(def, value, scope{f: p.f, self: p.n})
	}
	if st := p.f.taken[p.n]; st != nil {
		if x, ok := st.Properties[name]; ok && capability == "" {
			return x, true
		}
		if x, ok := st.Capabilities[capability][name]; ok {
			return x, true
		}
	}
	if b.options.NoSites && p.n.Directive("select") {
		return Deferred{"get_attribute", []any{p.f.prefix + p.n.Name, name}}, true
	}
	if v != nil {
		b.mistake(v.Pos(), v.Width(), tosca.CodeUnknownRef, fmt.Sprintf("%s has no value for the property %q", p.n.Name, name), "give it a value or a default")
	}
	return nil, false
}

// mappedCapability is a property of a capability that a node within has in place of the node stood for.
func (b *builder) mappedCapability(v *tosca.Value, p place, capability, name string) (any, bool) {
	in := b.inner(p.f, p.n)
	if in == nil {
		return nil, false
	}
	m, ok := in.tmpl.Substitution.Capabilities[capability]
	if !ok {
		return nil, false
	}
	n := in.tmpl.Node(m.Node)
	defs, given := b.declared(n, m.Name)
	for _, d := range defs {
		if d.Name == name && (given[name] != nil || d.Default != nil) {
			return b.property(v, place{in, n}, m.Name, name)
		}
	}
	return nil, false
}

// circle reports properties that depend on themselves, as the path that leads back.
func (b *builder) circle(v *tosca.Value, id propertyID) {
	from := slices.Index(b.path, id)
	var names []string
	for _, p := range b.path[from:] {
		names = append(names, p.String())
	}
	sorted := slices.Sorted(slices.Values(names))
	if slices.ContainsFunc(b.circles, func(c []string) bool { return slices.Equal(c, sorted) }) {
		return // the same circle, entered at another of its values
	}
	b.circles = append(b.circles, sorted)
	b.mistake(v.Pos(), v.Width(), tosca.CodeCycle, "these values depend on each other in a circle: "+strings.Join(append(names, id.String()), " → "),
		"give one of them a value of its own")
}

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
	if st := p.f.taken[p.n]; st != nil {
		if x, ok := st.Attributes[name]; ok {
			return x, true
		}
	}
	if b.attributeCircle(v, p, name, s) {
		return nil, false
	}
	args := []any{p.f.prefix + p.n.Name, name}
	for _, r := range rest[1:] {
		args = append(args, r)
	}
	return Deferred{"get_attribute", args}, true
}

// attributeCircle follows the initial values of attributes, which may lead to other attributes, and reports a circle.
func (b *builder) attributeCircle(v *tosca.Value, p place, name string, _ scope) bool {
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
		if !ok || isDeferred(x) {
			return x, ok
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

// text evaluates concat, join and token; if a part waits for the run, so does the whole.
func (b *builder) text(v *tosca.Value, s scope) (any, bool) {
	items := v.Items
	if v.Func == "concat" && len(items) == 1 && items[0].Kind == tosca.List {
		items = items[0].Items
	}
	var args []any
	for _, item := range items {
		x, ok := b.eval(item, s)
		if !ok {
			return nil, false
		}
		args = append(args, x)
	}
	if isDeferred(args) {
		return Deferred{v.Func, args}, true
	}
	switch v.Func {
	case "concat":
		return concat(args), true
	case "join":
		return join(args), true
	}
	return b.token(v, args)
}

func concat(args []any) string {
	var text strings.Builder
	for _, p := range args {
		text.WriteString(tosca.Show(p))
	}
	return text.String()
}

func join(args []any) string {
	list, _ := args[0].([]any)
	parts := make([]string, len(list))
	for i := range list {
		parts[i] = tosca.Show(list[i])
	}
	sep := ""
	if len(args) > 1 {
		sep = tosca.Show(args[1])
	}
	return strings.Join(parts, sep)
}

// token is the part of a text between separators (section 4.3.3).
func (b *builder) token(v *tosca.Value, args []any) (any, bool) {
	i, _ := args[2].(int64)
	part, ok := Token(tosca.Show(args[0]), tosca.Show(args[1]), int(i))
	if !ok {
		b.mistake(v.Pos(), v.Width(), tosca.CodeFunction, fmt.Sprintf("%q has no part %d between %q", tosca.Show(args[0]), i, tosca.Show(args[1])), "parts count from 0")
	}
	return part, ok
}

// Token is the index-th part of a text, counted from 0, between any of the separating characters.
func Token(text, separators string, index int) (string, bool) {
	parts := splitAny(text, separators)
	if index < 0 || index >= len(parts) {
		return "", false
	}
	return parts[index], true
}

// splitAny splits at every one of the characters, keeping empty parts.
func splitAny(text, separators string) []string {
	if separators == "" {
		return []string{text}
	}
	var out []string
	for {
		i := strings.IndexAny(text, separators)
		if i < 0 {
			return append(out, text)
		}
		out = append(out, text[:i])
		_, size := utf8.DecodeRuneInString(text[i:])
		text = text[i+size:]
	}
}

// nested follows keys into maps and indexes into lists.
func (b *builder) nested(v *tosca.Value, x any, path []string) (any, bool) {
	for _, key := range path {
		switch in := x.(type) {
		case map[string]any:
			x = in[key]
		case []any:
			x = at(in, key)
		default:
			x = nil
		}
		if isDeferred(x) {
			return x, true
		}
		if x == nil {
			b.mistake(v.Pos(), v.Width(), tosca.CodeUnknownRef, fmt.Sprintf("there is nothing at %q", key), "")
			return nil, false
		}
	}
	return x, true
}

func at(list []any, key string) any {
	if i, err := strconv.Atoi(key); err == nil && i >= 0 && i < len(list) {
		return list[i]
	}
	return nil
}

func isDeferred(x any) bool {
	switch x := x.(type) {
	case Deferred:
		return true
	case []any:
		return slices.ContainsFunc(x, isDeferred)
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
