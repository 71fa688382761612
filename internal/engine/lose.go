package engine

import (
	"context"
	"fmt"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// lose takes note that a thing is gone, once the site says so too.
func (e *Engine) lose(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	if id, known := e.Attribute(r.ID, siteID(s)); known && id != "" {
		_, err := e.read(ctx, s, kindOf(s, r), id)
		if err == nil {
			return site.Final(fmt.Errorf("%s still has %s: survey it again", s.Site, id))
		}
		if site.ClassOf(err) != site.NotFound {
			return err
		}
	}
	return e.record(run.Event{Kind: run.SiteSays, Resource: r.ID, Text: "gone"},
		run.Event{Kind: run.Learned, Resource: r.ID, Attributes: map[string]string{siteID(s): ""}})
}
