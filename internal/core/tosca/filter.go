package tosca

import "strings"

// Filter is a node filter (section 3.6.5): what a node must be like to be chosen.
type Filter struct {
	Properties   []Condition
	Capabilities []CapabilityFilter
	Pos          Pos
}

// CapabilityFilter is what a capability of the node must be like. Name is the capability's or its type's.
type CapabilityFilter struct {
	Name       string
	Properties []Condition
}

// Condition is a property or attribute with the constraints that its value must satisfy.
type Condition struct {
	Name        string
	Constraints []*Constraint
	Pos         Pos
}

// String says what the value must be.
func (c Condition) String() string {
	parts := make([]string, len(c.Constraints))
	for i, k := range c.Constraints {
		parts[i] = k.String()
	}
	return strings.Join(parts, " and ")
}

// nodeFilter reads the node filter of a requirement or node template; nil if there is none.
func (r *reader) nodeFilter(n node) *Filter {
	v, ok := n.get("node_filter")
	if !ok {
		return nil
	}
	return r.filterOf(v)
}

func (r *reader) filterOf(v node) *Filter {
	f := &Filter{Pos: v.pos()}
	if !r.keys(v, "a node filter", nil, "properties", "capabilities") {
		return f
	}
	f.Properties = r.conditions(v, "properties")
	for _, item := range r.namedItems(v, "capabilities") {
		if r.keys(item.value, "a capability filter", nil, "properties") {
			f.Capabilities = append(f.Capabilities, CapabilityFilter{r.qualify(v.doc, item.name), r.conditions(item.value, "properties")})
		}
	}
	return f
}

// conditions reads property filters (section 3.6.4): a name with one constraint or a list of them.
func (r *reader) conditions(n node, key string) []Condition {
	var out []Condition
	for _, p := range r.namedItems(n, key) {
		out = append(out, Condition{p.name, r.clausesOf(p.value), p.key.pos()})
	}
	return out
}

// clausesOf reads one constraint clause or a list of them; a plain value means "equal".
func (r *reader) clausesOf(n node) []*Constraint {
	switch n.form {
	case sequence:
		return r.clauses(n.items())
	case mapping:
		return r.clauses([]node{n})
	}
	return []*Constraint{{Op: "equal", Args: []*Value{r.value(n)}, Pos: n.pos()}}
}

// namedItems reads a list of single-key mappings, or a mapping, as pairs: templates write both.
func (r *reader) namedItems(n node, key string) []pair {
	v, ok := n.get(key)
	if !ok || v.isNull() {
		return nil
	}
	if v.form == mapping {
		return v.pairs()
	}
	var out []pair
	for _, item := range r.list(n, key) {
		if item.form != mapping || len(item.content) != 2 {
			r.diags.at(item.place(), CodeShape, "an entry of %s is one name with what belongs to it", key)
			continue
		}
		out = append(out, item.pairs()...)
	}
	return out
}

// Match reports whether a value that a run or the topology has worked out satisfies the condition. def declares the
// property; it may be nil.
func (c Condition) Match(ts *Types, x any, def *Property) bool {
	if def == nil {
		def = &Property{Name: c.Name, Type: "any"}
	}
	for _, k := range c.Constraints {
		var ignored Diagnostics
		own := *k
		own.bounds = nil
		own.resolveBounds(ts, def, &ignored)
		if len(ignored) > 0 || !own.holds(x) {
			return false
		}
	}
	return true
}
