package engine

import (
	"context"
	"fmt"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/site"
)

// suspend lets an instance stand still. One that does already is left alone.
func (e *Engine) suspend(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	id, err := e.siteIDOf(s, r)
	if err != nil {
		return err
	}
	var got site.Resource
	err = e.call(ctx, s, func() (err error) {
		got, err = e.Sites[s.Site].Invoke(ctx, kinds.Instance, id, site.ActSuspend)
		return err
	})
	if err != nil && site.ClassOf(err) != site.Conflict {
		return err
	}
	if err != nil { // it may be so already
		if got, err = e.read(ctx, s, kinds.Instance, id); err != nil {
			return err
		}
	}
	if got.State != site.Suspended {
		return fmt.Errorf("%s was asked to suspend it and says %s", s.Site, got.Word)
	}
	return e.record(e.siteSays(r, got))
}
