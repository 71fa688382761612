package engine

import (
	"context"
	"fmt"
	"strings"

	"andamio/internal/core/plan"
	"andamio/internal/site"
)

// mend sets names, tags and addresses of a thing, and looks that the site has them so.
func (e *Engine) mend(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	id, err := e.siteIDOf(s, r)
	if err != nil {
		return err
	}
	if _, bounds := s.Mends[plan.MendIOPerSecond]; bounds {
		return e.limit(ctx, s, r, id)
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
