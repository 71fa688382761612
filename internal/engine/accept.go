package engine

import (
	"context"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// accept takes over what a site has: it looks that the thing is there, and learns what is known of it.
func (e *Engine) accept(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	id, err := e.siteIDOf(s, r)
	if err != nil {
		return err
	}
	got, err := e.read(ctx, s, kindOf(s, r), id)
	if err != nil {
		return err
	}
	known := map[string]string{siteID(s): id}
	for k, v := range unmapped(r, got.Attributes) {
		known[k] = v
	}
	return e.record(e.siteSays(r, got), run.Event{Kind: run.Learned, Resource: r.ID, Attributes: known})
}
