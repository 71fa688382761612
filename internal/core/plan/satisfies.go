package plan

import (
	"andamio/internal/core/tosca"
)

// Satisfies holds a text, as an attribute is known to a run, against a constraint of TOSCA 1.3, section 3.6.3. Numbers
// and sizes compare as such where both sides are.
func Satisfies(test, text string, values []any) bool {
	return tosca.NewConstraint(test, values).Text(text)
}
