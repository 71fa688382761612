package tosca

import (
	"slices"
)

// whereabouts is what SELF, SOURCE, TARGET and HOST mean where a value stands; nil where they mean nothing.
type whereabouts struct {
	// at is where the operation is given that a value belongs to; the zero place is nowhere.
	at                   place
	self, source, target *Node
	// rel is the relationship that SELF is, for what it declares.
	rel *Type
	// unsure says that a name may mean something that only the whole topology shows.
	unsure bool
}

// node is what one of the words means, or nil.
func (w whereabouts) node(word string) *Node {
	switch word {
	case "SELF":
		return w.self
	case "SOURCE":
		return w.source
	case "TARGET":
		return w.target
	}
	return nil
}

// function describes a function of the standard (section 4): how many arguments it takes, and how it is checked.
type function struct {
	low, high int
	usage     string
	check     func(r *reader, v *Value, w whereabouts)
}

// functions are all functions of the standard.
var functions map[string]*function

func init() {
	functions = map[string]*function{
		"get_input":            {1, 99, "{ get_input: port }", (*reader).checkGetInput},
		"get_property":         {2, 99, "{ get_property: [ my-server, name ] }", (*reader).checkGet},
		"get_attribute":        {2, 99, "{ get_attribute: [ my-server, name ] }", (*reader).checkGet},
		"get_operation_output": {4, 4, "{ get_operation_output: [ SELF, Standard, create, key ] }", (*reader).checkGetOutput},
		"get_nodes_of_type":    {1, 1, "{ get_nodes_of_type: tosca.nodes.Compute }", (*reader).checkGetNodes},
		"get_artifact":         {2, 4, "{ get_artifact: [ SELF, data ] }", (*reader).checkGetArtifact},
		"concat":               {1, 999, "{ concat: [ \"http://\", { get_input: name } ] }", nil},
		"join":                 {1, 2, "{ join: [ [ a, b ], \",\" ] }", (*reader).checkJoin},
		"token":                {3, 3, "{ token: [ \"a,b\", \",\", 1 ] }", (*reader).checkToken},
	}
}

// functionSections are the sections of the standard that define functions.
var functionSections = map[string]string{"concat": "4.3.1", "join": "4.3.2", "token": "4.3.3", "get_input": "4.4.1", "get_property": "4.4.2", "get_attribute": "4.5.1",
	"get_operation_output": "4.6.1", "get_nodes_of_type": "4.7.1", "get_artifact": "4.8.1"}

// Functions are the names of all functions that values may call.
func Functions() []string { return sortedKeys(functions) }

// FunctionUsage is an example of a function's use, and FunctionSection where the standard defines it; "" if there is no such function.
func FunctionUsage(name string) string {
	if f := functions[name]; f != nil {
		return f.usage
	}
	return ""
}

// FunctionSection is where the standard defines a function.
func FunctionSection(name string) string { return functionSections[name] }

// checkFunctions checks every function called within a value: its arguments, and that what it names exists.
func (r *reader) checkFunctions(v *Value, w whereabouts) {
	if v == nil || v.Kind == Literal {
		return
	}
	if v.Kind == Call {
		r.checkCall(v, w)
	}
	for _, item := range v.Items {
		r.checkFunctions(item, w)
	}
}

func (r *reader) checkCall(v *Value, w whereabouts) {
	f := functions[v.Func]
	if len(v.Items) < f.low || len(v.Items) > f.high {
		r.diags.at(v.at, CodeFunction, "%s is given %d values", v.Func, len(v.Items)).hint("for example %s", f.usage)
		return
	}
	if f.check != nil {
		f.check(r, v, w)
	}
}

func (r *reader) checkGetInput(v *Value, _ whereabouts) {
	name, ok := v.Items[0].Text()
	if !ok {
		r.diags.at(v.at, CodeFunction, "get_input takes the name of an input").hint("for example { get_input: port }")
		return
	}
	if r.tmpl.Input(name) == nil {
		r.diags.at(v.Items[0].at, CodeUnknownInput, "there is no input %q", name).suggest(name, r.inputNames())
	}
}

// entity finds the node template that a function's first argument names. It returns nil, and reports why, where there is
// none, and nil without a report where only the whole topology can tell.
func (r *reader) entity(v *Value, w whereabouts) *Node {
	word := Show(v.Items[0].Plain())
	switch word {
	case "SELF", "SOURCE", "TARGET":
		n := w.node(word)
		if n == nil && !w.unsure {
			d := r.diags.at(v.Items[0].at, CodeFunction, "%s means nothing here", word)
			if word == "SELF" {
				d.hint("name a node template; SELF is the node template that a value belongs to")
			} else {
				d.hint("SOURCE and TARGET are the ends of a relationship, and mean something only in its interfaces")
			}
		}
		return n
	case "HOST":
		if w.self == nil && w.source == nil {
			r.diags.at(v.Items[0].at, CodeFunction, "HOST means nothing here").hint("HOST is what a node template is hosted on")
		}
		return nil
	}
	if n := r.tmpl.nodes[word]; n != nil {
		return n
	}
	for _, rel := range r.tmpl.Relationships {
		if rel.Name == word {
			return nil
		}
	}
	r.unknownNode(v.Items[0].at, word)
	return nil
}

// checkGet checks [ NODE, NAME ], [ NODE, CAPABILITY, NAME ] and [ NODE, REQUIREMENT, NAME ], each with further keys into
// what is found (sections 4.4 and 4.5).
func (r *reader) checkGet(v *Value, w whereabouts) {
	n := r.entity(v, w)
	if n == nil || n.Type == nil {
		return
	}
	args := make([]string, len(v.Items))
	for i, item := range v.Items {
		args[i] = Show(item.Plain())
	}
	if args[0] == "SELF" && w.rel != nil && w.rel.Attribute(args[1]) != nil {
		return
	}
	r.checkPath(v, n, args)
}

// checkPath looks the names after the node up in its type.
func (r *reader) checkPath(v *Value, n *Node, args []string) {
	attribute := v.Func == "get_attribute"
	if len(args) >= 3 {
		if c := n.Type.Capability(args[1]); c != nil {
			r.checkCapabilityPath(v, c, args[2], attribute)
			return
		}
		if n.Type.Requirement(args[1]) != nil {
			return // resolved through the node that fulfils it
		}
	}
	known := n.Type.propertyNames()
	def := n.Type.Property(args[1])
	if attribute {
		known = append(known, attributeNames(n.Type)...)
		def = n.Type.Attribute(args[1])
	}
	if def == nil {
		r.diags.at(v.Items[1].at, CodeUnknownRef, "%s has no %s %q", n.Name, v.Func[len("get_"):], args[1]).
			suggest(args[1], known).see(n.Pos)
		return
	}
	if len(args) > 2 {
		r.checkNested(def, args[2:], v.Items[2:])
	}
}

// checkNested follows keys into data types, as far as their declarations tell.
func (r *reader) checkNested(def *Property, keys []string, at []*Value) {
	for i, key := range keys {
		t := r.types.Find(DataTypes, def.Type)
		switch {
		case def.Type == "map" || def.Type == "list":
			def = def.entry()
		case t == nil && primitives[def.Type] != nil && def.Type != "any" && def.Type != "range":
			r.diags.at(at[i].at, CodeUnknownRef, "%s is %s, which has nothing within", def.Name, article(def.Type))
			return
		case t == nil || len(t.Properties) == 0:
			return
		default:
			next := t.Property(key)
			if next == nil {
				r.diags.at(at[i].at, CodeUnknownRef, "%s has no property %q", t.Name, key).suggest(key, t.propertyNames()).see(t.Pos)
				return
			}
			def = next
		}
	}
}

func (r *reader) checkCapabilityPath(v *Value, c *Capability, name string, attribute bool) {
	defs := r.types.CapabilityProperties(c)
	if attribute {
		defs = slices.Concat(defs, r.types.CapabilityAttributes(c))
	}
	def := find(defs, name)
	if def == nil {
		r.diags.at(v.Items[2].at, CodeUnknownRef, "the capability %s has no %s %q", c.Name, v.Func[len("get_"):], name).suggest(name, namesOf(defs))
		return
	}
	if len(v.Items) > 3 {
		keys := make([]string, 0, len(v.Items)-3)
		for _, item := range v.Items[3:] {
			keys = append(keys, Show(item.Plain()))
		}
		r.checkNested(def, keys, v.Items[3:])
	}
}

// checkGetOutput checks [ NODE, INTERFACE, OPERATION, OUTPUT ] (section 4.6).
func (r *reader) checkGetOutput(v *Value, w whereabouts) {
	n := r.entity(v, w)
	if n == nil || n.Type == nil {
		return
	}
	name := Show(v.Items[1].Plain()) + "." + Show(v.Items[2].Plain())
	if _, _, ok := n.Type.FindOperation(name); !ok {
		r.diags.at(v.Items[2].at, CodeUnknownOperation, "%s has no operation %q", n.Name, name).suggest(name, r.operationNames(n.Type)).see(n.Pos)
		return
	}
	if out, ok := v.Items[3].Text(); !ok || !shellName.MatchString(out) {
		r.diags.at(v.Items[3].at, CodeName, "%q cannot be an output: a script puts it out as a variable of that name", Show(v.Items[3].Plain()))
	}
}

func (r *reader) checkGetNodes(v *Value, _ whereabouts) {
	name, _ := v.Items[0].Text()
	if r.types.Find(NodeTypes, name) == nil {
		r.types.unknownType(NodeTypes, name, v.Items[0].at, &r.diags)
	}
}

// checkGetArtifact checks [ NODE, ARTIFACT, LOCATION, REMOVE ] (section 4.8).
func (r *reader) checkGetArtifact(v *Value, w whereabouts) {
	n := r.entity(v, w)
	if n == nil || n.Type == nil {
		return
	}
	if len(v.Items) == 4 && v.Items[3].Literal == true {
		r.diags.at(v.Items[3].at, CodeUnused, "files stay on the instance: nothing removes them after the operation").doubt()
	}
	name := Show(v.Items[1].Plain())
	if n.Artifact(name) == nil && !slices.ContainsFunc(n.Type.Artifacts, func(a *Artifact) bool { return a.Name == name }) {
		var known []string
		for _, a := range slices.Concat(n.Type.Artifacts, n.Artifacts) {
			known = append(known, a.Name)
		}
		r.diags.at(v.Items[1].at, CodeUnknownRef, "%s has no artifact %q", n.Name, name).suggest(name, known).see(n.Pos)
	}
}

func (r *reader) checkJoin(v *Value, _ whereabouts) {
	if v.Items[0].Kind == Literal || v.Items[0].Kind == Map {
		r.diags.at(v.at, CodeFunction, "join takes a list of texts, and what stands between them").hint("for example %s", functions["join"].usage)
	}
}

func (r *reader) checkToken(v *Value, _ whereabouts) {
	sep, isText := v.Items[1].Text()
	index, isInt := v.Items[2].Literal.(int64)
	switch {
	case v.Items[1].Kind != Call && (!isText || sep == ""):
		r.diags.at(v.Items[1].at, CodeFunction, "token needs the characters that part the text").hint("for example %s", functions["token"].usage)
	case v.Items[2].Kind != Call && (!isInt || index < 0):
		r.diags.at(v.Items[2].at, CodeFunction, "token needs the number of the part, counted from 0").hint("for example %s", functions["token"].usage)
	}
}
