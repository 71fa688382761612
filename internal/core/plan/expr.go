package plan

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"

	"andamio/internal/core/topology"
)

// Expr is a value in a plan: plain data, or a function that the run evaluates. In JSON a function is an object with
// its name as the only key: {"get_attribute": [RESOURCE, NAME, KEY...]}, {"get_operation_output": [RESOURCE,
// INTERFACE.OPERATION, NAME]}, {"get_secret": [NAME]}, {"get_artifact": [FILE, PATH]}, {"concat": [...]},
// {"join": [LIST, SEPARATOR]}, {"token": [TEXT, SEPARATORS, INDEX]}, {"list": [...]}.
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
			if known && (len(args) < n.low || len(args) > n.high) {
				return fmt.Errorf("%s is given %d values", name, len(args))
			}
			if known {
				e.Func, e.Args = name, args
				return nil
			}
		}
	}
	return json.Unmarshal(data, &e.Literal)
}

// arity is how many arguments a function takes.
var arity = map[string]struct{ low, high int }{
	"get_attribute": {2, 99}, "get_operation_output": {3, 3}, "get_secret": {1, 1}, "get_artifact": {2, 2},
	"concat": {0, 9999}, "join": {1, 2}, "token": {3, 3}, "list": {0, 9999},
}

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
	case "get_attribute", "get_operation_output":
		return e.attribute(r)
	case "get_secret":
		name := show(e.Args[0].Literal)
		if v, ok := r.Secret(name); ok {
			return v, nil
		}
		return "", fmt.Errorf("the secret %s was not given to this run", name)
	case "get_artifact":
		return ArtifactPath(show(e.Args[0].Literal), show(e.Args[1].Literal)), nil
	}
	args := make([]string, len(e.Args))
	for i, a := range e.Args {
		text, err := a.Text(r)
		if err != nil {
			return "", err
		}
		args[i] = text
	}
	switch e.Func {
	case "join":
		return e.join(args), nil
	case "token":
		index, _ := strconv.Atoi(args[2])
		part, ok := topology.Token(args[0], args[1], index)
		if !ok {
			return "", fmt.Errorf("%q has no part %s between %q", args[0], args[2], args[1])
		}
		return part, nil
	case "list":
		data, err := json.Marshal(args)
		return string(data), err
	}
	return strings.Join(args, ""), nil
}

// join puts a separator between the texts of a list, which are known one by one or, as JSON, all at once.
func (e Expr) join(args []string) string {
	var list []any
	if json.Unmarshal([]byte(args[0]), &list) != nil {
		list = []any{args[0]}
	}
	parts := make([]string, len(list))
	for i := range list {
		parts[i] = show(list[i])
	}
	sep := ""
	if len(args) > 1 {
		sep = args[1]
	}
	return strings.Join(parts, sep)
}

// OutputAttribute is the attribute under which a resource keeps an output of one of its operations.
func OutputAttribute(operation, name string) string { return "output." + operation + "." + name }

// attribute evaluates get_attribute and get_operation_output, and follows keys into an attribute that is JSON.
func (e Expr) attribute(r Resolver) (string, error) {
	resource, name, keys := show(e.Args[0].Literal), show(e.Args[1].Literal), e.Args[2:]
	if e.Func == "get_operation_output" {
		name, keys = OutputAttribute(name, show(e.Args[2].Literal)), nil
	}
	v, ok := r.Attribute(resource, name)
	if !ok {
		return "", fmt.Errorf("%s has no %s yet", resource, name)
	}
	if len(keys) == 0 {
		return v, nil
	}
	var x any
	if err := json.Unmarshal([]byte(v), &x); err != nil {
		return "", fmt.Errorf("%s of %s has nothing within", name, resource)
	}
	for _, k := range keys {
		key := show(k.Literal)
		switch in := x.(type) {
		case map[string]any:
			x = in[key]
		case []any:
			x = nil
			if i, err := strconv.Atoi(key); err == nil && i >= 0 && i < len(in) {
				x = in[i]
			}
		default:
			x = nil
		}
		if x == nil {
			return "", fmt.Errorf("%s of %s has nothing at %q", name, resource, key)
		}
	}
	return show(x), nil
}

// artifactDir is where files of a template are put on an instance that says nothing else.
const artifactDir = "/var/lib/andamio"

// ArtifactPath is where a file of the template lies on an instance.
func ArtifactPath(file, deployPath string) string {
	if deployPath != "" {
		return deployPath
	}
	return artifactDir + "/" + path.Base(file)
}

// String shows the expression to people.
func (e Expr) String() string {
	switch e.Func {
	case "":
		return show(e.Literal)
	case "get_attribute":
		return fmt.Sprintf("‹%s of %s›", show(e.Args[1].Literal), show(e.Args[0].Literal))
	case "get_operation_output":
		return fmt.Sprintf("‹%s put out by %s of %s›", show(e.Args[2].Literal), show(e.Args[1].Literal), show(e.Args[0].Literal))
	case "get_secret":
		return fmt.Sprintf("‹secret %s›", show(e.Args[0].Literal))
	case "get_artifact":
		return ArtifactPath(show(e.Args[0].Literal), show(e.Args[1].Literal))
	}
	args := make([]string, len(e.Args))
	for i, a := range e.Args {
		args[i] = a.String()
	}
	switch e.Func {
	case "concat":
		return strings.Join(args, "")
	case "list":
		return "[" + strings.Join(args, ", ") + "]"
	}
	return "‹" + e.Func + " of " + strings.Join(args, ", ") + "›"
}

// walk visits the expression and its arguments.
func (e Expr) walk(visit func(Expr)) {
	visit(e)
	for _, a := range e.Args {
		a.walk(visit)
	}
}

// Resources are those whose attributes or outputs the expression asks for.
func (e Expr) Resources() []string {
	var out []string
	e.walk(func(x Expr) {
		if x.Func == "get_attribute" || x.Func == "get_operation_output" {
			out = append(out, show(x.Args[0].Literal))
		}
	})
	return out
}

// Secrets are the names of the secrets that the expression asks for.
func (e Expr) Secrets() []string {
	var out []string
	e.walk(func(x Expr) {
		if x.Func == "get_secret" {
			out = append(out, show(x.Args[0].Literal))
		}
	})
	return out
}

// Asks reports that the expression asks for an attribute of a resource.
func (e Expr) Asks(resource, attribute string) bool {
	found := false
	e.walk(func(x Expr) {
		switch {
		case x.Func == "get_attribute" && show(x.Args[1].Literal) == attribute,
			x.Func == "get_operation_output" && OutputAttribute(show(x.Args[1].Literal), show(x.Args[2].Literal)) == attribute:
			found = found || show(x.Args[0].Literal) == resource
		}
	})
	return found
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

// instances says which instance of a node is meant: that of the pair in hand, or the one that goes with index i.
type instances struct {
	i    int
	pair map[string]int
}

func at(i int) instances { return instances{i: i} }

func (in instances) of(n *topology.Node) int {
	if k, ok := in.pair[n.Name]; ok {
		return k
	}
	return in.i % max(n.Count, 1)
}

// expr turns a design's value into one of a plan, with attributes led to the resources of the instances meant.
func (c *compiler) expr(v any, in instances) Expr {
	switch v := v.(type) {
	case topology.Deferred:
		return c.call(v, in)
	case []any:
		if slices.ContainsFunc(v, waits) {
			return Expr{Func: "list", Args: c.exprs(v, in)}
		}
	}
	return Expr{Literal: plain(v)}
}

// waits reports whether a value waits for the run.
func waits(v any) bool {
	switch v := v.(type) {
	case topology.Deferred:
		return true
	case []any:
		return slices.ContainsFunc(v, waits)
	}
	return false
}

func (c *compiler) exprs(args []any, in instances) []Expr {
	out := make([]Expr, len(args))
	for i, a := range args {
		out[i] = c.expr(a, in)
	}
	return out
}

func (c *compiler) call(d topology.Deferred, in instances) Expr {
	switch d.Func {
	case "get_attribute":
		e := c.attribute(d.Args[0].(string), d.Args[1].(string), in)
		if e.Func == "get_attribute" {
			e.Args = append(e.Args, c.exprs(d.Args[2:], in)...)
		}
		return e
	case "get_operation_output":
		n := c.design.Node(d.Args[0].(string))
		if n == nil {
			return Expr{}
		}
		return Expr{Func: d.Func, Args: []Expr{{Literal: c.resourceID(n, in.of(n))}, {Literal: d.Args[1]}, {Literal: d.Args[2]}}}
	}
	return Expr{Func: d.Func, Args: c.exprs(d.Args, in)}
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
// port of an endpoint, which a port-mapped network changes, too.
func (c *compiler) attribute(node, name string, in instances) Expr {
	n := c.design.Node(node)
	if n == nil {
		return Expr{}
	}
	i := in.of(n)
	capability, attr := "", name
	if at := strings.IndexByte(name, '.'); at >= 0 {
		capability, attr = name[:at], name[at+1:]
	}
	get := func(resource, name string) Expr {
		return Expr{Func: "get_attribute", Args: []Expr{{Literal: resource}, {Literal: name}}}
	}
	if c.putOut[n.Name+"."+name] {
		return get(c.resourceID(n, i), name)
	}
	if n.Base != nil && addressNames[attr] {
		return get(c.interfaceOf(n.Base, i), "address")
	}
	if n.Standing != nil {
		return Expr{Literal: standing(n, capability, attr)}
	}
	if v, ok := n.Attributes[name]; ok {
		return c.expr(v, in)
	}
	cp := n.Capability(capability)
	if cp != nil && n.Base != nil && attr == "port" {
		if port, ok := cp.Properties["port"].(int64); ok {
			return get(c.interfaceOf(n.Base, i), fmt.Sprintf("port.%d", port))
		}
	}
	if cp != nil {
		if v, ok := cp.Properties[attr]; ok {
			return c.expr(v, in)
		}
	}
	if v, ok := n.Properties[attr]; ok && capability == "" {
		return c.expr(v, in)
	}
	switch attr {
	case "tosca_name":
		return Expr{Literal: n.Name}
	case "tosca_id":
		return Expr{Literal: c.resourceID(n, i)}
	}
	return get(c.resourceID(n, i), name)
}

// standing is an attribute or property of something that was selected; nothing if it has none.
func standing(n *topology.Node, capability, attr string) any {
	if v, ok := n.Standing.Attributes[attr]; ok {
		return v
	}
	if cp := n.Capability(capability); cp != nil && cp.Properties[attr] != nil {
		return plain(cp.Properties[attr])
	}
	return plain(n.Properties[attr])
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
