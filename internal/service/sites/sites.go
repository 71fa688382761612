package sites

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
)

// seen are the connections of the sites that the actor may look at.
func (svc *Service) seen() ([]workspace.Connection, error) {
	all, err := svc.workspace.Connections()
	if err != nil {
		return nil, err
	}
	return acting.Seen(context.Background(), svc.desk, all, func(c workspace.Connection) guard.Thing { return guard.At(c.Site) })
}

// Sites are the drivers of all connected sites, by name.
func (svc *Service) Sites() (map[string]site.Site, error) {
	connections, err := svc.seen()
	if err != nil {
		return nil, err
	}
	return drivers(connections), nil
}

// sites are the drivers whoever asks.
func (svc *Service) sites() (map[string]site.Site, error) {
	connections, err := svc.workspace.Connections()
	if err != nil {
		return nil, err
	}
	return drivers(connections), nil
}

func drivers(connections []workspace.Connection) map[string]site.Site {
	out := map[string]site.Site{}
	for _, c := range connections {
		out[c.Site] = c.Open()
	}
	return out
}

// Estate asks every connected site what it offers, all at once, in the order of the connections. Sites that do not
// answer are left out and reported in the error; the estate of the others is valid.
func (svc *Service) Estate(ctx context.Context) (*estate.Estate, error) {
	connections, err := svc.seen()
	if err != nil {
		return nil, err
	}
	e, away, err := svc.ask(ctx, connections)
	return e, errors.Join(away, err)
}

// Answering is the estate for looking at: of the sites that answer, with why each of the others is away.
func (svc *Service) Answering(ctx context.Context) (*estate.Estate, error) {
	connections, err := svc.seen()
	if err != nil {
		return nil, err
	}
	e, _, err := svc.ask(ctx, connections)
	return e, err
}

// estate is that of all sites, whoever asks.
func (svc *Service) estate(ctx context.Context) (*estate.Estate, error) {
	connections, err := svc.workspace.Connections()
	if err != nil {
		return nil, err
	}
	e, away, err := svc.ask(ctx, connections)
	return e, errors.Join(away, err)
}

// ask asks the sites of some connections what they offer. What those say that do not answer is apart from what else is wrong.
func (svc *Service) ask(ctx context.Context, connections []workspace.Connection) (e *estate.Estate, away, wrong error) {
	found := make([]*estate.Site, len(connections))
	errs := make([]error, len(connections))
	var group sync.WaitGroup
	for i, c := range connections {
		group.Go(func() { found[i], errs[i] = c.Describe(ctx) })
	}
	group.Wait()
	e = &estate.Estate{Version: estate.Version}
	if zone, err := svc.workspace.Zone(); err == nil && zone != nil {
		e.Zone = zone.Name
	}
	for i, s := range found {
		if s != nil {
			s.Seen = time.Now().UTC().Truncate(time.Second)
			e.Sites = append(e.Sites, s)
		}
		if errs[i] != nil {
			e.Away = append(e.Away, estate.Away{Name: connections[i].Site, Why: plainly(errs[i])})
		}
	}
	return e, errors.Join(errs...), errors.Join(oneCurrency(e), e.Check(), svc.reserved(ctx, e))
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
