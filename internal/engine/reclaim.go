package engine

import (
	"context"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/site"
)

// reclaim has back what was given up of an interface. What is there already is left alone.
func (e *Engine) reclaim(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	id, err := e.siteIDOf(s, r)
	if err != nil {
		return err
	}
	return e.call(ctx, s, func() error {
		_, err := e.Sites[s.Site].Invoke(ctx, kinds.Interface, id, site.ActReclaim)
		return err
	})
}
