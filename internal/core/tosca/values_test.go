package tosca

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// property reads a template whose only input has this definition, and gives its default as a Go value.
func property(t *testing.T, definition string) (any, Diagnostics) {
	t.Helper()
	tmpl, diags := read(header + "data_types:\n" +
		"  own.Gauge: { derived_from: tosca.datatypes.Root, properties: { name: { type: string }, reach: { type: integer, default: 3 }, note: { type: string, required: false } } }\n" +
		"  own.Even: { derived_from: integer, constraints: [ valid_values: [ 2, 4, 6 ] ] }\n" +
		"topology_template:\n  inputs:\n    x: { " + definition + " }\n  outputs: { used: { value: { get_input: x } } }\n")
	in := tmpl.Input("x")
	if in == nil || in.Default == nil || diags.Errors() > 0 {
		return nil, diags
	}
	values, more := tmpl.Apply(nil)
	return values["x"], append(diags, more...)
}

func TestValuesOfEachType(t *testing.T) {
	for _, c := range []struct {
		definition string
		want       any
	}{
		{"type: string, default: plain", "plain"},
		{"type: string, default: '7'", "7"},
		{"type: integer, default: 7", int64(7)},
		{"type: integer, default: 0x1F", int64(31)},
		{"type: integer, default: -3", int64(-3)},
		{"type: float, default: 1.5", 1.5},
		{"type: float, default: 2", 2.0},
		{"type: boolean, default: true", true},
		{"type: version, default: 1.4", versionOf(t, "1.4")},
		{"type: version, default: 1.4.2.beta-3", versionOf(t, "1.4.2.beta-3")},
		{"type: timestamp, default: 2026-11-23", timeOf(t, "2026-11-23")},
		{"type: timestamp, default: 2026-11-23T08:00:00Z", timeOf(t, "2026-11-23T08:00:00Z")},
		{"type: range, default: [ 1, 4 ]", []any{int64(1), int64(4)}},
		{"type: range, default: [ 1, UNBOUNDED ]", []any{int64(1), "UNBOUNDED"}},
		{"type: list, entry_schema: integer, default: [ 1, 2 ]", []any{int64(1), int64(2)}},
		{"type: list, default: [ a, b ]", []any{"a", "b"}},
		{"type: map, entry_schema: { type: boolean }, default: { a: true }", map[string]any{"a": true}},
		{"type: map, entry_schema: { type: list, entry_schema: string }, default: { a: [ b ] }", map[string]any{"a": []any{"b"}}},
		{"type: PortDef, default: 8080", int64(8080)},
		{"type: tosca:PortDef, default: 22", int64(22)},
		{"type: own.Even, default: 4", int64(4)},
		{"type: own.Gauge, default: { name: dam }", map[string]any{"name": "dam", "reach": int64(3)}},
		{"type: list, entry_schema: own.Gauge, default: [ { name: dam, reach: 9 } ]", []any{map[string]any{"name": "dam", "reach": int64(9)}}},
	} {
		got, diags := property(t, c.definition)
		assert.Empty(t, diags, "%s: %v", c.definition, diags.Error())
		assert.Equal(t, c.want, got, c.definition)
	}
	size, diags := property(t, "type: scalar-unit.size, default: 2 GiB")
	require.Empty(t, diags)
	assert.Equal(t, float64(2<<30), size.(Scalar).Float())
}

func TestValuesThatDoNotFit(t *testing.T) {
	for _, c := range []struct {
		definition string
		code       Code
		says       string
	}{
		{"type: string, default: 7", CodeValueType, "x is a string, and this is the number 7"},
		{"type: string, default: [ a ]", CodeValueType, "this is a list"},
		{"type: integer, default: 7.5", CodeValueType, "the number 7.5"},
		{"type: integer, default: 99999999999999999999", CodeValueType, "x is an integer"},
		{"type: boolean, default: maybe", CodeValueType, `the text "maybe"`},
		{"type: boolean, default:", CodeValueType, "this is empty"},
		{"type: version, default: one", CodeValueType, "x is a version"},
		{"type: timestamp, default: yesterday", CodeValueType, "x is a timestamp"},
		{"type: range, default: [ 4, 1 ]", CodeValueType, "x goes from 4 to 1: a range does not end"},
		{"type: range, default: [ 1 ]", CodeValueType, "x is a range"},
		{"type: list, default: a", CodeValueType, "x is a list"},
		{"type: list, entry_schema: integer, default: [ 1, two ]", CodeValueType, "an entry is an integer"},
		{"type: map, default: [ a ]", CodeValueType, "x is a map"},
		{"type: scalar-unit.size, default: [ 1 GB ]", CodeValueType, "x is a scalar-unit.size"},
		{"type: scalar-unit.size, default: 3", CodeUnitMissing, "3 has no unit"},
		{"type: scalar-unit.size, default: 3.5", CodeUnitMissing, "3.5 has no unit"},
		{"type: scalar-unit.time, default: 3 weeks", CodeUnitUnknown, "units: d, h, m, s, ms, us, ns"},
		{"type: scalar-unit.size, default: a lot", CodeValueType, "is not a number with a unit"},
		{"type: own.Gauge, default: dam", CodeValueType, "x is an own.Gauge"},
		{"type: own.Gauge, default: { reach: 2 }", CodeMissingProperty, `own.Gauge needs the property "name"`},
		{"type: own.Gauge, default: { name: a, reech: 2 }", CodeUnknownProperty, `did you mean "reach"?`},
		{"type: own.Even, default: 3", CodeConstraint, "must be: one of 2, 4, 6"},
		{"type: PortDef, default: 0", CodeConstraint, "must be: 1 to 65535"},
		{"type: own.Odd, default: 3", CodeUnknownType, `there is no data type "own.Odd"`},
		{"type: tosca.nodes.Compute", CodeTypeKind, "is a node type, and a data type belongs here"},
		{"type: string, defualt: a", CodeUnknownKey, `did you mean "default"?`},
		{"default: a", CodeMissingKey, `needs the keyname "type"`},
	} {
		_, diags := property(t, c.definition)
		require.Len(t, diags, 1, "%s: %v", c.definition, diags.Error())
		assert.Equal(t, c.code, diags[0].Code, c.definition)
		assert.Contains(t, diags[0].Error(), c.says, c.definition)
		assert.Equal(t, Mistake, diags[0].Severity)
	}
}

func TestConstraintClauses(t *testing.T) {
	for _, c := range []struct{ kind, clause, good, bad, says string }{
		{"integer", "equal: 4", "4", "5", "is 4"},
		{"integer", "greater_than: 4", "5", "4", "> 4"},
		{"integer", "greater_or_equal: 4", "4", "3", "≥ 4"},
		{"integer", "less_than: 4", "3", "4", "< 4"},
		{"integer", "less_or_equal: 4", "4", "5", "≤ 4"},
		{"integer", "in_range: [ 1, 4 ]", "1", "0", "1 to 4"},
		{"integer", "in_range: [ 1, UNBOUNDED ]", "900", "0", "1 to UNBOUNDED"},
		{"float", "in_range: [ 0.5, 1 ]", "0.75", "0.25", "0.5 to 1"},
		{"string", "valid_values: [ dam, weir ]", "weir", "lock", "one of dam, weir"},
		{"string", "length: 3", "dam", "weir", "length 3"},
		{"string", "min_length: 4", "weir", "dam", "at least 4 long"},
		{"string", "max_length: 3", "dam", "weir", "at most 3 long"},
		{"list", "min_length: 2", "[ a, b ]", "[ a ]", "at least 2 long"},
		{"map", "max_length: 1", "{ a: b }", "{ a: b, c: d }", "at most 1 long"},
		{"string", "pattern: '[a-z]+'", "dam", "Dam", "matches [a-z]+"},
		{"scalar-unit.size", "greater_or_equal: 1 GiB", "1024 MiB", "1 GB", "≥ 1 GiB"},
		{"scalar-unit.time", "less_than: 1 m", "59 s", "60 s", "< 1 m"},
		{"range", "in_range: [ 1, 9 ]", "[ 2, 9 ]", "[ 2, 10 ]", "1 to 9"},
	} {
		_, diags := property(t, "type: "+c.kind+", constraints: [ "+c.clause+" ], default: "+c.good)
		assert.Empty(t, diags, "%s: %s: %v", c.clause, c.good, diags.Error())
		_, diags = property(t, "type: "+c.kind+", constraints: [ "+c.clause+" ], default: "+c.bad)
		require.Len(t, diags, 1, "%s: %s", c.clause, c.bad)
		assert.Equal(t, CodeConstraint, diags[0].Code)
		assert.Contains(t, diags[0].Message, c.says)
		assert.NotNil(t, diags[0].Related, "the constraint is the other place involved")
	}
}

func TestConstraintsThatAreNone(t *testing.T) {
	for clause, says := range map[string]string{
		"in_rnage: [ 1, 2 ]":  `did you mean "in_range"?`,
		"in_range: [ 1 ]":     "takes 2 values, not 1",
		"pattern: '['":        "no regular expression",
		"greater_than: often": "is an integer",
	} {
		_, diags := property(t, "type: integer, constraints: [ "+clause+" ]")
		require.NotEmpty(t, diags, clause)
		assert.Contains(t, diags.Error(), says, clause)
	}
	_, diags := property(t, "type: integer, constraints: [ 3 ]")
	assert.Contains(t, diags.Error(), "one operator with its value")
}

func TestInputsFromOutside(t *testing.T) {
	in, diags := ReadInputs("preset.yaml", []byte("a: 1\nb: [ x ]\n"))
	require.Empty(t, diags)
	assert.Equal(t, int64(1), in["a"].Literal)
	assert.Equal(t, Pos{"preset.yaml", 2, 1}, in["b"].Pos())
	in, diags = ReadInputs("empty.yaml", nil)
	assert.Empty(t, in)
	assert.Empty(t, diags)
	_, diags = ReadInputs("bad.yaml", []byte("- a"))
	assert.Equal(t, CodeShape, diags[0].Code)
	v, diags := ParseInput("n", "4")
	require.Empty(t, diags)
	assert.Equal(t, int64(4), v.Literal)
	_, diags = ParseInput("n", "[")
	assert.Equal(t, CodeSyntax, diags[0].Code)
}

func TestShowIsForPeople(t *testing.T) {
	for want, v := range map[string]any{"nothing": nil, "[a, 1]": []any{"a", int64(1)}, "true": true, "1.5": 1.5} {
		assert.Equal(t, want, Show(v))
	}
	assert.Equal(t, `"`+strings.Repeat("a", 39)+`…"`, quote(strings.Repeat("a", 60)))
}

func versionOf(t *testing.T, text string) Version {
	v, ok := ParseVersion(text)
	require.True(t, ok, text)
	return v
}

func timeOf(t *testing.T, text string) Timestamp {
	at, ok := ParseTimestamp(text)
	require.True(t, ok, text)
	return at
}

func TestVersionsAndTimesAreOrdered(t *testing.T) {
	for _, pair := range [][2]string{{"1.9", "1.10"}, {"1.2.3", "1.2.4"}, {"2.0.0.beta", "2.0.0"}, {"1.0.0.a-2", "1.0.0.a-11"}, {"0", "0.1"}, {"1.0.0.alpha", "1.0.0.beta"}} {
		assert.Negative(t, compare(versionOf(t, pair[0]), versionOf(t, pair[1])), pair)
	}
	for _, bad := range []string{"", "1", "1.", "v1.0", "1.0.0-3", "1.0.0.a-b"} {
		_, ok := ParseVersion(bad)
		assert.False(t, ok, bad)
	}
	assert.Negative(t, compare(timeOf(t, "2026-11-23T08:00:00+02:00"), timeOf(t, "2026-11-23 07:00:00 Z")))
	assert.Zero(t, compare(timeOf(t, "2026-11-23T08:00:00+02:00"), timeOf(t, "2026-11-23t06:00:00Z")))
	for _, bad := range []string{"", "now", "2026-13-01", "2026-11-23T25:00:00Z"} {
		_, ok := ParseTimestamp(bad)
		assert.False(t, ok, bad)
	}
}
