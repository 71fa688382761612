package topology

import (
	"fmt"

	"andamio/internal/core/tosca"
)

// addNodes evaluates every node's own values.
func (b *builder) addNodes() {
	for _, tn := range b.tmpl.Nodes {
		n := &Node{Name: tn.Name, Description: tn.Description, TypeName: tn.Type.Name, Pos: tn.Pos, Count: 1,
			Builds: Builds(tn.Type.Metadata["andamio.builds"])}
		b.design.Nodes = append(b.design.Nodes, n)
		b.design.nodes[n.Name] = n
	}
	for i, tn := range b.tmpl.Nodes {
		n, s := b.design.Nodes[i], scope{self: tn}
		n.Properties = b.properties(tn.Type.Properties, tn.Properties, s)
		for _, c := range tn.Type.Capabilities {
			n.Capabilities = append(n.Capabilities, b.capability(c, tn))
		}
		n.Operations = b.operations(tn.Interfaces, s)
	}
}

func (b *builder) capability(c *tosca.Capability, tn *tosca.Node) Capability {
	out := Capability{Name: c.Name, TypeName: c.Type}
	out.Properties = b.properties(b.tmpl.Types.CapabilityProperties(c), tn.Capabilities[c.Name], scope{self: tn})
	if t := b.tmpl.Types.Find(tosca.CapabilityTypes, c.Type); t != nil {
		out.Answers = t.Metadata["andamio.answers"] == "true"
		out.Public = t.Metadata["andamio.public"] == "true"
		out.Scales = t.Metadata["andamio.scales"] == "true"
	}
	return out
}

// properties evaluates assignments and defaults.
func (b *builder) properties(defs []*tosca.Property, given map[string]*tosca.Value, s scope) map[string]any {
	out := map[string]any{}
	for _, def := range defs {
		v := given[def.Name]
		if v == nil {
			v = def.Default
		}
		if v == nil {
			continue
		}
		if x, ok := b.typed(def, v, s); ok {
			out[def.Name] = x
		}
	}
	return out
}

// typed evaluates a value and, unless a run must finish it, checks it against its definition.
func (b *builder) typed(def *tosca.Property, v *tosca.Value, s scope) (any, bool) {
	x, ok := b.eval(v, s)
	if !ok || isDeferred(x) {
		return x, ok
	}
	return b.tmpl.Types.Coerce(tosca.LiteralOf(x, v.Pos()), def, &b.diags)
}

func (b *builder) operations(interfaces []*tosca.Interface, s scope) map[string]Operation {
	out := map[string]Operation{}
	for _, i := range interfaces {
		for _, op := range i.Operations {
			if op.Script == "" {
				continue
			}
			o := Operation{Script: op.Script, Timeout: op.Timeout}
			o.Inputs = b.arguments(append(append([]*tosca.Parameter{}, i.Inputs...), op.Inputs...), s)
			out[op.Name] = o
		}
	}
	return out
}

func (b *builder) arguments(params []*tosca.Parameter, s scope) []Argument {
	var out []Argument
	at := map[string]int{}
	for _, p := range params {
		v, ok := b.eval(p.Value, s)
		if !ok {
			continue
		}
		if i, twice := at[p.Name]; twice { // the operation's own input wins over its interface's
			out[i].Value = v
			continue
		}
		at[p.Name] = len(out)
		out = append(out, Argument{p.Name, v})
	}
	return out
}

// relate turns fulfilled requirements into relations and finds what each node stands on.
func (b *builder) relate() {
	for i, tn := range b.tmpl.Nodes {
		n := b.design.Nodes[i]
		for _, a := range tn.Requirements {
			n.Relations = append(n.Relations, b.relation(tn, a))
		}
		for _, r := range n.Relations {
			if n.Host == nil && (r.Order == Hosted || r.Order == Binds) {
				n.Host = r.Target
			}
		}
	}
	for _, n := range b.design.Nodes {
		n.Base = base(n)
	}
	b.checkBases()
}

func (b *builder) relation(tn *tosca.Node, a *tosca.Assignment) Relation {
	r := Relation{Name: a.Name, Order: Depends, Target: b.design.nodes[a.Target], Capability: a.Capability}
	s := scope{self: tn, source: tn, target: b.tmpl.Node(a.Target)}
	if rt := a.Relationship; rt != nil {
		if order := rt.Metadata["andamio.order"]; order != "" {
			r.Order = Order(order)
		}
		r.Properties = b.properties(rt.Properties, a.Properties, s)
	}
	r.Operations = b.operations(a.Interfaces, s)
	return r
}

// base follows hosts down to an instance; the template has no circles.
func base(n *Node) *Node {
	for ; n != nil; n = n.Host {
		if n.Builds == Instance {
			return n
		}
	}
	return nil
}

func (b *builder) checkBases() {
	for _, n := range b.design.Nodes {
		if (n.Builds == Software || n.Builds == Interface) && n.Base == nil {
			b.mistake(n.Pos, tosca.CodeUnfulfilled, fmt.Sprintf("%s stands on no compute node", n.Name),
				"what it is hosted on must itself be hosted, down to a compute node")
		}
	}
}

// count sets the number of instances: the scalable capability's of the instance at the bottom, and for a volume that
// of the instance it is attached to.
func (b *builder) count() {
	for _, n := range b.design.Nodes {
		if n.Builds == Instance {
			n.Count = b.instances(n)
		}
	}
	for _, n := range b.design.Nodes {
		if n.Base != nil {
			n.Count = n.Base.Count
		}
		for _, r := range n.Relations {
			if r.Order == Attaches {
				r.Target.Count = max(r.Target.Count, n.Count)
				r.Target.Base = n
			}
		}
	}
}

// maxInstances bounds what a slip of the finger can ask for.
const maxInstances = 10_000

func (b *builder) instances(n *Node) int {
	for _, c := range n.Capabilities {
		if !c.Scales {
			continue
		}
		low, high := asInt(c.Properties["min_instances"], 1), asInt(c.Properties["max_instances"], 1)
		count := asInt(c.Properties["default_instances"], low)
		if count < low || count > high || count > maxInstances {
			b.mistake(n.Pos, tosca.CodeConstraint,
				fmt.Sprintf("%s would have %d instances, and its scalable capability allows %d to %d", n.Name, count, low, min(high, maxInstances)),
				"change default_instances, or the bounds min_instances and max_instances")
		}
		return count
	}
	return 1
}

func asInt(v any, fallback int) int {
	if i, ok := v.(int64); ok {
		return int(i)
	}
	return fallback
}

// addGroups names the services. A node in no group belongs to the service of what it stands on.
func (b *builder) addGroups() {
	for _, g := range b.tmpl.Groups {
		title := g.Name
		if v := g.Properties["title"]; v != nil {
			if text, ok := v.Text(); ok {
				title = text
			}
		}
		b.design.Services = append(b.design.Services, Service{g.Name, title})
		for _, m := range g.Members {
			if n := b.design.nodes[m]; n != nil && n.Service == "" {
				n.Service = g.Name
			}
		}
	}
	for _, n := range b.design.Nodes {
		if n.Service == "" && n.Base != nil {
			n.Service = n.Base.Service
		}
	}
}

// addRules evaluates policies; groups among their targets become their members.
func (b *builder) addRules() {
	for _, p := range b.tmpl.Policies {
		r := Rule{Name: p.Name, Kind: p.Type.Metadata["andamio.rule"], Pos: p.Pos}
		r.Properties = b.properties(p.Type.Properties, p.Properties, scope{})
		r.Because, _ = r.Properties["because"].(string)
		if r.Because == "" {
			r.Because = p.Description
		}
		for _, target := range p.Targets {
			r.Targets = append(r.Targets, b.expandTarget(target)...)
		}
		if len(p.Targets) == 0 || len(r.Targets) > 0 {
			b.design.Rules = append(b.design.Rules, r)
		}
	}
}

func (b *builder) expandTarget(name string) []string {
	for _, g := range b.tmpl.Groups {
		if g.Name == name {
			return g.Members
		}
	}
	return []string{name}
}

func (b *builder) addOutputs() {
	for _, o := range b.tmpl.Outputs {
		if v, ok := b.eval(o.Value, scope{}); ok {
			b.design.Outputs = append(b.design.Outputs, Output{o.Name, o.Description, v})
		}
	}
}
