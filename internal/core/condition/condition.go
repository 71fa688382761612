// Package condition is what administrators write in rules and hooks: expressions of the Common Expression Language that are true or false.
package condition

import (
	"errors"
	"fmt"
	"strings"

	"cel.dev/cel-go/cel"
)

// Condition is an expression, checked and ready. The zero Condition always holds.
type Condition struct{ program cel.Program }

// mostCost bounds the work of one condition, as the language counts it.
const mostCost = 100_000

// New checks an expression over the variables of an environment; "" always holds.
func New(env *cel.Env, text string) (Condition, error) {
	if text == "" {
		return Condition{}, nil
	}
	ast, issues := env.Compile(text)
	if issues.Err() != nil {
		return Condition{}, oneLine(issues.Err())
	}
	if t := ast.OutputType(); !t.IsExactType(cel.BoolType) && !t.IsExactType(cel.DynType) {
		return Condition{}, fmt.Errorf("it is of type %s, and not true or false", t)
	}
	program, err := env.Program(ast, cel.CostLimit(mostCost))
	return Condition{program}, err
}

// Holds reports that the condition holds of some facts.
func (c Condition) Holds(facts map[string]any) (bool, error) {
	if c.program == nil {
		return true, nil
	}
	out, _, err := c.program.Eval(facts)
	if err != nil {
		return false, oneLine(err)
	}
	yes, is := out.Value().(bool)
	if !is {
		return false, fmt.Errorf("it is %v, and not true or false", out.Value())
	}
	return yes, nil
}

// oneLine is an error on one line.
func oneLine(err error) error {
	first, _, _ := strings.Cut(err.Error(), "\n")
	return errors.New(strings.TrimSpace(first))
}
