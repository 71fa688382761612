package tosca

import (
	"slices"
	"strings"
)

// Workflow is an imperative workflow (section 3.8.7): steps that name the next.
type Workflow struct {
	Name          string
	Description   string
	Inputs        []*Property
	Preconditions []Precondition
	Steps         []*WorkflowStep
	Pos           Pos
}

// Step returns the step of that name, or nil.
func (w *Workflow) Step(name string) *WorkflowStep {
	for _, s := range w.Steps {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Precondition must hold before a workflow begins (section 3.6.24).
type Precondition struct {
	Target, Relationship string
	Condition            Clause
	Pos                  Pos

	target place
}

// WorkflowStep is activities on a target (section 3.6.26). Target is a node template or group; Relationship a
// requirement of it, whose relationship is the target.
type WorkflowStep struct {
	Name                 string
	Target, Relationship string
	// Host is SOURCE or TARGET, for a step on a relationship.
	Host       string
	Filter     Clause
	Activities []Activity
	OnSuccess  []string
	OnFailure  []string
	Pos        Pos

	// next is where the step says what it leads to, target where it says what it is about.
	next   []node
	target place
}

// ActivityKind is what an activity does (section 3.6.23).
type ActivityKind string

// The activities of the standard.
const (
	Delegate      ActivityKind = "delegate"
	SetState      ActivityKind = "set_state"
	CallOperation ActivityKind = "call_operation"
	Inline        ActivityKind = "inline"
)

// Activity is one thing that a step or trigger does.
type Activity struct {
	Kind ActivityKind
	// Name is the workflow (delegate, inline), the state, or INTERFACE.OPERATION.
	Name   string
	Inputs []*Parameter
	Pos    Pos
}

// Clause is a condition over attributes (section 3.6.25). A leaf has a Condition; others join theirs by Op: and, or, not.
type Clause struct {
	Op      string
	Clauses []Clause
	Leaf    *Condition
}

// Empty reports a clause that says nothing and always holds.
func (c Clause) Empty() bool { return c.Leaf == nil && len(c.Clauses) == 0 }

// String says the condition in words.
func (c Clause) String() string {
	if c.Leaf != nil {
		parts := make([]string, len(c.Leaf.Constraints))
		for i, k := range c.Leaf.Constraints {
			parts[i] = c.Leaf.Name + " " + k.String()
		}
		return strings.Join(parts, " and ")
	}
	parts := make([]string, len(c.Clauses))
	for i, x := range c.Clauses {
		parts[i] = x.String()
		if len(x.Clauses) > 1 && len(c.Clauses) > 1 {
			parts[i] = "(" + parts[i] + ")"
		}
	}
	if c.Op == "not" {
		return "not (" + strings.Join(parts, " and ") + ")"
	}
	return strings.Join(parts, " "+c.Op+" ")
}

// Trigger starts activities on an event (section 3.6.22).
type Trigger struct {
	Name        string
	Description string
	Event       string
	Schedule    *Value
	// Target, Requirement and Capability say on what the event happens.
	Target, Requirement, Capability string
	Condition                       Clause
	// Period, Evaluations and Method say how often the condition is looked at before it counts.
	Period      string
	Evaluations int64
	Method      string
	Actions     []Activity
	Pos         Pos

	target place
}

func (r *reader) workflow(p pair) *Workflow {
	w := &Workflow{Name: p.name, Pos: p.key.pos()}
	if !r.keys(p.value, "a workflow", nil, "description", "metadata", "inputs", "preconditions", "steps", "outputs", "implementation") {
		return w
	}
	r.unsupported(p.value, "a workflow", "implementation", "outputs")
	w.Description = r.text(p.value, "description")
	w.Inputs = r.properties(p.value, "inputs")
	for _, item := range r.list(p.value, "preconditions") {
		if !r.keys(item, "a precondition", []string{"target"}, "target", "target_relationship", "condition") {
			continue
		}
		c := Precondition{Target: r.text(item, "target"), Relationship: r.text(item, "target_relationship"), Pos: item.pos()}
		if v, ok := item.get("target"); ok {
			c.target = v.place()
		}
		if v, ok := item.get("condition"); ok {
			c.Condition = r.clause(v)
		}
		w.Preconditions = append(w.Preconditions, c)
	}
	for _, s := range r.mapping(p.value, "steps") {
		w.Steps = append(w.Steps, r.workflowStep(s))
	}
	r.giveInputs(w)
	return w
}

// giveInputs has what reads the workflow's own inputs have their defaults, before it is looked at as all else is: within a workflow these hide
// inputs of the template that are called alike.
func (r *reader) giveInputs(w *Workflow) {
	own := map[string]*Property{}
	for _, def := range w.Inputs {
		own[def.Name] = def
		if def.Default == nil && def.Required {
			r.diags.at(place{def.Pos, len(def.Name)}, CodeMissingInput, "nothing gives the workflow's input %s a value", def.Name).hint("give it a default, or make it an input of the template")
		}
	}
	if len(own) == 0 {
		return
	}
	for _, s := range w.Steps {
		for _, a := range s.Activities {
			for _, in := range a.Inputs {
				in.Value.give(own)
			}
		}
	}
}

// give replaces calls of get_input that read one of some inputs by its default.
func (v *Value) give(own map[string]*Property) {
	if v == nil {
		return
	}
	if v.Kind == Call && v.Func == "get_input" && len(v.Items) == 1 {
		name, _ := v.Items[0].Text()
		if def := own[name]; def != nil && def.Default != nil {
			at := v.at
			*v = *def.Default
			v.at = at
		} else if def != nil {
			*v = Value{at: v.at} // it is optional, and has none
		}
		return
	}
	for _, item := range v.Items {
		item.give(own)
	}
}

func (r *reader) workflowStep(p pair) *WorkflowStep {
	s := &WorkflowStep{Name: p.name, Pos: p.key.pos()}
	if !r.keys(p.value, "a workflow step", []string{"activities"}, "target", "target_relationship", "operation_host",
		"filter", "activities", "on_success", "on_failure") {
		return s
	}
	s.Target, s.Relationship = r.text(p.value, "target"), r.text(p.value, "target_relationship")
	s.Host = r.text(p.value, "operation_host")
	if v, ok := p.value.get("target"); ok {
		s.target = v.place()
	}
	if v, ok := p.value.get("filter"); ok {
		s.Filter = r.clause(v)
	}
	s.Activities = r.activities(p.value, "activities")
	s.OnSuccess, s.OnFailure = r.texts(p.value, "on_success"), r.texts(p.value, "on_failure")
	s.next = slices.Concat(r.words(p.value, "on_success"), r.words(p.value, "on_failure"))
	return s
}

func (r *reader) activities(n node, key string) []Activity {
	var out []Activity
	for _, p := range r.namedItems(n, key) {
		if a, ok := r.activity(p); ok {
			out = append(out, a)
		}
	}
	return out
}

// activityName is the keyname under which the extended form of an activity names what it does.
var activityName = map[ActivityKind]string{Delegate: "workflow", Inline: "workflow", CallOperation: "operation", SetState: "state"}

func (r *reader) activity(p pair) (Activity, bool) {
	a := Activity{Kind: ActivityKind(p.name), Pos: p.value.pos()}
	key, known := activityName[a.Kind]
	if !known {
		var kinds []string
		for k := range activityName {
			kinds = append(kinds, string(k))
		}
		r.diags.at(p.key.place(), CodeUnknownKey, "there is no activity %q", p.name).suggest(p.name, kinds)
		return a, false
	}
	if p.value.form == scalar {
		a.Name = p.value.value
		return a, true
	}
	if !r.keys(p.value, "an activity", []string{key}, key, "inputs") {
		return a, false
	}
	a.Name = r.text(p.value, key)
	a.Inputs = r.parameters(p.value, "inputs")
	return a, true
}

// clause reads a condition: constraints on attributes, or and, or, not, assert over further ones.
func (r *reader) clause(n node) Clause {
	items := n.items()
	if n.form == mapping {
		items = []node{n}
	}
	all := Clause{Op: "and"}
	for _, item := range items {
		if item.form != mapping {
			r.diags.at(item.place(), CodeShape, "a condition is an attribute with its constraints, or and, or, not")
			continue
		}
		for _, p := range item.pairs() {
			all.Clauses = append(all.Clauses, r.clausePair(p))
		}
	}
	return all
}

// clauseWords join conditions.
var clauseWords = []string{"and", "or", "not", "assert"}

func (r *reader) clausePair(p pair) Clause {
	if slices.Contains(clauseWords, p.name) {
		c := r.clause(p.value)
		if p.name != "assert" {
			c.Op = p.name
		}
		return c
	}
	return Clause{Op: "and", Leaf: &Condition{p.name, r.clausesOf(p.value), p.key.pos()}}
}

var triggerKeys = []string{"description", "event", "event_type", "schedule", "target_filter", "condition", "constraint",
	"period", "evaluations", "method", "action", "type"}

func (r *reader) triggers(n node) []*Trigger {
	var out []*Trigger
	for _, p := range r.namedItems(n, "triggers") {
		t := &Trigger{Name: p.name, Pos: p.key.pos()}
		out = append(out, t)
		if !r.keys(p.value, "a trigger", []string{"action"}, triggerKeys...) {
			continue
		}
		t.Description, t.Event = r.text(p.value, "description"), r.text(p.value, "event")
		if t.Event == "" {
			t.Event = r.text(p.value, "event_type")
		}
		if t.Event == "" {
			r.diags.at(p.key.place(), CodeMissingKey, "a trigger needs the keyname \"event\"")
		}
		if v, ok := p.value.get("schedule"); ok {
			t.Schedule = r.value(v)
			r.types.Coerce(t.Schedule, &Property{Name: "schedule", Type: "tosca.datatypes.TimeInterval"}, &r.diags)
		}
		if v, ok := p.value.get("target_filter"); ok && r.keys(v, "a target filter", []string{"node"}, "node", "requirement", "capability") {
			t.Target, t.Requirement, t.Capability = r.text(v, "node"), r.text(v, "requirement"), r.text(v, "capability")
			if name, ok := v.get("node"); ok {
				t.target = name.place()
			}
		}
		r.triggerCondition(t, p.value)
		t.Actions = r.activities(p.value, "action")
	}
	return out
}

// triggerCondition reads the condition in its short and its extended form.
func (r *reader) triggerCondition(t *Trigger, n node) {
	v, ok := n.get("condition")
	if !ok {
		v, ok = n.get("constraint")
	}
	if !ok {
		return
	}
	if inner, extended := v.get("constraint"); extended {
		r.keys(v, "a condition", nil, "constraint", "period", "evaluations", "method")
		n, v = v, inner
	}
	t.Condition = r.clause(v)
	t.Period, t.Method = r.text(n, "period"), r.text(n, "method")
	if e, ok := n.get("evaluations"); ok {
		t.Evaluations, _ = e.literal().(int64)
	}
	if t.Period != "" {
		if _, err := ParseScalar(Time, t.Period); err != nil {
			p, _ := n.get("period")
			r.diags.at(p.place(), CodeValueType, "period: %v", err)
		}
	}
}
