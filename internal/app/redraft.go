package app

import (
	"context"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/run"
	"andamio/internal/service/templates"
)

// Redraft works a template out anew for a deployment: what stands stays where it is and keeps its addresses. A rule that
// what stands breaks moves nothing: it is noted. Only what has no room any more where it stands is placed anew, and the
// difference says what that costs.
func (a *App) Redraft(ctx context.Context, deployment int64, t *templates.Template, w templates.DraftRequest) (*templates.Draft, error) {
	d, err := a.Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	e, err := a.estateFor(ctx, d)
	if err != nil {
		return nil, err
	}
	wanted, err := a.wanted(ctx, d.Runs)
	if err != nil {
		return nil, err
	}
	if w, err = a.ruled(w); err != nil {
		return nil, err
	}
	w.Name, w.Stand, w.Like = d.Name, d.Stand.Plan, templates.PlacementOf(d.Stand.Plan)
	if wanted != nil && d.State() == run.UnderWay { // what is not there yet will be where its run puts it
		w.Like = templates.Over(w.Like, templates.PlacementOf(wanted))
	}
	w.Keep = w.Kept()
	if wanted != nil {
		w.Lifted = templates.WithoutLifted(wanted.Lifted, w.Heed)
	}
	draft := a.draw(t, w, e)
	draft.Deployment = d.ID
	return draft, nil
}

// Drafting works a template out for the connected sites. Where a deployment of its name stands it is worked out for
// that: raising what stands means changing it.
func (a *App) Drafting(ctx context.Context, t *templates.Template, w templates.DraftRequest) (*templates.Draft, error) {
	name := w.Name
	if name == "" && t.Template != nil {
		name = t.Name
	}
	d, err := a.Taken(ctx, name)
	if err != nil {
		return nil, err
	}
	if d != nil {
		return a.Redraft(ctx, d.ID, t, w)
	}
	if w, err = a.ruled(w); err != nil {
		return nil, err
	}
	e, offline := a.Estate(ctx)
	if e != nil && len(e.Sites) == 0 {
		e = nil
	}
	return a.draw(t, w, e), offline
}

// draw works a template out, and remembers it for when something is raised from it.
func (a *App) draw(t *templates.Template, w templates.DraftRequest, e *estate.Estate) *templates.Draft {
	d := templates.NewDraft(t, w, e)
	if d.Plan != nil {
		a.drawn.Store(d.Plan.Source, t)
	}
	return d
}

// CopyTemplate writes a template's files into a new folder under a new name: beside its own folder, or in the workspace where it has none.
func (a *App) CopyTemplate(t *templates.Template, name string) (string, error) {
	return t.Copy(name, a.workspace.Path("templates"))
}

// ruled is a wish under the administrator's rules, if it names no others.
func (a *App) ruled(w templates.DraftRequest) (templates.DraftRequest, error) {
	var err error
	if w.Rules == nil {
		w.Rules, err = a.workspace.Rules()
	}
	return w, err
}

// OrderOf is the order that carries a draft out: it raises the design, or leads what stands of it there.
func (a *App) OrderOf(ctx context.Context, d *templates.Draft) (Order, error) {
	if d.Deployment == 0 {
		return Order{Plan: d.Plan, Template: d.Template.Origin()}, nil
	}
	return a.Changed(ctx, d.Deployment, d.Plan, "change "+d.Plan.Name)
}

// estateFor is the estate as a deployment may use it: what the deployment has itself counts as free.
func (a *App) estateFor(ctx context.Context, d *Deployment) (*estate.Estate, error) {
	e, err := a.Estate(ctx)
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
			s.GiveBack(r.Zone, r.Host, estate.Capacity{Cores: r.Spec.Cores, MemoryGiB: r.Spec.MemoryGiB, DiskGiB: r.Spec.DiskGiB})
		}
	}
	for _, v := range reservationsOf(d.Stand.Plan) {
		if s := e.Site(v.Site); s != nil {
			unmarkTaken(s, v.Value)
		}
	}
	return e, nil
}
