package engine

import (
	"fmt"
	"strings"

	"andamio/internal/core/plan"
)

// holds evaluates a condition over the attributes of a resource, and says why it does not hold.
func (e *Engine) holds(c plan.Clause, resource string) (bool, string) {
	if c.Test != "" {
		v, known := e.Attribute(resource, c.Attribute)
		if !known && c.Attribute == "state" {
			v = "initial"
		}
		if plan.Satisfies(c.Test, v, c.Values) {
			return true, ""
		}
		return false, fmt.Sprintf("%s of %s is %q, and must satisfy %s %s", c.Attribute, resource, v, c.Test, words(c.Values))
	}
	switch c.Op {
	case "or":
		var whys []string
		for _, x := range c.Clauses {
			ok, why := e.holds(x, resource)
			if ok {
				return true, ""
			}
			whys = append(whys, why)
		}
		return len(c.Clauses) == 0, strings.Join(whys, "; ")
	case "not":
		for _, x := range c.Clauses {
			if ok, _ := e.holds(x, resource); !ok {
				return true, ""
			}
		}
		return false, "what must not be so of " + resource + " is"
	}
	for _, x := range c.Clauses {
		if ok, why := e.holds(x, resource); !ok {
			return false, why
		}
	}
	return true, ""
}

func words(values []any) string { return strings.Trim(fmt.Sprint(values), "[]") }
