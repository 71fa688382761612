package engine

import (
	"context"
	"fmt"
	"strconv"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// finish copies the rest when nothing changes any more.
func (e *Engine) finish(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	c, err := e.copierBetween(ctx, s)
	if err != nil {
		return err
	}
	return c.finish(ctx)
}

// finish copies what is left now that nothing changes any more, and notes as of when the target is like the source: what
// is written there from then on can be had back.
func (c *copier) finish(ctx context.Context) error {
	if !c.terms.Back {
		if err := c.size(ctx); err != nil {
			return err
		}
	}
	for _, d := range c.terms.Disks {
		if c.terms.Back {
			if err := c.baseline(d, d.From, attrEpoch, attrUpTo); err != nil {
				return err
			}
		}
		if _, err := c.round(ctx, d); err != nil {
			return err
		}
	}
	if err := c.again(ctx); err != nil {
		return err
	}
	for _, d := range c.terms.Disks {
		if err := c.alike(ctx, d); err != nil {
			return err
		}
	}
	return nil
}

// alike notes as of when a disk is like what it was copied from.
func (c *copier) alike(ctx context.Context, d plan.DiskCopy) error {
	to, err := c.id(d.To)
	if err != nil {
		return err
	}
	var now site.Changes
	err = c.e.call(ctx, c.s, func() (err error) {
		now, err = c.to.Changes(ctx, to, "", 0)
		return err
	})
	if err != nil {
		return err
	}
	return c.e.record(run.Event{Kind: run.Learned, Resource: d.To, Attributes: map[string]string{attrEpoch: now.Epoch, attrUpTo: strconv.FormatUint(uint64(now.UpTo), 10), attrLayers: strconv.Itoa(now.Layers)}})
}

// mostLast bounds how often what stands still is copied again because it was written all the same.
const mostLast = 5

// again looks that no disk was written since its last round although none should be, and copies that: a site that falls and comes back puts what its
// machines had in memory on their disks anew, on all of them, and what was listed before is not all then.
func (c *copier) again(ctx context.Context) error {
	var moves string
	for range mostLast {
		moves = ""
		for _, d := range c.terms.Disks {
			still, err := c.still(ctx, d)
			if err == nil && !still {
				moves = d.From
				_, err = c.round(ctx, d)
			}
			if err != nil {
				return err
			}
		}
		if moves == "" {
			return nil
		}
	}
	return site.Final(fmt.Errorf("%s goes on being written, though nothing on it runs", moves))
}

// still reports that nothing was written on a disk since its last round. Sites that tell that by digests of all of it are not asked: they take long, and
// what is off there stays as it is when they fall.
func (c *copier) still(ctx context.Context, d plan.DiskCopy) (bool, error) {
	if _, knows := c.from.(site.Pairer); !knows {
		return true, nil
	}
	from, err := c.id(d.From)
	if err != nil {
		return false, err
	}
	list, err := c.list(ctx, from, c.known(d))
	return !list.Whole && len(list.Written)+len(list.Zero) == 0, err
}

// Attributes of what was copied to: as of when it is like what it was copied from.
const (
	attrEpoch = "copied.epoch"
	attrUpTo  = "copied.upto"
	// attrLayers is in how many layers a disk is kept.
	attrLayers = "disk.layers"
)

// baseline begins a copy of which nothing is known in this run with what was noted, of a resource by two attributes, when the disks were alike.
func (c *copier) baseline(d plan.DiskCopy, of, epochAttr, upToAttr string) error {
	if k := c.known(d); len(k.Past) > 0 || k.Running {
		return nil
	}
	epoch, known := c.e.Attribute(of, epochAttr)
	upto, _ := c.e.Attribute(of, upToAttr)
	if !known {
		return nil
	}
	return c.e.record(run.Event{Kind: run.RoundBegun, Resource: d.To, Attributes: map[string]string{"disk": d.To, "round": "0", "epoch": epoch, "upto": upto}},
		run.Event{Kind: run.RoundDone, Resource: d.To, Attributes: map[string]string{"disk": d.To}})
}
