package capture

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
)

// everyones are attributes that every node has; see TOSCA 1.3, section 5.9.1.3.
var everyones = []string{"tosca_id", "tosca_name", "state"}

// value is an expression as a template has it.
func (c *capturer) value(e plan.Expr) any {
	switch e.Func {
	case "":
		return c.literal(e.Literal)
	case "get_secret":
		return map[string]any{"get_input": e.Args[0].Literal}
	case "get_attribute":
		if len(e.Args) > 1 {
			return c.attribute(fmt.Sprint(e.Args[0].Literal), fmt.Sprint(e.Args[1].Literal), c.values(e.Args[2:]))
		}
	case "get_operation_output":
		return c.output(e)
	case "get_artifact":
		return c.artifact(fmt.Sprint(e.Args[0].Literal), fmt.Sprint(e.Args[1].Literal))
	case "list":
		return c.values(e.Args)
	}
	return map[string]any{e.Func: c.values(e.Args)}
}

func (c *capturer) values(all []plan.Expr) []any {
	out := make([]any, len(all))
	for i, a := range all {
		out[i] = c.value(a)
	}
	return out
}

// output is what an operation put out, asked of the node: a template names the interface and the operation apart.
func (c *capturer) output(e plan.Expr) any {
	node := fmt.Sprint(e.Args[0].Literal)
	if r := c.plan.Resource(node); r != nil {
		node = c.end(r.Node)
	}
	iface, op, _ := strings.Cut(fmt.Sprint(e.Args[1].Literal), ".")
	return map[string]any{"get_operation_output": []any{node, iface, op, e.Args[2].Literal}}
}

// artifact is a file that a script is told the path of: it is declared as an artifact of the script's node.
func (c *capturer) artifact(file, at string) any {
	name := strings.ReplaceAll(path.Base(file), ".", "_")
	def := map[string]any{"file": file, "type": "tosca.artifacts.File"}
	if at != "" {
		def["deploy_path"] = at
	}
	if n := c.nodes[c.of]; n != nil {
		if n.artifacts == nil {
			n.artifacts = map[string]any{}
		}
		n.artifacts[name] = def
	}
	return map[string]any{"get_artifact": []any{"SELF", name}}
}

// attribute is an attribute of a resource as a template asks for it: addresses and ports, which a plan keeps at
// interfaces, belong to the endpoint of the software behind them, or to the instance.
func (c *capturer) attribute(resource, name string, keys []any) any {
	get := func(args ...any) any { return map[string]any{"get_attribute": append(args, keys...)} }
	r := c.plan.Resource(resource)
	if r == nil {
		return get(resource, name)
	}
	if r.Kind != kinds.Interface {
		if r.Kind == kinds.Software && !slices.Contains(everyones, name) {
			c.attributes[name] = map[string]any{"type": "string"}
		}
		return get(c.end(r.Node), name)
	}
	port, isPort := strings.CutPrefix(name, "port.")
	for _, node := range c.order {
		n := c.nodes[node]
		if n.kind != kinds.Software || n.first.On != r.AsInterface().Instance && !c.runsOn(node, r.AsInterface().Instance) {
			continue
		}
		if isPort && fmt.Sprint(n.portOf(c.plan)) == port {
			return get(c.end(node), n.endpoint(), "port")
		}
		if name == "address" && n.portOf(c.plan) != 0 {
			return get(c.end(node), n.endpoint(), "ip_address")
		}
	}
	return get(c.plan.Resource(r.AsInterface().Instance).Node, "public_address")
}

func (c *capturer) runsOn(node, instance string) bool {
	for i := range c.plan.Resources {
		if r := &c.plan.Resources[i]; r.Node == node && r.On == instance {
			return true
		}
	}
	return false
}
