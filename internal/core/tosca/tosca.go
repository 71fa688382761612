// Package tosca reads service templates written in the OASIS TOSCA Simple Profile in YAML, version 1.3.
//
// In go a root file name and a function that opens the files beside it; out come a checked [Template] and every
// diagnostic that reading found, each with its place. The work is done in phases, each over the result of the one
// before, so that a mistake in one phase never hides those of another file or another node:
//
//  1. load    YAML to a node tree with positions, imports followed, duplicate keys and runaway aliases refused
//  2. types   type definitions of every kind gathered from the profile and the user's files, then resolved along
//     derived_from, so that a resolved type holds everything it inherits
//  3. parse   the topology template: inputs, node templates, relationship templates, groups, policies, outputs
//  4. check   node templates against their types, requirements against capabilities, functions against what they name
//
// The type system is data. The normative types of the standard (section 5) are a YAML profile in the folder profile,
// read by the same code as a user's types, and no code here asks for a type by its name. What the planner must know
// of a type (that a compute node is built as an instance, say) is metadata of the type under "andamio." keys.
package tosca

import "maps"

// Opener returns the bytes of a file by its slash-separated path relative to the root template's folder.
// The reader never opens anything itself: the caller decides what can be reached.
type Opener func(path string) ([]byte, error)

// Template is a service template that has been read and checked.
type Template struct {
	// Name is metadata.template_name, or the root file's name without its extension.
	Name string
	// Description is the template's own description.
	Description string
	// Root is the path of the root file as given to [Read].
	Root string
	// Metadata is the root file's metadata, as text.
	Metadata map[string]string
	// Types holds every type of the profile and of the template, resolved.
	Types *Types
	// Inputs, Nodes, Relationships, Groups, Policies and Outputs are in the order of the file.
	Inputs        []*Input
	Nodes         []*Node
	Relationships []*Relationship
	Groups        []*Group
	Policies      []*Policy
	Outputs       []*Output
	// Artifacts are the script files that operations name, by path, as the opener returned them.
	Artifacts map[string][]byte
	// Sources are the user's files that were read, by path.
	Sources map[string][]byte

	nodes map[string]*Node
}

// Node returns the node template of that name, or nil.
func (t *Template) Node(name string) *Node { return t.nodes[name] }

// Input returns the input of that name, or nil.
func (t *Template) Input(name string) *Input {
	for _, in := range t.Inputs {
		if in.Name == name {
			return in
		}
	}
	return nil
}

// Read reads the template at path root and everything it imports. The template is never nil; it is fit for use only
// if no diagnostic is an error, see [Diagnostics.Errors].
func Read(root string, open Opener) (*Template, Diagnostics) {
	r := &reader{
		open:  open,
		types: builtins().clone(),
		tmpl: &Template{
			Root: root, Metadata: map[string]string{}, Artifacts: map[string][]byte{},
			Sources: map[string][]byte{}, nodes: map[string]*Node{},
		},
	}
	r.tmpl.Types = r.types
	if doc := r.load(root, Pos{File: root, Line: 1, Col: 1}); doc != nil {
		r.gatherAll()
		r.types.resolve(&r.diags)
		r.parseTopology(doc)
		r.check()
	}
	r.diags.sort()
	return r.tmpl, r.diags
}

// reader carries what one call of Read has gathered.
type reader struct {
	open  Opener
	types *Types
	tmpl  *Template
	diags Diagnostics
	files []*document
	seen  map[string]bool
}

// clone lets every read start from the parsed profile without parsing it again.
func (ts *Types) clone() *Types {
	c := newTypes()
	for k := range ts.byKind {
		maps.Copy(c.byKind[k], ts.byKind[k])
		maps.Copy(c.aliases[k], ts.aliases[k])
	}
	return c
}
