package engine

import (
	"context"
	"strconv"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// replicate copies disks whole for the first time.
func (e *Engine) replicate(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	c, err := e.copierBetween(ctx, s)
	if err != nil {
		return err
	}
	return c.first(ctx)
}

// first copies all disks whole, or goes on where it was broken off.
func (c *copier) first(ctx context.Context) error {
	if err := c.size(ctx); err != nil {
		return err
	}
	for _, d := range c.terms.Disks {
		if len(c.known(d).Past) > 0 {
			continue
		}
		if _, err := c.round(ctx, d); err != nil {
			return err
		}
	}
	return nil
}

// size notes how much all disks hold before the first of them is copied, so that it can be said when all will be.
func (c *copier) size(ctx context.Context) error {
	for _, d := range c.terms.Disks {
		k := c.known(d)
		if k.Whole > 0 || k.Round > 0 {
			continue
		}
		from, err := c.id(d.From)
		if err != nil {
			return err
		}
		list, err := c.list(ctx, from, k)
		if err != nil {
			return err
		}
		err = c.e.record(run.Event{Kind: run.Sized, Step: c.s.ID, Resource: d.To,
			Attributes: map[string]string{"disk": d.To, "total": strconv.FormatInt(site.Bytes(list.Written), 10)}})
		if err != nil {
			return err
		}
	}
	return nil
}
