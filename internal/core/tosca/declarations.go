package tosca

import "slices"

// checkDeclarations checks that the types a resolved type names exist, and the defaults it gives.
func (ts *Types) checkDeclarations(t *Type, diags *Diagnostics) {
	for _, p := range slices.Concat(t.Properties, t.Attributes) {
		ts.checkProperty(p, diags)
	}
	for _, s := range []*Property{t.entry, t.key} {
		if s != nil {
			ts.checkProperty(s, diags)
		}
	}
	for _, c := range t.Capabilities {
		ts.want(CapabilityTypes, c.Type, c.Pos, diags)
		for _, p := range slices.Concat(c.Properties, c.Attributes) {
			ts.checkRefinement(p, ts.Find(CapabilityTypes, c.Type), diags)
		}
		ts.wantAll(NodeTypes, c.Sources, c.Pos, diags)
	}
	for _, q := range t.Requirements {
		ts.want(CapabilityTypes, q.Capability, q.Pos, diags)
		if q.Node != "" {
			ts.want(NodeTypes, q.Node, q.Pos, diags)
		}
		if q.Relationship != "" {
			ts.want(RelationshipTypes, q.Relationship, q.Pos, diags)
		}
	}
	for _, i := range t.Interfaces {
		ts.want(InterfaceTypes, i.Type, i.Pos, diags)
	}
	for _, a := range t.Artifacts {
		if a.Type = ts.Find(ArtifactTypes, a.typeName); a.Type == nil && a.typeName != "" {
			ts.unknownType(ArtifactTypes, a.typeName, a.typeAt, diags)
		}
	}
	ts.wantAll(NodeTypes, t.ValidSources, t.Pos, diags)
	switch t.Kind {
	case RelationshipTypes:
		ts.wantAll(CapabilityTypes, t.ValidTargets, t.Pos, diags)
	case GroupTypes:
		ts.wantAll(NodeTypes, t.ValidTargets, t.Pos, diags)
	case PolicyTypes:
		for _, v := range t.ValidTargets {
			if ts.Find(GroupTypes, v) == nil {
				ts.want(NodeTypes, v, t.Pos, diags)
			}
		}
	}
}

// bound works out what a type's constraints, and those of what is declared in it, hold values against.
func (ts *Types) bound(t *Type, diags *Diagnostics) {
	for _, c := range t.constraints {
		c.resolveBounds(ts, &Property{Name: t.Name, Type: t.base(), Entry: t.entry}, diags)
	}
	for _, p := range slices.Concat(t.Properties, t.Attributes) {
		ts.boundProperty(p, diags)
	}
}

func (ts *Types) boundProperty(p *Property, diags *Diagnostics) {
	for _, s := range []*Property{p.Entry, p.Key} {
		if s != nil {
			ts.boundProperty(s, diags)
		}
	}
	if !ts.knownDataType(p.Type) {
		return // reported where it is declared
	}
	for _, c := range p.Constraints {
		c.resolveBounds(ts, p, diags)
	}
}

// want reports a type that is named and unknown. Without a name, the declaration says too little.
func (ts *Types) want(kind TypeKind, name string, at Pos, diags *Diagnostics) {
	switch {
	case name == "":
		diags.at(place{at, 1}, CodeMissingKey, "this declaration needs the name of a %s", kind.word())
	case ts.Find(kind, name) == nil:
		ts.unknownType(kind, name, ts.mentioned(name, at), diags)
	}
}

func (ts *Types) wantAll(kind TypeKind, names []string, at Pos, diags *Diagnostics) {
	for _, n := range names {
		ts.want(kind, n, at, diags)
	}
}

// checkRefinement checks a property that a declaration adds to or refines of a type; its type may be left to that.
func (ts *Types) checkRefinement(p *Property, of *Type, diags *Diagnostics) {
	if p.Type == "" && of != nil {
		if old := of.Attribute(p.Name); old != nil {
			p.Type = old.Type
		}
	}
	ts.checkProperty(p, diags)
}

// checkProperty checks the type a property declares, its constraints' arguments and its default.
func (ts *Types) checkProperty(p *Property, diags *Diagnostics) {
	at := place{p.Pos, len(p.Name)}
	if p.Type == "" {
		diags.at(at, CodeMissingKey, "the definition of %s needs the keyname \"type\"", p.Name)
		p.Type = "any"
		return
	}
	if !ts.knownDataType(p.Type) {
		ts.unknownType(DataTypes, p.Type, ts.mentioned(p.Type, p.Pos), diags)
		p.Type = "any" // follow-on mistakes would only repeat this one
		return
	}
	for _, s := range []*Property{p.Entry, p.Key} {
		if s != nil {
			ts.checkProperty(s, diags)
		}
	}
	ts.boundProperty(p, diags)
	if p.Default != nil && p.Default.Kind != Call {
		ts.Coerce(p.Default, p, diags)
	}
}

func (ts *Types) knownDataType(name string) bool {
	_, primitive := primitives[name]
	return primitive || isDimension(name) || name == "list" || name == "map" || ts.Find(DataTypes, name) != nil
}
