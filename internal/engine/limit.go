package engine

import (
	"context"
	"fmt"
	"strconv"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// limit bounds how much a volume is read and written, looks that its site has it so, and notes which volume of the site was bounded by what.
func (e *Engine) limit(ctx context.Context, s *plan.Step, r *plan.Resource, id string) error {
	at, can := site.Can[site.Limiter](ctx, e.Sites[s.Site])
	if !can {
		return site.Final(fmt.Errorf("%s does not bound how much volumes are read and written", s.Site))
	}
	want, err := limitOf(s.Mends)
	if err != nil {
		return site.Final(err)
	}
	if err := e.call(ctx, s, func() error { return at.Limit(ctx, id, want) }); err != nil {
		return err
	}
	got, err := e.read(ctx, s, kindOf(s, r), id)
	if err != nil {
		return err
	}
	has, err := limitOf(map[string]string{plan.MendIOPerSecond: got.Attributes[site.AttrIOPerSecond], plan.MendIOMiB: got.Attributes[site.AttrIOMiBPerSecond]})
	if err != nil || has != want {
		return fmt.Errorf("%s was asked to bound %s by %+v and bounds it by %+v", s.Site, r.ID, want, has)
	}
	return e.record(e.siteSays(r, got), run.Event{Kind: run.Learned, Resource: r.ID, Attributes: map[string]string{plan.AttrLimited: plan.Limited(id, want.PerSecond, want.MiBPerSecond)}})
}

// limitOf reads what a volume is bounded by; "" bounds nothing.
func limitOf(from map[string]string) (site.IOLimit, error) {
	var out site.IOLimit
	var err error
	if v := from[plan.MendIOPerSecond]; v != "" {
		if out.PerSecond, err = strconv.Atoi(v); err != nil {
			return out, fmt.Errorf("%s: %q is no number", plan.MendIOPerSecond, v)
		}
	}
	if v := from[plan.MendIOMiB]; v != "" {
		if out.MiBPerSecond, err = strconv.ParseFloat(v, 64); err != nil {
			return out, fmt.Errorf("%s: %q is no number", plan.MendIOMiB, v)
		}
	}
	return out, nil
}
