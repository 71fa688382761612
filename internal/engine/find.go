package engine

import (
	"context"
	"fmt"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// find takes note of what a step would build and is there already: it looks that it is there, and on or off as it is to be, and learns what is known of
// it. Nothing is built, whatever comes of it.
func (e *Engine) find(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	got, err := e.read(ctx, s, kindOf(s, r), s.Finds)
	if site.ClassOf(err) == site.NotFound && err != nil {
		return site.Final(fmt.Errorf("%s has no %s any more: survey it again", s.Site, s.Finds))
	}
	if err != nil {
		return err
	}
	want := site.Active
	if r.Off && s.Op == op.Create {
		want = site.Stopped
	}
	if got.State != want {
		return site.Final(fmt.Errorf("%s at %s is %s, and was %s when it was to be taken note of: survey it again", r.Title, s.Site, got.Word, want))
	}
	known := unmapped(r, learned(s, got))
	out := make(map[string]string, len(known)+1)
	for k, v := range known {
		out[k] = v
	}
	out[siteID(s)] = s.Finds
	if s.Op != op.Attach {
		out[plan.AttrFound] = got.Name
	}
	return e.record(e.siteSays(r, got), run.Event{Kind: run.Learned, Resource: r.ID, Attributes: out})
}
