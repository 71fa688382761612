package promises

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/promise"
	"andamio/internal/service/deployments"
	"andamio/internal/service/replicas"
)

// replicate makes the copies of a deployment at another site like its disks.
func (svc *Service) replicate(ctx context.Context, deployment int64, now time.Time) (string, error) {
	p, err := svc.promised(ctx, deployment, promise.Replicated)
	if err != nil {
		return "", err
	}
	t := p.Replicated
	o, err := svc.replicas.Replicating(ctx, deployment, replicas.Request{Site: t.Site, Of: t.Of, Barrier: t.Barrier}, now)
	if err != nil {
		return "", err
	}
	o.Bound = deployments.BoundByWindows
	return svc.done(ctx, o)
}

// aged says of which moment the copies are, and whether that is longer ago than may be lost.
func (svc *Service) aged(ctx context.Context, k *Kept, now time.Time) error {
	all, err := svc.replicas.At(svc.desk.Inside()).Replicas(ctx, k.Deployment)
	for i := range all {
		if all[i].Site == k.Replicated.Site {
			k.As = all[i].As
		}
	}
	if lose := k.Replicated.Lose; lose > 0 {
		since := k.As
		if since.IsZero() { // nothing was copied yet: it counts from when it was promised
			since = k.Since
		}
		k.Stale = now.Sub(since) > lose
	}
	return err
}

// Age says how old the copies of a promise are; "" of others, and where there are none.
func (k *Kept) Age(now time.Time) string {
	if k.As.IsZero() {
		return ""
	}
	return fmt.Sprintf("as of %s ago", promise.Span(max(now.Sub(k.As), 0).Round(time.Minute)))
}
