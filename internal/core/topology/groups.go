package topology

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/tosca"
)

// parts are the design's nodes for a node template or group of a frame: a group's members, and the parts of a node that
// a template stands for.
func (b *builder) parts(f *frame, name string) []string {
	if g := f.tmpl.Group(name); g != nil {
		var out []string
		for _, m := range g.Members {
			out = append(out, b.partsOfNode(f, m)...)
		}
		return out
	}
	return b.partsOfNode(f, name)
}

// partsOfNode are those of a node template. Members of a group are node templates (section 3.8.5), also one of the group's own name.
func (b *builder) partsOfNode(f *frame, name string) []string {
	n := f.tmpl.Node(name)
	if n == nil {
		return nil
	}
	if in := b.inner(f, n); in != nil {
		return b.partsOf(in)
	}
	return []string{f.prefix + name}
}

func (b *builder) partsOf(f *frame) []string {
	var out []string
	for _, n := range f.tmpl.Nodes {
		out = append(out, b.partsOfNode(f, n.Name)...)
	}
	return out
}

// frames are a frame and those within it.
func (b *builder) frames(f *frame) []*frame {
	out := []*frame{f}
	for _, n := range f.tmpl.Nodes {
		if in := f.within[n]; in != nil {
			out = append(out, b.frames(in)...)
		}
	}
	return out
}

// addGroups names the services. A node in no group belongs to the service of what it stands on; a node that a template
// stands for is a service of its own if it is in no group.
func (b *builder) addGroups(root *frame) {
	for _, f := range b.frames(root) {
		for _, g := range f.tmpl.Groups {
			title := g.Name
			if v := g.Properties["title"]; v != nil {
				if text, ok := v.Text(); ok {
					title = text
				}
			}
			b.addService(Service{f.prefix + g.Name, title}, b.parts(f, g.Name))
		}
	}
	for _, s := range b.design.Substituted {
		if !strings.Contains(s.Node, ".") {
			b.addService(Service{s.Node, s.Node}, s.Parts)
		}
	}
	for _, n := range b.design.Nodes {
		if n.Service == "" && n.Base != nil {
			n.Service = n.Base.Service
		}
	}
}

// addService gives nodes that have no service this one.
func (b *builder) addService(s Service, nodes []string) {
	used := false
	for _, name := range nodes {
		if n := b.design.nodes[name]; n != nil && n.Service == "" {
			n.Service, used = s.Name, true
		}
	}
	if used || len(nodes) == 0 {
		b.design.Services = append(b.design.Services, s)
	}
}

// addRules evaluates policies; groups among their targets become their members.
func (b *builder) addRules(root *frame) {
	for _, f := range b.frames(root) {
		for _, p := range f.tmpl.Policies {
			b.addRule(f, p)
		}
	}
}

func (b *builder) addRule(f *frame, p *tosca.Policy) {
	r := Rule{Name: f.prefix + p.Name, Kind: p.Type.Metadata[tosca.MetaRule], Pos: p.Pos}
	r.Properties = b.properties(nil, p.Type.Properties, p.Properties, scope{f: f})
	r.Because, _ = r.Properties["because"].(string)
	if r.Because == "" {
		r.Because = p.Description
	}
	for _, target := range p.Targets {
		r.Targets = append(r.Targets, b.parts(f, target)...)
	}
	if len(p.Targets) == 0 && f.outer != nil {
		r.Targets = b.partsOf(f)
	}
	if len(p.Targets) == 0 || len(r.Targets) > 0 {
		b.design.Rules = append(b.design.Rules, r)
	}
	for _, t := range p.Triggers {
		out := Trigger{Policy: r.Name, Name: t.Name, Event: t.Event, Targets: r.Targets, Condition: t.Condition.String()}
		for _, a := range t.Actions {
			out.Actions = append(out.Actions, fmt.Sprintf("%s %s", a.Kind, a.Name))
		}
		b.design.Triggers = append(b.design.Triggers, out)
	}
}

// addWorkflows finds the targets of the root template's workflows.
func (b *builder) addWorkflows(root *frame) {
	for _, w := range root.tmpl.Workflows {
		out := &Workflow{Name: w.Name, Pos: w.Pos}
		for _, p := range w.Preconditions {
			for _, n := range b.parts(root, p.Target) {
				out.Preconditions = append(out.Preconditions, Precondition{n, p.Condition, p.Pos})
			}
		}
		for _, s := range w.Steps {
			step := WorkflowStep{Name: s.Name, Targets: b.parts(root, s.Target), Relation: s.Relationship, Host: s.Host,
				Filter: s.Filter, OnSuccess: s.OnSuccess, OnFailure: s.OnFailure, Pos: s.Pos}
			for _, a := range s.Activities {
				act := Activity{Kind: a.Kind, Name: a.Name, Pos: a.Pos}
				act.Inputs = b.arguments(nil, a.Inputs, scope{f: root, self: root.tmpl.Node(s.Target), workflow: w})
				step.Activities = append(step.Activities, act)
			}
			out.Steps = append(out.Steps, step)
		}
		b.design.Workflows = append(b.design.Workflows, out)
	}
	for _, f := range b.frames(root)[1:] {
		for _, w := range f.tmpl.Workflows {
			if !slices.ContainsFunc(b.diags, func(d tosca.Diagnostic) bool { return d.Pos == w.Pos }) {
				b.mistake(w.Pos, len(w.Name), tosca.CodeUnsupported, "workflows of a template that stands for a node are not run; its declarative workflow is",
					"remove it, or move it to the outermost template")
			}
		}
	}
}

func (b *builder) addOutputs(root *frame) {
	for _, o := range root.tmpl.Outputs {
		if v, ok := b.eval(o.Value, scope{f: root}); ok {
			b.design.Outputs = append(b.design.Outputs, Output{o.Name, o.Description, v})
		}
	}
}
