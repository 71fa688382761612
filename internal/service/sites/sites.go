package sites

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/site"
)

// Sites are the drivers of all connected sites, by name.
func (svc *Service) Sites() (map[string]site.Site, error) {
	connections, err := svc.workspace.Connections()
	if err != nil {
		return nil, err
	}
	out := map[string]site.Site{}
	for _, c := range connections {
		out[c.Site] = c.Open()
	}
	return out, nil
}

// Estate asks every connected site what it offers, all at once, in the order of the connections. Sites that do not
// answer are left out and reported in the error; the estate of the others is valid.
func (svc *Service) Estate(ctx context.Context) (*estate.Estate, error) {
	connections, err := svc.workspace.Connections()
	if err != nil {
		return nil, err
	}
	found := make([]*estate.Site, len(connections))
	errs := make([]error, len(connections))
	var group sync.WaitGroup
	for i, c := range connections {
		group.Go(func() { found[i], errs[i] = c.Open().Describe(ctx) })
	}
	group.Wait()
	e := &estate.Estate{Version: estate.Version}
	if zone, err := svc.workspace.Zone(); err == nil && zone != nil {
		e.Zone = zone.Name
	}
	for _, s := range found {
		if s != nil {
			s.Seen = time.Now().UTC().Truncate(time.Second)
			e.Sites = append(e.Sites, s)
		}
	}
	errs = append(errs, oneCurrency(e))
	return e, errors.Join(append(errs, e.Check(), svc.reserved(ctx, e))...)
}

// oneCurrency makes the sites' currency the estate's, and leaves out those whose prices cannot be added to the others'.
func oneCurrency(e *estate.Estate) error {
	var others []*estate.Site
	e.Currency, others = estate.OneCurrency(e.Sites)
	var errs []error
	for _, s := range others {
		errs = append(errs, fault.Refusedf("%s has its prices in %s, and the sites before it in %s: they cannot be added up, so it is left out; disconnect it, or ask its provider for prices in %s",
			s.Name, s.Prices.Currency, e.Currency, e.Currency))
	}
	e.Sites = slices.DeleteFunc(e.Sites, func(s *estate.Site) bool { return slices.Contains(others, s) })
	return errors.Join(errs...)
}
