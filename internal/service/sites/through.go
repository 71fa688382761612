package sites

import (
	"context"
	"slices"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
)

// SetThrough has a site, and what is at it, be reached through a pool of workers from now on; "" is from here. A pool through which the site is not reached
// now is refused: a slip in its name would cut the site off from all that is done there. Back to here one may always.
func (svc *Service) SetThrough(ctx context.Context, site, pool string) error {
	if pool != "" {
		if err := workspace.CheckPool(pool); err != nil {
			return err
		}
	}
	saying := acting.Saying("reached from here")
	if pool != "" {
		saying = acting.Saying("reached through workers of the pool %s", pool)
	}
	return svc.desk.Do(ctx, guard.RouteSite, guard.At(site), func() error {
		if err := svc.reachedThrough(ctx, site, pool); err != nil {
			return err
		}
		return svc.workspace.NoteConnection(ctx, site, func(c *workspace.Connection) { c.Through = pool })
	}, saying)
}

// reachedThrough reports why a site is not reached through a pool, if it is not.
func (svc *Service) reachedThrough(ctx context.Context, name, pool string) error {
	all, err := svc.workspace.Connections()
	i := slices.IndexFunc(all, func(c workspace.Connection) bool { return c.Site == name })
	if err != nil || i < 0 || pool == "" {
		return err // a site that is not there is told of where it is changed
	}
	c := all[i]
	c.Through = pool
	c = svc.workspace.Routed(c)
	s, err := c.Describe(ctx)
	switch {
	case err != nil:
		return fault.Refusedf("%s is not reached through the pool %s: %s; it stays as it is reached now", name, pool, plainly(err))
	case s.Name != name:
		return fault.Refusedf("what is reached through the pool %s where %s is calls itself %s; %s stays as it is reached now", pool, name, s.Name, name)
	}
	return nil
}
