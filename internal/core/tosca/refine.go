package tosca

import (
	"slices"
	"strings"
)

// refiner checks that what a derived type declares anew narrows what its parent declares and never widens it: whoever
// knows the parent must be able to use the derived type in its place (section 3.7, "refinement").
type refiner struct {
	types *Types
	diags *Diagnostics
}

func (f *refiner) check(parent, own *Type) {
	f.properties(parent.Properties, own.Properties)
	f.properties(parent.Attributes, own.Attributes)
	for _, c := range own.Capabilities {
		if p := parent.Capability(c.Name); p != nil {
			f.capability(p, c)
		}
	}
	for _, q := range own.Requirements {
		if p := parent.Requirement(q.Name); p != nil {
			f.requirement(p, q)
		}
	}
	for _, i := range own.Interfaces {
		if p := parent.Interface(i.Name); p != nil {
			f.derives(InterfaceTypes, "the interface "+i.Name, p.Type, i.Type, p.Pos, place{i.Pos, len(i.Name)})
		}
	}
	kind, what := CapabilityTypes, "valid_target_types"
	if own.Kind == GroupTypes || own.Kind == PolicyTypes {
		kind, what = NodeTypes, "members and targets"
	}
	at := place{own.Pos, len(own.Name)}
	f.each(kind, what, parent.ValidTargets, own.ValidTargets, parent.Pos, at)
	f.each(NodeTypes, "valid_source_types", parent.ValidSources, own.ValidSources, parent.Pos, at)
}

func (f *refiner) properties(parents, own []*Property) {
	for _, c := range own {
		if p := find(parents, c.Name); p != nil {
			f.property(p, c)
		}
	}
}

func (f *refiner) property(p, c *Property) {
	at := place{c.Pos, len(c.Name)}
	if c.Type != "" && !f.types.narrows(c.Type, p.Type) {
		f.widen(f.types.mentioned(c.Type, c.Pos), p.Pos, "%s is %s there, and %s does not derive from that", c.Name, article(p.Type), c.Type)
		return
	}
	if c.saysRequired && !c.Required && p.Required {
		f.widen(at, p.Pos, "%s is required there, and cannot be left out here", c.Name)
	}
	if p.Entry != nil && c.Entry != nil && !f.types.narrows(c.Entry.Type, p.Entry.Type) {
		f.widen(at, p.Pos, "the entries of %s are %s there, and %s does not derive from that", c.Name, p.Entry.Type, c.Entry.Type)
	}
	for _, x := range c.Constraints {
		if old := x.wider(p.Constraints); old != nil {
			f.widen(place{x.Pos, len(x.Op)}, old.Pos, "%s may be %q here, and must be %q there", c.Name, x, old)
		}
	}
}

func (f *refiner) capability(p, c *Capability) {
	at := place{c.Pos, len(c.Name)}
	f.derives(CapabilityTypes, "the capability "+c.Name, p.Type, c.Type, p.Pos, at)
	ct := f.types.Find(CapabilityTypes, p.Type)
	if ct != nil {
		f.properties(mergeBy(ct.Properties, p.Properties, propertyName, refineProperty), c.Properties)
	}
	f.each(NodeTypes, "valid_source_types", p.Sources, c.Sources, p.Pos, at)
	if c.saysOccurrences && !c.Occurrences.within(p.Occurrences) {
		f.widen(at, p.Pos, "the capability %s occurs %s there, and %s goes beyond", c.Name, p.Occurrences, c.Occurrences)
	}
}

func (f *refiner) requirement(p, q *Requirement) {
	at := place{q.Pos, len(q.Name)}
	f.derives(CapabilityTypes, "the requirement "+q.Name, p.Capability, q.Capability, p.Pos, at)
	f.derives(NodeTypes, "the requirement "+q.Name, p.Node, q.Node, p.Pos, at)
	f.derives(RelationshipTypes, "the requirement "+q.Name, p.Relationship, q.Relationship, p.Pos, at)
	if q.saysOccurrences && !q.Occurrences.within(p.Occurrences) {
		f.widen(at, p.Pos, "the requirement %s occurs %s there, and %s goes beyond", q.Name, p.Occurrences, q.Occurrences)
	}
}

// derives checks that a type named anew derives from the one named by the parent. Names that are unknown are reported
// elsewhere.
func (f *refiner) derives(kind TypeKind, what, parent, own string, see Pos, at place) {
	if parent == "" || own == "" || f.types.Find(kind, own) == nil || f.types.Find(kind, parent) == nil {
		return
	}
	if !f.types.Derives(kind, own, parent) {
		f.widen(at, see, "%s is %s there, and %s does not derive from that", what, parent, own)
	}
}

func (f *refiner) each(kind TypeKind, what string, parents, own []string, see Pos, at place) {
	if len(parents) == 0 {
		return
	}
	for _, o := range own {
		fits := func(p string) bool { return f.types.Derives(kind, o, p) }
		if f.types.Find(kind, o) != nil && !slices.ContainsFunc(parents, fits) {
			f.widen(at, see, "%s are %s there, and %s derives from none of them", what, strings.Join(parents, ", "), o)
		}
	}
}

func (f *refiner) widen(at place, see Pos, format string, args ...any) {
	f.diags.at(at, CodeWidened, "a derived type may narrow what it inherits, never widen it: "+format, args...).see(see).
		hint("narrow it, or give it a name of its own")
}

// narrows reports whether every value of one data type is a value of another.
func (ts *Types) narrows(own, parent string) bool {
	if own == parent || parent == "any" || ts.Derives(DataTypes, own, parent) {
		return true
	}
	t := ts.Find(DataTypes, own)
	return t != nil && t.base() == parent || !ts.knownDataType(own) || !ts.knownDataType(parent)
}

// within reports whether a range of occurrences lies in another.
func (o Occurrences) within(p Occurrences) bool { return o.Min >= p.Min && o.Max <= p.Max }

func (o Occurrences) String() string {
	switch {
	case o.Max == Unbounded:
		return Show(int64(o.Min)) + " times or more"
	case o.Min == o.Max:
		return Show(int64(o.Min)) + " times"
	}
	return Show(int64(o.Min)) + " to " + Show(int64(o.Max)) + " times"
}

// wider returns the one of the parent's constraints that forbids what the constraint allows, or nil. Only what can be
// decided is: bounds and listed values, not patterns.
func (c *Constraint) wider(parents []*Constraint) *Constraint {
	for _, p := range parents {
		if c.beyond(p) {
			return p
		}
	}
	return nil
}

func (c *Constraint) beyond(p *Constraint) bool {
	if p.Op == "pattern" || c.Op == "pattern" || len(p.bounds) == 0 || len(c.bounds) == 0 || isLength(c.Op) != isLength(p.Op) {
		return false
	}
	if isLength(c.Op) {
		return isOneOf(c.Op, p.Op, "length") && !p.allowsLength(c)
	}
	for _, b := range c.bounds {
		if b != "UNBOUNDED" && !p.boundHolds(c.Op, b) {
			return true
		}
		if b == "UNBOUNDED" && p.Op == "in_range" && p.bounds[1] != "UNBOUNDED" {
			return true
		}
	}
	return false
}

func isLength(op string) bool { return isOneOf(op, "length", "min_length", "max_length") }

func isOneOf(s string, options ...string) bool { return slices.Contains(options, s) }

// allowsLength compares two constraints on length, of which c's is exact or of p's kind.
func (c *Constraint) allowsLength(own *Constraint) bool {
	n, bound := own.bounds[0], c.bounds[0]
	switch c.Op {
	case "min_length":
		return compare(n, bound) >= 0
	case "max_length":
		return compare(n, bound) <= 0
	}
	return compare(n, bound) == 0
}

// boundHolds reports whether a bound of another constraint, of operator op, is one that c allows. An open bound may
// touch what c leaves out: greater_than 3 narrows greater_than 3.
func (c *Constraint) boundHolds(op string, b any) bool {
	if c.holds(b) {
		return true
	}
	touches := len(c.bounds) > 0 && compare(b, c.bounds[0]) == 0
	return c.Op == op && touches
}
