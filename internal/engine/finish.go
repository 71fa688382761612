package engine

import (
	"context"
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
		err = c.e.record(run.Event{Kind: run.Learned, Resource: d.To, Attributes: map[string]string{attrEpoch: now.Epoch, attrUpTo: strconv.FormatUint(uint64(now.UpTo), 10), attrLayers: strconv.Itoa(now.Layers)}})
		if err != nil {
			return err
		}
	}
	return nil
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
