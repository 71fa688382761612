package mapping

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"andamio/internal/core/inventory"
	"andamio/internal/core/tosca"
)

// environment is what expressions can use: the observation, and three functions of ours: ending(list, mark) is what
// follows the mark in the first text that has it, number(text) a number, last(text, separator) the last part.
func environment() (*cel.Env, error) {
	text := cel.StringType
	return cel.NewEnv(
		cel.Variable("type", text), cel.Variable("name", text), cel.Variable("site", text), cel.Variable("region", text),
		cel.Variable("state", text), cel.Variable("source", text), cel.Variable("target", text),
		cel.Variable("mixins", cel.ListType(text)), cel.Variable("raw", cel.MapType(text, text)),
		cel.Function("ending", cel.Overload("ending_list_string", []*cel.Type{cel.ListType(text), text}, text, cel.BinaryBinding(ending))),
		cel.Function("last", cel.Overload("last_string_string", []*cel.Type{text, text}, text, cel.BinaryBinding(last))),
		cel.Function("number", cel.Overload("number_string", []*cel.Type{text}, cel.DoubleType, cel.UnaryBinding(number))),
	)
}

func ending(list, mark ref.Val) ref.Val {
	all, ok := list.(traits.Lister)
	if !ok {
		return types.NewErr("ending() takes a list")
	}
	for it := all.Iterator(); it.HasNext() == types.True; {
		s, _ := it.Next().Value().(string)
		if _, after, found := strings.Cut(s, mark.Value().(string)); found {
			return types.String(after)
		}
	}
	return types.String("")
}

func last(text, separator ref.Val) ref.Val {
	s, sep := text.Value().(string), separator.Value().(string)
	return types.String(s[strings.LastIndex(s, sep)+1:])
}

func number(text ref.Val) ref.Val {
	f, err := strconv.ParseFloat(strings.TrimSpace(text.Value().(string)), 64)
	if err != nil {
		return types.NewErr("%q is no number", text.Value())
	}
	return types.Double(f)
}

func compile(env *cel.Env, text string, want *cel.Type) (cel.Program, error) {
	ast, issues := env.Compile(text)
	if issues.Err() != nil {
		return nil, issues.Err()
	}
	if t := ast.OutputType(); want != nil && t != want && t != cel.DynType {
		return nil, fmt.Errorf("%q gives %s, not %s", text, t, want)
	}
	return env.Program(ast, cel.CostLimit(costLimit))
}

// textOf writes what an expression gave in the canonical form.
func textOf(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		return inventory.Number(v)
	}
	return fmt.Sprint(v)
}

// endings of attributes' names that say their unit.
var endings = map[string]string{"_gib": "GiB", "_mib": "MiB", "_seconds": "s", "_mhz": "MHz"}

// unitOf is the unit of a record's attribute, "" for none.
func unitOf(name string) string {
	for end, unit := range endings {
		if strings.HasSuffix(name, end) {
			return unit
		}
	}
	return ""
}

// checkUnit says what is wrong with the unit of an attribute.
func checkUnit(name, unit string) error {
	if unit == "" {
		return nil
	}
	to := unitOf(name)
	if to == "" {
		return fmt.Errorf("unit %s: the name does not say which unit the record has; end it in _gib, _mib, _seconds or _mhz", unit)
	}
	_, err := convert("1", unit, to)
	return err
}

// convert turns a number in one unit into another, exactly. A value that brings its own unit, as in "512 MiB", is taken
// by that.
func convert(text, from, to string) (string, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return "", nil
	}
	if to == "" {
		if f, err := strconv.ParseFloat(text, 64); err == nil && !strings.ContainsAny(text, "xXnNeE_") && (text[0] != '0' || len(text) < 2 || text[1] == '.') {
			return inventory.Number(f), nil
		}
		return text, nil
	}
	if from == "" {
		from = to
	}
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		text += " " + from
	}
	worth, err := quantity(text)
	if err != nil {
		return "", err
	}
	one, err := quantity("1 " + to)
	if err != nil {
		return "", err
	}
	f, _ := new(big.Rat).Quo(worth, one).Float64()
	return inventory.Number(f), nil
}

// quantity reads a number with a unit.
func quantity(text string) (*big.Rat, error) {
	for _, d := range []tosca.Dimension{tosca.Size, tosca.Time, tosca.Frequency} {
		if s, err := tosca.ParseScalar(d, text); err == nil {
			return s.Rat(), nil
		}
	}
	return nil, fmt.Errorf("%q is no number with a unit of size, time or frequency, such as 512 MiB", text)
}
