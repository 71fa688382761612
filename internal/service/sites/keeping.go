package sites

import (
	"context"

	"andamio/internal/core/estate"
	"andamio/internal/core/level"
	"andamio/internal/site"
)

// Keeping is a site, and what it can do of what service levels consist of.
type Keeping struct {
	Site *estate.Site
	level.Able
}

// Keeping says of the connected sites what each of them can do of what service levels consist of. Sites that do not answer are left out.
func (svc *Service) Keeping(ctx context.Context) ([]Keeping, error) {
	e, err := svc.Estate(ctx)
	if e == nil {
		return nil, err
	}
	drivers, err := svc.Sites()
	if err != nil {
		return nil, err
	}
	var out []Keeping
	for _, s := range e.Sites {
		_, keeps := site.Can[site.Snapshotter](ctx, drivers[s.Name])
		if c, may := site.Can[site.Copying](ctx, drivers[s.Name]); may && keeps {
			keeps = !c.Copies(ctx) // machines stand still for a copy, which is nothing to be done by rule
		}
		_, limits := site.Can[site.Limiter](ctx, drivers[s.Name])
		out = append(out, Keeping{s, level.Able{Keeps: keeps, Limits: limits}})
	}
	return out, nil
}

// Keepers says of each by its name whether it keeps snapshots.
func Keepers(all []Keeping) map[string]bool {
	out := map[string]bool{}
	for _, k := range all {
		out[k.Site.Name] = k.Keeps
	}
	return out
}
