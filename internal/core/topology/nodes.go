package topology

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"andamio/internal/core/kinds"
	"andamio/internal/core/tosca"
)

// addNodes adds the nodes of a frame, those of the templates that stand for some in their place.
func (b *builder) addNodes(f *frame) {
	b.placeNodes(f)
	b.alone = len(b.order) >= fewNodes && b.independent()
	b.each(func(w *builder, p place) { w.evaluate(p, b.placed[p]) })
}

// fewNodes is up to how many nodes are not worth sharing out over cores; it is changed by tests alone.
var fewNodes = 512

// each does something for every node, on all cores where nodes do not depend on each other's being done. Every worker is
// a builder of its own that shares what is only read.
func (b *builder) each(do func(w *builder, p place)) {
	workers := runtime.GOMAXPROCS(0)
	if !b.alone || workers == 1 {
		for _, p := range b.order {
			do(b, p)
		}
		return
	}
	parts := make([]builder, workers)
	var group sync.WaitGroup
	for k := range parts {
		parts[k] = *b
		parts[k].diags, parts[k].open, parts[k].defaults = nil, map[propertyID]bool{}, map[any]map[string]any{}
		group.Go(func() {
			for i := len(b.order) * k / workers; i < len(b.order)*(k+1)/workers; i++ {
				do(&parts[k], b.order[i])
			}
		})
	}
	group.Wait()
	for k := range parts {
		b.diags = append(b.diags, parts[k].diags...)
	}
}

// independent reports whether values can be worked out side by side: nothing is substituted, selected or searched for,
// which is remembered for all.
func (b *builder) independent() bool {
	if len(b.design.Substituted) > 0 {
		return false
	}
	for _, p := range b.order {
		if len(p.n.Directives) > 0 || slices.ContainsFunc(p.n.Requirements, func(a *tosca.Assignment) bool { return len(a.Candidates) > 0 }) {
			return false
		}
	}
	return true
}

// placeNodes makes a node for each template before any value is evaluated, since values refer to nodes.
func (b *builder) placeNodes(f *frame) {
	for _, tn := range f.tmpl.Nodes {
		if in := b.inner(f, tn); in != nil {
			first := len(b.order)
			b.placeNodes(in)
			b.noteSubstituted(f, tn, in, b.order[first:])
			continue
		}
		n := &Node{Name: f.prefix + tn.Name, Description: tn.Description, TypeName: tn.Type.Name, Pos: tn.Pos, Count: 1,
			Builds: kinds.Kind(tn.Type.Metadata[tosca.MetaBuilds]), Appliance: tn.Type.Metadata[tosca.MetaAppliance], Source: tn}
		if b.design.nodes[n.Name] != nil {
			b.mistake(tn.Pos, tn.Width(), tosca.CodeName, fmt.Sprintf("%s is also the name of a part of a substituted node", n.Name), "rename it")
			continue
		}
		p := place{f, tn}
		n.Index = len(b.design.Nodes)
		b.design.Nodes = append(b.design.Nodes, n)
		b.design.nodes[n.Name] = n
		b.placed[p] = n
		b.order = append(b.order, p)
	}
}

func (b *builder) noteSubstituted(f *frame, tn *tosca.Node, in *frame, parts []place) {
	s := Substituted{Node: f.prefix + tn.Name, Template: in.tmpl.Name, Pos: tn.Pos}
	for _, p := range parts {
		if n := b.placed[p]; n != nil {
			s.Parts = append(s.Parts, n.Name)
		}
	}
	b.design.Substituted = append(b.design.Substituted, s)
}

// evaluate works out a node's own values.
func (b *builder) evaluate(p place, n *Node) {
	if p.n.Directive("select") {
		b.take(p, n)
		return
	}
	s := scope{f: p.f, self: p.n}
	n.Properties = b.properties(p.n.Type, p.n.Type.Properties, p.n.Properties, s)
	if len(p.n.Attributes) > 0 || len(p.n.CapabilityAttributes) > 0 {
		n.Attributes = b.attributes(p.n, s)
	}
	n.Capabilities = make([]Capability, 0, len(p.n.Type.Capabilities))
	for _, c := range p.n.Type.Capabilities {
		n.Capabilities = append(n.Capabilities, b.capability(c, p))
	}
	n.Operations = b.operations(p.n.Interfaces, s)
	for _, a := range p.n.Artifacts {
		if a.Type != nil && a.Type.Metadata[tosca.MetaImage] == "true" {
			n.Image = a.File
		}
	}
}

// attributes evaluates the initial values of attributes; a capability's are named CAPABILITY.ATTRIBUTE.
func (b *builder) attributes(tn *tosca.Node, s scope) map[string]any {
	out := map[string]any{}
	for name, v := range tn.Attributes {
		if x, ok := b.eval(v, s); ok {
			out[name] = x
		}
	}
	for capability, values := range tn.CapabilityAttributes {
		for name, v := range values {
			if x, ok := b.eval(v, s); ok {
				out[capability+"."+name] = x
			}
		}
	}
	return out
}

func (b *builder) capability(c *tosca.Capability, p place) Capability {
	out := Capability{Name: c.Name, TypeName: c.Type}
	out.Properties = b.properties(c, b.tmpl.Types.CapabilityProperties(c), p.n.Capabilities[c.Name], scope{f: p.f, self: p.n})
	b.givenOutside(p, c, &out)
	if t := b.tmpl.Types.Find(tosca.CapabilityTypes, c.Type); t != nil {
		out.Answers = t.Metadata[tosca.MetaAnswers] == "true"
		out.Public = t.Metadata[tosca.MetaPublic] == "true"
		out.Metrics = t.Metadata[tosca.MetaMetrics] == "true"
		out.Scales = t.Metadata[tosca.MetaScales] == "true"
	}
	return out
}

// properties evaluates assignments and defaults. Where nothing is assigned the values are the declaration's, worked out
// once for all nodes; they are never changed afterwards.
func (b *builder) properties(declaration any, defs []*tosca.Property, given map[string]*tosca.Value, s scope) map[string]any {
	if len(given) == 0 && declaration != nil {
		if known, ok := b.defaults[declaration]; ok {
			return known
		}
	}
	out := make(map[string]any, len(given))
	varies := false
	for _, def := range defs {
		v := given[def.Name]
		if v == nil {
			v = def.Default
			varies = varies || v != nil && v.Kind != tosca.Literal
		}
		if v == nil {
			continue
		}
		if x, ok := b.typed(def, v, s); ok {
			out[def.Name] = x
		}
	}
	if len(given) == 0 && declaration != nil && !varies {
		b.defaults[declaration] = out
	}
	return out
}

// typed evaluates a value and, unless a run must finish it, checks it against its definition.
func (b *builder) typed(def *tosca.Property, v *tosca.Value, s scope) (any, bool) {
	if v.Kind == tosca.Literal {
		return b.tmpl.Types.Coerce(v, def, &b.diags)
	}
	x, ok := b.eval(v, s)
	if !ok || isDeferred(x) {
		return x, ok
	}
	return b.tmpl.Types.Coerce(tosca.LiteralOf(x, v.Pos()), def, &b.diags)
}

// operations evaluates the operations that have a script.
func (b *builder) operations(interfaces []*tosca.Interface, s scope) Operations {
	var out Operations
	for _, i := range interfaces {
		for _, op := range i.Operations {
			if op.Script == "" {
				continue
			}
			o := Operation{Interface: i.Name, InterfaceType: i.Type, Name: op.Name, Script: op.Script, Dependencies: op.Dependencies,
				Timeout: op.Timeout, Host: op.Host, Inputs: b.arguments(i.Inputs, op.Inputs, s)}
			for _, m := range op.Outputs {
				if to, ok := b.outputTo(m, s); ok {
					o.Outputs = append(o.Outputs, to)
				}
			}
			out = append(out, o)
		}
	}
	return out
}

func (b *builder) outputTo(m tosca.OutputMapping, s scope) (OutputTo, bool) {
	n := map[string]*tosca.Node{"SELF": s.self, "SOURCE": s.source, "TARGET": s.target}[m.Path[0]]
	f := s.f
	if m.Path[0] == "TARGET" && s.targetFrame != nil {
		f = s.targetFrame
	}
	node := b.placed[place{f, n}]
	if node == nil {
		return OutputTo{}, false
	}
	return OutputTo{m.Name, node.Name, strings.Join(m.Path[1:], ".")}, true
}

// arguments are an interface's inputs and an operation's own, which win.
func (b *builder) arguments(outer, own []*tosca.Parameter, s scope) []Argument {
	if len(outer)+len(own) == 0 {
		return nil
	}
	out := make([]Argument, 0, len(outer)+len(own))
	for _, list := range [2][]*tosca.Parameter{outer, own} {
		for _, p := range list {
			v, ok := b.argument(p, s)
			if !ok {
				continue
			}
			if i := slices.IndexFunc(out, func(a Argument) bool { return a.Name == p.Name }); i >= 0 {
				out[i].Value = v
				continue
			}
			out = append(out, Argument{p.Name, v})
		}
	}
	return out
}

func (b *builder) argument(p *tosca.Parameter, s scope) (any, bool) {
	if p.Value == nil {
		return nil, false
	}
	v, ok := b.eval(p.Value, s)
	if ok && p.Def != nil && !isDeferred(v) {
		return b.tmpl.Types.Coerce(tosca.LiteralOf(v, p.Value.Pos()), p.Def, &b.diags)
	}
	return v, ok
}

// take makes a node with the directive select what stands in its place.
func (b *builder) take(p place, n *Node) {
	n.Builds = kinds.None
	st := b.selected(p)
	if st == nil {
		return
	}
	n.Standing, n.Properties = st, st.Properties
	for _, c := range p.n.Type.Capabilities {
		n.Capabilities = append(n.Capabilities, Capability{Name: c.Name, TypeName: c.Type, Properties: st.Capabilities[c.Name]})
	}
}

// selected is what stands already and is taken for a node with the directive select (section 3.4.3): the first of its
// type that its filter and properties let be. It is nil for any other node, and where nothing is found, which is
// reported once.
func (b *builder) selected(p place) *Existing {
	if !p.n.Directive("select") {
		return nil
	}
	if st, done := p.f.taken[p.n]; done {
		return st
	}
	p.f.taken[p.n] = nil
	var known []string
	for i := range b.options.Standing {
		st := &b.options.Standing[i]
		if !b.tmpl.Types.Derives(tosca.NodeTypes, st.Type, p.n.Type.Name) {
			continue
		}
		if b.standingFits(p, st) {
			p.f.taken[p.n] = st
			return st
		}
		known = append(known, st.Name)
	}
	if b.options.NoSites {
		return nil // nothing is known of the sites, so nothing can be wrong
	}
	message := fmt.Sprintf("nothing stands that %s could be: no %s is known at the sites", p.n.Name, p.n.Type.Name)
	if len(known) > 0 {
		message = fmt.Sprintf("nothing stands that %s could be: its filter rules out %s", p.n.Name, strings.Join(known, ", "))
	}
	b.mistake(p.n.Pos, p.n.Width(), tosca.CodeSelect, message, "change the node filter, or build it: remove the directive select")
	return nil
}

// property is a property of what stands, or of one of its capabilities.
func (s *Existing) property(capability, name string) (any, bool) {
	if capability == "" {
		x, ok := s.Properties[name]
		return x, ok
	}
	x, ok := s.Capabilities[capability][name]
	return x, ok
}

// standingFits holds what stands against a node's filter and the properties it gives.
func (b *builder) standingFits(p place, st *Existing) bool {
	match := func(cs []tosca.Condition, values map[string]any, defs []*tosca.Property) bool {
		for _, c := range cs {
			var def *tosca.Property
			for _, d := range defs {
				if d.Name == c.Name {
					def = d
				}
			}
			v, has := values[c.Name]
			if !has || def == nil {
				return false
			}
			var ignored tosca.Diagnostics
			x, ok := b.tmpl.Types.Coerce(tosca.LiteralOf(v, c.Pos), def, &ignored)
			if !ok || !c.Match(b.tmpl.Types, x, def) {
				return false
			}
		}
		return true
	}
	if f := p.n.Filter; f != nil {
		if !match(f.Properties, st.Properties, p.n.Type.Properties) {
			return false
		}
		for _, cf := range f.Capabilities {
			c := p.f.tmpl.FilterCapability(p.n, cf.Name)
			if c == nil || !match(cf.Properties, st.Capabilities[c.Name], b.tmpl.Types.CapabilityProperties(c)) {
				return false
			}
		}
	}
	for name, v := range p.n.Properties {
		x, ok := b.eval(v, scope{f: p.f, self: p.n})
		if !ok || fmt.Sprint(x) != fmt.Sprint(st.Properties[name]) {
			return false
		}
	}
	return true
}
