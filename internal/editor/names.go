package editor

import (
	"path/filepath"
	"strings"

	"github.com/sourcegraph/jsonrpc2"
	"go.lsp.dev/protocol"
	"go.yaml.in/yaml/v4"

	"andamio/internal/core/tosca"
	"andamio/internal/service/templates"
)

// hover says what the code of a diagnostic at a place means, or else what a name there means; nil where there is nothing to say.
func (s *server) hover(path string, at protocol.Position) any {
	for _, d := range s.found[path] {
		if d.Range.Start.Line != at.Line || at.Character < d.Range.Start.Character || at.Character >= d.Range.End.Character {
			continue
		}
		for _, e := range tosca.Explanations {
			if string(e.Code) == d.Code {
				return hovered(e.Meaning+"\n\nFor example:\n\n"+e.Example, d.Range)
			}
		}
	}
	t, _ := s.template(path)
	if t == nil {
		return nil
	}
	spot := spotAt(s.textOf(t, path), at)
	where := between(int(at.Line), spot.from, spot.to)
	if text := meaning(t, &spot); text != "" {
		return hovered(text, where)
	}
	return nil
}

func hovered(text string, where protocol.Range) any {
	return &protocol.Hover{Contents: protocol.MarkupContent{Kind: protocol.PlainText, Value: text}, Range: &where}
}

// sections are those of the standard (TOSCA Simple Profile in YAML 1.3) that define types of a kind.
var sections = map[tosca.TypeKind]string{tosca.DataTypes: "5.3", tosca.ArtifactTypes: "5.4", tosca.CapabilityTypes: "5.5", tosca.RelationshipTypes: "5.7", tosca.InterfaceTypes: "5.8",
	tosca.NodeTypes: "5.9", tosca.GroupTypes: "5.10", tosca.PolicyTypes: "5.11"}

// meaning is what the name at a place means: a type where one belongs, a function, a node, an input or any type.
func meaning(t *templates.Template, at *spot) string {
	name := at.word
	if name == "" {
		return ""
	}
	if at.key == "type" || at.key == "derived_from" {
		if text := meaningOfType(t, kindOf(at), name); text != "" {
			return text
		}
	}
	if usage := tosca.FunctionUsage(name); usage != "" {
		return name + " (TOSCA 1.3, section " + tosca.FunctionSection(name) + ")\n\n" + usage
	}
	if n := t.Node(name); n != nil && n.Type != nil {
		return name + ": a node template of " + n.Type.Name + describedAs(n.Description)
	}
	if in := t.Input(name); in != nil {
		return name + ": an input of the type " + in.Type + describedAs(in.Description)
	}
	for _, kind := range tosca.Kinds() {
		if text := meaningOfType(t, kind, name); text != "" {
			return text
		}
	}
	return ""
}

// meaningOfType is what a type of a kind is, "" if there is none of that name.
func meaningOfType(t *templates.Template, kind tosca.TypeKind, name string) string {
	x := t.Types.Find(kind, name)
	if x == nil {
		return ""
	}
	e := t.Types.Explain(x)
	out := e.Name + ": a " + e.Kind
	if t.Sources[x.Pos.File] == nil {
		out += " (TOSCA 1.3, section " + sections[kind] + ")"
	}
	out += describedAs(e.Description)
	if len(e.DerivedFrom) > 0 {
		out += "\n\nderives from " + strings.Join(e.DerivedFrom, ", ")
	}
	for _, f := range e.Properties {
		out += "\n  " + f.Name + ": " + f.Type
		if f.Required {
			out += ", required"
		}
	}
	return out
}

func describedAs(text string) string {
	if text == "" {
		return ""
	}
	return "\n\n" + strings.Join(strings.Fields(text), " ")
}

// definition is where what a name means is defined; nil where that is not in the template.
func (s *server) definition(path string, at protocol.Position) any {
	t, dir := s.template(path)
	if t == nil {
		return nil
	}
	name := spotAt(s.textOf(t, path), at).word
	var pos tosca.Pos
	if n := t.Node(name); n != nil {
		pos = n.Pos
	} else if in := t.Input(name); in != nil {
		pos = in.Property.Pos
	} else {
		for _, kind := range tosca.Kinds() {
			if x := t.Types.Find(kind, name); x != nil && t.Sources[x.Pos.File] != nil {
				pos = x.Pos
			}
		}
	}
	if pos.Line == 0 {
		return nil
	}
	return protocol.Location{URI: uriOf(filepath.Join(dir, pos.File)), Range: spanOf(t, pos, len([]rune(name)))}
}

// rename are the edits that give the node at a place another name, wherever the template speaks of it.
func (s *server) rename(path string, at protocol.Position, to string) (any, *jsonrpc2.Error) {
	t, dir := s.template(path)
	if t == nil {
		return nil, refused(jsonrpc2.CodeInvalidRequest, "this file belongs to no template")
	}
	name := spotAt(s.textOf(t, path), at).word
	switch {
	case t.Node(name) == nil:
		return nil, refused(jsonrpc2.CodeInvalidRequest, "%q is no node template: these alone are given other names", name)
	case t.Node(to) != nil:
		return nil, refused(jsonrpc2.CodeInvalidRequest, "there is a node template %q already", to)
	case strings.TrimSpace(to) == "" || strings.ContainsAny(to, " \t\n:{}[],#\"'"):
		return nil, refused(jsonrpc2.CodeInvalidParams, "%q cannot be the name of a node template", to)
	}
	file := filepath.Join(dir, t.Root)
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(s.textOf(t, file)), &doc); err != nil || len(doc.Content) == 0 {
		return nil, refused(jsonrpc2.CodeInvalidRequest, "%s cannot be read now: mend it first", t.Root)
	}
	r := &renaming{t: t, name: name, to: to}
	if topology := valueOf(doc.Content[0], "topology_template"); topology != nil {
		r.topology(topology)
	}
	return protocol.WorkspaceEdit{Changes: map[protocol.DocumentURI][]protocol.TextEdit{uriOf(file): r.edits}}, nil
}

// renaming finds where a template speaks of a node.
type renaming struct {
	t        *templates.Template
	name, to string
	edits    []protocol.TextEdit
}

// is notes a scalar that is the name.
func (r *renaming) is(n *yaml.Node) {
	if n != nil && n.Kind == yaml.ScalarNode && n.Value == r.name {
		width := len([]rune(r.name))
		if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
			width += 2
		}
		r.edits = append(r.edits, protocol.TextEdit{Range: spanOf(r.t, tosca.Pos{File: r.t.Root, Line: n.Line, Col: n.Column}, width), NewText: r.to})
	}
}

// topology goes through a topology template (section 3.9).
func (r *renaming) topology(n *yaml.Node) {
	each(valueOf(n, "node_templates"), func(key, node *yaml.Node) {
		r.is(key)
		r.is(valueOf(node, "copy"))
		for _, item := range itemsOf(valueOf(node, "requirements")) {
			each(item, func(_, to *yaml.Node) {
				r.is(to)
				r.is(valueOf(to, "node"))
			})
		}
	})
	each(valueOf(n, "groups"), func(_, x *yaml.Node) { r.all(valueOf(x, "members")) })
	for _, p := range itemsOf(valueOf(n, "policies")) {
		each(p, func(_, x *yaml.Node) { r.all(valueOf(x, "targets")) })
	}
	each(valueOf(n, "workflows"), func(_, w *yaml.Node) {
		each(valueOf(w, "steps"), func(_, step *yaml.Node) { r.is(valueOf(step, "target")) })
		for _, p := range itemsOf(valueOf(w, "preconditions")) {
			r.is(valueOf(p, "target"))
		}
	})
	for _, part := range []string{"capabilities", "requirements"} {
		each(valueOf(valueOf(n, "substitution_mappings"), part), func(_, to *yaml.Node) {
			if all := itemsOf(to); len(all) == 2 {
				r.is(all[0])
			}
		})
	}
	r.calls(n)
}

// all notes the entries of a list that are the name.
func (r *renaming) all(list *yaml.Node) {
	for _, item := range itemsOf(list) {
		r.is(item)
	}
}

// calls goes through the functions that are called anywhere.
func (r *renaming) calls(n *yaml.Node) {
	if n.Kind == yaml.MappingNode && len(n.Content) == 2 && takesNode[n.Content[0].Value] {
		if all := itemsOf(n.Content[1]); len(all) > 0 {
			r.is(all[0])
		}
	}
	for _, x := range n.Content {
		r.calls(x)
	}
}

func each(n *yaml.Node, do func(key, value *yaml.Node)) {
	if n == nil || n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		do(n.Content[i], n.Content[i+1])
	}
}

func itemsOf(n *yaml.Node) []*yaml.Node {
	if n == nil || n.Kind != yaml.SequenceNode {
		return nil
	}
	return n.Content
}

func valueOf(n *yaml.Node, key string) *yaml.Node {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}
