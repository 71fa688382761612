package engine

import (
	"context"
	"strconv"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// renew has copies at a site hold what snapshots of disks at another keep.
func (e *Engine) renew(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	c, err := e.copierBetween(ctx, s)
	if err != nil {
		return err
	}
	for _, d := range c.terms.Disks {
		if err := c.renew(ctx, d); err != nil {
			return err
		}
	}
	return nil
}

// renew copies what was written between the snapshot that a copy holds and another, and notes up to when it is like the disk now. A snapshot tells
// its disk's generations; where these are lost, blocks are compared.
func (c *copier) renew(ctx context.Context, d plan.DiskCopy) error {
	if err := c.baseline(d, d.To, attrLikeEpoch, attrLikeUpTo); err != nil {
		return err
	}
	if _, err := c.round(ctx, d); err != nil {
		return err
	}
	k := c.known(d)
	return c.e.record(run.Event{Kind: run.Learned, Resource: d.To, Attributes: map[string]string{attrLikeEpoch: k.Epoch, attrLikeUpTo: strconv.FormatUint(uint64(k.Base), 10),
		change.AttrRenewedAt: time.Now().UTC().Format(time.RFC3339Nano)}})
}

// Attributes of a copy: up to which generation of the disk that it is a copy of it is like it.
const (
	attrLikeEpoch = "like.epoch"
	attrLikeUpTo  = "like.upto"
)
