package sites

import (
	"context"
	"errors"

	"andamio/internal/core/guard"
)

// Disconnect removes a site: its connection, its credential and what was observed there. Records stay, with their
// history. A site that something of a deployment stands at is not removed.
func (svc *Service) Disconnect(ctx context.Context, name string) error {
	return svc.desk.Do(ctx, guard.RemoveSite, guard.At(name), func() error { return svc.disconnect(ctx, name) })
}

func (svc *Service) disconnect(ctx context.Context, name string) error {
	c, err := svc.workspace.Connection(name)
	if err != nil {
		return err
	}
	if err := svc.standing.NothingAt(ctx, name); err != nil {
		return err
	}
	return errors.Join(svc.workspace.DropConnection(ctx, c), svc.store.ForgetSite(ctx, name), svc.returnAll(ctx, name))
}

// returnAll has what is leased of a site's addresses be nobody's.
func (svc *Service) returnAll(ctx context.Context, site string) error {
	all, err := svc.store.AddressLeases(ctx)
	errs := []error{err}
	for _, l := range all {
		if l.Site == site {
			errs = append(errs, svc.store.ReturnAddress(ctx, l.Site, l.Value))
		}
	}
	return errors.Join(errs...)
}
