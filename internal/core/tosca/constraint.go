package tosca

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
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
	args := make([]string, len(c.Args))
	for i, a := range c.Args {
		args[i] = Show(a.Plain())
		if i < len(c.bounds) {
			args[i] = Show(c.bounds[i])
		}
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
	return r.clauses(r.list(n, "constraints"))
}

// clauses reads constraint clauses.
func (r *reader) clauses(items []node) []*Constraint {
	var out []*Constraint
	for _, item := range items {
		if item.form != mapping || len(item.content) != 2 {
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
	if p.name == "schema" {
		r.diags.at(p.key.place(), CodeUnsupported, "the constraint schema is not checked").
			hint("remove it; a template that uses it would not do what it says")
		return nil
	}
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
		re, err := regexp.Compile(`^(?:` + p.value.value + `)$`)
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
	if isLength(c.Op) {
		want = &Property{Name: c.Op, Type: "integer"}
	}
	if c.Op == "in_range" && def.Type == "range" { // both ends of the value lie between the bounds
		want = &Property{Name: c.Op, Type: "integer"}
	}
	for _, a := range c.Args {
		if text, ok := a.Text(); (ok && text == unbounded) || c.Op == "pattern" {
			c.bounds = append(c.bounds, text)
			continue
		}
		b, _ := coerce(ts, a, want, diags)
		c.bounds = append(c.bounds, b)
	}
	c.checkRange(diags)
}

// unbounded is the bound that is none (section 3.3.3).
const unbounded = "UNBOUNDED"

// checkRange refuses a range in which nothing lies.
func (c *Constraint) checkRange(diags *Diagnostics) {
	if c.Op != "in_range" || len(c.bounds) != 2 || slices.ContainsFunc(c.bounds, func(b any) bool { return b == nil || b == unbounded }) || compare(c.bounds[0], c.bounds[1]) <= 0 {
		return
	}
	diags.at(place{c.Pos, len(c.Op)}, CodeConstraint, "nothing lies in this range: it goes from %s to %s", Show(c.bounds[0]), Show(c.bounds[1])).hint("the lower bound stands first")
	c.bounds[0], c.bounds[1] = unbounded, unbounded // what it bounds would only repeat this
}

// NewConstraint makes a constraint of plain values, as a plan carries them.
func NewConstraint(op string, values []any) *Constraint {
	c := &Constraint{Op: op}
	for _, v := range values {
		text := Show(v)
		c.Args = append(c.Args, LiteralOf(text, Pos{}))
		c.bounds = append(c.bounds, typedText(text))
	}
	if op == "pattern" && len(values) == 1 {
		c.pattern, _ = regexp.Compile(`^(?:` + Show(values[0]) + `)$`)
	}
	return c
}

// Text reports whether a text satisfies the constraint, read as what it looks like: a number, a size, a time, or text.
func (c *Constraint) Text(text string) bool {
	arity, known := constraintOps[c.Op]
	if !known || arity >= 0 && len(c.bounds) != arity || c.Op == "pattern" && c.pattern == nil {
		return false
	}
	if c.Op == "pattern" || isLength(c.Op) {
		return c.holds(text)
	}
	return c.holds(typedText(text))
}

// typedText reads a text as a number or scalar unit if it is one.
func typedText(text string) any {
	if i, err := strconv.ParseInt(text, 10, 64); err == nil {
		return i
	}
	if f, ok := finite(text); ok {
		return f
	}
	for _, d := range []Dimension{Size, Time, Frequency, Bitrate} {
		if s, err := ParseScalar(d, text); err == nil {
			return s
		}
	}
	return text
}

// holds reports whether a coerced value satisfies the constraint.
func (c *Constraint) holds(v any) bool {
	if len(c.bounds) < len(c.Args) {
		return true // nobody knows the type that they are of, which is said where it is declared
	}
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

func atLeast(v, low any) bool { return low == unbounded || compare(v, low) >= 0 }
func atMost(v, high any) bool { return high == unbounded || compare(v, high) <= 0 }

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
	case Version:
		if y, ok := b.(Version); ok {
			return x.Cmp(y)
		}
	case Timestamp:
		if y, ok := b.(Timestamp); ok {
			return x.Time.Compare(y.Time)
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
	case map[string]any:
		parts := make([]string, 0, len(v))
		for _, k := range sortedKeys(v) {
			parts = append(parts, k+": "+Show(v[k]))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case nil:
		return "nothing"
	}
	return fmt.Sprint(v)
}
