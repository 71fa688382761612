package tosca

import (
	"fmt"
	"slices"
	"strings"
)

// Known are the types that every template may use: the standard's, and those that come with Andamio.
func Known() *Types { return builtins() }

// TypeExplained is a type as whoever writes a template needs to know it, with what it inherits.
type TypeExplained struct {
	Name        string   `json:"name"`
	Kind        string   `json:"kind"`
	Short       []string `json:"short,omitempty"`
	Description string   `json:"description,omitempty"`
	// DerivedFrom are those that it derives from, nearest first.
	DerivedFrom  []string         `json:"derived_from,omitempty"`
	Abstract     bool             `json:"abstract,omitempty"`
	Properties   []FieldExplained `json:"properties,omitempty"`
	Attributes   []FieldExplained `json:"attributes,omitempty"`
	Capabilities []FieldExplained `json:"capabilities,omitempty"`
	Requirements []FieldExplained `json:"requirements,omitempty"`
	// Operations are INTERFACE.OPERATION.
	Operations []string `json:"operations,omitempty"`
	// ValidTargets are what relationships lead to, and what groups and policies are for; ValidSources who may require a capability.
	ValidTargets []string `json:"valid_targets,omitempty"`
	ValidSources []string `json:"valid_sources,omitempty"`
}

// FieldExplained is one of a type's properties, attributes, capabilities or requirements.
type FieldExplained struct {
	Name string `json:"name"`
	// Type is that of the value, or of the capability, or what is required.
	Type        string   `json:"type"`
	Required    bool     `json:"required,omitempty"`
	Default     string   `json:"default,omitempty"`
	Constraints []string `json:"constraints,omitempty"`
	Occurrences string   `json:"occurrences,omitempty"`
	Description string   `json:"description,omitempty"`
}

// Explain says of a type what a template may do with it.
func (ts *Types) Explain(t *Type) TypeExplained {
	out := TypeExplained{Name: t.Name, Kind: t.Kind.word(), Description: t.Description, ValidTargets: t.ValidTargets, ValidSources: t.ValidSources}
	for short, name := range ts.aliases[t.Kind] {
		if name == t.Name {
			out.Short = append(out.Short, short)
		}
	}
	slices.SortFunc(out.Short, func(a, b string) int {
		if len(a) != len(b) {
			return len(a) - len(b)
		}
		return strings.Compare(a, b)
	})
	if len(t.ancestors) > 1 {
		out.DerivedFrom = t.ancestors[1:]
	}
	out.Abstract = t.Kind == NodeTypes && t.Abstract()
	out.Properties, out.Attributes = explained(t.Properties), explained(t.Attributes)
	for i := range out.Attributes {
		out.Attributes[i].Required = false // nobody who writes a template has to give one
	}
	for _, c := range t.Capabilities {
		out.Capabilities = append(out.Capabilities, FieldExplained{Name: c.Name, Type: c.Type, Occurrences: c.Occurrences.String(), Description: c.Description})
	}
	for _, q := range t.Requirements {
		of := q.Capability
		if q.Node != "" {
			of += " of " + q.Node
		}
		if q.Relationship != "" {
			of += " by " + q.Relationship
		}
		out.Requirements = append(out.Requirements, FieldExplained{Name: q.Name, Type: of, Required: q.Occurrences.Min > 0, Occurrences: q.Occurrences.String(), Description: q.Description})
	}
	for _, i := range t.Interfaces {
		for _, op := range i.Operations {
			out.Operations = append(out.Operations, i.Name+"."+op.Name)
		}
	}
	for _, op := range t.Operations {
		out.Operations = append(out.Operations, op.Name)
	}
	return out
}

func explained(all []*Property) []FieldExplained {
	var out []FieldExplained
	for _, p := range all {
		f := FieldExplained{Name: p.Name, Type: p.Type, Required: p.Required && p.Default == nil, Description: p.Description}
		switch {
		case p.Type == "map" && p.Key != nil:
			f.Type = fmt.Sprintf("map of %s by %s", p.entry().Type, p.Key.Type)
		case p.Type == "list" || p.Type == "map":
			f.Type += " of " + p.entry().Type
		}
		if p.Default != nil {
			f.Default = p.Default.Source()
		}
		for _, c := range p.Constraints {
			f.Constraints = append(f.Constraints, c.String())
		}
		out = append(out, f)
	}
	return out
}

// Kinds are the kinds of types, in the order in which they build on each other.
func Kinds() []TypeKind { return slices.Clone(typeKinds) }
