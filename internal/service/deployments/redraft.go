package deployments

import (
	"context"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/run"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
)

// Redraft works a template out anew for a deployment: what stands stays where it is and keeps its addresses. A rule that
// what stands breaks moves nothing: it is noted. Only what has no room any more where it stands is placed anew, and the
// difference says what that costs.
func (svc *Service) Redraft(ctx context.Context, deployment int64, t *templates.Template, w templates.DraftRequest) (*templates.Draft, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, err
	}
	d, err := svc.inside().Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	e, err := svc.EstateFor(ctx, d)
	if err != nil {
		return nil, err
	}
	wanted, err := svc.Wanted(ctx, d.Runs)
	if err != nil {
		return nil, err
	}
	if w, err = svc.Ruled(w); err != nil {
		return nil, err
	}
	w.Choices.Level = "" // what stands is given one by itself
	w.Name, w.Stand, w.Like = d.Name, d.Stand.Plan, templates.PlacementOf(d.Stand.Plan)
	if wanted != nil && d.State() == run.UnderWay { // what is not there yet will be where its run puts it
		w.Like = templates.Over(w.Like, templates.PlacementOf(wanted))
	}
	w.Keep = w.Kept()
	if wanted != nil {
		w.Lifted = templates.WithoutLifted(wanted.Lifted, w.Heed)
	}
	draft := svc.draw(t, w, e)
	draft.Deployment = d.ID
	return draft, nil
}

// Drafting works a template out for the connected sites. Where a deployment of its name stands it is worked out for
// that: raising what stands means changing it.
func (svc *Service) Drafting(ctx context.Context, t *templates.Template, w templates.DraftRequest) (*templates.Draft, error) {
	if err := svc.desk.Read("what may be raised"); err != nil {
		return nil, err
	}
	name := w.Name
	if name == "" && t.Template != nil {
		name = t.Name
	}
	d, err := svc.inside().Taken(ctx, name)
	if err != nil {
		return nil, err
	}
	if d != nil {
		return svc.inside().Redraft(ctx, d.ID, t, w)
	}
	if w, err = svc.Ruled(w); err != nil {
		return nil, err
	}
	if w, err = svc.levelled(ctx, w); err != nil {
		return nil, err
	}
	e, offline := svc.sites.Estate(ctx)
	if e != nil && len(e.Sites) == 0 {
		e = nil
	}
	draft := svc.draw(t, w, e)
	if err := svc.promise(draft, time.Now()); err != nil {
		draft.Plan, draft.Err = nil, err
	}
	return draft, offline
}

// draw works a template out, and remembers it for when something is raised from it.
func (svc *Service) draw(t *templates.Template, w templates.DraftRequest, e *estate.Estate) *templates.Draft {
	d := templates.NewDraft(t, w, e)
	if d.Plan != nil {
		svc.cache.drawn.Store(d.Plan.Source, t)
	}
	return d
}

// CopyTemplate writes a template's files into a new folder under a new name: beside its own folder, or in the workspace where it has none.
func (svc *Service) CopyTemplate(t *templates.Template, name string) (string, error) {
	if err := svc.desk.Read("the templates"); err != nil {
		return "", err
	}
	return t.Copy(name, svc.workspace.Path("templates"))
}

// Ruled is a wish under the administrator's rules, if it names no others.
func (svc *Service) Ruled(w templates.DraftRequest) (templates.DraftRequest, error) {
	var err error
	if w.Rules == nil {
		w.Rules, err = svc.workspace.Rules()
	}
	return w, err
}

// OrderOf is the order that carries a draft out: it raises the design, or leads what stands of it there.
func (svc *Service) OrderOf(ctx context.Context, d *templates.Draft) (Order, error) {
	if err := svc.desk.Read("what may be raised"); err != nil {
		return Order{}, err
	}
	if d.Deployment == 0 {
		return Order{Plan: d.Plan, Template: d.Template.Origin()}, nil
	}
	return svc.inside().Changed(ctx, d.Deployment, d.Plan, "change "+d.Plan.Name)
}

// EstateFor is the estate as a deployment may use it: what the deployment has itself counts as free.
func (svc *Service) EstateFor(ctx context.Context, d *Deployment) (*estate.Estate, error) {
	e, err := svc.sites.Estate(ctx)
	if err != nil {
		return nil, err
	}
	for i := range d.Stand.Plan.Resources {
		r := &d.Stand.Plan.Resources[i]
		s := e.Site(r.Site)
		if s == nil {
			continue
		}
		if r.Kind == kinds.Instance {
			s.GiveBack(r.Zone, r.Host, estate.Capacity{Cores: r.AsInstance().Cores, MemoryGiB: r.AsInstance().MemoryGiB, DiskGiB: r.DiskGiB()})
		}
	}
	for _, v := range sites.ReservationsOf(d.Stand.Plan) {
		if s := e.Site(v.Site); s != nil {
			sites.UnmarkTaken(s, v.Value)
		}
	}
	return e, nil
}
