package tosca

import (
	"math/big"
	"path"
	"slices"
	"strings"
)

// check holds the parsed template against its types.
func (r *reader) check() {
	r.tmpl.nodes = map[string]*Node{}
	for _, n := range r.tmpl.Nodes {
		r.tmpl.nodes[n.Name] = n
	}
	for _, n := range r.tmpl.Nodes {
		if n.Type != nil {
			r.checkNode(n)
		}
	}
	for _, n := range r.tmpl.Nodes {
		r.checkRequirements(n)
	}
	for _, rel := range r.tmpl.Relationships {
		if rel.Type != nil {
			r.checkProperties(rel.Type.Properties, rel.Properties, rel.Type, place{rel.Pos, len(rel.Name)}, nil)
		}
	}
	for _, g := range r.tmpl.Groups {
		if g.Type != nil {
			r.checkProperties(g.Type.Properties, g.Properties, g.Type, place{g.Pos, len(g.Name)}, nil)
		}
	}
	for _, p := range r.tmpl.Policies {
		r.checkPolicy(p)
	}
	for _, o := range r.tmpl.Outputs {
		r.checkFunctions(o.Value, nil)
	}
	r.checkCycles()
}

func (r *reader) checkNode(n *Node) {
	at := place{n.Pos, n.width}
	r.checkProperties(n.Type.Properties, n.Properties, n.Type, at, n)
	for _, c := range n.Type.Capabilities {
		ct := r.types.Find(CapabilityTypes, c.Type)
		if ct == nil {
			continue
		}
		defs := r.types.CapabilityProperties(c)
		r.checkProperties(defs, n.Capabilities[c.Name], ct, at, n)
		r.doubtSizes(ct, n.Capabilities[c.Name])
	}
	n.Interfaces = r.assignInterfaces(n.Type, n.Interfaces, n)
}

// CapabilityProperties are a declared capability's properties: its type's, refined where the node type does so.
func (ts *Types) CapabilityProperties(c *Capability) []*Property {
	ct := ts.Find(CapabilityTypes, c.Type)
	if ct == nil {
		return c.Properties
	}
	return mergeBy(ct.Properties, c.Properties, func(p *Property) string { return p.Name }, refineProperty)
}

// checkProperties checks assignments against declarations: unknown, ill-typed and missing ones.
func (r *reader) checkProperties(defs []*Property, given map[string]*Value, t *Type, at place, self *Node) {
	for _, name := range sortedKeys(given) {
		def := find(defs, name)
		if def == nil {
			names := make([]string, len(defs))
			for i, d := range defs {
				names[i] = d.Name
			}
			r.diags.at(given[name].at, CodeUnknownProperty, "%s has no property %q", t.Name, name).suggest(name, names).see(t.Pos)
			continue
		}
		r.checkFunctions(given[name], self)
		r.types.Coerce(given[name], def, &r.diags)
	}
	for _, def := range defs {
		if given[def.Name] == nil && def.Required && def.Default == nil {
			r.diags.at(at, CodeMissingProperty, "%s needs the property %q", t.Name, def.Name).see(def.Pos).
				hint("add %s: of type %s", def.Name, def.Type)
		}
	}
}

// doubtSizes questions sizes that are valid and a thousand times too small, the usual slip between MB and GB. What is
// plausible is data: metadata "andamio.least.PROPERTY" of the capability type.
func (r *reader) doubtSizes(t *Type, given map[string]*Value) {
	for _, name := range sortedKeys(given) {
		least, err := ParseScalar(Size, t.Metadata["andamio.least."+name])
		if err != nil {
			continue
		}
		s, err := ParseScalar(Size, given[name].raw)
		if err != nil || s.Rat.Sign() == 0 || s.Cmp(least) >= 0 {
			continue
		}
		d := r.diags.at(given[name].at, CodeUnitDoubt, "%s is %s, and nothing useful runs in less than %s", name, s, least).doubt()
		if up := new(big.Rat).Mul(s.Rat, big.NewRat(1000, 1)); up.Cmp(least.Rat) >= 0 {
			d.hint("did you mean %s?", strings.NewReplacer("MB", "GB", "MiB", "GiB", "kB", "MB", "KiB", "MiB", "GB", "TB", "GiB", "TiB").Replace(s.Text))
		}
	}
}

func (r *reader) checkPolicy(p *Policy) {
	if p.Type != nil {
		r.checkProperties(p.Type.Properties, p.Properties, p.Type, place{p.Pos, len(p.Name)}, nil)
	}
}

// assignInterfaces merges assignments into the type's interfaces and loads the scripts they name.
func (r *reader) assignInterfaces(t *Type, given []*Interface, self *Node) []*Interface {
	for _, i := range given {
		decl := t.Interface(i.Name)
		if decl == nil {
			r.diags.at(place{i.Pos, len(i.Name)}, CodeUnknownOperation, "%s has no interface %q", t.Name, i.Name).
				suggest(i.Name, interfaceNames(t)).see(t.Pos)
			continue
		}
		r.checkOperations(decl, i)
	}
	given = slices.DeleteFunc(slices.Clone(given), func(i *Interface) bool { return t.Interface(i.Name) == nil })
	merged := mergeBy(t.Interfaces, given, func(i *Interface) string { return i.Name }, refineInterface)
	for _, i := range merged {
		r.checkInputs(i.Inputs, self)
		for _, op := range i.Operations {
			r.checkInputs(op.Inputs, self)
			r.loadScript(op)
		}
	}
	return merged
}

func (r *reader) checkInputs(inputs []*Parameter, self *Node) {
	for _, p := range inputs {
		r.checkFunctions(p.Value, self)
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
	it := r.types.Find(InterfaceTypes, decl.Type)
	if it == nil {
		return
	}
	var known []string
	for _, op := range slices.Concat(it.Operations, decl.Operations) {
		known = append(known, op.Name)
	}
	for _, op := range given.Operations {
		if !slices.Contains(known, op.Name) {
			r.diags.at(place{op.Pos, 1}, CodeUnknownOperation, "%s has no operation %q", it.Name, op.Name).suggest(op.Name, known)
		}
	}
}

// loadScript opens the script of an operation, relative to the file that names it. Op.Script becomes the path from
// the root.
func (r *reader) loadScript(op *Operation) {
	if op.Script == "" || r.tmpl.Artifacts[op.Script] != nil {
		return
	}
	file, ok := within(op.Pos.File, op.Script)
	if !ok {
		r.diags.at(place{op.Pos, len(op.Script)}, CodeArtifact, "this path leads out of the template's folder: %s", op.Script)
		return
	}
	data, err := r.open(file)
	if err != nil {
		r.diags.at(place{op.Pos, len(op.Script)}, CodeArtifact, "the script %s cannot be opened", op.Script).
			hint("scripts are found relative to %s", path.Join(".", op.Pos.File))
		return
	}
	op.Script = file
	if len(data) == 0 {
		data = []byte("\n")
	}
	r.tmpl.Artifacts[file] = data
}
