package deployments

import (
	"context"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/level"
	"andamio/internal/core/plan"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
)

// levelled has the service levels be chosen from that there are, with the sites that cannot keep each.
func (svc *Service) levelled(ctx context.Context, w templates.DraftRequest) (templates.DraftRequest, error) {
	f, err := svc.workspace.Levels()
	if err != nil || len(f.Levels) == 0 {
		return w, err
	}
	found, err := svc.sites.Keeping(ctx)
	if found == nil && err != nil { // where nothing is known of sites nothing is placed
		return w, nil
	}
	w.Levels = nil
	for i := range f.Levels {
		l := &f.Levels[i]
		c := templates.LevelChoice{Name: l.Name, Words: l.Words(f.Zone), Lacking: map[string]string{}, Nowhere: l.LacksCopies(sites.Keepers(found))}
		for _, at := range found {
			if why := l.Lacks(at.Site, at.Able); why != "" {
				c.Lacking[at.Site.Name] = why
			}
		}
		w.Levels = append(w.Levels, c)
	}
	return w, nil
}

// promise has the plan of a draft promise what was chosen for it.
func (svc *Service) promise(d *templates.Draft, now time.Time) error {
	if d.Choices.Level == "" || d.Plan == nil {
		return nil
	}
	f, err := svc.workspace.Levels()
	if err != nil {
		return err
	}
	l := f.Level(d.Choices.Level)
	if l == nil {
		return fault.NotFoundf("there is no service level %q any more", d.Choices.Level)
	}
	if err := stored(l, d.Plan); err != nil {
		return err
	}
	out := &plan.Promised{Level: l.Name}
	if out.Promises, err = l.Promises(0, f.Zone, now); err != nil {
		return fault.Default(fault.Invalid, err)
	}
	for i := range out.Promises {
		out.Adds = append(out.Adds, out.Promises[i].Words())
	}
	d.Plan.Promised = out
	return nil
}

// stored checks that volumes are on the storage that a level takes.
func stored(l *level.Level, p *plan.Plan) error {
	for i := range p.Resources {
		r := &p.Resources[i]
		if class := r.AsVolume().Class; r.Kind == kinds.Volume && l.Storage != "" && class != l.Storage {
			return fault.Refusedf("%s is not on storage %s, which the service level %s takes: say so in the template, or choose another", r.ID, l.Storage, l.Name)
		}
	}
	return nil
}
