package plan

import (
	"encoding/json"
	"fmt"
	"sort"
	"strconv"
	"strings"

	"andamio/internal/core/topology"
)

// Expr is a value in a plan: plain data, or a function that the run evaluates. In JSON a function is an object with
// its name as the only key: {"get_attribute": [RESOURCE, NAME]}, {"get_secret": [NAME]}, {"concat": [...]}.
type Expr struct {
	Literal any
	Func    string
	Args    []Expr
}

// MarshalJSON writes the literal, or the function's object.
func (e Expr) MarshalJSON() ([]byte, error) {
	if e.Func == "" {
		return json.Marshal(e.Literal)
	}
	return json.Marshal(map[string][]Expr{e.Func: e.Args})
}

// UnmarshalJSON reads what MarshalJSON writes.
func (e *Expr) UnmarshalJSON(data []byte) error {
	var call map[string][]Expr
	if len(data) > 0 && data[0] == '{' && json.Unmarshal(data, &call) == nil && len(call) == 1 {
		for name, args := range call {
			n, known := arity[name]
			if known && n >= 0 && len(args) != n {
				return fmt.Errorf("%s takes %d values, not %d", name, n, len(args))
			}
			if known {
				e.Func, e.Args = name, args
				return nil
			}
		}
	}
	return json.Unmarshal(data, &e.Literal)
}

// arity is how many arguments a function takes, -1 for any number.
var arity = map[string]int{"get_attribute": 2, "get_secret": 1, "concat": -1}

// Resolver gives the values that only a run knows.
type Resolver interface {
	// Attribute is a resource's attribute; false if it is not known yet.
	Attribute(resource, name string) (string, bool)
	// Secret is a secret's value; false if none was given.
	Secret(name string) (string, bool)
}

// Text evaluates the expression to text. The error says what is not known.
func (e Expr) Text(r Resolver) (string, error) {
	switch e.Func {
	case "":
		return show(e.Literal), nil
	case "get_attribute":
		resource, name := show(e.Args[0].Literal), show(e.Args[1].Literal)
		if v, ok := r.Attribute(resource, name); ok {
			return v, nil
		}
		return "", fmt.Errorf("%s has no %s yet", resource, name)
	case "get_secret":
		name := show(e.Args[0].Literal)
		if v, ok := r.Secret(name); ok {
			return v, nil
		}
		return "", fmt.Errorf("the secret %s was not given to this run", name)
	}
	var out strings.Builder
	for _, a := range e.Args {
		text, err := a.Text(r)
		if err != nil {
			return "", err
		}
		out.WriteString(text)
	}
	return out.String(), nil
}

// String shows the expression to people.
func (e Expr) String() string {
	switch e.Func {
	case "":
		return show(e.Literal)
	case "get_attribute":
		return fmt.Sprintf("‹%s of %s›", show(e.Args[1].Literal), show(e.Args[0].Literal))
	case "get_secret":
		return fmt.Sprintf("‹secret %s›", show(e.Args[0].Literal))
	}
	var out strings.Builder
	for _, a := range e.Args {
		out.WriteString(a.String())
	}
	return out.String()
}

func show(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case []any, map[string]any:
		data, _ := json.Marshal(v)
		return string(data)
	}
	return fmt.Sprint(v)
}

// expr turns a design's value into one of a plan, with attributes led to the resources of the i-th instance.
func (c *compiler) expr(v any, i int) Expr {
	d, ok := v.(topology.Deferred)
	if !ok {
		return Expr{Literal: plain(v)}
	}
	if d.Func == "get_attribute" {
		return c.attribute(d.Args[0].(string), d.Args[1].(string), i)
	}
	e := Expr{Func: d.Func}
	for _, a := range d.Args {
		e.Args = append(e.Args, c.expr(a, i))
	}
	return e
}

// plain turns values of the template language into JSON data; text that waits for the run inside lists is shown.
func plain(v any) any {
	switch v := v.(type) {
	case fmt.Stringer:
		return v.String()
	case topology.Deferred:
		return fmt.Sprintf("%s%v", v.Func, v.Args)
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = plain(v[i])
		}
		return out
	case map[string]any:
		out := map[string]any{}
		for k := range v {
			out[k] = plain(v[k])
		}
		return out
	}
	return v
}

// addressNames are attributes of the standard's types that are the address of an interface.
var addressNames = map[string]bool{"ip_address": true, "private_address": true, "public_address": true}

// attribute leads a template's attribute to the resource of a plan that has it. Addresses belong to interfaces, and the
// port of an endpoint, which a port-mapped network changes, too. An instance number beyond the node's count wraps
// round, so that many instances share few evenly.
func (c *compiler) attribute(node, name string, i int) Expr {
	n := c.design.Node(node)
	i %= max(n.Count, 1)
	capability, attr := "", name
	if at := strings.IndexByte(name, '.'); at >= 0 {
		capability, attr = name[:at], name[at+1:]
	}
	get := func(resource, name string) Expr {
		return Expr{Func: "get_attribute", Args: []Expr{{Literal: resource}, {Literal: name}}}
	}
	if n.Base != nil && addressNames[attr] {
		return get(c.interfaceOf(n.Base, i), "address")
	}
	if cp := n.Capability(capability); cp != nil && n.Base != nil && attr == "port" {
		if port, ok := cp.Properties["port"].(int64); ok {
			return get(c.interfaceOf(n.Base, i), fmt.Sprintf("port.%d", port))
		}
	}
	if cp := n.Capability(capability); cp != nil {
		if v, ok := cp.Properties[attr]; ok {
			return c.expr(v, i)
		}
	}
	if v, ok := n.Properties[attr]; ok && capability == "" {
		return c.expr(v, i)
	}
	return get(c.resourceID(n, i), attr)
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
