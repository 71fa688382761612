package sites

import (
	"context"
	"slices"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/reach"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
)

// SetThrough has a site, and what is at it, be reached through workers from now on. Those through whom the site is not reached
// now are refused: a slip in a name would cut the site off from all that is done there. Back to here one may always.
func (svc *Service) SetThrough(ctx context.Context, site string, through reach.Through) error {
	if err := through.Check(); err != nil {
		return fault.Default(fault.Invalid, err)
	}
	saying := acting.Saying("reached from here")
	if through.Pool != "" {
		saying = acting.Saying("reached through workers of the pool %s", through.String())
	}
	return svc.desk.Do(ctx, guard.RouteSite, guard.At(site), func() error {
		if err := svc.reachedThrough(ctx, site, through); err != nil {
			return err
		}
		return svc.workspace.NoteConnection(ctx, site, func(c *workspace.Connection) { c.Through = through.String() })
	}, saying)
}

// reachedThrough reports why a site is not reached through workers, if it is not.
func (svc *Service) reachedThrough(ctx context.Context, name string, through reach.Through) error {
	all, err := svc.workspace.Connections()
	i := slices.IndexFunc(all, func(c workspace.Connection) bool { return c.Site == name })
	if err != nil || i < 0 || through.Pool == "" {
		return err // a site that is not there is told of where it is changed
	}
	c := all[i]
	c.Through = through.String()
	c = svc.workspace.Routed(c)
	s, err := c.Describe(ctx)
	switch {
	case err != nil:
		return fault.Refusedf("%s is not reached through the pool %s: %s; it stays as it is reached now", name, through, plainly(err))
	case s.Name != name:
		return fault.Refusedf("what is reached through the pool %s where %s is calls itself %s; %s stays as it is reached now", through, name, s.Name, name)
	}
	return nil
}
