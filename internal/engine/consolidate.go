package engine

import (
	"context"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// consolidate makes one of the layers of disks.
func (e *Engine) consolidate(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	return e.newCopier(s).consolidateAll(ctx)
}

// consolidateAll makes the layers of all disks of a workload one, while it runs. A site that keeps no layers has them in one already.
func (c *copier) consolidateAll(ctx context.Context) error {
	at, layered := site.Can[site.Copier](ctx, c.e.Sites[c.s.Site])
	for _, d := range c.terms.Disks {
		id, err := c.id(d.To)
		if err != nil {
			return err
		}
		if layered {
			if err := c.consolidate(ctx, at, id); err != nil {
				return err
			}
		}
		if err := c.e.record(run.Event{Kind: run.Learned, Resource: d.To, Attributes: map[string]string{attrLayers: "1"}}); err != nil {
			return err
		}
	}
	return nil
}
