// Package topology turns a checked template and inputs into a design: every value evaluated as far as it can be before
// anything runs, nodes substituted by the templates that stand for them and selected among what stands already,
// requirements fulfilled as relations between nodes, and the number of instances of each node.
//
// In goes a [tosca.Template], values for its inputs and what stands at the sites; out comes a [Design], flat, and
// diagnostics placed in the template or the preset. What only a run can know (an address, say) stays in the design as a
// [Deferred] function.
package topology

import (
	"fmt"
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/tosca"
)

// Ordering says how a relation orders and ties its ends. It is metadata "andamio.order" of the relationship's type.
type Ordering string

// The orders of the standard's relationship types.
const (
	Depends  Ordering = "depends"
	Hosted   Ordering = "hosted"
	Connects Ordering = "connects"
	// Routes connects every instance of the source with every instance of the target.
	Routes   Ordering = "routes"
	Attaches Ordering = "attaches"
	Links    Ordering = "links"
	Binds    Ordering = "binds"
)

// Design is a template with its inputs resolved.
type Design struct {
	Name      string
	Inputs    map[string]any
	Nodes     []*Node
	Services  []Service
	Rules     []Rule
	Workflows []*Workflow
	Triggers  []Trigger
	Outputs   []Output
	// Substituted says, for every node that a template stands for, which one.
	Substituted []Substituted
	// Secrets are the names of secret inputs, whose values only a run is given.
	Secrets []string
	// Files are the scripts and other files of the operations, by path.
	Files map[string][]byte
	// Types are those of the template.
	Types *tosca.Types
	// Notes say how something was decided that the template left open.
	Notes []string

	nodes map[string]*Node
}

// Node returns the node of that name, or nil.
func (d *Design) Node(name string) *Node { return d.nodes[name] }

// Workflow returns the workflow of that name, or nil.
func (d *Design) Workflow(name string) *Workflow {
	for _, w := range d.Workflows {
		if w.Name == name {
			return w
		}
	}
	return nil
}

// Service is a named group of nodes, as people speak of them.
type Service struct{ Name, Title string }

// Substituted is a node for which a template stands.
type Substituted struct {
	Node, Template string
	// Parts are the names of the nodes it is made of.
	Parts []string
	Pos   tosca.Pos
}

// Node is a node template with its values evaluated. The name of a node within a substituted one begins with that one's.
type Node struct {
	Name        string
	Description string
	TypeName    string
	Builds      kinds.Kind
	// Appliance is the service of a site that does what the software does, and its instance with it, "" for none.
	Appliance string
	// Service is the name of the service the node belongs to, "" for none.
	Service string
	// Count is how many instances there are of it.
	Count int
	// Properties and Capabilities hold Go values, [tosca.Scalar] and the like, and [Deferred]; Attributes the initial ones.
	Properties   map[string]any
	Attributes   map[string]any
	Capabilities []Capability
	Relations    []Relation
	// Operations are those with a script.
	Operations Operations
	// Image is what the node is to be started from, "" for any of its system.
	Image string
	// Standing is what was selected for the node instead of building it.
	Standing *Existing
	// Index is the node's place in the design.
	Index int
	// Source is the node template it comes from.
	Source *tosca.Node
	Pos    tosca.Pos
	// Host is the node it is hosted on or bound to, Base the instance at the bottom of that chain; both may be nil.
	Host, Base *Node
}

// Existing is something that exists already and that a node with the directive select may take.
type Existing struct {
	Name, Type, Site string
	Properties       map[string]any
	Capabilities     map[string]map[string]any
	Attributes       map[string]string
}

// Capability is a capability with its properties evaluated.
type Capability struct {
	Name       string
	TypeName   string
	Properties map[string]any
	// Answers marks an endpoint; Public one that users reach; Metrics one that tells figures of what answers there; Scales the one that sets the number of
	// instances.
	Answers, Public, Metrics, Scales bool
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
	Order      Ordering
	Target     *Node
	Capability string
	Properties map[string]any
	Operations Operations
}

// Operations are those of a node or relationship that have a script.
type Operations []Operation

// lifecycle are the interfaces whose operations run without being called.
var lifecycle = []string{"Standard", "Configure"}

// Own returns the operation of the lifecycle that has the name, nil if there is none.
func (ops Operations) Own(name string) *Operation {
	for i := range ops {
		if ops[i].Name == name && slices.Contains(lifecycle, ops[i].Interface) {
			return &ops[i]
		}
	}
	return nil
}

// HasOwn reports whether there is any operation of the lifecycle.
func (ops Operations) HasOwn() bool {
	return slices.ContainsFunc(ops, func(o Operation) bool { return slices.Contains(lifecycle, o.Interface) })
}

// Called returns the operation INTERFACE.OPERATION, where the interface goes by its name or its type's; nil if there is
// none.
func (ops Operations) Called(name string) *Operation {
	for i := range ops {
		if o := &ops[i]; name == o.Interface+"."+o.Name || name == o.InterfaceType+"."+o.Name {
			return o
		}
	}
	return nil
}

// Operation is a script with what it is given.
type Operation struct {
	Interface, InterfaceType, Name string
	Script                         string
	// Dependencies are files that lie beside the script when it runs.
	Dependencies []string
	Inputs       []Argument
	// Outputs are the variables that the script puts out, and the attributes that take them.
	Outputs []OutputTo
	// Host says where it runs: SOURCE or TARGET for a relationship's, "" where the standard says.
	Host string
	// Timeout in seconds, 0 for none.
	Timeout float64
}

// OutputTo puts an output into an attribute of a node, "" where an output is only asked for.
type OutputTo struct {
	Name            string
	Node, Attribute string
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

// Trigger is what a policy does when something happens.
type Trigger struct {
	Policy, Name, Event string
	Targets             []string
	Condition           string
	Actions             []string
}

// Workflow is an imperative workflow with its targets found.
type Workflow struct {
	Name          string
	Preconditions []Precondition
	Steps         []WorkflowStep
	Pos           tosca.Pos
}

// Precondition must hold of the target before the workflow begins.
type Precondition struct {
	Target    string
	Condition tosca.Clause
	Pos       tosca.Pos
}

// WorkflowStep is activities on nodes, one after the other.
type WorkflowStep struct {
	Name string
	// Targets are nodes; Relation a requirement of theirs, "" for the nodes themselves.
	Targets  []string
	Relation string
	// Host is SOURCE or TARGET.
	Host                 string
	Filter               tosca.Clause
	Activities           []Activity
	OnSuccess, OnFailure []string
	Pos                  tosca.Pos
}

// Activity is one thing a step does. Inputs win over those of the operation called.
type Activity struct {
	Kind   tosca.ActivityKind
	Name   string
	Inputs []Argument
	Pos    tosca.Pos
}

// Output is a value that the deployment exposes.
type Output struct {
	Name, Description string
	Value             any
}

// Deferred is a function that a run evaluates: get_attribute, get_operation_output, get_secret, get_artifact, or concat,
// join and token over others. In a design made without all inputs it may be get_input.
type Deferred struct {
	Func string
	Args []any
}

// Options says what a design is made of beside the template.
type Options struct {
	// Standing is what nodes with the directive select may take.
	Standing []Existing
	// Partial makes a design although required inputs have no values, to find mistakes; it cannot be planned.
	Partial bool
	// NoSites says that nothing is known of the sites, so that not finding what to select there is no mistake.
	NoSites bool
}

// Build evaluates a template without mistakes. The design is nil if a diagnostic is a mistake.
func Build(t *tosca.Template, given tosca.Inputs, o Options) (*Design, tosca.Diagnostics) {
	inputs, diags := t.Apply(given)
	if o.Partial {
		diags = withoutMissing(diags)
	}
	b := &builder{
		tmpl: t, diags: diags, options: o, open: map[propertyID]bool{}, placed: map[place]*Node{},
		design:   &Design{Name: t.Name, Types: t.Types, Inputs: inputs, Files: t.Artifacts, nodes: make(map[string]*Node, len(t.Nodes))},
		defaults: map[any]map[string]any{},
	}
	if diags.Errors() > 0 {
		return nil, b.diags
	}
	b.hideSecrets()
	root := b.frame(t, inputs)
	b.addNodes(root)
	if b.tooMany(len(b.order), "node templates") {
		return nil, b.diags
	}
	b.relateAll()
	b.count()
	if n := b.total(); b.tooMany(n, "instances") {
		return nil, b.diags
	}
	b.addGroups(root)
	b.addRules(root)
	b.addWorkflows(root)
	b.addOutputs(root)
	b.diags.Sort()
	if b.diags.Errors() > 0 {
		return nil, b.diags
	}
	return b.design, b.diags
}

// Most is how many nodes a design may have, and instances of them all: more could not be planned in the memory that a
// machine has for it.
const Most = 100_000

// tooMany says that there are more than can be planned.
func (b *builder) tooMany(n int, of string) bool {
	if n <= Most {
		return false
	}
	at := tosca.Pos{File: b.tmpl.Root, Line: 1, Col: 1}
	if len(b.design.Nodes) > 0 {
		at = b.design.Nodes[len(b.design.Nodes)-1].Pos
	}
	b.mistake(at, 1, tosca.CodeTooLarge, fmt.Sprintf("the design has %d %s, and at most %d are planned", n, of, Most),
		"make several services of it, each of its own template")
	return true
}

// total is how many instances there are of all nodes.
func (b *builder) total() int {
	n := 0
	for _, x := range b.design.Nodes {
		n += max(x.Count, 1)
	}
	return n
}

// withoutMissing leaves out what is only wrong because an input has no value yet.
func withoutMissing(diags tosca.Diagnostics) tosca.Diagnostics {
	var out tosca.Diagnostics
	for _, d := range diags {
		if d.Code != tosca.CodeMissingInput {
			out = append(out, d)
		}
	}
	return out
}

type builder struct {
	tmpl    *tosca.Template
	design  *Design
	options Options
	diags   tosca.Diagnostics
	// open holds the properties under evaluation, in order on path, to find circles among them.
	open map[propertyID]bool
	path []propertyID
	// circles are those reported, as sorted names.
	circles [][]string
	// placed finds the node of a node template in its frame; order has them as they were added.
	placed map[place]*Node
	order  []place
	// alone says that nodes can be worked out side by side.
	alone bool
	// defaults are the values of declarations to which nothing is assigned, by declaration.
	defaults map[any]map[string]any
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

func (b *builder) mistake(at tosca.Pos, width int, code tosca.Code, message, hint string) {
	b.diags = append(b.diags, tosca.Diagnostic{Pos: at, Width: max(width, 1), Code: code, Severity: tosca.Mistake, Message: message, Hint: hint})
}
