package tosca

import (
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// Coerce turns a value without functions into a Go value of the property's type and checks its constraints:
// string, int64, float64, bool, [Scalar], []any, map[string]any. What does not fit is reported to diags.
func (ts *Types) Coerce(v *Value, def *Property, diags *Diagnostics) (any, bool) {
	if v.knownAs == def && def != nil {
		return v.known, true // checked when the template was read
	}
	out, ok := coerce(ts, v, def, diags)
	if !ok || out == nil {
		return out, ok
	}
	for _, c := range def.Constraints {
		if v.Kind != Call && !hasCall(out) && !c.holds(out) {
			diags.at(v.at, CodeConstraint, "%s is %s, and must be: %s", def.Name, Show(out), c).see(c.Pos)
			ok = false
		}
	}
	return out, ok
}

// hasCall reports whether a list or map holds a function that is yet to be evaluated.
func hasCall(x any) bool {
	switch x := x.(type) {
	case *Value:
		return true
	case []any:
		return slices.ContainsFunc(x, hasCall)
	case map[string]any:
		for _, item := range x {
			if hasCall(item) {
				return true
			}
		}
	}
	return false
}

// coerce checks the type alone.
func coerce(ts *Types, v *Value, def *Property, diags *Diagnostics) (any, bool) {
	if v.Kind == Call {
		return v, true
	}
	if isDimension(def.Type) {
		return coerceScalar(v, def, diags)
	}
	if check, primitive := primitives[def.Type]; primitive {
		if out, ok := check(v); ok {
			return out, true
		}
		if low, high, is := v.ends(); def.Type == "range" && is {
			diags.at(v.at, CodeValueType, "%s goes from %d to %d: a range does not end before it begins", def.Name, low, high)
			return nil, false
		}
		mismatch(v, def, diags)
		return nil, false
	}
	switch def.Type {
	case "list":
		return coerceList(ts, v, def, diags)
	case "map":
		return coerceMap(ts, v, def, diags)
	}
	return coerceData(ts, v, def, diags)
}

// ends are the two numbers of a list of two.
func (v *Value) ends() (low, high int64, is bool) {
	if v.Kind != List || len(v.Items) != 2 {
		return 0, 0, false
	}
	low, isLow := v.Items[0].Literal.(int64)
	high, isHigh := v.Items[1].Literal.(int64)
	return low, high, isLow && isHigh
}

func mismatch(v *Value, def *Property, diags *Diagnostics) *Diagnostic {
	return diags.at(v.at, CodeValueType, "%s is %s, and this is %s", def.Name, article(def.Type), v.describe())
}

// describe says what a value is.
func (v *Value) describe() string {
	switch v.Kind {
	case List:
		return "a list"
	case Map:
		return "a map"
	}
	switch x := v.Literal.(type) {
	case nil:
		return "empty"
	case string:
		return "the text " + quote(x)
	case bool:
		return "the boolean " + Show(x)
	default:
		return "the number " + Show(x)
	}
}

func quote(s string) string {
	if r := []rune(s); len(r) > 40 {
		s = string(r[:39]) + "…"
	}
	return `"` + s + `"`
}

func article(typeName string) string {
	if strings.ContainsAny(typeName[:1], "aeiou") {
		return "an " + typeName
	}
	return "a " + typeName
}

// primitives are the types that YAML or TOSCA build in, each with its check (sections 3.3.1 to 3.3.5).
var primitives = map[string]func(*Value) (any, bool){
	"string": func(v *Value) (any, bool) {
		s, ok := v.Literal.(string)
		return s, ok && v.Kind == Literal
	},
	"integer": func(v *Value) (any, bool) {
		i, ok := v.Literal.(int64)
		return i, ok
	},
	"float": func(v *Value) (any, bool) {
		switch x := v.Literal.(type) {
		case float64:
			return x, true
		case int64:
			return float64(x), true
		}
		return nil, false
	},
	"boolean": func(v *Value) (any, bool) {
		b, ok := v.Literal.(bool)
		return b, ok
	},
	"timestamp": func(v *Value) (any, bool) {
		at, ok := ParseTimestamp(v.written())
		return at, ok && v.Kind == Literal
	},
	"version": func(v *Value) (any, bool) {
		x, ok := ParseVersion(v.written())
		return x, ok && v.Kind == Literal
	},
	"range": func(v *Value) (any, bool) {
		if v.Kind != List || len(v.Items) != 2 {
			return nil, false
		}
		low, ok := v.Items[0].Literal.(int64)
		if high, isText := v.Items[1].Text(); isText && high == "UNBOUNDED" {
			return []any{low, high}, ok
		}
		high, isInt := v.Items[1].Literal.(int64)
		return []any{low, high}, ok && isInt && low <= high
	},
	"any": func(v *Value) (any, bool) { return v.Plain(), true },
}

func coerceScalar(v *Value, def *Property, diags *Diagnostics) (any, bool) {
	if v.Kind != Literal || v.Literal == nil {
		mismatch(v, def, diags)
		return nil, false
	}
	s, err := ParseScalar(Dimension(def.Type), v.written())
	var bad *scalarError
	if errors.As(err, &bad) {
		diags.at(v.at, bad.code, "%s: %s", def.Name, bad.message).hint("%s", bad.hint)
		return nil, false
	}
	return s, true
}

// written is a literal as its author wrote it: 2.10 is not 2.1 where a version is meant.
func (v *Value) written() string {
	if v.raw != "" {
		return v.raw
	}
	return Show(v.Literal)
}

func coerceList(ts *Types, v *Value, def *Property, diags *Diagnostics) (any, bool) {
	if v.Kind != List {
		mismatch(v, def, diags)
		return nil, false
	}
	out, ok := make([]any, len(v.Items)), true
	for i, item := range v.Items {
		x, fine := ts.Coerce(item, def.entry(), diags)
		out[i], ok = x, ok && fine
	}
	return out, ok
}

func coerceMap(ts *Types, v *Value, def *Property, diags *Diagnostics) (any, bool) {
	if v.Kind != Map {
		mismatch(v, def, diags)
		return nil, false
	}
	out, ok := make(map[string]any, len(v.Items)), true
	for i, item := range v.Items {
		if def.Key != nil {
			_, fine := ts.Coerce(keyOf(v.Keys[i], def.Key, item.at), def.Key, diags)
			ok = ok && fine
		}
		x, fine := ts.Coerce(item, def.entry(), diags)
		out[v.Keys[i]], ok = x, ok && fine
	}
	return out, ok
}

// keyOf is a key of a map as a value of the type that its keys have: what is written as a number or boolean is one, unless texts are asked for.
func keyOf(text string, def *Property, at place) *Value {
	v := &Value{Literal: text, raw: text, at: at}
	if def.Type != "string" {
		v.Literal = (&tree{value: text, tag: tagOf(text)}).literal()
	}
	return v
}

// tagOf is how YAML resolves a plain scalar (YAML 1.2.2, section 10.3.2).
func tagOf(text string) tag {
	switch text {
	case "", "~", "null", "Null", "NULL":
		return tagNull
	case "true", "True", "TRUE", "false", "False", "FALSE":
		return tagBool
	}
	if _, err := strconv.ParseInt(text, 0, 64); err == nil {
		return tagInt
	}
	if _, ok := finite(text); ok {
		return tagFloat
	}
	return tagText
}

// coerceData checks a value against a data type: its properties if it has any, or the type it derives from.
func coerceData(ts *Types, v *Value, def *Property, diags *Diagnostics) (any, bool) {
	t := ts.Find(DataTypes, def.Type)
	if t == nil {
		return v.Plain(), true // reported where the property is declared
	}
	if len(t.Properties) == 0 {
		base := &Property{Name: def.Name, Type: t.base(), Entry: t.entry, Key: t.key, Constraints: t.constraints}
		return ts.Coerce(v, base, diags)
	}
	if v.Kind != Map {
		mismatch(v, def, diags)
		return nil, false
	}
	out, ok := map[string]any{}, true
	for i, key := range v.Keys {
		p := t.Property(key)
		if p == nil {
			diags.at(v.Items[i].at, CodeUnknownProperty, "%s has no property %q", t.Name, key).suggest(key, t.propertyNames())
			ok = false
			continue
		}
		x, fine := ts.Coerce(v.Items[i], p, diags)
		out[key], ok = x, ok && fine
	}
	return out, fillData(ts, v, t, out, diags) && ok
}

// fillData adds a data type's defaults and reports what is required and absent.
func fillData(ts *Types, v *Value, t *Type, out map[string]any, diags *Diagnostics) bool {
	ok := true
	for _, p := range t.Properties {
		if _, set := out[p.Name]; set || slices.Contains(v.Keys, p.Name) {
			continue
		}
		if p.Default != nil {
			out[p.Name], _ = ts.Coerce(p.Default, p, diags)
		} else if p.Required {
			diags.at(v.at, CodeMissingProperty, "%s needs the property %q", t.Name, p.Name)
			ok = false
		}
	}
	return ok
}

// Plain is the value as plain Go data, calls of functions as a map from the function's name to its arguments.
func (v *Value) Plain() any {
	switch v.Kind {
	case List:
		return plainItems(v.Items)
	case Map:
		out := map[string]any{}
		for i, k := range v.Keys {
			out[k] = v.Items[i].Plain()
		}
		return out
	case Call:
		return map[string]any{v.Func: plainItems(v.Items)}
	}
	return v.Literal
}

func plainItems(items []*Value) []any {
	out := make([]any, len(items))
	for i, item := range items {
		out[i] = item.Plain()
	}
	return out
}
