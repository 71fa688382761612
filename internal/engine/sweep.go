package engine

import (
	"context"
	"fmt"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// sweep looks for whatever of the deployment is left at a site, removes it, and looks that nothing is.
func (e *Engine) sweep(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	for round := 0; ; round++ {
		left := 0
		for _, kind := range site.Kinds {
			all, err := e.look(ctx, s, kind)
			if err != nil {
				return err
			}
			for _, f := range bearing(all, e.markAll()) {
				left++
				text := fmt.Sprintf("left over and removed: %s %s (%s)", kind, f.ID, f.Name)
				if err := e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: text}); err != nil {
					return err
				}
				if err := e.erase(ctx, s, kind, f.ID); err != nil {
					return err
				}
			}
		}
		if left == 0 {
			return e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: "nothing of the deployment is left at " + s.Site})
		}
		if err := pause(ctx, e.Patience.Wait); err != nil {
			return err
		}
	}
}
