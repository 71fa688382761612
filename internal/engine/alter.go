package engine

import (
	"context"

	"andamio/internal/core/plan"
	"andamio/internal/site"
)

// alter changes in place what stands.
func (e *Engine) alter(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	id, err := e.siteIDOf(s, r)
	if err != nil {
		return err
	}
	sp := r.AsInstance()
	req := site.Request{Kind: kindOf(s, r), Name: r.ID, Size: sp.Size, Cores: sp.Cores, MemoryGiB: sp.MemoryGiB, DiskGiB: r.DiskGiB()}
	var got site.Resource
	err = e.call(ctx, s, func() (err error) {
		got, err = e.Sites[s.Site].Change(ctx, req.Kind, id, req)
		return err
	})
	if err != nil {
		return err
	}
	return e.record(e.siteSays(r, got))
}
