package tosca

import (
	"maps"
	"slices"
)

// What a type inherits, by section 3.7: a declaration of the same name refines the parent's. Whether it may is checked
// in refine.go.

func propertyName(p *Property) string       { return p.Name }
func capabilityName(c *Capability) string   { return c.Name }
func requirementName(q *Requirement) string { return q.Name }
func interfaceName(i *Interface) string     { return i.Name }
func operationName(o *Operation) string     { return o.Name }
func parameterName(p *Parameter) string     { return p.Name }
func artifactName(a *Artifact) string       { return a.Name }

// inherit merges the parent's declarations under t's own.
func (t *Type) inherit(p *Type) {
	t.ancestors = append(t.ancestors, p.ancestors...)
	meta := maps.Clone(p.Metadata)
	delete(meta, "shorthand_name")
	delete(meta, MetaAbstract) // a concrete type may derive from an abstract one
	if meta == nil {
		meta = map[string]string{}
	}
	maps.Copy(meta, t.Metadata)
	t.Metadata = meta
	t.Properties = mergeBy(p.Properties, t.Properties, propertyName, refineProperty)
	t.Attributes = mergeBy(p.Attributes, t.Attributes, propertyName, refineProperty)
	t.Capabilities = mergeBy(p.Capabilities, t.Capabilities, capabilityName, refineCapability)
	t.Requirements = mergeBy(p.Requirements, t.Requirements, requirementName, refineRequirement)
	t.Interfaces = mergeBy(p.Interfaces, t.Interfaces, interfaceName, refineInterface)
	t.Operations = mergeBy(p.Operations, t.Operations, operationName, refineOperation)
	t.typeInputs = mergeBy(p.typeInputs, t.typeInputs, parameterName, refineParameter)
	t.notifications = mergeBy(p.notifications, t.notifications, operationName, refineOperation)
	t.Artifacts = mergeBy(p.Artifacts, t.Artifacts, artifactName, func(_, c *Artifact) *Artifact { return c })
	t.ValidTargets = orInherited(t.ValidTargets, p.ValidTargets)
	t.ValidSources = orInherited(t.ValidSources, p.ValidSources)
	t.Extensions = orInherited(t.Extensions, p.Extensions)
	t.Triggers = append(slices.Clone(p.Triggers), t.Triggers...)
	if t.MimeType == "" {
		t.MimeType = p.MimeType
	}
	if t.entry == nil {
		t.entry = p.entry
	}
	if t.key == nil {
		t.key = p.key
	}
	t.constraints = append(slices.Clone(p.constraints), t.constraints...)
}

func orInherited(own, parents []string) []string {
	if len(own) == 0 {
		return parents
	}
	return own
}

// mergeBy is the parent's list with entries of the same name refined by the child's, then the child's new ones.
func mergeBy[T any](parent, child []*T, name func(*T) string, refine func(parent, child *T) *T) []*T {
	if len(child) == 0 {
		return parent
	}
	out := slices.Clone(parent)
	for _, c := range child {
		i := slices.IndexFunc(out, func(p *T) bool { return name(p) == name(c) })
		if i < 0 {
			out = append(out, c)
			continue
		}
		out[i] = refine(out[i], c)
	}
	return out
}

func refineProperty(p, c *Property) *Property {
	r := *c
	if r.Type == "" {
		r.Type = p.Type
	}
	if r.Default == nil {
		r.Default = p.Default
	}
	if r.Entry == nil {
		r.Entry = p.Entry
	}
	if r.Key == nil {
		r.Key = p.Key
	}
	if r.Description == "" {
		r.Description = p.Description
	}
	if r.Status == "" {
		r.Status = p.Status
	}
	if !r.saysRequired {
		r.Required = p.Required
	}
	r.Constraints = append(slices.Clone(p.Constraints), c.Constraints...)
	return &r
}

func refineCapability(p, c *Capability) *Capability {
	r := *c
	if r.Type == "" {
		r.Type = p.Type
	}
	r.Sources = orInherited(r.Sources, p.Sources)
	if !r.saysOccurrences {
		r.Occurrences = p.Occurrences
	}
	r.Properties = mergeBy(p.Properties, c.Properties, propertyName, refineProperty)
	r.Attributes = mergeBy(p.Attributes, c.Attributes, propertyName, refineProperty)
	r.all, r.allAttributes, r.complete = nil, nil, false
	return &r
}

func refineRequirement(p, c *Requirement) *Requirement {
	r := *c
	if r.Capability == "" {
		r.Capability = p.Capability
	}
	if r.Node == "" {
		r.Node = p.Node
	}
	if r.Relationship == "" {
		r.Relationship = p.Relationship
	}
	if r.Filter == nil {
		r.Filter = p.Filter
	}
	if !r.saysOccurrences {
		r.Occurrences = p.Occurrences
	}
	r.Interfaces = mergeBy(p.Interfaces, c.Interfaces, interfaceName, refineInterface)
	return &r
}

func refineInterface(p, c *Interface) *Interface {
	r := *c
	r.complete = p.complete && (c.Type == "" || c.Type == p.Type)
	if r.Type == "" {
		r.Type = p.Type
	}
	r.Inputs = mergeBy(p.Inputs, c.Inputs, parameterName, refineParameter)
	r.Operations = mergeBy(p.Operations, c.Operations, operationName, refineOperation)
	r.Notifications = mergeBy(p.Notifications, c.Notifications, operationName, refineOperation)
	return &r
}

func refineParameter(p, c *Parameter) *Parameter {
	r := *c
	if r.Def == nil {
		r.Def = p.Def
	}
	if r.Value == nil {
		r.Value = p.Value
	}
	return &r
}

func refineOperation(p, c *Operation) *Operation {
	r := *c
	if r.Script == "" {
		r.Script, r.Pos, r.Dependencies, r.dependencies = p.Script, p.Pos, p.Dependencies, p.dependencies
	}
	if r.Timeout == 0 {
		r.Timeout = p.Timeout
	}
	if r.Host == "" {
		r.Host = p.Host
	}
	r.Outputs = append(slices.Clone(p.Outputs), c.Outputs...)
	r.Inputs = mergeBy(p.Inputs, c.Inputs, parameterName, refineParameter)
	return &r
}
