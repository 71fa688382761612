// Package topology turns a checked template and inputs into a design: every value evaluated as far as it can be before
// anything runs, requirements as relations between nodes, and the number of instances of each node.
//
// In goes a [tosca.Template] and values for its inputs; out comes a [Design], and diagnostics placed in the template or
// the preset. What only a run can know (an address, say) stays in the design as a [Deferred] function.
package topology

import (
	"andamio/internal/core/tosca"
)

// Builds says what the planner builds for a node. It is metadata "andamio.builds" of the node's type.
type Builds string

// What a node can be built as. A node that builds nothing only orders others.
const (
	Nothing   Builds = ""
	Network   Builds = "network"
	Volume    Builds = "volume"
	Instance  Builds = "instance"
	Interface Builds = "interface"
	Software  Builds = "software"
)

// Order says how a relation orders and ties its ends. It is metadata "andamio.order" of the relationship's type.
type Order string

// The orders of the standard's relationship types.
const (
	Depends  Order = "depends"
	Hosted   Order = "hosted"
	Connects Order = "connects"
	Attaches Order = "attaches"
	Links    Order = "links"
	Binds    Order = "binds"
)

// Design is a template with its inputs resolved.
type Design struct {
	Name     string
	Inputs   map[string]any
	Nodes    []*Node
	Services []Service
	Rules    []Rule
	Outputs  []Output
	// Secrets are the names of secret inputs, whose values only a run is given.
	Secrets []string
	// Scripts are the texts of the operations, by path.
	Scripts map[string][]byte

	nodes map[string]*Node
}

// Node returns the node of that name, or nil.
func (d *Design) Node(name string) *Node { return d.nodes[name] }

// Service is a named group of nodes, as people speak of them.
type Service struct{ Name, Title string }

// Node is a node template with its values evaluated.
type Node struct {
	Name        string
	Description string
	TypeName    string
	Builds      Builds
	// Service is the name of the service the node belongs to, "" for none.
	Service string
	// Count is how many instances there are of it.
	Count int
	// Properties and Capabilities hold Go values, [tosca.Scalar] and [Deferred].
	Properties   map[string]any
	Capabilities []Capability
	Relations    []Relation
	// Operations are those with a script, by name of the operation.
	Operations map[string]Operation
	Pos        tosca.Pos
	// Host is the node it is hosted on or bound to, Base the instance at the bottom of that chain; both may be nil.
	Host, Base *Node
}

// Capability is a capability with its properties evaluated.
type Capability struct {
	Name       string
	TypeName   string
	Properties map[string]any
	// Answers marks an endpoint; Public one that users reach; Scales the one that sets the number of instances.
	Answers, Public, Scales bool
}

// Capability returns the capability of that name, or nil.
func (n *Node) Capability(name string) *Capability {
	for i := range n.Capabilities {
		if n.Capabilities[i].Name == name {
			return &n.Capabilities[i]
		}
	}
	return nil
}

// Relation ties a node to the one that fulfils a requirement of it.
type Relation struct {
	Name       string
	Order      Order
	Target     *Node
	Capability string
	Properties map[string]any
	Operations map[string]Operation
}

// Operation is a script with what it is given.
type Operation struct {
	Script string
	Inputs []Argument
	// Timeout in seconds, 0 for none.
	Timeout float64
}

// Argument is a named value, which may be [Deferred].
type Argument struct {
	Name  string
	Value any
}

// Rule is a policy with its properties evaluated. Kind is metadata "andamio.rule" of its type.
type Rule struct {
	Name       string
	Kind       string
	Targets    []string
	Properties map[string]any
	Because    string
	Pos        tosca.Pos
}

// Covers reports whether the rule applies to the node.
func (r Rule) Covers(name string) bool {
	for _, t := range r.Targets {
		if t == name {
			return true
		}
	}
	return len(r.Targets) == 0
}

// Output is a value that the deployment exposes.
type Output struct {
	Name, Description string
	Value             any
}

// Deferred is a function that a run evaluates: get_attribute, get_secret, or concat over others.
type Deferred struct {
	Func string
	Args []any
}

// Build evaluates a template without mistakes. The design is nil if a diagnostic is a mistake.
func Build(t *tosca.Template, given tosca.Inputs) (*Design, tosca.Diagnostics) {
	inputs, diags := t.Apply(given)
	b := &builder{
		tmpl: t, diags: diags, open: map[string]bool{},
		design: &Design{Name: t.Name, Inputs: inputs, Scripts: t.Artifacts, nodes: map[string]*Node{}},
	}
	if diags.Errors() > 0 {
		return nil, b.diags
	}
	b.hideSecrets()
	b.addNodes()
	b.relate()
	b.count()
	b.addGroups()
	b.addRules()
	b.addOutputs()
	if b.diags.Errors() > 0 {
		return nil, b.diags
	}
	return b.design, b.diags
}

type builder struct {
	tmpl   *tosca.Template
	design *Design
	diags  tosca.Diagnostics
	// open holds the properties under evaluation, to find circles among them.
	open map[string]bool
}

// hideSecrets takes the values of secret inputs out of the design: they are asked for when it runs.
func (b *builder) hideSecrets() {
	for _, in := range b.tmpl.Inputs {
		if in.Secret {
			delete(b.design.Inputs, in.Name)
			b.design.Secrets = append(b.design.Secrets, in.Name)
		}
	}
}

func (b *builder) mistake(at tosca.Pos, code tosca.Code, message, hint string) {
	b.diags = append(b.diags, tosca.Diagnostic{Pos: at, Width: 1, Code: code, Severity: tosca.Mistake, Message: message, Hint: hint})
}
