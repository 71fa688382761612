package moves

import (
	"context"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"andamio/internal/core/estate"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/service/deployments"
	"andamio/internal/site"
)

// How the rate at which disks change is measured: for how long, after so long in which the first look at them settles,
// and of how many workloads at once.
const (
	settleFor     = 100 * time.Millisecond
	measureFor    = 400 * time.Millisecond
	measureAtOnce = 16
)

// measure finds out what copying takes of those workloads of a move of which that is not known.
func (svc *Service) measure(ctx context.Context, d *deployments.Deployment, m *Move, choices []migrate.Choice) error {
	e, err := svc.sites.Estate(ctx)
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(measureAtOnce)
	var mu sync.Mutex
	for _, c := range choices {
		if _, known := m.Loads[c.Instance]; known {
			continue
		}
		group.Go(func() error {
			load, err := svc.loadOf(ctx, d, e, c, m)
			mu.Lock()
			defer mu.Unlock()
			m.Loads[c.Instance] = load
			return err
		})
	}
	return group.Wait()
}

// loadOf measures what copying a workload takes.
func (svc *Service) loadOf(ctx context.Context, d *deployments.Deployment, e *estate.Estate, c migrate.Choice, m *Move) (migrate.Load, error) {
	out := migrate.Load{Mode: m.Request.Mode, Pause: m.Request.Pause, Consolidate: !m.Request.KeepLayers}
	if s := e.Site(c.Site); s != nil { // until the plan says so more exactly
		out.Start = s.Seconds(s.Timings.Instance/2 + s.Timings.Interface)
	}
	from := m.From[c.Instance]
	source, err := svc.disks(ctx, from)
	if err != nil {
		return out, err
	}
	if p, err := svc.sites.PairOf(ctx, from, c.Site); err == nil {
		link := p.Into(c.Site)
		out.Bandwidth, out.Merge = link.BytesPerSecond, link.DiskBytesPerSecond
	}
	disks := disksOf(d.Stand.Plan, c.Instance)
	if out.Bandwidth == 0 {
		if out.Bandwidth, err = readSpeed(ctx, source, disks); err != nil {
			return out, err
		}
	}
	if m.Request.Limit > 0 && (out.Bandwidth == 0 || float64(m.Request.Limit) < out.Bandwidth) {
		out.Bandwidth = float64(m.Request.Limit)
	}
	since := make([]site.Changes, len(disks))
	look := func(use func(site.Changes)) error {
		for i, disk := range disks {
			now, err := source.Changes(ctx, disk, since[i].Epoch, since[i].UpTo)
			if err != nil {
				return err
			}
			use(now)
			since[i] = now
		}
		return nil
	}
	err = look(func(all site.Changes) { out.Used, out.Size = out.Used+site.Bytes(all.Written), out.Size+all.Size })
	if err == nil {
		err = after(ctx, settleFor)
	}
	if err == nil {
		err = look(func(site.Changes) {})
	}
	start := time.Now()
	if err == nil {
		err = after(ctx, measureFor)
	}
	if err != nil {
		return out, err
	}
	return out, look(func(now site.Changes) { out.Rate += float64(site.Bytes(now.Written)) / time.Since(start).Seconds() })
}

// readFor is for how long disks are read to find out how fast that is.
const readFor = 500 * time.Millisecond

// readSpeed is how many bytes a second are read of disks, where nobody knows what gets through: no more than that.
func readSpeed(ctx context.Context, source site.Disks, disks []string) (float64, error) {
	for _, id := range disks {
		held, err := source.Changes(ctx, id, "", 0)
		if err != nil {
			return 0, err
		}
		if speed, err := readPart(ctx, source, id, held.Written); err != nil || speed > 0 {
			return speed, err
		}
	}
	return 0, nil
}

// readPart reads what a disk holds for a while, and returns how many bytes a second that were; 0 if it holds nothing.
func readPart(ctx context.Context, source site.Disks, id string, held []site.Extent) (float64, error) {
	start, n := time.Now(), int64(0)
	for _, x := range held {
		for at := x.Offset; at < x.Offset+x.Length && time.Since(start) < readFor; at += site.MaxPart {
			data, err := source.ReadDisk(ctx, id, site.Extent{Offset: at, Length: min(site.MaxPart, x.Offset+x.Length-at)})
			if err != nil {
				return 0, err
			}
			n += int64(len(data))
		}
	}
	return float64(n) / time.Since(start).Seconds(), nil
}

// after waits for a while, unless nobody waits any more.
func after(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// disksOf are the site's ids of an instance's own disk and its volumes.
func disksOf(p *plan.Plan, instance string) []string {
	out := []string{p.Known[instance]["site.id"]}
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Op == op.Attach && s.Resource == instance {
			out = append(out, p.Known[s.Volume]["site.id"])
		}
	}
	return slices.DeleteFunc(out, func(id string) bool { return id == "" })
}
