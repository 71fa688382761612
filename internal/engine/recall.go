package engine

import (
	"context"
	"fmt"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/site"
)

// recall has an instance that is off go on from what a snapshot keeps of its memory. One that is on has been recalled: it was switched off before.
func (e *Engine) recall(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	from, to, err := e.fromSnapshot(s, r)
	if err != nil {
		return err
	}
	keeps, can := site.Can[site.MemoryKeeper](ctx, e.Sites[s.Site])
	if !can {
		return site.Final(fmt.Errorf("%s keeps no memory", s.Site))
	}
	err = e.call(ctx, s, func() error { return keeps.Recall(ctx, from, to) })
	if err != nil && site.ClassOf(err) != site.Conflict {
		return err
	}
	got, readErr := e.read(ctx, s, kinds.Instance, to)
	switch {
	case readErr != nil:
		return readErr
	case got.State == site.Active:
		return e.record(e.siteSays(r, got))
	case err != nil:
		return err
	}
	return fmt.Errorf("%s was asked to have it go on and says %s", s.Site, got.Word)
}
