package engine

import (
	"context"
	"fmt"
	"strings"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// accept takes over what a site has: it looks that the thing is there, and learns what is known of it.
func (e *Engine) accept(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	id, err := e.standing(s, r)
	if err != nil {
		return err
	}
	got, err := e.read(ctx, s, kindOf(s, r), id)
	if err != nil {
		return err
	}
	known := map[string]string{siteID(s): id}
	for k, v := range got.Attributes {
		known[k] = v
	}
	return e.record(e.siteSays(r, got), run.Event{Kind: run.Learned, Resource: r.ID, Attributes: known})
}

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

// mend sets names, tags and addresses of a thing, and looks that the site has them so.
func (e *Engine) mend(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	id, err := e.standing(s, r)
	if err != nil {
		return err
	}
	req := site.Request{Kind: kindOf(s, r), Name: r.ID, Tags: map[string]string{}}
	for name, v := range s.Mends {
		tag, isTag := strings.CutPrefix(name, "tag.")
		switch {
		case isTag:
			req.Tags[tag] = v
		case name == "name":
			req.Rename = v
		case name == "inside_address":
			req.Address = v
		default:
			return site.Final(fmt.Errorf("%s cannot be asked to set %s", s.Site, name))
		}
	}
	var got site.Resource
	err = e.call(ctx, s, func() (err error) {
		got, err = e.Sites[s.Site].Change(ctx, req.Kind, id, req)
		return err
	})
	if err != nil {
		return err
	}
	if req.Rename != "" && got.Name != req.Rename {
		return fmt.Errorf("%s was asked to call it %s and calls it %s", s.Site, req.Rename, got.Name)
	}
	return e.record(e.siteSays(r, got))
}
