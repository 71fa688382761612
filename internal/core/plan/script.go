package plan

import (
	"fmt"
	"slices"

	"andamio/internal/core/topology"
)

// script is an operation with its inputs, the files it needs and its outputs; asked are the attributes it is given.
func (c *compiler) script(o *topology.Operation, in instances, id, operation string) (*Script, []asking) {
	s := &Script{Path: o.Script, Timeout: o.Timeout}
	if len(o.Inputs) > 0 {
		s.Inputs = make([]Input, 0, len(o.Inputs))
	}
	var asked []asking
	file := func(name, to string) {
		if !slices.ContainsFunc(s.Files, func(f File) bool { return f.Path == to }) {
			c.plan.Files[name] = c.design.Files[name]
			s.Files = append(s.Files, File{name, to})
		}
	}
	for _, arg := range o.Inputs {
		e := c.expr(arg.Value, in)
		s.Inputs = append(s.Inputs, Input{arg.Name, e})
		e.walk(func(e Expr) {
			switch e.Func {
			case "get_attribute":
				asked = append(asked, asking{show(e.Args[0].Literal), show(e.Args[1].Literal)})
			case "get_operation_output":
				asked = append(asked, asking{show(e.Args[0].Literal), OutputAttribute(show(e.Args[1].Literal), show(e.Args[2].Literal))})
			case "get_artifact":
				name := show(e.Args[0].Literal)
				file(name, ArtifactPath(name, show(e.Args[1].Literal)))
			}
		})
	}
	for _, d := range o.Dependencies {
		file(d, ArtifactPath(d, ""))
	}
	for _, out := range o.Outputs {
		n := c.design.Node(out.Node)
		s.Outputs = append(s.Outputs, ScriptOutput{out.Name, c.resourceID(n, in.of(n)), out.Attribute})
	}
	for _, name := range c.wanted(id, operation) {
		s.Outputs = append(s.Outputs, ScriptOutput{name, id, OutputAttribute(operation, name)})
	}
	if _, carried := c.plan.Scripts[o.Script]; !carried {
		c.plan.Scripts[o.Script] = string(c.design.Files[o.Script])
	}
	return s, asked
}

// wanted are the outputs of an operation that get_operation_output asks for somewhere.
func (c *compiler) wanted(id, operation string) []string {
	if c.outputs == nil {
		c.outputs = c.askedOutputs()
	}
	if len(c.outputs) == 0 {
		return nil
	}
	return c.outputs[c.resource(id).Node+" "+operation]
}

// askedOutputs gathers what get_operation_output asks for, by "NODE INTERFACE.OPERATION".
func (c *compiler) askedOutputs() map[string][]string {
	out := map[string][]string{}
	var look func(v any)
	look = func(v any) {
		switch v := v.(type) {
		case topology.Deferred:
			if v.Func == "get_operation_output" {
				key := fmt.Sprintf("%s %s", v.Args[0], v.Args[1])
				if name := v.Args[2].(string); !slices.Contains(out[key], name) {
					out[key] = append(out[key], name)
				}
			}
			look(v.Args)
		case []any:
			for _, x := range v {
				look(x)
			}
		}
	}
	lookIn := func(ops topology.Operations) {
		for _, op := range ops {
			for _, arg := range op.Inputs {
				look(arg.Value)
			}
		}
	}
	for _, n := range c.design.Nodes {
		lookIn(n.Operations)
		for _, v := range n.Attributes {
			look(v)
		}
		for _, r := range n.Relations {
			lookIn(r.Operations)
		}
	}
	for _, o := range c.design.Outputs {
		look(o.Value)
	}
	for _, w := range c.design.Workflows {
		for _, s := range w.Steps {
			for _, a := range s.Activities {
				for _, arg := range a.Inputs {
					look(arg.Value)
				}
			}
		}
	}
	for _, names := range out {
		slices.Sort(names)
	}
	return out
}
