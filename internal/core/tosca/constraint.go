package tosca

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// Constraint is one constraint clause (section 3.6.3).
type Constraint struct {
	Op   string
	Args []*Value
	Pos  Pos
	// pattern is compiled once for the operator pattern.
	pattern *regexp.Regexp
	// bounds are Args as values of the constrained type, once resolved.
	bounds []any
}

// String says the constraint in words.
func (c *Constraint) String() string {
	args := make([]string, len(c.bounds))
	for i, b := range c.bounds {
		args[i] = Show(b)
	}
	switch c.Op {
	case "equal":
		return "is " + args[0]
	case "greater_than":
		return "> " + args[0]
	case "greater_or_equal":
		return "≥ " + args[0]
	case "less_than":
		return "< " + args[0]
	case "less_or_equal":
		return "≤ " + args[0]
	case "in_range":
		return args[0] + " to " + args[1]
	case "valid_values":
		return "one of " + strings.Join(args, ", ")
	case "length":
		return "length " + args[0]
	case "min_length":
		return "at least " + args[0] + " long"
	case "max_length":
		return "at most " + args[0] + " long"
	default:
		return "matches " + args[0]
	}
}

// constraintOps lists the operators with the number of arguments each takes; -1 is any number.
var constraintOps = map[string]int{
	"equal": 1, "greater_than": 1, "greater_or_equal": 1, "less_than": 1, "less_or_equal": 1, "in_range": 2,
	"valid_values": -1, "length": 1, "min_length": 1, "max_length": 1, "pattern": 1,
}

func (r *reader) constraints(n node) []*Constraint {
	var out []*Constraint
	for _, item := range r.list(n, "constraints") {
		if item.Kind != yaml.MappingNode || len(item.Content) != 2 {
			r.diags.at(item.place(), CodeShape, "a constraint is one operator with its value, such as { in_range: [ 1, 8 ] }")
			continue
		}
		if c := r.constraint(item.pairs()[0]); c != nil {
			out = append(out, c)
		}
	}
	return out
}

func (r *reader) constraint(p pair) *Constraint {
	arity, known := constraintOps[p.name]
	if !known {
		r.diags.at(p.key.place(), CodeUnknownKey, "there is no constraint %q", p.name).suggest(p.name, sortedKeys(constraintOps))
		return nil
	}
	c := &Constraint{Op: p.name, Pos: p.key.place().Pos}
	v := r.value(p.value)
	if v.Kind == List {
		c.Args = v.Items
	} else {
		c.Args = []*Value{v}
	}
	if arity >= 0 && len(c.Args) != arity {
		r.diags.at(p.key.place(), CodeShape, "%s takes %d values, not %d", p.name, arity, len(c.Args))
		return nil
	}
	if c.Op == "pattern" {
		re, err := regexp.Compile(`^(?:` + p.value.Value + `)$`)
		if err != nil {
			r.diags.at(p.value.place(), CodeConstraint, "this is no regular expression: %v", err)
			return nil
		}
		c.pattern = re
	}
	return c
}

// resolveBounds turns a constraint's arguments into values of the type it constrains.
func (c *Constraint) resolveBounds(ts *Types, def *Property, diags *Diagnostics) {
	if c.bounds != nil {
		return
	}
	want := &Property{Name: def.Name, Type: def.Type, Entry: def.Entry}
	if slices.Contains([]string{"length", "min_length", "max_length"}, c.Op) {
		want = &Property{Name: c.Op, Type: "integer"}
	}
	if c.Op == "in_range" && def.Type == "range" { // both ends of the value lie between the bounds
		want = &Property{Name: c.Op, Type: "integer"}
	}
	for _, a := range c.Args {
		if text, ok := a.Text(); (ok && text == "UNBOUNDED") || c.Op == "pattern" {
			c.bounds = append(c.bounds, text)
			continue
		}
		b, _ := coerce(ts, a, want, diags)
		c.bounds = append(c.bounds, b)
	}
}

// holds reports whether a coerced value satisfies the constraint.
func (c *Constraint) holds(v any) bool {
	switch c.Op {
	case "equal":
		return compare(v, c.bounds[0]) == 0
	case "greater_than":
		return compare(v, c.bounds[0]) > 0
	case "greater_or_equal":
		return compare(v, c.bounds[0]) >= 0
	case "less_than":
		return compare(v, c.bounds[0]) < 0
	case "less_or_equal":
		return compare(v, c.bounds[0]) <= 0
	case "in_range":
		if ends, isRange := v.([]any); isRange && len(ends) == 2 {
			return atLeast(ends[0], c.bounds[0]) && atMost(ends[1], c.bounds[1])
		}
		return atLeast(v, c.bounds[0]) && atMost(v, c.bounds[1])
	case "valid_values":
		return slices.ContainsFunc(c.bounds, func(b any) bool { return compare(v, b) == 0 })
	case "length":
		return compare(length(v), c.bounds[0]) == 0
	case "min_length":
		return compare(length(v), c.bounds[0]) >= 0
	case "max_length":
		return compare(length(v), c.bounds[0]) <= 0
	default:
		s, ok := v.(string)
		return ok && c.pattern.MatchString(s)
	}
}

func atLeast(v, low any) bool { return low == "UNBOUNDED" || compare(v, low) >= 0 }
func atMost(v, high any) bool { return high == "UNBOUNDED" || compare(v, high) <= 0 }

func length(v any) int64 {
	switch v := v.(type) {
	case string:
		return int64(utf8.RuneCountInString(v))
	case []any:
		return int64(len(v))
	case map[string]any:
		return int64(len(v))
	}
	return 0
}

// compare orders two values of one type; values that cannot be ordered compare as text.
func compare(a, b any) int {
	switch x := a.(type) {
	case int64:
		switch y := b.(type) {
		case int64:
			return cmp.Compare(x, y)
		case float64:
			return cmp.Compare(float64(x), y)
		}
	case float64:
		switch y := b.(type) {
		case int64:
			return cmp.Compare(x, float64(y))
		case float64:
			return cmp.Compare(x, y)
		}
	case Scalar:
		if y, ok := b.(Scalar); ok && x.Dimension == y.Dimension {
			return x.Cmp(y)
		}
	}
	return cmp.Compare(fmt.Sprint(a), fmt.Sprint(b))
}

// Show renders a value for a message.
func Show(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case []any:
		parts := make([]string, len(v))
		for i := range v {
			parts[i] = Show(v[i])
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case nil:
		return "nothing"
	}
	return fmt.Sprint(v)
}
