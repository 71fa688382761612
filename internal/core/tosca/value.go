package tosca

import (
	"math"
	"strconv"
	"strings"
)

// ValueKind says what a [Value] is.
type ValueKind uint8

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
	// known is a literal as its property's type has it, once checked against knownAs.
	known   any
	knownAs *Property
}

// Pos is where the value stands.
func (v *Value) Pos() Pos { return v.at.Pos }

// Width is how many characters of its line the value spans.
func (v *Value) Width() int { return max(v.at.width, 1) }

// Text returns a literal string's text and whether the value is one.
func (v *Value) Text() (string, bool) {
	s, ok := v.Literal.(string)
	return s, ok && v.Kind == Literal
}

// value reads any node as a value. A mapping with a single key that is a function's name is a call of it.
func (r *reader) value(n node) *Value {
	v := &Value{at: n.place()}
	switch n.form {
	case sequence:
		v.Kind = List
		v.Items = make([]*Value, len(n.content))
		for i := range n.content {
			v.Items[i] = r.value(n.child(i))
		}
	case mapping:
		if len(n.content) == 2 && functions[n.content[0].value] != nil {
			return r.call(n.child(0), n.child(1))
		}
		v.Kind = Map
		for i := 0; i+1 < len(n.content); i += 2 {
			v.Keys = append(v.Keys, n.content[i].value)
			v.Items = append(v.Items, r.value(n.child(i+1)))
		}
	default:
		v.Literal, v.raw = n.literal(), n.value
	}
	return v
}

func (r *reader) call(name, args node) *Value {
	v := &Value{Kind: Call, Func: name.value, at: name.place()}
	if args.form == sequence {
		v.Items = make([]*Value, len(args.content))
		for i := range args.content {
			v.Items[i] = r.value(args.child(i))
		}
	} else {
		if args.form == scalar && v.Func == "concat" { // the others that take a list are missed some of it
			r.diags.at(args.place(), CodeFunction, "concat takes a list of what is put together, not %s", kindName(args)).hint("for example %s", functions[v.Func].usage)
		}
		v.Items = []*Value{r.value(args)}
	}
	return v
}

func finite(text string) (float64, bool) {
	f, err := strconv.ParseFloat(text, 64)
	return f, err == nil && !math.IsNaN(f) && !math.IsInf(f, 0)
}

// LiteralOf makes a value of a Go value that did not come from a template, such as an input given on the command line.
// It takes string, bool, integers, floats, [Scalar], [Version], [Timestamp], []any and map[string]any; anything else
// becomes nil.
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
	case Version:
		v.Literal = x.Text
	case Timestamp:
		v.Literal = x.Text
	case string, bool, int64, float64:
		v.Literal = x
	}
	return v
}

// Source writes the value the way a template or preset would, on one line.
func (v *Value) Source() string {
	switch v.Kind {
	case List:
		return "[ " + strings.Join(sources(v.Items), ", ") + " ]"
	case Map:
		parts := sources(v.Items)
		for i := range parts {
			parts[i] = quoteKey(v.Keys[i]) + ": " + parts[i]
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	case Call:
		return "{ " + v.Func + ": [ " + strings.Join(sources(v.Items), ", ") + " ] }"
	}
	if s, ok := v.Literal.(string); ok {
		return quoteText(s)
	}
	if v.Literal == nil {
		return "null"
	}
	return Show(v.Literal)
}

func sources(items []*Value) []string {
	out := make([]string, len(items))
	for i, item := range items {
		out[i] = item.Source()
	}
	return out
}

// quoteText leaves a word that YAML reads as text as it is and quotes everything else. JSON's quoting is YAML's.
func quoteText(s string) string {
	plain := s != "" && s[0] != ' ' && s[len(s)-1] != ' '
	for i, c := range s {
		word := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c > 127 && c != '\u2028' && c != '\u2029' && c != '\u0085'
		plain = plain && (word || i > 0 && (c == ' ' || c == '-' || c == '_' || c == '.' || c == '/' || c >= '0' && c <= '9'))
	}
	_, unit, number := splitScalar(s)
	if number && unit != "" && unit != "e" && unit != "E" && s[0] != '0' || plain && !reserved[strings.ToLower(s)] {
		return s
	}
	return strconv.QuoteToGraphic(s)
}

// reserved are words that YAML reads as something other than text.
var reserved = map[string]bool{"null": true, "true": true, "false": true, "yes": true, "no": true, "on": true, "off": true,
	"y": true, "n": true, "nan": true, "inf": true}

func quoteKey(s string) string {
	if nameOK(s) && !reserved[strings.ToLower(s)] && (s[0] < '0' || s[0] > '9') && s[0] != '-' && s[0] != '.' {
		return s
	}
	return strconv.Quote(s)
}
