package driver

import (
	"context"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// Shut is a site that cannot be opened: whatever is asked of it is refused with the reason, so that the others go on.
func Shut(name string, why error) site.Site {
	return &shut{name, &site.Error{Site: name, Doing: "open the connection", Class: site.Refused, Err: why}}
}

type shut struct {
	name string
	why  error
}

func (s *shut) Name() string                                     { return s.name }
func (s *shut) Describe(context.Context) (*estate.Site, error)   { return nil, s.why }
func (s *shut) Delete(context.Context, kinds.Kind, string) error { return s.why }

func (s *shut) Create(context.Context, site.Request) (site.Resource, error) {
	return site.Resource{}, s.why
}

func (s *shut) Read(context.Context, kinds.Kind, string) (site.Resource, error) {
	return site.Resource{}, s.why
}

func (s *shut) List(context.Context, kinds.Kind) ([]site.Resource, error) { return nil, s.why }

func (s *shut) Invoke(context.Context, kinds.Kind, string, string) (site.Resource, error) {
	return site.Resource{}, s.why
}

func (s *shut) Change(context.Context, kinds.Kind, string, site.Request) (site.Resource, error) {
	return site.Resource{}, s.why
}

func (s *shut) Access(context.Context) (site.Access, error)         { return site.Access{}, s.why }
func (s *shut) Page(context.Context, site.Query) (site.Page, error) { return site.Page{}, s.why }
func (s *shut) Rotate(context.Context, string) (string, error)      { return "", s.why }
