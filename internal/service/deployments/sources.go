package deployments

import (
	"context"
	"os"

	"andamio/internal/core/plan"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// KeepSource keeps the files of the template that a plan was compiled from, so that what stands of it can be told whole
// when the template has changed or gone. Files that are not those any more are not kept, and no run is held up for them.
func (svc *Service) KeepSource(ctx context.Context, p *plan.Plan) error {
	if p == nil || p.Source == "" {
		return nil
	}
	if kept, err := svc.store.Source(ctx, p.Source); err != nil || kept != nil {
		return err
	}
	if t, known := svc.cache.drawn.Load(p.Source); known {
		return svc.store.KeepSource(ctx, p.Source, t.(*templates.Template).Kept())
	}
	t, err := reopened(ctx, p)
	if err != nil || t == nil || t.Digest() != p.Source {
		return nil
	}
	return svc.store.KeepSource(ctx, p.Source, t.Kept())
}

// KeepTemplate keeps the files of a template that was worked out and is not where it was opened for long.
func (svc *Service) KeepTemplate(ctx context.Context, d *templates.Draft) error {
	svc.cache.drawn.Store(d.Plan.Source, d.Template)
	return svc.KeepSource(ctx, d.Plan)
}

// reopened is the template of a plan, where it is at hand: the scenario, or a folder or file on this machine.
func reopened(ctx context.Context, p *plan.Plan) (*templates.Template, error) {
	if p.Template == templates.DemoName {
		return templates.DemoTemplate()
	}
	if _, err := os.Stat(p.Template); err != nil || p.Revision != "" {
		return nil, err
	}
	return templates.OpenTemplate(ctx, source.Place{Path: p.Template})
}

// kept is the template that a deployment stands as, as it was when it was drawn; nil if its files were not kept.
func (svc *Service) kept(ctx context.Context, d *Deployment) (*templates.Template, error) {
	if d.Stand.Plan.Source == "" {
		return nil, nil
	}
	s, err := svc.store.Source(ctx, d.Stand.Plan.Source)
	if err != nil || s == nil {
		return nil, err
	}
	return templates.ReadTemplate(source.Memory(s.Files), d.Template, s.Root)
}
