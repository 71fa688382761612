package engine

import (
	"fmt"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// kindOf is the site's kind of what a step removes or changes.
func kindOf(s *plan.Step, r *plan.Resource) kinds.Kind {
	if s.Op == op.Attach || s.Op == op.Detach {
		return kinds.Attachment
	}
	return r.Kind
}

// siteIDOf is the site's id of a resource that stands.
func (e *Engine) siteIDOf(s *plan.Step, r *plan.Resource) (string, error) {
	id, ok := e.Attribute(r.ID, siteID(s))
	if !ok || id == "" {
		return "", fmt.Errorf("the site's id of %s is not known", r.ID)
	}
	return id, nil
}
