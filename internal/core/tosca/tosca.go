// Package tosca reads service templates written in the OASIS TOSCA Simple Profile in YAML, version 1.3.
//
// In go a root file name and a function that opens the files beside it; out come a checked [Template] and every
// diagnostic that reading found, each with its place. The work is done in phases, each over the result of the one
// before, so that a mistake in one phase never hides those of another file or another node:
//
//  1. load    YAML to a tree with positions, imports followed, duplicate keys and runaway aliases refused
//  2. types   type definitions of every kind gathered from the profile and the user's files, then resolved along
//     derived_from, so that a resolved type holds everything it inherits and refines only what it may
//  3. parse   the topology templates: that of the root file, and of every imported file that can be substituted for a node
//  4. check   node templates against their types, requirements against capabilities, functions against what they name,
//     workflows and substitutions against what they lead to
//
// The type system is data. The normative types of the standard (section 5) are a YAML profile in the folder profile,
// read by the same code as a user's types, and no code here asks for a type by its name. What the planner must know
// of a type (that a compute node is built as an instance, say) is metadata of the type under "andamio." keys.
package tosca

import (
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"slices"
)

// Opener returns the bytes of a file by its slash-separated path relative to the root template's folder.
// The reader never opens anything itself: the caller decides what can be reached.
type Opener func(path string) ([]byte, error)

// Template is a service template that has been read and checked.
type Template struct {
	// Name is metadata.template_name, or the root file's name without its extension.
	Name string
	// Description is the template's own description.
	Description string
	// Root is the path of the template's file.
	Root string
	// Metadata is the file's metadata, as text.
	Metadata map[string]string
	// Types holds every type of the profile and of the template, resolved.
	Types *Types
	// Inputs, Nodes, Relationships, Groups, Policies, Workflows and Outputs are in the order of the file.
	Inputs        []*Input
	Nodes         []*Node
	Relationships []*Relationship
	Groups        []*Group
	Policies      []*Policy
	Workflows     []*Workflow
	Outputs       []*Output
	// Substitution says for which node the template can stand; nil for none.
	Substitution *Substitution
	// Substitutes are the imported templates that can stand for a node. Only the root template has them.
	Substitutes []*Template
	// Artifacts are the files that operations and nodes name, by path, as the opener returned them.
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

// Workflow returns the workflow of that name, or nil.
func (t *Template) Workflow(name string) *Workflow {
	for _, w := range t.Workflows {
		if w.Name == name {
			return w
		}
	}
	return nil
}

// Output returns the output of that name, or nil.
func (t *Template) Output(name string) *Output {
	for _, o := range t.Outputs {
		if o.Name == name {
			return o
		}
	}
	return nil
}

// Group returns the group of that name, or nil.
func (t *Template) Group(name string) *Group {
	i := slices.IndexFunc(t.Groups, func(g *Group) bool { return g.Name == name })
	if i < 0 {
		return nil
	}
	return t.Groups[i]
}

// Read reads the template at path root and everything it imports. The template is never nil; it is fit for use only
// if no diagnostic is an error, see [Diagnostics.Errors].
func Read(root string, open Opener) (*Template, Diagnostics) {
	r := newReader(orShipped(open), builtins().clone())
	r.tmpl = r.newTemplate(root)
	whole := r.tmpl
	if doc := r.load(root, "", Pos{File: root, Line: 1, Col: 1}); doc != nil {
		r.loadShipped()
		r.gatherAll()
		r.types.resolve(&r.diags)
		r.parseTopology(doc)
		r.parseSubstitutes(doc)
		for _, t := range append(slices.Clone(whole.Substitutes), whole) {
			r.unread(t)
		}
		for _, d := range r.docs {
			d.root = node{} // what is parsed needs the trees no longer, and they are large
		}
		for _, t := range append(slices.Clone(whole.Substitutes), whole) {
			r.tmpl = t
			r.check()
		}
		r.checkSubstitutes(whole)
	}
	r.diags.sort()
	return whole, r.diags
}

// reader carries what one call of Read has gathered.
type reader struct {
	open  Opener
	types *Types
	diags Diagnostics
	docs  []*document
	seen  map[docKey]*document
	// gathering is set while declarations are read, whose mentions of types are remembered.
	gathering bool
	// spaced are the full names of types defined under a namespace prefix.
	spaced       map[string]bool
	repositories map[string]string
	sources      map[string][]byte
	files        map[string][]byte
	// tmpl is the template being parsed or checked, substitutes the others.
	tmpl        *Template
	substitutes []*Template
	// unused are inputs that nothing reads.
	unused map[*Input]bool
}

func newReader(open Opener, types *Types) *reader {
	return &reader{open: open, types: types, seen: map[docKey]*document{}, spaced: map[string]bool{},
		repositories: map[string]string{}, sources: map[string][]byte{}, files: map[string][]byte{}, unused: map[*Input]bool{}}
}

func (r *reader) newTemplate(root string) *Template {
	return &Template{Root: root, Metadata: map[string]string{}, Types: r.types, Artifacts: r.files, Sources: r.sources,
		nodes: map[string]*Node{}}
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

func sha256Hex(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
