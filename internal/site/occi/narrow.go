package occi

import (
	"context"

	"andamio/internal/site"
)

var _ site.Narrower = (*Driver)(nil)

// standard is a site of the standard alone: it is surveyed, and has none of what our mixins and actions are for.
type standard struct{ surveyed }

// surveyed are the methods that need nothing beyond the standard.
type surveyed interface {
	site.Site
	site.Surveyor
}

// Narrow is the site without what a plain one has no words for.
func (d *Driver) Narrow(ctx context.Context) site.Site {
	if o, err := d.offers(ctx); err != nil || !o.plain() {
		return d
	}
	return standard{d}
}
