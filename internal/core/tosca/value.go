package tosca

import (
	"math"
	"strconv"

	"go.yaml.in/yaml/v4"
)

// ValueKind says what a [Value] is.
type ValueKind int

// The kinds of value.
const (
	Literal ValueKind = iota
	List
	Map
	Call
)

// Value is a value as written: a literal, a list or map of values, or a call of a function, each with its place.
type Value struct {
	Kind ValueKind
	// Literal is string, int64, float64, bool or nil.
	Literal any
	// Items are a list's entries, a map's values or a call's arguments; Keys are a map's keys, one for each item.
	Items []*Value
	Keys  []string
	// Func is the called function's name.
	Func string
	at   place
	raw  string
}

// Pos is where the value stands.
func (v *Value) Pos() Pos { return v.at.Pos }

// Text returns a literal string's text and whether the value is one.
func (v *Value) Text() (string, bool) {
	s, ok := v.Literal.(string)
	return s, ok && v.Kind == Literal
}

// functions lists the functions of the standard (section 4) and whether they are read yet.
var functions = map[string]bool{
	"get_input": true, "get_property": true, "get_attribute": true, "concat": true,
	"join": false, "token": false, "get_operation_output": false, "get_nodes_of_type": false, "get_artifact": false,
}

// value reads any node as a value. A mapping with a single key that is a function's name is a call of it.
func (r *reader) value(n node) *Value {
	v := &Value{at: n.place(), raw: n.Value}
	switch n.Kind {
	case yaml.SequenceNode:
		v.Kind = List
		for _, item := range n.items() {
			v.Items = append(v.Items, r.value(item))
		}
	case yaml.MappingNode:
		ps := n.pairs()
		if len(ps) == 1 {
			if read, known := functions[ps[0].name]; known {
				return r.call(ps[0], read)
			}
		}
		v.Kind = Map
		for _, p := range ps {
			v.Keys = append(v.Keys, p.name)
			v.Items = append(v.Items, r.value(p.value))
		}
	default:
		v.Literal = literal(n)
	}
	return v
}

func (r *reader) call(p pair, read bool) *Value {
	v := &Value{Kind: Call, Func: p.name, at: p.key.place()}
	if !read {
		r.diags.at(v.at, CodeUnsupported, "the function %s is not read yet", p.name)
	}
	if p.value.Kind == yaml.SequenceNode {
		for _, item := range p.value.items() {
			v.Items = append(v.Items, r.value(item))
		}
	} else {
		v.Items = []*Value{r.value(p.value)}
	}
	return v
}

// literal types a scalar by its resolved YAML tag; what YAML leaves open stays text.
func literal(n node) any {
	switch n.Tag {
	case "!!null":
		return nil
	case "!!bool":
		return n.Value == "true" || n.Value == "True" || n.Value == "TRUE"
	case "!!int":
		if i, err := strconv.ParseInt(n.Value, 0, 64); err == nil {
			return i
		}
	case "!!float":
		if f, err := strconv.ParseFloat(n.Value, 64); err == nil && !math.IsNaN(f) && !math.IsInf(f, 0) {
			return f
		}
	}
	return n.Value
}

// LiteralOf makes a value of a Go value that did not come from a template, such as an input given on the command line.
// It takes string, bool, integers, floats, [Scalar], []any and map[string]any; anything else becomes nil.
func LiteralOf(x any, at Pos) *Value {
	v := &Value{at: place{at, 1}}
	switch x := x.(type) {
	case []any:
		v.Kind = List
		for _, item := range x {
			v.Items = append(v.Items, LiteralOf(item, at))
		}
	case map[string]any:
		v.Kind = Map
		for _, k := range sortedKeys(x) {
			v.Keys = append(v.Keys, k)
			v.Items = append(v.Items, LiteralOf(x[k], at))
		}
	case int:
		v.Literal = int64(x)
	case uint64:
		v.Literal = int64(x)
	case Scalar:
		v.Literal = x.Text
	case string, bool, int64, float64:
		v.Literal = x
	}
	return v
}
