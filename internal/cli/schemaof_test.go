package cli

import (
	"encoding"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/money"
	"andamio/internal/core/plan"
)

// A schemaWriter writes the JSON Schema (draft 2020-12) of what a Go type is encoded as: closed, with every member that is always there required.
type schemaWriter struct{ defs map[string]any }

// special are types that encode themselves.
var special = map[reflect.Type]map[string]any{
	reflect.TypeFor[time.Time]():       {"type": "string", "format": "date-time"},
	reflect.TypeFor[money.Amount]():    {"type": "number"},
	reflect.TypeFor[json.RawMessage](): {},
	reflect.TypeFor[plan.Plan]():       {"$ref": "../plan.schema.json"},
	reflect.TypeFor[plan.Expr]():       {},
}

// schemaOf is the schema of a value.
func schemaOf(name string, t reflect.Type) map[string]any {
	w := &schemaWriter{map[string]any{}}
	out := w.of(t)
	root := map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": "https://schemas.andamio.example/values/" + name + ".schema.json"}
	maps.Copy(root, out)
	if len(w.defs) > 0 {
		root["$defs"] = w.defs
	}
	return root
}

func (w *schemaWriter) of(t reflect.Type) map[string]any {
	if s, known := special[t]; known {
		return s
	}
	if t.Kind() == reflect.Pointer {
		return w.nullable(t.Elem())
	}
	if t.Implements(reflect.TypeFor[json.Marshaler]()) || reflect.PointerTo(t).Implements(reflect.TypeFor[json.Marshaler]()) {
		panic(fmt.Sprintf("%s encodes itself: say how among special", t))
	}
	if t.Implements(reflect.TypeFor[encoding.TextMarshaler]()) {
		return map[string]any{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return map[string]any{"type": "integer"}
	case reflect.Float32, reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Interface:
		return map[string]any{}
	case reflect.Slice, reflect.Array:
		if t.Elem().Kind() == reflect.Uint8 && t.Kind() == reflect.Slice {
			return map[string]any{"type": "string", "contentEncoding": "base64"}
		}
		return map[string]any{"type": "array", "items": w.of(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": w.of(t.Elem())}
	case reflect.Struct:
		return w.named(t)
	}
	panic(fmt.Sprintf("%s has no form in JSON", t))
}

func (w *schemaWriter) nullable(t reflect.Type) map[string]any {
	return map[string]any{"anyOf": []any{w.of(t), map[string]any{"type": "null"}}}
}

// named refers to the schema of a struct, by its package and name.
func (w *schemaWriter) named(t reflect.Type) map[string]any {
	if t.Name() == "" {
		return w.object(t)
	}
	name := strings.ReplaceAll(t.String(), "cli.", "")
	if _, done := w.defs[name]; !done {
		w.defs[name] = true // while it is written
		w.defs[name] = w.object(t)
	}
	return map[string]any{"$ref": "#/$defs/" + name}
}

func (w *schemaWriter) object(t reflect.Type) map[string]any {
	properties, required := map[string]any{}, []string{}
	w.members(t, properties, &required, true)
	slices.Sort(required)
	out := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = slices.Compact(required)
	}
	return out
}

// members adds the members of a struct, those of what is embedded in it too; always says that they are there whatever it holds.
func (w *schemaWriter) members(t reflect.Type, properties map[string]any, required *[]string, always bool) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		inner := f.Type
		if inner.Kind() == reflect.Pointer {
			inner = inner.Elem()
		}
		switch {
		case name == "-":
			continue
		case f.Anonymous && name == "" && inner.Kind() == reflect.Struct:
			w.members(inner, properties, required, always && f.Type.Kind() != reflect.Pointer)
			continue
		case !f.IsExported():
			continue
		}
		if name == "" {
			name = f.Name
		}
		if _, nearer := properties[name]; nearer && f.Type == nil {
			continue
		}
		left := strings.Contains(options, "omitempty") || strings.Contains(options, "omitzero")
		properties[name] = w.of(f.Type)
		if always && !left {
			*required = append(*required, name)
		}
	}
}
