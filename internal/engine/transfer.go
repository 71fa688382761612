package engine

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// after are the parts of extents from an offset on.
func after(list []site.Extent, at int64) []site.Extent {
	var out []site.Extent
	for _, x := range list {
		if end := x.Offset + x.Length; end > at {
			from := max(x.Offset, at)
			out = append(out, site.Extent{Offset: from, Length: end - from})
		}
	}
	return out
}

// transfer has the target copy extents, order by order; between two it obeys what was said meanwhile.
func (c *copier) transfer(ctx context.Context, d plan.DiskCopy, from, to string, list site.Changes, done int64, layer int) (wire int64, err error) {
	c.e.transfers.Add(1)
	defer c.e.transfers.Add(-1)
	rest, zero := list.Written, list.Zero
	for len(rest) > 0 || len(zero) > 0 {
		if err := c.wait(ctx); err != nil {
			return wire, err
		}
		limit := c.limit()
		var part []site.Extent
		part, rest = cut(rest, c.sized(limit))
		var got site.Copied
		start := time.Now()
		err := c.e.call(ctx, c.s, func() (err error) {
			got, err = c.to.Copy(ctx, to, site.CopyRequest{Peer: c.terms.From, Disk: from, Written: part, Zero: zero, Limit: limit, Compress: c.compress, Round: layer})
			return err
		})
		if err != nil {
			return wire, err
		}
		if got.Verified != site.Bytes(part) {
			return wire, fmt.Errorf("%s verified %d of %d bytes", c.s.Site, got.Verified, site.Bytes(part))
		}
		zero = nil
		done += got.Bytes
		wire += got.Wire
		took := time.Since(start)
		c.learnSpeed(got, took)
		if layer == 0 && len(rest) > 0 {
			if err := c.lookBack(ctx, d, from); err != nil {
				return wire, err
			}
		}
		at := list.Size
		if len(rest) > 0 {
			at = rest[0].Offset
		}
		err = c.e.record(run.Event{Kind: run.Copied, Step: c.s.ID, Resource: d.To, Attributes: map[string]string{"disk": d.To,
			"bytes": strconv.FormatInt(got.Bytes, 10), "wire": strconv.FormatInt(got.Wire, 10), "done": strconv.FormatInt(done, 10), "at": strconv.FormatInt(at, 10), "took": fmt.Sprintf("%.3f", took.Seconds())}})
		if err != nil {
			return wire, err
		}
	}
	return wire, nil
}

// lookBack asks now and again, ever more seldom, how much has changed since the first copy of a disk began: that is the
// round after it.
func (c *copier) lookBack(ctx context.Context, d plan.DiskCopy, from string) error {
	k := c.known(d)
	since, last := time.Since(k.Began), k.ChangedAt.Sub(k.Began)
	if k.Upto == 0 || since < firstLook || !k.ChangedAt.IsZero() && since < last*5/4 {
		return nil
	}
	var now site.Changes
	err := c.e.callAt(ctx, c.s, c.terms.From, func() (err error) {
		now, err = c.from.Changes(ctx, from, k.Epoch, k.Upto)
		return err
	})
	if err != nil || now.Whole {
		return err
	}
	return c.e.record(run.Event{Kind: run.Changed, Step: c.s.ID, Resource: d.To,
		Attributes: map[string]string{"disk": d.To, "bytes": strconv.FormatInt(site.Bytes(now.Written), 10)}})
}

// firstLook is after how long it is first asked what has changed meanwhile.
const firstLook = time.Second

// limit is how many bytes a second may be copied now, 0 for as many as get through: its share of what the run may copy,
// with all disks that are copied now.
func (c *copier) limit() int64 {
	limit := c.terms.Limit
	if ctl := c.control(); ctl.Limited {
		limit = ctl.Limit
	}
	if limit <= 0 {
		return 0
	}
	return max(limit/max(int64(c.e.transfers.Load()), 1), 1)
}

// sized is how much to order at once: so much that the order does not take long, since it is obeyed between two of them
// what was said meanwhile.
func (c *copier) sized(limit int64) int64 {
	if limit <= 0 {
		return c.order
	}
	return min(c.order, max(int64(float64(limit)*orderTime.Seconds())/4096*4096, smallOrder))
}

// cut splits extents after so many bytes.
func cut(list []site.Extent, n int64) (part, rest []site.Extent) {
	for i, x := range list {
		if x.Length > n {
			if n > 0 {
				part = append(part, site.Extent{Offset: x.Offset, Length: n})
			}
			return part, append([]site.Extent{{Offset: x.Offset + n, Length: x.Length - n}}, list[i+1:]...)
		}
		part = append(part, x)
		if n -= x.Length; n == 0 {
			return part, list[i+1:]
		}
	}
	return part, nil
}

// learnSpeed works out how much gets through, how much to order at once, and whether compressing pays: it does where the
// way is slower than compressing, and the bytes become fewer.
func (c *copier) learnSpeed(got site.Copied, took time.Duration) {
	if got.Bytes < leastOrder/4 || took <= 0 {
		return
	}
	speed := float64(got.Bytes) / took.Seconds()
	if c.bandwidth == 0 {
		c.bandwidth = speed
	}
	c.bandwidth = 0.5*c.bandwidth + 0.5*speed
	c.order = min(max(int64(speed*orderTime.Seconds())/4096*4096, leastOrder), mostOrder)
	if c.terms.Compress == "" {
		switch {
		case !c.compress && speed < compressing*8 && got.Bytes >= leastOrder:
			c.compress = true // tried; the next order tells
		case c.compress && float64(got.Wire) > 0.95*float64(got.Bytes):
			c.compress = false
		}
	}
}

// wait waits while it is paused, or until a window opens.
func (c *copier) wait(ctx context.Context) error {
	for {
		opens, open := c.window(time.Now())
		if open && !c.control().Paused {
			return ctx.Err()
		}
		if !open && opens.IsZero() {
			return site.Final(errors.New("the last window in which may be copied is over: give it another, or lift it"))
		}
		if err := pause(ctx, 50*time.Millisecond); err != nil {
			return err
		}
	}
}

// window says whether a window is open, else when the next one opens.
func (c *copier) window(now time.Time) (opens time.Time, open bool) {
	if len(c.terms.Windows) == 0 {
		return now, true
	}
	for _, w := range c.terms.Windows {
		if now.Before(w.From) {
			return w.From, false
		}
		if now.Before(w.To) {
			return w.From, true
		}
	}
	return time.Time{}, false
}
