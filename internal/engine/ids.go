package engine

import (
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/site"
	"fmt"
)

// kindOf is the site's kind of what a step removes or changes.
func kindOf(s *plan.Step, r *plan.Resource) site.Kind {
	switch {
	case s.Op == op.Detach:
		return site.Attachment
	case r.Kind == plan.Interface:
		return site.Interface
	case r.Kind == plan.Network:
		return site.Network
	case r.Kind == plan.Volume:
		return site.Volume
	case r.Kind == plan.Object:
		return site.Object
	}
	return site.Instance
}

// standing is the site's id of a resource that stands.
func (e *Engine) standing(s *plan.Step, r *plan.Resource) (string, error) {
	id, ok := e.Attribute(r.ID, siteID(s))
	if !ok || id == "" {
		return "", fmt.Errorf("the site's id of %s is not known", r.ID)
	}
	return id, nil
}
