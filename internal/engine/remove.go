package engine

import (
	"context"
	"fmt"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// remove takes a thing away: the one that is known, and any other that bears the mark of the step that built it, which a
// run that broke off may have left.
func (e *Engine) remove(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	kind := kindOf(s, r)
	id, known := e.Attribute(r.ID, siteID(s))
	if known && id != "" {
		if err := e.part(ctx, s, r); err != nil {
			return err
		}
		if err := e.erase(ctx, s, kind, id); err != nil {
			return err
		}
		return e.record(run.Event{Kind: run.SiteSays, Resource: r.ID, Text: "gone"},
			run.Event{Kind: run.Learned, Resource: r.ID, Attributes: forgotten(s)})
	}
	if len(s.Drops) == 0 {
		return nil
	}
	all, err := e.look(ctx, s, kind)
	if err != nil {
		return err
	}
	for _, f := range bearing(all, e.markOf(s.Drops[0])) {
		if err := e.erase(ctx, s, kind, f.ID); err != nil {
			return err
		}
	}
	return nil
}

// erase deletes a thing and looks that it is gone: a site may say so and not have done it, or fail and have done it.
// What is in the way of it, such as a link that is just being removed, is waited for.
func (e *Engine) erase(ctx context.Context, s *plan.Step, kind kinds.Kind, id string) error {
	wait := e.Patience.Wait / 4
	var inTheWay error
	for {
		err := e.call(ctx, s, func() error { return e.Sites[s.Site].Delete(ctx, kind, id) })
		class := site.ClassOf(err)
		switch {
		case err != nil && class == site.NotFound:
			return nil
		case err != nil && class == site.Conflict:
			inTheWay = err
		case err != nil && ctx.Err() != nil && inTheWay != nil:
			return fmt.Errorf("%w (until the deadline)", inTheWay)
		case err != nil:
			return err
		}
		if err == nil {
			_, err := e.read(ctx, s, kind, id)
			if err != nil && site.ClassOf(err) == site.NotFound {
				return nil
			}
			if err != nil {
				return err
			}
		}
		if waited := pause(ctx, wait); waited != nil {
			if inTheWay != nil {
				return fmt.Errorf("%w (until the deadline)", inTheWay)
			}
			return waited
		}
		wait = min(wait*2, e.Patience.Most)
	}
}
