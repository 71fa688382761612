package editor

import (
	"path/filepath"
	"slices"
	"strings"

	"andamio/internal/core/tosca"
	"andamio/internal/service/templates"

	"go.lsp.dev/protocol"
)

// nodeKeys are the keynames of a node template (TOSCA 1.3, section 3.8.3), inputKeys those of a parameter (section 3.6.14).
var (
	nodeKeys     = []string{"type", "description", "metadata", "directives", "properties", "attributes", "requirements", "capabilities", "interfaces", "artifacts", "node_filter", "copy"}
	inputKeys    = []string{"type", "description", "required", "default", "status", "constraints", "key_schema", "entry_schema", "metadata"}
	templateKeys = []string{"description", "inputs", "node_templates", "relationship_templates", "groups", "policies", "outputs", "substitution_mappings", "workflows"}
	primitives   = []string{"string", "integer", "float", "boolean", "timestamp", "version", "range", "list", "map", "scalar-unit.size", "scalar-unit.time", "scalar-unit.frequency", "scalar-unit.bitrate"}
)

// complete says what may be written at a place. What is half written is read as though there were a word; where it cannot be read all the same, what the
// template was when it could be counts.
func (s *server) complete(path string, at protocol.Position) []protocol.CompletionItem {
	f, open := s.open[path]
	if !open {
		return []protocol.CompletionItem{}
	}
	spot := spotAt(f.text, at)
	s.open[path] = file{filled(f.text, at), f.version}
	t, dir := s.template(path)
	s.open[path] = f
	if t == nil || len(t.Nodes) == 0 && s.good[dir] != nil {
		t = s.good[dir]
	}
	if t == nil {
		return []protocol.CompletionItem{}
	}
	all := offered(t, &spot)
	all = slices.DeleteFunc(all, func(i protocol.CompletionItem) bool {
		return !strings.HasPrefix(strings.ToLower(i.Label), strings.ToLower(spot.begun)) && !strings.Contains(strings.ToLower(i.Label), "."+strings.ToLower(spot.begun))
	})
	if all == nil {
		all = []protocol.CompletionItem{}
	}
	return all
}

// filled is a text with a word at a place.
func filled(text string, at protocol.Position) string {
	lines := strings.Split(text, "\n")
	if int(at.Line) >= len(lines) {
		return text
	}
	line := []rune(lines[at.Line])
	i := runesTo(line, int(at.Character))
	lines[at.Line] = string(line[:i]) + "x" + string(line[i:])
	return strings.Join(lines, "\n")
}

// textOf is the text of a file as it is open, or as the template has it.
func (s *server) textOf(t *templates.Template, path string) string {
	if f, open := s.open[path]; open {
		return f.text
	}
	dir, _ := templateOf(path)
	rel, _ := filepath.Rel(dir, path)
	return string(t.Text(filepath.ToSlash(rel)))
}

func offered(t *templates.Template, at *spot) []protocol.CompletionItem {
	switch {
	case at.call == "get_input":
		return inputs(t)
	case takesNode[at.call] && at.arg == 0:
		return append(nodes(t), words(protocol.CompletionItemKindKeyword, "SELF", "SOURCE", "TARGET", "HOST")...)
	case (at.call == "get_property" || at.call == "get_attribute") && at.arg == 1:
		return nil // which node it is of may be written after it
	case at.key == "type" || at.key == "derived_from":
		return types(t, at)
	case at.key == "node" || at.key == "target" || at.key == "copy":
		return nodes(t)
	case at.key == "" && at.call == "":
		return keys(t, at)
	}
	if _, is := at.under("topology_template", "node_templates", "*", "requirements"); is {
		return nodes(t)
	}
	return functions()
}

// takesNode are the functions whose first argument is a node.
var takesNode = map[string]bool{"get_property": true, "get_attribute": true, "get_operation_output": true, "get_artifact": true}

func words(kind protocol.CompletionItemKind, all ...string) []protocol.CompletionItem {
	var out []protocol.CompletionItem
	for _, w := range all {
		out = append(out, protocol.CompletionItem{Label: w, Kind: kind})
	}
	return out
}

func inputs(t *templates.Template) []protocol.CompletionItem {
	var out []protocol.CompletionItem
	for _, in := range t.Inputs {
		out = append(out, protocol.CompletionItem{Label: in.Name, Kind: protocol.CompletionItemKindVariable, Detail: in.Type})
	}
	return out
}

func nodes(t *templates.Template) []protocol.CompletionItem {
	var out []protocol.CompletionItem
	for _, n := range t.Nodes {
		of := ""
		if n.Type != nil {
			of = n.Type.Name
		}
		out = append(out, protocol.CompletionItem{Label: n.Name, Kind: protocol.CompletionItemKindVariable, Detail: of})
	}
	return out
}

func functions() []protocol.CompletionItem {
	var out []protocol.CompletionItem
	for _, name := range tosca.Functions() {
		out = append(out, protocol.CompletionItem{Label: "{ " + name + ": ", Kind: protocol.CompletionItemKindFunction, Detail: tosca.FunctionUsage(name)})
	}
	return out
}

// kindOf is the kind of type that is named at a place.
func kindOf(at *spot) tosca.TypeKind {
	for _, kind := range tosca.Kinds() {
		if _, is := at.under(string(kind), "*"); is && at.key == "derived_from" {
			return kind
		}
	}
	if n := len(at.path); n > 0 && at.path[n-1] == "relationship" {
		return tosca.RelationshipTypes
	}
	for section, kind := range map[string]tosca.TypeKind{"node_templates": tosca.NodeTypes, "relationship_templates": tosca.RelationshipTypes, "groups": tosca.GroupTypes, "policies": tosca.PolicyTypes} {
		if slices.Contains(at.path, section) && !slices.Contains(at.path, "artifacts") {
			return kind
		}
	}
	if slices.Contains(at.path, "artifacts") {
		return tosca.ArtifactTypes
	}
	return tosca.DataTypes
}

func types(t *templates.Template, at *spot) []protocol.CompletionItem {
	kind := kindOf(at)
	var out []protocol.CompletionItem
	if kind == tosca.DataTypes {
		out = words(protocol.CompletionItemKindKeyword, primitives...)
	}
	for _, name := range t.Types.Names(kind) {
		x := t.Types.Explain(t.Types.Find(kind, name))
		detail := x.Kind
		if len(x.DerivedFrom) > 0 {
			detail += " from " + x.DerivedFrom[0]
		}
		out = append(out, protocol.CompletionItem{Label: name, Kind: protocol.CompletionItemKindClass, Detail: detail})
	}
	return out
}

// keys are those that may begin a line.
func keys(t *templates.Template, at *spot) []protocol.CompletionItem {
	if name, is := at.under("topology_template", "node_templates", "*", "properties"); is {
		return fields(t, name, func(x *tosca.TypeExplained) []tosca.FieldExplained { return x.Properties })
	}
	if name, is := at.under("topology_template", "node_templates", "*", "capabilities"); is {
		return fields(t, name, func(x *tosca.TypeExplained) []tosca.FieldExplained { return x.Capabilities })
	}
	if name, is := at.under("topology_template", "node_templates", "*", "requirements"); is {
		return fields(t, name, func(x *tosca.TypeExplained) []tosca.FieldExplained { return x.Requirements })
	}
	if _, is := at.under("topology_template", "node_templates", "*"); is {
		return words(protocol.CompletionItemKindKeyword, nodeKeys...)
	}
	if _, is := at.under("topology_template", "inputs", "*"); is {
		return words(protocol.CompletionItemKindKeyword, inputKeys...)
	}
	if _, is := at.under("topology_template"); is {
		return words(protocol.CompletionItemKindKeyword, templateKeys...)
	}
	return nil
}

// fields are what the type of a node has of a sort, as far as the node does not say it yet.
func fields(t *templates.Template, node string, of func(x *tosca.TypeExplained) []tosca.FieldExplained) []protocol.CompletionItem {
	n := t.Node(node)
	if n == nil || n.Type == nil {
		return nil
	}
	x := t.Types.Explain(n.Type)
	var out []protocol.CompletionItem
	for _, f := range of(&x) {
		if n.Properties[f.Name] == nil {
			out = append(out, protocol.CompletionItem{Label: f.Name, Kind: protocol.CompletionItemKindField, Detail: f.Type})
		}
	}
	return out
}
