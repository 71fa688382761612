package tosca

// checkFunctions checks every function called within a value: its arguments, and that what it names exists. self is
// the node template the value belongs to, nil outside one.
func (r *reader) checkFunctions(v *Value, self *Node) {
	if v == nil {
		return
	}
	if v.Kind == Call {
		r.checkCall(v, self)
	}
	for _, item := range v.Items {
		r.checkFunctions(item, self)
	}
}

func (r *reader) checkCall(v *Value, self *Node) {
	switch v.Func {
	case "get_input":
		r.checkGetInput(v)
	case "get_property", "get_attribute":
		r.checkGet(v, self)
	case "concat":
		if len(v.Items) == 0 {
			r.diags.at(v.at, CodeFunction, "concat takes a list of texts")
		}
	}
}

func (r *reader) checkGetInput(v *Value) {
	name, ok := "", false
	if len(v.Items) > 0 {
		name, ok = v.Items[0].Text()
	}
	if !ok {
		r.diags.at(v.at, CodeFunction, "get_input takes the name of an input").hint("for example { get_input: port }")
		return
	}
	if r.tmpl.Input(name) == nil {
		names := make([]string, len(r.tmpl.Inputs))
		for i, in := range r.tmpl.Inputs {
			names[i] = in.Name
		}
		r.diags.at(v.Items[0].at, CodeUnknownInput, "there is no input %q", name).suggest(name, names)
	}
}

// checkGet checks [ NODE, NAME ], [ NODE, CAPABILITY, NAME ] and [ NODE, REQUIREMENT, NAME ] (sections 4.4 and 4.5).
func (r *reader) checkGet(v *Value, self *Node) {
	args := make([]string, len(v.Items))
	for i, item := range v.Items {
		args[i] = Show(item.Plain())
	}
	if len(args) < 2 {
		r.diags.at(v.at, CodeFunction, "%s takes a node and a name", v.Func).hint("for example { %s: [ my-server, name ] }", v.Func)
		return
	}
	n := self
	switch args[0] {
	case "SELF":
	case "SOURCE", "TARGET", "HOST":
		return // resolved where the relationship is known
	default:
		n = r.tmpl.nodes[args[0]]
		if n == nil {
			r.unknownNode(v.Items[0].at, args[0])
			return
		}
	}
	if n == nil {
		r.diags.at(v.Items[0].at, CodeFunction, "SELF means nothing outside a node template")
		return
	}
	if n.Type != nil {
		r.checkPath(v, n, args)
	}
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
	found := n.Type.Property(args[1]) != nil
	if attribute {
		found = n.Type.Attribute(args[1]) != nil
		for _, a := range n.Type.Attributes {
			known = append(known, a.Name)
		}
	}
	if !found {
		r.diags.at(v.Items[1].at, CodeUnknownRef, "%s has no %s %q", n.Name, v.Func[len("get_"):], args[1]).
			suggest(args[1], known).see(n.Pos)
	}
}

func (r *reader) checkCapabilityPath(v *Value, c *Capability, name string, attribute bool) {
	ct := r.types.Find(CapabilityTypes, c.Type)
	if ct == nil {
		return
	}
	defs := r.types.CapabilityProperties(c)
	if attribute {
		defs = append(append([]*Property{}, defs...), ct.Attributes...)
		defs = append(defs, c.Attributes...)
	}
	if find(defs, name) == nil {
		names := make([]string, len(defs))
		for i, d := range defs {
			names[i] = d.Name
		}
		r.diags.at(v.Items[2].at, CodeUnknownRef, "the capability %s has no %s %q", c.Name, v.Func[len("get_"):], name).suggest(name, names)
	}
}
